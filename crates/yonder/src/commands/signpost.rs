//! `yonder signpost …`

use clap::{Subcommand, ValueEnum};
use yonder_api::{NewSignpost, Signpost, SignpostChange};
use yonder_core::budget::Volume;

use crate::client::Client;
use crate::failure::Failure;
use crate::output::{print, print_json, table, wants_json};

/// Switch of a command line.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Switch {
    /// On.
    On,
    /// Off.
    Off,
}

impl From<Switch> for bool {
    fn from(switch: Switch) -> Self {
        switch == Switch::On
    }
}

#[derive(Debug, Subcommand)]
pub(crate) enum SignpostCommand {
    /// Add a signpost: a stable public link to the picture of a relay.
    Add {
        /// Alias in the address: lower-case letters, digits and hyphens.
        alias: String,
        /// Relay.
        #[arg(long, value_name = "RELAY")]
        relay: String,
        /// Title of its pages; the name of the relay by default.
        #[arg(long, value_name = "TITLE")]
        title: Option<String>,
        /// Play the picture on the page itself; on by default.
        #[arg(long, value_name = "ON|OFF", hide_possible_values = true)]
        player: Option<Switch>,
        /// Destination whose watch page it leads to, the preferred one first; repeatable. All of the relay by default.
        #[arg(long, value_name = "DESTINATION")]
        to: Vec<String>,
        /// Ask search engines not to list it.
        #[arg(long)]
        unlisted: bool,
        /// Append a random part to the alias, so that it cannot be guessed; implies --unlisted.
        #[arg(long)]
        random: bool,
        /// Offer a page with the availability of today.
        #[arg(long, value_name = "ON|OFF", hide_possible_values = true)]
        status_page: Option<Switch>,
        /// Maximum viewers at a time; 500 by default.
        #[arg(long, value_name = "NUMBER")]
        max_viewers: Option<u32>,
        /// Maximum volume to viewers in a day, such as 50GB.
        #[arg(long, value_name = "VOLUME")]
        daily: Option<String>,
    },
    /// List all signposts.
    List,
    /// Show a signpost, with its addresses and the code for a website.
    Show {
        /// Alias.
        alias: String,
    },
    /// Change a signpost.
    Edit {
        /// Alias.
        alias: String,
        /// New alias.
        #[arg(long, value_name = "ALIAS")]
        rename: Option<String>,
        /// New relay.
        #[arg(long, value_name = "RELAY")]
        relay: Option<String>,
        /// New title.
        #[arg(long, value_name = "TITLE")]
        title: Option<String>,
        /// Play the picture on the page itself.
        #[arg(long, value_name = "ON|OFF", hide_possible_values = true)]
        player: Option<Switch>,
        /// Destination whose watch page it leads to; repeatable. An empty text for all of the relay.
        #[arg(long, value_name = "DESTINATION")]
        to: Option<Vec<String>>,
        /// Ask search engines not to list it.
        #[arg(long, value_name = "ON|OFF", hide_possible_values = true)]
        unlisted: Option<Switch>,
        /// Offer a page with the availability of today.
        #[arg(long, value_name = "ON|OFF", hide_possible_values = true)]
        status_page: Option<Switch>,
        /// Maximum viewers at a time.
        #[arg(long, value_name = "NUMBER")]
        max_viewers: Option<u32>,
        /// Maximum volume to viewers in a day; an empty text removes it.
        #[arg(long, value_name = "VOLUME")]
        daily: Option<String>,
    },
    /// Pause a signpost: its pages show nothing.
    Pause {
        /// Alias.
        alias: String,
    },
    /// Resume a paused signpost.
    Resume {
        /// Alias.
        alias: String,
    },
    /// Remove a signpost: its addresses lead nowhere.
    Remove {
        /// Alias.
        alias: String,
    },
}

pub(crate) fn run(command: SignpostCommand, client: &Client) -> Result<(), Failure> {
    match command {
        SignpostCommand::Add {
            alias,
            relay,
            title,
            player,
            to,
            unlisted,
            random,
            status_page,
            max_viewers,
            daily,
        } => {
            let new = NewSignpost {
                name: alias,
                relay,
                title,
                player: player.map(bool::from),
                to,
                paused: false,
                unlisted,
                random,
                status_page: status_page.is_some_and(bool::from),
                max_viewers,
                daily,
            };
            show(&client.post(&["signposts"], &new)?)
        }
        SignpostCommand::List => list(&client.get::<Vec<_>>(&["signposts"])?),
        SignpostCommand::Show { alias } => show(&client.get(&["signposts", &alias])?),
        SignpostCommand::Edit {
            alias,
            rename,
            relay,
            title,
            player,
            to,
            unlisted,
            status_page,
            max_viewers,
            daily,
        } => {
            let change = SignpostChange {
                name: rename,
                relay,
                title,
                player: player.map(bool::from),
                to: to.map(|to| to.into_iter().filter(|name| !name.trim().is_empty()).collect()),
                paused: None,
                unlisted: unlisted.map(bool::from),
                status_page: status_page.map(bool::from),
                max_viewers,
                daily,
            };
            show(&client.patch(&["signposts", &alias], &change)?)
        }
        SignpostCommand::Pause { alias } => show(&client.post(&["signposts", &alias, "pause"], &())?),
        SignpostCommand::Resume { alias } => show(&client.post(&["signposts", &alias, "resume"], &())?),
        SignpostCommand::Remove { alias } => {
            client.delete(&["signposts", &alias])?;
            print(&format!("Signpost {alias} removed.\n"));
            Ok(())
        }
    }
}

/// Returns what the page does.
fn leads(signpost: &Signpost) -> String {
    let pages =
        if signpost.to.is_empty() { "watch pages of the relay".to_owned() } else { signpost.to.join(", ") };
    if signpost.player { format!("own player, else {pages}") } else { pages }
}

fn list(signposts: &[Signpost]) -> Result<(), Failure> {
    if wants_json() {
        return print_json(&signposts);
    }
    if signposts.is_empty() {
        print("There are no signposts yet. Add one: yonder signpost add ALIAS --relay RELAY\n");
        return Ok(());
    }
    let rows: Vec<Vec<String>> = signposts
        .iter()
        .map(|signpost| {
            vec![
                signpost.name.clone(),
                signpost.relay.clone(),
                signpost.state.as_str().to_owned(),
                signpost.viewers.to_string(),
                signpost.viewers_today.to_string(),
                Volume::from_bytes(signpost.bytes_today).to_string(),
                signpost.links.as_ref().map_or_else(|| "-".to_owned(), |links| links.page.clone()),
            ]
        })
        .collect();
    print(&table(&["SIGNPOST", "RELAY", "STATE", "VIEWERS", "TODAY", "SENT", "PAGE"], &rows));
    Ok(())
}

fn show(signpost: &Signpost) -> Result<(), Failure> {
    if wants_json() {
        return print_json(signpost);
    }
    let unlisted = if signpost.unlisted { ", unlisted" } else { "" };
    let mut text = format!("{}: {}\n", signpost.name, signpost.title);
    text += &format!("  state      {}{unlisted}\n", signpost.state.as_str());
    text += &format!("  relay      {}\n", signpost.relay);
    text += &format!("  leads to   {}\n", leads(signpost));
    if let Some(page) = &signpost.leads_to {
        text += &format!("  now        {page}\n");
    }
    text += &format!(
        "  viewers    {} of {}, {} today\n",
        signpost.viewers, signpost.max_viewers, signpost.viewers_today
    );
    let daily =
        signpost.daily_bytes.map(|bytes| format!(" of {}", Volume::from_bytes(bytes))).unwrap_or_default();
    text += &format!("  sent       {}{daily} today\n", Volume::from_bytes(signpost.bytes_today));
    match &signpost.links {
        Some(links) => {
            text += &format!("  page       {}\n  redirect   {}\n", links.page, links.go);
            for (label, address) in [("playlist", &links.playlist), ("status", &links.status)] {
                if let Some(address) = address {
                    text += &format!("  {label:<10} {address}\n");
                }
            }
            text += &format!("\nFor a website:\n{}\n", links.snippet);
        }
        None => text += "  page       none: start the service with --public ADDR:PORT\n",
    }
    print(&text);
    Ok(())
}
