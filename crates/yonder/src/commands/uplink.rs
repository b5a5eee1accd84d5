//! `yonder uplink …`

use clap::Subcommand;
use yonder_api::{NewUplink, Uplink, UplinkChange};
use yonder_core::budget::{BitRate, Volume};

use crate::client::Client;
use crate::failure::Failure;
use crate::output::{print, print_json, table, wants_json};

#[derive(Debug, Subcommand)]
pub(crate) enum UplinkCommand {
    /// Add an uplink: an internet connection of this machine, or of a site.
    Add {
        /// Name of the uplink.
        name: String,
        /// Upstream rate with its unit, such as 20Mbit/s.
        #[arg(long, value_name = "RATE")]
        rate: String,
        /// Site; omitted for the service's machine.
        #[arg(long, value_name = "SITE")]
        site: Option<String>,
        /// Monthly allowance, such as 500GB.
        #[arg(long, value_name = "VOLUME")]
        allowance: Option<String>,
        /// Headroom in percent; 25 by default.
        #[arg(long, value_name = "PERCENT")]
        headroom: Option<u8>,
        /// Used only while the main uplink is unavailable.
        #[arg(long)]
        backup: bool,
        /// Local address on this uplink, by which destinations are bound to it.
        #[arg(long, value_name = "ADDRESS", conflicts_with = "interface")]
        source: Option<String>,
        /// Network interface, by which destinations are bound to it.
        #[arg(long, value_name = "NAME")]
        interface: Option<String>,
    },
    /// List all uplinks.
    List,
    /// Show an uplink.
    Show {
        /// Name of the uplink.
        name: String,
    },
    /// Change an uplink.
    Edit {
        /// Name of the uplink.
        name: String,
        /// New name.
        #[arg(long, value_name = "NAME")]
        rename: Option<String>,
        /// New upstream rate with its unit.
        #[arg(long, value_name = "RATE")]
        rate: Option<String>,
        /// New site; an empty text for the service's machine.
        #[arg(long, value_name = "SITE")]
        site: Option<String>,
        /// Monthly allowance; an empty text removes it.
        #[arg(long, value_name = "VOLUME")]
        allowance: Option<String>,
        /// Headroom in percent.
        #[arg(long, value_name = "PERCENT")]
        headroom: Option<u8>,
        /// Use it only while the main uplink is unavailable: yes or no.
        #[arg(long, value_name = "YES|NO", value_parser = read_flag)]
        backup: Option<bool>,
        /// Local address on this uplink; an empty text removes it.
        #[arg(long, value_name = "ADDRESS", conflicts_with = "interface")]
        source: Option<String>,
        /// Network interface; an empty text removes it.
        #[arg(long, value_name = "NAME")]
        interface: Option<String>,
    },
    /// Remove an uplink.
    Remove {
        /// Name of the uplink.
        name: String,
    },
}

pub(crate) fn run(command: UplinkCommand, client: &Client) -> Result<(), Failure> {
    match command {
        UplinkCommand::Add { name, rate, site, allowance, headroom, backup, source, interface } => {
            let headroom_percent = headroom;
            let new = NewUplink { name, site, rate, allowance, headroom_percent, backup, source, interface };
            show(&client.post(&["uplinks"], &new)?)
        }
        UplinkCommand::List => list(&client.get::<Vec<_>>(&["uplinks"])?),
        UplinkCommand::Show { name } => show(&client.get(&["uplinks", &name])?),
        UplinkCommand::Edit {
            name,
            rename,
            rate,
            site,
            allowance,
            headroom: headroom_percent,
            backup,
            source,
            interface,
        } => {
            let change = UplinkChange {
                name: rename,
                site,
                rate,
                allowance,
                headroom_percent,
                backup,
                source,
                interface,
            };
            show(&client.patch(&["uplinks", &name], &change)?)
        }
        UplinkCommand::Remove { name } => {
            client.delete(&["uplinks", &name])?;
            print(&format!("Uplink {name} removed.\n"));
            Ok(())
        }
    }
}

fn read_flag(text: &str) -> Result<bool, String> {
    match text.to_ascii_lowercase().as_str() {
        "yes" => Ok(true),
        "no" => Ok(false),
        _ => Err("say yes or no".to_owned()),
    }
}

fn list(uplinks: &[Uplink]) -> Result<(), Failure> {
    if wants_json() {
        return print_json(&uplinks);
    }
    if uplinks.is_empty() {
        print("There are no uplinks yet. Add one: yonder uplink add NAME --rate 20Mbit/s\n");
        return Ok(());
    }
    let rows: Vec<Vec<String>> = uplinks
        .iter()
        .map(|uplink| {
            vec![
                uplink.name.clone(),
                uplink.site.clone().unwrap_or_else(|| "here".to_owned()),
                if uplink.backup { "backup" } else { "main" }.to_owned(),
                BitRate::from_kbps(uplink.up_kbps).to_string(),
                format!("{} %", uplink.headroom_percent),
                allowance(uplink).unwrap_or_else(|| "-".to_owned()),
                Volume::from_bytes(uplink.sent_bytes).to_string(),
            ]
        })
        .collect();
    print(&table(&["UPLINK", "SITE", "ROLE", "UPLOAD", "HEADROOM", "ALLOWANCE", "SENT"], &rows));
    Ok(())
}

fn show(uplink: &Uplink) -> Result<(), Failure> {
    if wants_json() {
        return print_json(uplink);
    }
    let role = if uplink.backup { "backup" } else { "main" };
    let site = uplink.site.as_deref().unwrap_or("here");
    let mut text = format!("{}\n  site       {site}, {role}\n", uplink.name);
    text += &format!("  rate up    {}\n", BitRate::from_kbps(uplink.up_kbps));
    text += &format!("  headroom   {} %\n", uplink.headroom_percent);
    if let Some(allowance) = allowance(uplink) {
        text += &format!("  a month    {allowance}\n");
    }
    if let Some(binding) = uplink.source.as_ref().or(uplink.interface.as_ref()) {
        text += &format!("  leaves by  {binding}\n");
    }
    text += &format!("  sent       {} this month\n", Volume::from_bytes(uplink.sent_bytes));
    print(&text);
    Ok(())
}

fn allowance(uplink: &Uplink) -> Option<String> {
    uplink.allowance_bytes.map(|bytes| Volume::from_bytes(bytes).to_string())
}
