//! `yonder master-key`: the key that all secrets are sealed under.

use std::path::Path;

use clap::Subcommand;
use yonder_api::MasterKeyRotation;
use yonder_service::{Home, HomeError};

use crate::arguments::Connection;
use crate::failure::Failure;
use crate::output::print;

#[derive(Debug, Subcommand)]
pub(crate) enum MasterKeyCommand {
    /// Make a new master key and seal every secret under it, while the service runs.
    Rotate,
    /// Make a new master key for records whose own is lost: every secret has to be set again. The service must not run.
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
        "A new master key is in use; secrets sealed under it: {}.\n\
         Backups made before need the former key. Make a new backup, and copy the new key elsewhere.\n",
        rotation.sealed
    ));
    Ok(())
}

fn reset(home: &Path) -> Result<(), Failure> {
    let lost = Home::new(home).reset_master_key().map_err(explain)?;
    let mut text = "The records have a new master key.\n".to_owned();
    for secret in &lost {
        text += &format!("  {} {}: set its {} again\n", secret.kind, secret.name, secret.secret);
    }
    if lost.is_empty() {
        text += "There was no secret in them.\n";
    }
    print(&text);
    Ok(())
}

/// Adds the next step to why a master key cannot be reset.
fn explain(error: HomeError) -> Failure {
    let hint = match &error {
        HomeError::Taken(_) => "Stop the service first.",
        HomeError::MasterKeyFits { .. } => "Nothing was changed. `yonder master-key rotate` makes a new one.",
        _ => return anyhow::Error::from(error).into(),
    };
    Failure::Other(anyhow::anyhow!("{error}\n        {hint}"))
}
