//! `yonder job …`: background jobs.

use clap::Subcommand;
use yonder_api::{Job, JobState};

use crate::client::Client;
use crate::failure::Failure;
use crate::output::{local, print, print_json, table, wants_json};

#[derive(Debug, Subcommand)]
pub(crate) enum JobCommand {
    /// List the jobs of the last hour.
    List,
    /// Show a job, with its result.
    Show {
        /// ID of the job.
        id: String,
        /// Wait until it has ended.
        #[arg(long)]
        wait: bool,
    },
    /// Cancel a job. A job past its last check completes.
    Cancel {
        /// ID of the job.
        id: String,
    },
}

pub(crate) fn run(command: JobCommand, client: &Client) -> Result<(), Failure> {
    match command {
        JobCommand::List => {
            let jobs: Vec<Job> = client.get(&["jobs"])?;
            if wants_json() {
                return print_json(&jobs);
            }
            if jobs.is_empty() {
                print("No job has run in the last hour.\n");
                return Ok(());
            }
            let row = |job: &Job| {
                vec![
                    job.id.clone(),
                    job.kind.as_str().to_owned(),
                    job.about.clone().unwrap_or_default(),
                    state(job),
                    job.who.clone(),
                    local(&job.began),
                ]
            };
            let head = ["ID", "KIND", "ABOUT", "STATE", "BY", "STARTED"];
            print(&table(&head, &jobs.iter().map(row).collect::<Vec<_>>()));
            Ok(())
        }
        JobCommand::Show { id, wait } => {
            let mut job = client.job(&id, 0)?;
            while wait && !job.state.has_ended() {
                job = client.job(&id, 10)?;
            }
            show(&job)
        }
        JobCommand::Cancel { id } => {
            client.delete(&["jobs", &id])?;
            let job = client.job(&id, 0)?;
            print(&format!("Job {id}: {}.\n", state(&job)));
            Ok(())
        }
    }
}

fn state(job: &Job) -> String {
    let progress = &job.progress;
    match (job.state, progress.total) {
        (JobState::Running, _) if job.cancel_requested => "being canceled".to_owned(),
        (JobState::Running, Some(total)) => format!("{} {}/{total}", progress.step, progress.done),
        (JobState::Running, None) if !progress.step.is_empty() => progress.step.clone(),
        (state, _) => state.as_str().to_owned(),
    }
}

fn show(job: &Job) -> Result<(), Failure> {
    if wants_json() {
        return print_json(job);
    }
    let about = job.about.as_ref().map(|about| format!(" of {about}")).unwrap_or_default();
    let mut text = format!("Job {}: {}{about}, {}\n", job.id, job.kind.as_str(), state(job));
    text += &format!("  started by {} at {}", job.who, local(&job.began));
    if let Some(ended) = &job.ended {
        text += &format!(", ended at {}", local(ended));
    }
    text += "\n";
    if let Some(problem) = &job.problem {
        text += &format!("  {} ({})\n", problem.detail, problem.code);
        if let Some(hint) = &problem.hint {
            text += &format!("  {hint}\n");
        }
    }
    if let Some(result) = &job.result {
        text += &format!("{}\n", serde_json::to_string_pretty(result).map_err(anyhow::Error::from)?);
    }
    print(&text);
    Ok(())
}
