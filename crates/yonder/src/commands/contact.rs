//! `yonder contact …`

use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};
use serde_json::json;
use yonder_api::{AddedContact, Channel, Contact, ContactChange, MailSecurity, NewContact};

use crate::client::Client;
use crate::failure::Failure;
use crate::output::{print, print_json, table, wants_json};
use crate::secrets::Source;

/// Transport security of email.
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

/// Notification channel of a contact.
#[derive(Debug, Args)]
pub(crate) struct ChannelArguments {
    /// URL for signed webhook messages.
    #[arg(long, value_name = "URL", alias = "web", conflicts_with_all = ["mail_server", "mail_from", "mail_to"])]
    webhook: Option<String>,
    /// Mail server, such as mail.example.net:587.
    #[arg(long, value_name = "HOST:PORT", requires_all = ["mail_from", "mail_to"])]
    mail_server: Option<String>,
    /// Sender address of emails.
    #[arg(long, value_name = "ADDRESS")]
    mail_from: Option<String>,
    /// Recipient of emails; repeatable.
    #[arg(long, value_name = "ADDRESS", num_args = 1..)]
    mail_to: Vec<String>,
    /// Transport security of the connection to the mail server.
    #[arg(long, value_enum, default_value = "tls")]
    mail_security: Security,
    /// User name at the mail server.
    #[arg(long, value_name = "NAME")]
    mail_user: Option<String>,
    /// File with the key of the webhook's signature, or the mail server's password.
    #[arg(long, value_name = "FILE")]
    secret_file: Option<PathBuf>,
    /// Read the secret from standard input.
    #[arg(long, conflicts_with = "secret_file")]
    secret_stdin: bool,
    /// Interval of signs of life in hours; 0 for none.
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
    /// Add a contact, which is notified by webhook or email.
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
    /// Send a test message to a contact.
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
            "  Its messages are signed with {}\n  Save it now: it is not shown again.\n",
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
        (true, _) => "cannot be decrypted: set it again",
        (false, true) => "stored encrypted",
        (false, false) => "none",
    };
    text += &format!("  secret   {secret}\n");
    if let Some(hours) = contact.sign_of_life_h {
        text += &format!("  alive    heartbeat every {hours} h\n");
    }
    if contact.undelivered > 0 {
        text += &format!("  waiting  {} notifications are not delivered yet\n", contact.undelivered);
    }
    print(&text);
    Ok(())
}
