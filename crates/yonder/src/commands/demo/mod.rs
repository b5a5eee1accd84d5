//! `yonder demo`: the service with stand-in cameras and platforms.

mod railway;
mod summary;

use std::io;
use std::net::{Ipv4Addr, SocketAddr, TcpListener};
use std::path::Path;
use std::process::ExitCode;
use std::sync::Arc;
use std::time::{Duration, Instant};

use anyhow::Context as _;
use parking_lot::Mutex;

use crate::arguments::DemoArguments;
use crate::failure::Failure;
use crate::listeners::ListenerSettings;
use crate::logging::Log;
use crate::output::{has_color, print, print_json, wants_json};
use crate::public::PublicSettings;
use crate::serve::Instance;
use yonder_http::ServerConfig;
use yonder_service::BackupPlan;

use railway::Railway;
use summary::Summary;

/// Person of the demo.
const PERSON: &str = "night desk";
/// File in the data directory with the password of the cameras, for `yonder feed find`.
const CAMERA_PASSWORD: &str = "camera-password";

/// Interval of scheduled backups.
const BACKUP_EVERY: Duration = Duration::from_secs(86_400);

/// Returns the default address, with another port if that is in use, as by an installed service.
fn free_address() -> SocketAddr {
    let default = SocketAddr::from((Ipv4Addr::LOCALHOST, 8_460));
    match TcpListener::bind(default) {
        Err(error) if error.kind() == io::ErrorKind::AddrInUse => SocketAddr::from((Ipv4Addr::LOCALHOST, 0)),
        _ => default,
    }
}

pub(crate) fn run(arguments: &DemoArguments, home: Option<&Path>) -> Result<ExitCode, Failure> {
    let _log = Log::start("warn");
    let temporary;
    let home = match home {
        Some(home) => home,
        None => {
            temporary = tempfile::tempdir().context("no temporary folder can be made")?;
            temporary.path()
        }
    };
    let (instance, stop) = Instance::start(
        home,
        ServerConfig {
            insecure: arguments.insecure,
            ..ServerConfig::plain(arguments.listen.unwrap_or_else(free_address))
        },
        ListenerSettings {
            rtmp: Some(SocketAddr::from((Ipv4Addr::LOCALHOST, 0))),
            srt: Some(SocketAddr::from((Ipv4Addr::LOCALHOST, 0))),
            ..ListenerSettings::default()
        },
        Some(PublicSettings {
            listen: SocketAddr::from((Ipv4Addr::LOCALHOST, 0)),
            viewer_url: None,
            tls: None,
            trusted_proxies: Vec::new(),
        }),
        Some(BackupPlan { folder: home.join("backups"), every: BACKUP_EVERY, keep: 2 }),
    )?;
    let mut railway = instance.runtime.block_on(async {
        let mut railway = Railway::start()?;
        railway.announce().await;
        Ok::<_, anyhow::Error>(railway)
    })?;
    let cameras_file = home.join(CAMERA_PASSWORD);
    write_private(&cameras_file, railway.camera_account().1)
        .with_context(|| format!("{} cannot be written", cameras_file.display()))?;
    railway.register(&instance.service, arguments.light).context("the railway cannot be set up")?;
    {
        let _inside = instance.runtime.enter();
        railway.start_encoder(&instance.service).context("the encoder cannot be started")?;
    }
    let password = railway::random_text(20);
    instance
        .service
        .auth()
        .set_person(PERSON, &password.as_str().into())
        .context("no account can be created")?;
    if !wants_json() {
        let public = instance.service.sharing().base().map(String::from).unwrap_or_default();
        print(&welcome((&instance.url, &public), home, &password, railway.camera_account().0));
    }

    let began = Instant::now();
    let result: Arc<Mutex<Option<Summary>>> = Arc::default();
    let (kept, service, duration) = (Arc::clone(&result), Arc::clone(&instance.service), arguments.duration);
    let with_faults = arguments.with_faults;
    instance.run(async move {
        tokio::select! {
            () = stop.heard() => {}
            () = wait(duration) => {}
            () = inject_faults_when_live(&railway, with_faults) => {}
        }
        let summary = Summary::take(&service, &railway, began.elapsed());
        *kept.lock() = Some(summary);
        // The stand-ins run until the broadcasts have ended in order.
        railway.keep();
    })?;
    let summary = result.lock().take();
    let summary = summary.context("there is nothing to sum up")?;
    if wants_json() {
        print_json(&summary)?;
    } else {
        print(&summary.text(has_color()));
    }
    // Without `--for`, the demo was interrupted and has no result.
    let good = arguments.duration.is_none() || summary.good;
    Ok(if good { ExitCode::SUCCESS } else { ExitCode::FAILURE })
}

/// Time after which all relays are live.
const FAULT_DELAY: Duration = Duration::from_secs(8);

/// Injects faults once all relays are live, if requested. Never ends.
async fn inject_faults_when_live(railway: &Railway, with_faults: bool) {
    if with_faults {
        tokio::time::sleep(FAULT_DELAY).await;
        railway.inject_faults();
    }
    std::future::pending::<()>().await;
}

async fn wait(duration: Option<Duration>) {
    match duration {
        Some(duration) => tokio::time::sleep(duration).await,
        None => std::future::pending().await,
    }
}

/// Writes a file that only its owner can read.
fn write_private(file: &Path, text: &str) -> io::Result<()> {
    use std::io::Write as _;
    use std::os::unix::fs::OpenOptionsExt as _;
    let mut options = std::fs::OpenOptions::new();
    options.write(true).create(true).truncate(true).mode(0o600).open(file)?.write_all(text.as_bytes())
}

fn welcome((url, public): (&str, &str), home: &Path, password: &str, camera_user: &str) -> String {
    // The program as it was called, since it may not be in the path.
    let called = std::env::args().next().filter(|called| Path::new(called).is_relative());
    let program = called.unwrap_or_else(|| "yonder".to_owned());
    let home = home.display();
    format!(
        "The Hollow Fell Light Railway is on the air, with stand-in cameras and platforms.\n\n\
         \x20 Console   {url}\n\
         \x20 Sign in   name `{PERSON}`, password `{password}`\n\
         \x20 Viewers   {public}w/summit\n\
         \x20 Commands  {program} --home {home} status\n\
         \x20 Cameras   {program} --home {home} feed find   (their account: {camera_user}, password in {home}/{CAMERA_PASSWORD})\n\n\
         Ctrl-C ends everything in order.\n"
    )
}
