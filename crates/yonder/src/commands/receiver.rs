//! `yonder receiver …`

use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};
use serde_json::json;
use yonder_api::{AddedReceiver, MailSecurity, NewReceiver, Receiver, ReceiverChange, Way};

use crate::client::Client;
use crate::failure::Failure;
use crate::output::{print, print_json, table};
use crate::secrets::Source;

/// How mail travels to its server.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum Security {
    Tls,
    Starttls,
    None,
}

impl From<Security> for MailSecurity {
    fn from(security: Security) -> Self {
        match security {
            Security::Tls => Self::Tls,
            Security::Starttls => Self::Starttls,
            Security::None => Self::None,
        }
    }
}

/// Where and how somebody is told.
#[derive(Debug, Args)]
pub(crate) struct WayArguments {
    /// Web address that messages are posted to, signed.
    #[arg(long, value_name = "URL", conflicts_with_all = ["mail_server", "mail_from", "mail_to"])]
    web: Option<String>,
    /// Mail server, like mail.example.net:587.
    #[arg(long, value_name = "HOST:PORT", requires_all = ["mail_from", "mail_to"])]
    mail_server: Option<String>,
    /// Who mails come from.
    #[arg(long, value_name = "ADDRESS")]
    mail_from: Option<String>,
    /// Who mails go to; may be given several times.
    #[arg(long, value_name = "ADDRESS", num_args = 1..)]
    mail_to: Vec<String>,
    /// How mails travel to the server.
    #[arg(long, value_enum, default_value = "tls")]
    mail_security: Security,
    /// Who signs in to the mail server.
    #[arg(long, value_name = "NAME")]
    mail_user: Option<String>,
    /// File with what messages are signed with, or the mail server's password.
    #[arg(long, value_name = "FILE")]
    secret_file: Option<PathBuf>,
    /// Read that from standard input.
    #[arg(long, conflicts_with = "secret_file")]
    secret_stdin: bool,
    /// Hours from one sign of life to the next; 0 for none.
    #[arg(long, value_name = "HOURS")]
    sign_of_life: Option<u32>,
}

impl WayArguments {
    fn way(&self) -> Option<Way> {
        if let Some(url) = &self.web {
            return Some(Way::Web { url: url.clone() });
        }
        Some(Way::Mail {
            server: self.mail_server.clone()?,
            security: self.mail_security.into(),
            from: self.mail_from.clone()?,
            to: self.mail_to.clone(),
            user: self.mail_user.clone(),
        })
    }

    fn secret(&self) -> Result<Option<yonder_api::Secret>, Failure> {
        let source = Source::of(self.secret_file.as_ref(), self.secret_stdin);
        source.map(|source| source.read_password()).transpose()
    }
}

#[derive(Debug, Subcommand)]
pub(crate) enum ReceiverCommand {
    /// Add a receiver: who is told, over the web or by mail.
    Add {
        /// Name of the receiver.
        name: String,
        #[command(flatten)]
        way: WayArguments,
        /// Print JSON.
        #[arg(long)]
        json: bool,
    },
    /// List all receivers.
    List {
        /// Print JSON.
        #[arg(long)]
        json: bool,
    },
    /// Show a receiver.
    Show {
        /// Name of the receiver.
        name: String,
        /// Print JSON.
        #[arg(long)]
        json: bool,
    },
    /// Change a receiver.
    Edit {
        /// Name of the receiver.
        name: String,
        /// New name.
        #[arg(long, value_name = "NAME")]
        rename: Option<String>,
        #[command(flatten)]
        way: WayArguments,
        /// Print JSON.
        #[arg(long)]
        json: bool,
    },
    /// Remove a receiver.
    Remove {
        /// Name of the receiver.
        name: String,
    },
    /// Tell a receiver that this is a test.
    Test {
        /// Name of the receiver.
        name: String,
    },
}

pub(crate) fn run(command: ReceiverCommand, client: &Client) -> Result<(), Failure> {
    match command {
        ReceiverCommand::Add { name, way, json } => {
            let (secret, sign_of_life_h) = (way.secret()?, way.sign_of_life);
            let way = way.way().ok_or_else(|| {
                Failure::Usage("give --web URL, or --mail-server, --mail-from and --mail-to".to_owned())
            })?;
            added(&client.post(&["receivers"], &NewReceiver { name, way, secret, sign_of_life_h })?, json)
        }
        ReceiverCommand::List { json } => list(&client.get::<Vec<_>>(&["receivers"])?, json),
        ReceiverCommand::Show { name, json } => show(&client.get(&["receivers", &name])?, json),
        ReceiverCommand::Edit { name, rename, way, json } => {
            let change = ReceiverChange {
                name: rename,
                secret: way.secret()?,
                sign_of_life_h: way.sign_of_life,
                way: way.way(),
            };
            show(&client.patch(&["receivers", &name], &change)?, json)
        }
        ReceiverCommand::Remove { name } => {
            client.delete(&["receivers", &name])?;
            print(&format!("Receiver {name} removed.\n"));
            Ok(())
        }
        ReceiverCommand::Test { name } => {
            client.post_nothing(&["receivers", &name, "test"], &json!({}))?;
            print(&format!("{name} was told.\n"));
            Ok(())
        }
    }
}

fn added(added: &AddedReceiver, json: bool) -> Result<(), Failure> {
    if json {
        return print_json(added);
    }
    show(&added.receiver, false)?;
    if let Some(secret) = &added.secret {
        print(&format!(
            "  Its messages are signed with {}\n  Keep it: it is shown this once.\n",
            secret.expose()
        ));
    }
    Ok(())
}

fn address(way: &Way) -> String {
    match way {
        Way::Web { url } => url.clone(),
        Way::Mail { server, to, .. } => format!("{} by {server}", to.join(", ")),
    }
}

fn list(receivers: &[Receiver], json: bool) -> Result<(), Failure> {
    if json {
        return print_json(&receivers);
    }
    if receivers.is_empty() {
        print("There are no receivers yet. Add one: yonder receiver add NAME --web URL\n");
        return Ok(());
    }
    let row = |receiver: &Receiver| {
        vec![receiver.name.clone(), kind(&receiver.way).to_owned(), address(&receiver.way)]
    };
    let rows: Vec<Vec<String>> = receivers.iter().map(row).collect();
    print(&table(&["RECEIVER", "BY", "ADDRESS"], &rows));
    Ok(())
}

fn kind(way: &Way) -> &'static str {
    match way {
        Way::Web { .. } => "web",
        Way::Mail { .. } => "mail",
    }
}

fn show(receiver: &Receiver, json: bool) -> Result<(), Failure> {
    if json {
        return print_json(receiver);
    }
    let mut text = format!("{}\n  {:<8} {}\n", receiver.name, kind(&receiver.way), address(&receiver.way));
    if let Way::Mail { from, user, .. } = &receiver.way {
        text += &format!("  from     {from}\n");
        text += &user.as_ref().map(|user| format!("  signs in as {user}\n")).unwrap_or_default();
    }
    let secret = match (receiver.secret_lost, receiver.has_secret) {
        (true, _) => "cannot be opened: set it again",
        (false, true) => "kept, sealed",
        (false, false) => "none",
    };
    text += &format!("  secret   {secret}\n");
    if let Some(hours) = receiver.sign_of_life_h {
        text += &format!("  alive    a sign of life every {hours} h\n");
    }
    if receiver.undelivered > 0 {
        text += &format!("  waiting  {} notifications are not delivered yet\n", receiver.undelivered);
    }
    print(&text);
    Ok(())
}
