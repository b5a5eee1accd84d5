//! `yonder master-key`: the key that seals all secrets.

use std::path::Path;

use clap::Subcommand;
use yonder_api::MasterKeyRotation;
use yonder_service::{DataDir, DataDirError};

use crate::connection::Connection;
use crate::failure::Failure;
use crate::output::print;

#[derive(Debug, Subcommand)]
pub(crate) enum MasterKeyCommand {
    /// Generate a new master key and seal every secret with it, while the service runs.
    Rotate,
    /// Generate a new master key for records whose key is lost: every secret must be set again. The service must be stopped.
    Reset,
}

pub(crate) fn run(command: &MasterKeyCommand, connection: &Connection) -> Result<(), Failure> {
    match command {
        MasterKeyCommand::Rotate => rotate(connection),
        MasterKeyCommand::Reset => reset(&connection.home_folder()),
    }
}

fn rotate(connection: &Connection) -> Result<(), Failure> {
    let rotation: MasterKeyRotation = connection.client()?.post(&["master-key", "rotate"], &())?;
    print(&format!(
        "The master key was rotated; secrets encrypted again: {}.\n\
         Earlier backups need the previous key. Create a new backup, and copy the new key elsewhere.\n",
        rotation.sealed
    ));
    Ok(())
}

fn reset(home: &Path) -> Result<(), Failure> {
    let lost = DataDir::new(home).reset_master_key().map_err(explain)?;
    let mut text = "The records have a new master key.\n".to_owned();
    for secret in &lost {
        text += &format!("  {} {}: set its {} again\n", secret.kind, secret.name, secret.secret);
    }
    if lost.is_empty() {
        text += "They contained no secrets.\n";
    }
    print(&text);
    Ok(())
}

/// Adds the next step to the error of a reset.
fn explain(error: DataDirError) -> Failure {
    let hint = match &error {
        DataDirError::Taken(_) => "Stop the service first.",
        DataDirError::MasterKeyFits { .. } => {
            "Nothing was changed. `yonder master-key rotate` makes a new one."
        }
        _ => return anyhow::Error::from(error).into(),
    };
    Failure::Other(anyhow::anyhow!("{error}\n        {hint}"))
}
