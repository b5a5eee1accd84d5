//! Command-line arguments.

use std::io;
use std::net::{IpAddr, SocketAddr};
use std::path::{Path, PathBuf};
use std::time::Duration;

use clap::{Args, CommandFactory as _, Parser, Subcommand, value_parser};
use clap_complete::Shell;
use url::Url;
use yonder_http::{ServerConfig, TlsFiles};
use yonder_service::BackupPlan;

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
    signpost::SignpostCommand,
    stand_in::StandInCommand,
    token::TokenCommand,
    uplink::UplinkCommand,
};
use crate::connection::Connection;
use crate::duration::parse_duration;
use crate::listeners::ListenerSettings;
use crate::public::PublicSettings;

/// Pulls RTSP cameras, pushes them to video platforms, and keeps both running.
#[derive(Debug, Parser)]
#[command(name = "yonder", version, arg_required_else_help = true, max_term_width = 100)]
#[command(
    after_help = "Exit codes: 0 done, 1 refused by the service, 2 usage error, 3 service not reachable.\n\
    YONDER_LOG sets what is logged, for example `info` or `yonder_engine=debug`."
)]
pub(crate) struct Arguments {
    #[command(flatten)]
    pub(crate) connection: Connection,
    /// Print JSON, and errors as JSON on standard error.
    #[arg(long, global = true)]
    pub(crate) json: bool,
    #[command(subcommand)]
    pub(crate) command: Command,
}

/// Settings of the HTTP server.
#[derive(Debug, Args)]
pub(crate) struct ServeArguments {
    /// Address and port to listen on; port 0 picks one.
    #[arg(long, env = "YONDER_LISTEN", default_value = "127.0.0.1:8460", value_name = "ADDR:PORT")]
    listen: SocketAddr,
    /// Certificate chain in PEM, reloaded when it changes.
    #[arg(long, env = "YONDER_TLS_CERT", value_name = "FILE", requires = "tls_key")]
    tls_cert: Option<PathBuf>,
    /// Private key of the certificate in PEM.
    #[arg(long, env = "YONDER_TLS_KEY", value_name = "FILE", requires = "tls_cert")]
    tls_key: Option<PathBuf>,
    /// URL for browsers, such as `https://relay.example.net`.
    #[arg(long, env = "YONDER_PUBLIC_URL", value_name = "URL", value_parser = parse_public_url)]
    public_url: Option<Url>,
    /// Address of a proxy whose `X-Forwarded-For` is trusted; repeatable.
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
    /// Listen for encoders by RTMP; port 0 picks one.
    #[arg(long, env = "YONDER_INGEST_RTMP", value_name = "ADDR:PORT")]
    ingest_rtmp: Option<SocketAddr>,
    /// Listen for encoders by RTMPS, with the certificate of --tls-cert or a self-signed one.
    #[arg(long, env = "YONDER_INGEST_RTMPS", value_name = "ADDR:PORT")]
    ingest_rtmps: Option<SocketAddr>,
    /// Listen for encoders by SRT (UDP).
    #[arg(long, env = "YONDER_INGEST_SRT", value_name = "ADDR:PORT")]
    ingest_srt: Option<SocketAddr>,
    /// Host name or address that encoders use; by default that of --public-url, or of the listener.
    #[arg(long, env = "YONDER_INGEST_HOST", value_name = "HOST")]
    ingest_host: Option<String>,
    /// Serve the public pages of signposts, without console and API; port 0 picks one.
    #[arg(long, env = "YONDER_PUBLIC", value_name = "ADDR:PORT")]
    public: Option<SocketAddr>,
    /// URL under which viewers reach the public pages; by default that of the listener.
    #[arg(long, env = "YONDER_VIEWER_URL", value_name = "URL", value_parser = parse_viewer_url, requires = "public")]
    viewer_url: Option<Url>,
    /// Folder of scheduled backups; by default `backups` in the data directory.
    #[arg(long, env = "YONDER_BACKUP_FOLDER", value_name = "DIR")]
    backup_folder: Option<PathBuf>,
    /// Interval of scheduled backups.
    #[arg(long, default_value = "24h", value_parser = parse_duration, value_name = "TIME")]
    backup_every: Duration,
    /// Number of scheduled backups to keep.
    #[arg(long, default_value_t = 7, value_parser = value_parser!(u16).range(1..=1_000), value_name = "NUMBER")]
    backup_keep: u16,
    /// Disable scheduled backups.
    #[arg(long, conflicts_with_all = ["backup_folder", "backup_keep"])]
    no_backups: bool,
}

impl ServeArguments {
    /// Returns the schedule of backups of the data directory `home`.
    pub(crate) fn backup_plan(&self, home: &Path) -> Option<BackupPlan> {
        (!self.no_backups).then(|| BackupPlan {
            folder: self.backup_folder.clone().unwrap_or_else(|| home.join("backups")),
            every: self.backup_every,
            keep: usize::from(self.backup_keep),
        })
    }
}

impl ServeArguments {
    fn tls(&self) -> Option<TlsFiles> {
        let files = self.tls_cert.clone().zip(self.tls_key.clone());
        files.map(|(certificate, key)| TlsFiles { certificate, key })
    }

    /// Returns the settings of the listeners for encoders.
    pub(crate) fn listeners(&self) -> ListenerSettings {
        let public = self.public_url.as_ref().and_then(Url::host_str);
        ListenerSettings {
            rtmp: self.ingest_rtmp,
            rtmps: self.ingest_rtmps,
            srt: self.ingest_srt,
            host: self.ingest_host.as_deref().or(public).map(str::to_owned),
            tls: self.tls(),
        }
    }

    /// Returns the settings of the listener for viewers.
    pub(crate) fn public(&self) -> Option<PublicSettings> {
        self.public.map(|listen| PublicSettings {
            listen,
            viewer_url: self.viewer_url.clone(),
            tls: self.tls(),
            trusted_proxies: self.trusted_proxies.clone(),
        })
    }
}

impl From<ServeArguments> for ServerConfig {
    fn from(arguments: ServeArguments) -> Self {
        let tls = arguments.tls();
        let ServeArguments { listen, public_url, trusted_proxies, insecure, .. } = arguments;
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

fn parse_viewer_url(text: &str) -> Result<Url, String> {
    let url: Url = text.parse().map_err(|error| format!("{error}"))?;
    if matches!(url.scheme(), "http" | "https")
        && url.has_host()
        && url.query().is_none()
        && url.fragment().is_none()
    {
        return Ok(url);
    }
    Err("give scheme, host and perhaps a path, like https://watch.example.net".to_owned())
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Run the service.
    Serve(Box<ServeArguments>),
    /// Run the service with demo data: stand-in cameras and platforms of a railway.
    Demo(DemoArguments),
    /// Run a single stand-in camera, platform or encoder.
    #[command(subcommand)]
    StandIn(StandInCommand),
    /// Manage feeds (RTSP pulls, and encoders that publish).
    #[command(subcommand)]
    Feed(FeedCommand),
    /// Manage address patterns: RTSP addresses of cameras with placeholders.
    #[command(subcommand)]
    Pattern(PatternCommand),
    /// Manage platforms (rule sheets).
    #[command(subcommand)]
    Platform(PlatformCommand),
    /// Manage destinations and their stream keys.
    #[command(subcommand)]
    Destination(DestinationCommand),
    /// Manage relays (a feed and its pushes).
    #[command(subcommand)]
    Relay(RelayCommand),
    /// Manage signposts: stable public links to the picture of a relay.
    #[command(subcommand)]
    Signpost(SignpostCommand),
    /// Manage uplinks and their monthly allowances.
    #[command(subcommand)]
    Uplink(UplinkCommand),
    /// Show uplinks, bit rates and monthly traffic, as they are or with hypothetical changes.
    Budget(BudgetArguments),
    /// Show all relays, with their feeds and pushes.
    Status {
        /// Keep updating until interrupted.
        #[arg(long)]
        follow: bool,
    },
    /// Manage alert rules.
    #[command(subcommand)]
    Alert(AlertCommand),
    /// Manage contacts, which are notified by webhook or email.
    #[command(subcommand, alias = "receiver")]
    Contact(ContactCommand),
    /// Manage people and their roles.
    #[command(subcommand)]
    Person(PersonCommand),
    /// Manage sessions of signed-in people.
    #[command(subcommand)]
    Session(SessionCommand),
    /// List, show or cancel background jobs.
    #[command(subcommand)]
    Job(JobCommand),
    /// Manage API tokens.
    #[command(subcommand)]
    Token(TokenCommand),
    /// Check, compare, apply or export the site book: all settings as one TOML file.
    #[command(subcommand)]
    Book(BookCommand),
    /// Show the logbook: states with their causes, and actions of people.
    Logbook(LogbookArguments),
    /// Show the audit log: changes with author, origin, and state before and after.
    Audit(AuditArguments),
    /// Show the availability report of a month, with outages and fault domains.
    Report(ReportArguments),
    /// Write a backup of all records while the service runs, with sealed secrets.
    Backup(BackupArguments),
    /// Restore a backup; the service must be stopped.
    Restore(RestoreArguments),
    /// Migrate the records to this version of the program, or try it on a copy; the service also does so at its start.
    Upgrade(UpgradeArguments),
    /// Rotate the master key, or replace a lost one.
    #[command(subcommand)]
    MasterKey(MasterKeyCommand),
    /// Check database, secrets, disk space, file limits and CA certificates.
    Selfcheck,
    /// Print a completion script for a shell.
    Completions {
        /// Shell.
        shell: Shell,
    },
    /// Write manual pages of all commands.
    #[command(hide = true)]
    Man {
        /// Folder for the pages.
        #[arg(long, value_name = "DIR")]
        out: PathBuf,
    },
    /// Print the OpenAPI document.
    #[command(hide = true)]
    Openapi,
}

#[derive(Debug, Args)]
pub(crate) struct DemoArguments {
    /// End after this time, such as 30s or 2m, with a summary.
    #[arg(long = "for", value_parser = parse_duration, value_name = "TIME")]
    pub(crate) duration: Option<Duration>,
    /// Inject faults once everything is live: a frozen camera, a revoked stream key, a slow platform.
    #[arg(long, alias = "bad-hour")]
    pub(crate) with_faults: bool,
    /// Stop the relay that adapts video, which takes about a third of a processor core.
    #[arg(long)]
    pub(crate) light: bool,
    /// Address and port to listen on; port 0 picks one. By default 127.0.0.1:8460, or another port if that is in use.
    #[arg(long, value_name = "ADDR:PORT")]
    pub(crate) listen: Option<SocketAddr>,
    /// Accept plain HTTP from other machines.
    #[arg(long)]
    pub(crate) insecure: bool,
}

pub(crate) fn print_completions(shell: Shell) {
    clap_complete::generate(shell, &mut Arguments::command(), "yonder", &mut io::stdout());
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn command_line_definition_is_valid() {
        Arguments::command().debug_assert();
    }
}
