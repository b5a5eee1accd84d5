//! Selection of the service that a command talks to.

use std::path::{Path, PathBuf};

use clap::Args;

use crate::client::Client;
use crate::failure::Failure;

/// Selection of the service.
#[derive(Debug, Args)]
pub(crate) struct Connection {
    /// Data directory of the service, with its records, keys and address.
    #[arg(long, global = true, env = "YONDER_HOME", value_name = "DIR")]
    home: Option<PathBuf>,
    /// URL of a remote service, such as `https://relay.example.net`; before the command, since feeds have an --url of
    /// their own.
    #[arg(long, env = "YONDER_URL", value_name = "URL")]
    url: Option<String>,
    /// File with the token of a remote service.
    #[arg(long, global = true, env = "YONDER_TOKEN_FILE", value_name = "FILE")]
    token_file: Option<PathBuf>,
    /// Send the token over plain HTTP, unencrypted.
    #[arg(long, global = true)]
    plain_http: bool,
}

impl Connection {
    /// Returns the data directory: as given, or `~/.yonder`.
    pub(crate) fn home_folder(&self) -> PathBuf {
        self.home.clone().unwrap_or_else(|| {
            let base = std::env::var_os("HOME").map_or_else(|| PathBuf::from("."), PathBuf::from);
            base.join(".yonder")
        })
    }

    /// Returns the data directory, if one was given.
    pub(crate) fn given_home(&self) -> Option<&Path> {
        self.home.as_deref()
    }

    /// Returns a client of the selected service.
    pub(crate) fn client(&self) -> Result<Client, Failure> {
        match (&self.url, &self.token_file) {
            (Some(url), Some(token_file)) => Client::remote(url, token_file, self.plain_http),
            (Some(_), None) => Err(Failure::Usage("a remote service needs --token-file as well".to_owned())),
            (None, _) => Client::local(&self.home_folder()),
        }
    }
}
