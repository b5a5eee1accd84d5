//! `yonder token …`

use std::fs::OpenOptions;
use std::io::Write as _;
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::{Path, PathBuf};

use clap::{Subcommand, value_parser};
use yonder_api::{MadeToken, NewToken, Role, Secret, Token};

use super::person::{RoleArgument, role_label};
use crate::client::Client;
use crate::failure::Failure;
use crate::output::{local, print, print_json, table, wants_json};

#[derive(Debug, Subcommand)]
pub(crate) enum TokenCommand {
    /// Create an API token; the file is for --token-file.
    Add {
        /// Name of the token.
        name: String,
        /// File for the token, readable by its owner only. It must not exist.
        #[arg(long, value_name = "FILE")]
        out: PathBuf,
        /// Role; viewer by default.
        #[arg(long, value_enum, value_name = "ROLE")]
        role: Option<RoleArgument>,
        /// Lifetime in days; 90 by default.
        #[arg(long, value_name = "DAYS", value_parser = value_parser!(u32).range(1..))]
        days: Option<u32>,
        /// Create a token that does not expire.
        #[arg(long, conflicts_with = "days")]
        no_expiry: bool,
    },
    /// List all tokens.
    List,
    /// Revoke a token.
    Remove {
        /// Name of the token.
        name: String,
    },
}

pub(crate) fn run(command: TokenCommand, client: &Client) -> Result<(), Failure> {
    match command {
        TokenCommand::Add { name, out, role, days, no_expiry } => {
            // Created before the token, which would otherwise be lost if the file cannot be written.
            let file = create(&out)?;
            let new =
                NewToken { name, role: role.map(Role::from), days: if no_expiry { Some(0) } else { days } };
            let made: MadeToken = client.post(&["tokens"], &new).inspect_err(|_| {
                // The file is empty.
                let _removed = std::fs::remove_file(&out);
            })?;
            write(file, &out, &made.secret)?;
            let Token { name, role, expires, .. } = &made.token;
            let until = expires.as_deref().map_or_else(String::new, |at| format!(" until {}", local(at)));
            print(&format!("Token {name} ({}) is in {}{until}.\n", role_label(*role), out.display()));
            Ok(())
        }
        TokenCommand::List => {
            let tokens: Vec<Token> = client.get(&["tokens"])?;
            if wants_json() {
                return print_json(&tokens);
            }
            let row = |token: &Token| {
                let end = match (&token.expires, token.void) {
                    (Some(_), true) => "void".to_owned(),
                    (Some(at), false) => local(at),
                    (None, _) => "never".to_owned(),
                };
                let used = token.used.as_deref().map_or_else(|| "not yet".to_owned(), local);
                vec![token.name.clone(), role_label(token.role).to_owned(), token.by.clone(), end, used]
            };
            let head = ["NAME", "ROLE", "MADE BY", "EXPIRES", "LAST USED"];
            print(&table(&head, &tokens.iter().map(row).collect::<Vec<_>>()));
            Ok(())
        }
        TokenCommand::Remove { name } => {
            client.delete(&["tokens", &name])?;
            print(&format!("Token {name} removed.\n"));
            Ok(())
        }
    }
}

fn create(path: &Path) -> Result<std::fs::File, Failure> {
    let mut options = OpenOptions::new();
    options.write(true).create_new(true).mode(0o600);
    options.open(path).map_err(|error| Failure::Usage(format!("{}: {error}", path.display())))
}

fn write(mut file: std::fs::File, path: &Path, secret: &Secret) -> Result<(), Failure> {
    let written = file.write_all(format!("{}\n", secret.expose()).as_bytes()).and_then(|()| file.sync_all());
    written.map_err(|error| Failure::Usage(format!("{}: {error}", path.display())))
}
