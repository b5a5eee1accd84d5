//! `yonder man`: manual pages of all commands.

use std::fs;
use std::path::Path;

use anyhow::Context as _;
use clap::CommandFactory as _;

use crate::arguments::Arguments;
use crate::failure::Failure;

/// Writes a manual page for the program and for each command into a folder.
pub(crate) fn run(folder: &Path) -> Result<(), Failure> {
    let path = folder.display();
    fs::create_dir_all(folder).with_context(|| format!("{path} cannot be made"))?;
    clap_mangen::generate_to(Arguments::command(), folder)
        .with_context(|| format!("{path} cannot be written to"))?;
    Ok(())
}
