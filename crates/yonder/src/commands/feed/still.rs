//! `yonder feed still`: a still picture of a feed.

use std::fs;
use std::path::PathBuf;

use anyhow::Context as _;
use clap::Args;

use crate::client::Client;
use crate::failure::Failure;
use crate::output::print;

#[derive(Debug, Args)]
pub(crate) struct StillArguments {
    /// Name of the feed.
    name: String,
    /// Use the sub stream.
    #[arg(long)]
    sub: bool,
    /// File for the JPEG picture.
    #[arg(long, value_name = "FILE")]
    out: PathBuf,
}

pub(super) fn run(arguments: &StillArguments, client: &Client) -> Result<(), Failure> {
    let query: &[(&str, &str)] = if arguments.sub { &[("sub", "true")] } else { &[] };
    let picture = client.get_bytes(&["feeds", &arguments.name, "still.jpg"], query)?;
    let file = &arguments.out;
    fs::write(file, &picture).with_context(|| format!("{} cannot be written", file.display()))?;
    print(&format!("{} written, {} kB.\n", file.display(), picture.len().div_ceil(1000)));
    Ok(())
}
