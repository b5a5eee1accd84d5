//! The command line.

use std::io;
use std::net::{IpAddr, SocketAddr};
use std::path::{Path, PathBuf};
use std::time::Duration;

use clap::{Args, CommandFactory as _, Parser, Subcommand, value_parser};
use clap_complete::Shell;
use url::Url;
use yonder_http::{ServerConfig, TlsFiles};
use yonder_service::BackupPlan;

use crate::client::Client;
use crate::commands::{
    alert::AlertCommand,
    audit::AuditArguments,
    book::BookCommand,
    budget::BudgetArguments,
    contact::ContactCommand,
    destination::DestinationCommand,
    feed::FeedCommand,
    job::JobCommand,
    maintenance::{BackupArguments, RestoreArguments, UpgradeArguments},
    master_key::MasterKeyCommand,
    pattern::PatternCommand,
    person::{PersonCommand, SessionCommand},
    platform::PlatformCommand,
    record::{LogbookArguments, ReportArguments},
    relay::RelayCommand,
    stand_in::StandInCommand,
    token::TokenCommand,
    uplink::UplinkCommand,
};
use crate::failure::Failure;

/// Pulls RTSP cameras, pushes them to video platforms, and keeps both running.
#[derive(Debug, Parser)]
#[command(name = "yonder", version, arg_required_else_help = true, max_term_width = 100)]
#[command(after_help = "Exit codes: 0 done, 1 the service said no, 2 wrong usage, 3 not reachable.\n\
    YONDER_LOG sets what is logged, for example `info` or `yonder_engine=debug`.")]
pub(crate) struct Arguments {
    #[command(flatten)]
    pub(crate) connection: Connection,
    /// Print JSON; errors too, on standard error.
    #[arg(long, global = true)]
    pub(crate) json: bool,
    #[command(subcommand)]
    pub(crate) command: Command,
}

/// Settings of the service's HTTP server.
#[derive(Debug, Args)]
pub(crate) struct ServeArguments {
    /// Address and port to listen on; port 0 picks one.
    #[arg(long, env = "YONDER_LISTEN", default_value = "127.0.0.1:8460", value_name = "ADDR:PORT")]
    listen: SocketAddr,
    /// Certificate chain in PEM; it is read again when it changes.
    #[arg(long, env = "YONDER_TLS_CERT", value_name = "FILE", requires = "tls_key")]
    tls_cert: Option<PathBuf>,
    /// Private key of the certificate in PEM.
    #[arg(long, env = "YONDER_TLS_KEY", value_name = "FILE", requires = "tls_cert")]
    tls_key: Option<PathBuf>,
    /// Address by which browsers reach the service, like `https://relay.example.net`.
    #[arg(long, env = "YONDER_PUBLIC_URL", value_name = "URL", value_parser = parse_public_url)]
    public_url: Option<Url>,
    /// Address of a proxy whose `X-Forwarded-For` is believed; may be given several times.
    #[arg(
        long = "trusted-proxy",
        env = "YONDER_TRUSTED_PROXIES",
        value_delimiter = ',',
        value_name = "ADDR"
    )]
    trusted_proxies: Vec<IpAddr>,
    /// Accept plain HTTP from other machines.
    #[arg(long)]
    insecure: bool,
    /// Folder of scheduled backups; `backups` in the home folder by default.
    #[arg(long, env = "YONDER_BACKUP_FOLDER", value_name = "DIR")]
    backup_folder: Option<PathBuf>,
    /// Time from one scheduled backup to the next.
    #[arg(long, default_value = "24h", value_parser = parse_duration, value_name = "TIME")]
    backup_every: Duration,
    /// Number of scheduled backups that are kept.
    #[arg(long, default_value_t = 7, value_parser = value_parser!(u16).range(1..=1_000), value_name = "NUMBER")]
    backup_keep: u16,
    /// Schedule no backups.
    #[arg(long, conflicts_with_all = ["backup_folder", "backup_keep"])]
    no_backups: bool,
}

impl ServeArguments {
    /// Returns the schedule of backups of the records in `home`.
    pub(crate) fn backup_plan(&self, home: &Path) -> Option<BackupPlan> {
        (!self.no_backups).then(|| BackupPlan {
            folder: self.backup_folder.clone().unwrap_or_else(|| home.join("backups")),
            every: self.backup_every,
            keep: usize::from(self.backup_keep),
        })
    }
}

impl From<ServeArguments> for ServerConfig {
    fn from(arguments: ServeArguments) -> Self {
        let ServeArguments { listen, tls_cert, tls_key, public_url, trusted_proxies, insecure, .. } =
            arguments;
        let tls = tls_cert.zip(tls_key).map(|(certificate, key)| TlsFiles { certificate, key });
        Self { listen, tls, public_url, trusted_proxies, insecure }
    }
}

fn parse_public_url(text: &str) -> Result<Url, String> {
    let url: Url = text.parse().map_err(|error| format!("{error}"))?;
    let is_root = url.path() == "/" && url.query().is_none() && url.fragment().is_none();
    if matches!(url.scheme(), "http" | "https") && url.has_host() && is_root {
        return Ok(url);
    }
    Err("give scheme and host, like https://relay.example.net".to_owned())
}

/// Which service is meant.
#[derive(Debug, Args)]
pub(crate) struct Connection {
    /// Home folder of the service: its records, its keys, and where it can be reached.
    #[arg(long, global = true, env = "YONDER_HOME", value_name = "DIR")]
    home: Option<PathBuf>,
    /// Address of a remote service, like `https://relay.example.net`; before the command, since feeds have
    /// an --url of their own.
    #[arg(long, env = "YONDER_URL", value_name = "URL")]
    url: Option<String>,
    /// File with the token for a remote service.
    #[arg(long, global = true, env = "YONDER_TOKEN_FILE", value_name = "FILE")]
    token_file: Option<PathBuf>,
    /// Send the token to a remote service by plain HTTP, readable on the way.
    #[arg(long, global = true)]
    plain_http: bool,
}

impl Connection {
    /// The home folder: as given, else `~/.yonder`.
    pub(crate) fn home_folder(&self) -> PathBuf {
        self.home.clone().unwrap_or_else(|| {
            let base = std::env::var_os("HOME").map_or_else(|| PathBuf::from("."), PathBuf::from);
            base.join(".yonder")
        })
    }

    /// The home folder, if one was given.
    pub(crate) fn given_home(&self) -> Option<&Path> {
        self.home.as_deref()
    }

    /// A client of the service that is meant.
    pub(crate) fn client(&self) -> Result<Client, Failure> {
        match (&self.url, &self.token_file) {
            (Some(url), Some(token_file)) => Client::remote(url, token_file, self.plain_http),
            (Some(_), None) => Err(Failure::Usage("a remote service needs --token-file as well".to_owned())),
            (None, _) => Client::local(&self.home_folder()),
        }
    }
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Run the service.
    Serve(ServeArguments),
    /// Run the service with the railway's stand-in cameras and platforms.
    Demo(DemoArguments),
    /// Run one stand-in by itself, to rehearse with.
    #[command(subcommand)]
    StandIn(StandInCommand),
    /// Feeds: what is pulled.
    #[command(subcommand)]
    Feed(FeedCommand),
    /// Address patterns: what cameras' addresses look like, with blanks to be filled in.
    #[command(subcommand)]
    Pattern(PatternCommand),
    /// Platforms: what each accepts, as rule sheets.
    #[command(subcommand)]
    Platform(PlatformCommand),
    /// Destinations: where it is pushed, and their stream keys.
    #[command(subcommand)]
    Destination(DestinationCommand),
    /// Relays: a feed and the pushes that carry it.
    #[command(subcommand)]
    Relay(RelayCommand),
    /// Uplinks: what each connection carries, and what a month of it may have.
    #[command(subcommand)]
    Uplink(UplinkCommand),
    /// Uplinks, bit rates and the month's traffic, as they are or as they would be.
    Budget(BudgetArguments),
    /// Every relay, its feed and its pushes on one screen.
    Status {
        /// Keep showing changes until interrupted.
        #[arg(long)]
        follow: bool,
    },
    /// Manage alert rules.
    #[command(subcommand)]
    Alert(AlertCommand),
    /// Contacts: who is notified, by webhook or e-mail.
    #[command(subcommand, alias = "receiver")]
    Contact(ContactCommand),
    /// People: who may sign in, and what they may do.
    #[command(subcommand)]
    Person(PersonCommand),
    /// Sessions of people who are signed in.
    #[command(subcommand)]
    Session(SessionCommand),
    /// Work that the service does in the background: list, show, cancel.
    #[command(subcommand)]
    Job(JobCommand),
    /// Tokens by which programs use the API.
    #[command(subcommand)]
    Token(TokenCommand),
    /// The site book: everything that is kept, as one TOML file.
    #[command(subcommand)]
    Book(BookCommand),
    /// Show the logbook: states with their causes, and actions of people.
    Logbook(LogbookArguments),
    /// Changes: who made them, from where, and what was there before and after.
    Audit(AuditArguments),
    /// A month: how much of the wanted time was up, what was down and whose side it was.
    Report(ReportArguments),
    /// Write a copy of all records while the service runs; secrets in it stay sealed.
    Backup(BackupArguments),
    /// Put a backup in the place of the records; the service must not run.
    Restore(RestoreArguments),
    /// Bring the records to this version of the program, or try that on a copy; the service does it at its start as well.
    Upgrade(UpgradeArguments),
    /// The master key: rotate it, or replace one that is lost.
    #[command(subcommand)]
    MasterKey(MasterKeyCommand),
    /// Look at what the service stands on: records, secrets, disk, open files, certificate authorities.
    Selfcheck,
    /// Print a completion script for a shell.
    Completions {
        /// Shell.
        shell: Shell,
    },
    /// Write manual pages of all commands.
    #[command(hide = true)]
    Man {
        /// Folder of the pages.
        #[arg(long, value_name = "DIR")]
        out: PathBuf,
    },
    /// Print the API's own description.
    #[command(hide = true)]
    Openapi,
}

#[derive(Debug, Args)]
pub(crate) struct DemoArguments {
    /// End by itself after this time, like 30s or 2m, with a summary.
    #[arg(long = "for", value_parser = parse_duration, value_name = "TIME")]
    pub(crate) duration: Option<Duration>,
    /// Inject faults once everything is live: a frozen camera, a revoked stream key, a slow platform.
    #[arg(long, alias = "bad-hour")]
    pub(crate) with_faults: bool,
    /// Address and port to listen on; port 0 picks one. By default 127.0.0.1:8460, or another port where that is in use.
    #[arg(long, value_name = "ADDR:PORT")]
    pub(crate) listen: Option<SocketAddr>,
    /// Accept plain HTTP from other machines.
    #[arg(long)]
    pub(crate) insecure: bool,
}

/// Reads a time like `500ms`, `30s`, `2m` or `1h`.
pub(crate) fn parse_duration(text: &str) -> Result<Duration, String> {
    let digits = text.find(|c: char| !c.is_ascii_digit()).unwrap_or(text.len());
    let (number, unit) = text.split_at(digits);
    let number: u64 = number.parse().map_err(|_| "give a time like 30s or 2m".to_owned())?;
    let milliseconds = match unit {
        "ms" => 1,
        "s" => 1_000,
        "m" => 60_000,
        "h" => 3_600_000,
        _ => return Err("give a time with its unit, like 30s or 2m".to_owned()),
    };
    let milliseconds = number.checked_mul(milliseconds).filter(|ms| *ms > 0 && *ms <= 30 * 86_400_000);
    milliseconds.map(Duration::from_millis).ok_or_else(|| "give a time from 1ms to 720h".to_owned())
}

pub(crate) fn print_completions(shell: Shell) {
    clap_complete::generate(shell, &mut Arguments::command(), "yonder", &mut io::stdout());
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_command_line_is_sound() {
        Arguments::command().debug_assert();
    }

    #[test]
    fn times_need_a_unit() {
        assert_eq!(parse_duration("30s"), Ok(Duration::from_secs(30)));
        assert_eq!(parse_duration("2m"), Ok(Duration::from_secs(120)));
        assert_eq!(parse_duration("500ms"), Ok(Duration::from_millis(500)));
        for wrong in ["30", "s", "", "0s", "-1s", "9999999h", "3 s"] {
            assert!(parse_duration(wrong).is_err(), "{wrong}");
        }
    }
}
