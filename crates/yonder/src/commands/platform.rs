//! `yonder platform …`

use std::collections::BTreeMap;

use clap::Subcommand;
use yonder_api::{NewPlatform, Platform, PlatformChange};
use yonder_core::platform::RULES;

use crate::client::Client;
use crate::failure::Failure;
use crate::output::{print, print_json, table, wants_json};

#[derive(Debug, Subcommand)]
pub(crate) enum PlatformCommand {
    /// List all platforms: built-in and user-defined rule sheets.
    List,
    /// Show a platform's rules.
    Show {
        /// Name of the platform.
        name: String,
    },
    /// Add a platform.
    Add {
        /// Name of the platform.
        name: String,
        /// Copy the rules of another platform.
        #[arg(long, value_name = "PLATFORM")]
        like: Option<String>,
        /// Rule with its value, such as `video.ceiling=6Mbit/s`; repeatable.
        #[arg(long = "set", value_name = "RULE=VALUE", value_parser = read_rule)]
        set: Vec<(String, String)>,
    },
    /// Change rules of a platform; a changed built-in sheet becomes user-defined.
    Edit {
        /// Name of the platform.
        name: String,
        /// Rule with its new value; without a value the rule is removed.
        #[arg(long = "set", value_name = "RULE=VALUE", required = true, value_parser = read_rule)]
        set: Vec<(String, String)>,
    },
    /// Remove a user-defined platform; a built-in one of the same name applies again.
    Remove {
        /// Name of the platform.
        name: String,
    },
    /// List all rules and the form of their values.
    Rules,
}

pub(crate) fn run(command: PlatformCommand, client: &Client) -> Result<(), Failure> {
    match command {
        PlatformCommand::List => list(&client.get::<Vec<_>>(&["platforms"])?),
        PlatformCommand::Show { name } => show(&client.get(&["platforms", &name])?),
        PlatformCommand::Add { name, like, set } => {
            let rules: BTreeMap<String, String> = set.into_iter().collect();
            show(&client.post(&["platforms"], &NewPlatform { name, like, rules })?)
        }
        PlatformCommand::Edit { name, set } => {
            let rules = set.into_iter().collect();
            show(&client.patch(&["platforms", &name], &PlatformChange { rules })?)
        }
        PlatformCommand::Remove { name } => {
            client.delete(&["platforms", &name])?;
            print(&format!("Rule sheet {name} removed.\n"));
            Ok(())
        }
        PlatformCommand::Rules => {
            rules();
            Ok(())
        }
    }
}

/// Prints the table of rules, without the service.
pub(crate) fn rules() {
    let rows: Vec<Vec<String>> =
        RULES.iter().map(|rule| vec![rule.name.to_owned(), rule.wants.to_owned()]).collect();
    print(&table(&["RULE", "TAKES"], &rows));
}

fn list(platforms: &[Platform]) -> Result<(), Failure> {
    if wants_json() {
        return print_json(&platforms);
    }
    let value = |platform: &Platform, name: &str| {
        let found = platform.rules.iter().find(|rule| rule.rule == name);
        found.map_or_else(|| "-".to_owned(), |rule| rule.value.clone())
    };
    let rows: Vec<Vec<String>> = platforms
        .iter()
        .map(|platform| {
            let destinations = platform.destinations.len().to_string();
            vec![
                platform.name.clone(),
                if platform.shipped { "built in" } else { "own" }.to_owned(),
                value(platform, "protocols"),
                value(platform, "video.codecs"),
                value(platform, "video.max-lines"),
                value(platform, "video.ceiling"),
                destinations,
            ]
        })
        .collect();
    print(&table(&["PLATFORM", "SHEET", "PROTOCOLS", "VIDEO", "LINES", "MAX RATE", "DESTINATIONS"], &rows));
    Ok(())
}

fn show(platform: &Platform) -> Result<(), Failure> {
    if wants_json() {
        return print_json(platform);
    }
    let sheet = if platform.shipped { "built in" } else { "your own" };
    let mut text = format!("{}\n  {:<28} {sheet}\n", platform.name, "sheet");
    for rule in &platform.rules {
        text += &format!("  {:<28} {}\n", rule.rule, rule.value);
    }
    if !platform.destinations.is_empty() {
        text += &format!("  {:<28} {}\n", "destinations", platform.destinations.join(", "));
    }
    print(&text);
    Ok(())
}

fn read_rule(text: &str) -> Result<(String, String), String> {
    let (rule, value) =
        text.split_once('=').ok_or("give a rule and its value, like video.ceiling=6Mbit/s")?;
    Ok((rule.trim().to_owned(), value.trim().to_owned()))
}
