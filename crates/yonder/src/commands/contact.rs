//! `yonder contact …`

use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};
use serde_json::json;
use yonder_api::{AddedContact, Channel, Contact, ContactChange, MailSecurity, NewContact};

use crate::client::Client;
use crate::failure::Failure;
use crate::output::{print, print_json, table, wants_json};
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

/// How a contact is notified.
#[derive(Debug, Args)]
pub(crate) struct ChannelArguments {
    /// Address that signed messages are posted to.
    #[arg(long, value_name = "URL", alias = "web", conflicts_with_all = ["mail_server", "mail_from", "mail_to"])]
    webhook: Option<String>,
    /// Mail server, like mail.example.net:587.
    #[arg(long, value_name = "HOST:PORT", requires_all = ["mail_from", "mail_to"])]
    mail_server: Option<String>,
    /// Sender of e-mails.
    #[arg(long, value_name = "ADDRESS")]
    mail_from: Option<String>,
    /// Recipients of e-mails; may be given several times.
    #[arg(long, value_name = "ADDRESS", num_args = 1..)]
    mail_to: Vec<String>,
    /// Transport security of the connection to the mail server.
    #[arg(long, value_enum, default_value = "tls")]
    mail_security: Security,
    /// User at the mail server.
    #[arg(long, value_name = "NAME")]
    mail_user: Option<String>,
    /// File with the key of the webhook's signature, or the mail server's password.
    #[arg(long, value_name = "FILE")]
    secret_file: Option<PathBuf>,
    /// Read the secret from standard input.
    #[arg(long, conflicts_with = "secret_file")]
    secret_stdin: bool,
    /// Hours between signs of life; 0 for none.
    #[arg(long, value_name = "HOURS")]
    sign_of_life: Option<u32>,
}

impl ChannelArguments {
    fn channel(&self) -> Option<Channel> {
        if let Some(url) = &self.webhook {
            return Some(Channel::Webhook { url: url.clone() });
        }
        Some(Channel::Email {
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
pub(crate) enum ContactCommand {
    /// Add a contact: who is notified, by webhook or e-mail.
    Add {
        /// Name of the contact.
        name: String,
        #[command(flatten)]
        channel: ChannelArguments,
    },
    /// List all contacts.
    List,
    /// Show a contact.
    Show {
        /// Name of the contact.
        name: String,
    },
    /// Change a contact.
    Edit {
        /// Name of the contact.
        name: String,
        /// New name.
        #[arg(long, value_name = "NAME")]
        rename: Option<String>,
        #[command(flatten)]
        channel: ChannelArguments,
    },
    /// Remove a contact.
    Remove {
        /// Name of the contact.
        name: String,
    },
    /// Tell a contact that this is a test.
    Test {
        /// Name of the contact.
        name: String,
    },
}

pub(crate) fn run(command: ContactCommand, client: &Client) -> Result<(), Failure> {
    match command {
        ContactCommand::Add { name, channel } => {
            let (secret, sign_of_life_h) = (channel.secret()?, channel.sign_of_life);
            let channel = channel.channel().ok_or_else(|| {
                Failure::Usage("give --webhook URL, or --mail-server, --mail-from and --mail-to".to_owned())
            })?;
            added(&client.post(&["contacts"], &NewContact { name, channel, secret, sign_of_life_h })?)
        }
        ContactCommand::List => list(&client.get::<Vec<_>>(&["contacts"])?),
        ContactCommand::Show { name } => show(&client.get(&["contacts", &name])?),
        ContactCommand::Edit { name, rename, channel } => {
            let change = ContactChange {
                name: rename,
                secret: channel.secret()?,
                sign_of_life_h: channel.sign_of_life,
                channel: channel.channel(),
            };
            show(&client.patch(&["contacts", &name], &change)?)
        }
        ContactCommand::Remove { name } => {
            client.delete(&["contacts", &name])?;
            print(&format!("Contact {name} removed.\n"));
            Ok(())
        }
        ContactCommand::Test { name } => {
            client.post_nothing(&["contacts", &name, "test"], &json!({}))?;
            print(&format!("The test message was delivered to {name}.\n"));
            Ok(())
        }
    }
}

fn added(added: &AddedContact) -> Result<(), Failure> {
    if wants_json() {
        return print_json(added);
    }
    show(&added.contact)?;
    if let Some(secret) = &added.secret {
        print(&format!(
            "  Its messages are signed with {}\n  Keep it: it is shown this once.\n",
            secret.expose()
        ));
    }
    Ok(())
}

fn address(channel: &Channel) -> String {
    match channel {
        Channel::Webhook { url } => url.clone(),
        Channel::Email { server, to, .. } => format!("{} by {server}", to.join(", ")),
    }
}

fn list(contacts: &[Contact]) -> Result<(), Failure> {
    if wants_json() {
        return print_json(&contacts);
    }
    if contacts.is_empty() {
        print("There are no contacts yet. Add one: yonder contact add NAME --webhook URL\n");
        return Ok(());
    }
    let row = |contact: &Contact| {
        vec![contact.name.clone(), kind(&contact.channel).to_owned(), address(&contact.channel)]
    };
    let rows: Vec<Vec<String>> = contacts.iter().map(row).collect();
    print(&table(&["CONTACT", "TYPE", "ADDRESS"], &rows));
    Ok(())
}

fn kind(channel: &Channel) -> &'static str {
    match channel {
        Channel::Webhook { .. } => "webhook",
        Channel::Email { .. } => "email",
    }
}

fn show(contact: &Contact) -> Result<(), Failure> {
    if wants_json() {
        return print_json(contact);
    }
    let mut text =
        format!("{}\n  {:<8} {}\n", contact.name, kind(&contact.channel), address(&contact.channel));
    if let Channel::Email { from, user, .. } = &contact.channel {
        text += &format!("  from     {from}\n");
        text += &user.as_ref().map(|user| format!("  signs in as {user}\n")).unwrap_or_default();
    }
    let secret = match (contact.secret_lost, contact.has_secret) {
        (true, _) => "cannot be opened: set it again",
        (false, true) => "kept, sealed",
        (false, false) => "none",
    };
    text += &format!("  secret   {secret}\n");
    if let Some(hours) = contact.sign_of_life_h {
        text += &format!("  alive    a sign of life every {hours} h\n");
    }
    if contact.undelivered > 0 {
        text += &format!("  waiting  {} notifications are not delivered yet\n", contact.undelivered);
    }
    print(&text);
    Ok(())
}
