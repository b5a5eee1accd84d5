//! `yonder serve`: the service from its start to its orderly end.

use std::fs::File;
use std::io::IsTerminal as _;
use std::net::SocketAddr;
use std::num::NonZero;
use std::path::Path;
use std::sync::Arc;

use anyhow::Context as _;
use secrecy::ExposeSecret as _;
use tokio::runtime::Runtime;
use tokio::signal::unix::{Signal, SignalKind, signal};
use tracing_subscriber::EnvFilter;
use yonder_api::ServiceFacts;
use yonder_engine::{Engine, Lanes};
use yonder_server::{Home, HomeError, Server, Service};
use yonder_store::StoreError;

use crate::failure::Failure;
use crate::output::print;
use crate::watchdog;

/// Level filter for the log.
const LOG_VARIABLE: &str = "YONDER_LOG";

/// Runs the service until it is told to stop.
pub(crate) fn run(home: &Path, listen: SocketAddr) -> Result<(), Failure> {
    start_log("info,actix_server=warn");
    raise_file_limit();
    let (instance, stop) = Instance::start(home, listen)?;
    let mut text = format!("Yonder Relay {} listens at {}\n", env!("CARGO_PKG_VERSION"), instance.url);
    if let Some(code) = instance.service.set_up_code() {
        text += &format!("Set up the first person: {}/setup#{}\n", instance.url, code.expose_secret());
        text += "This link works once, until somebody can sign in.\n";
    }
    print(&text);
    instance.service.resume();
    instance.run(stop.heard())
}

/// Takes as many open files as the system allows this process: each feed and each push needs some.
pub(crate) fn raise_file_limit() {
    match rlimit::increase_nofile_limit(u64::MAX) {
        Ok(limit) => tracing::debug!(limit, "open files"),
        Err(error) => tracing::warn!(%error, "the limit on open files stays as it is"),
    }
}

/// Logs to standard error at `level`, unless the environment says otherwise.
pub(crate) fn start_log(level: &str) {
    let filter = EnvFilter::try_from_env(LOG_VARIABLE).unwrap_or_else(|_| EnvFilter::new(level));
    // Fails only when a log runs already, which then is used.
    let _started = tracing_subscriber::fmt()
        .with_env_filter(filter)
        .with_writer(std::io::stderr)
        // A log file is read by people and programs that know no colours.
        .with_ansi(std::io::stderr().is_terminal())
        .try_init();
}

/// The signals that ask the process to end. From the moment it exists they are heard, and end nothing by themselves.
#[derive(Debug)]
pub(crate) struct StopSignal {
    terminate: Option<Signal>,
    interrupt: Option<Signal>,
}

impl StopSignal {
    /// To be made within a tokio runtime.
    pub(crate) fn listen() -> Self {
        // Where a signal cannot be heard, it ends the process as it always does.
        let listen = |kind| signal(kind).ok();
        Self { terminate: listen(SignalKind::terminate()), interrupt: listen(SignalKind::interrupt()) }
    }

    /// Resolves when the process is asked to end.
    pub(crate) async fn heard(mut self) {
        tokio::select! {
            () = receive(&mut self.terminate) => {}
            () = receive(&mut self.interrupt) => {}
        }
    }
}

async fn receive(signal: &mut Option<Signal>) {
    match signal {
        Some(signal) => {
            signal.recv().await;
        }
        None => std::future::pending().await,
    }
}

/// A service that is set up and listens.
pub(crate) struct Instance {
    home: Home,
    /// Keeps other services out of the home folder.
    _lock: File,
    /// Feeds and pushes run here, apart from everything else.
    _lanes: Lanes,
    /// Watches over them, apart from the threads that serve requests.
    pub(crate) runtime: Runtime,
    pub(crate) service: Arc<Service>,
    server: Server,
    pub(crate) url: String,
}

impl Instance {
    /// Opens the home folder and listens. Nothing is served and nothing runs yet.
    pub(crate) fn start(home: &Path, listen: SocketAddr) -> Result<(Self, StopSignal), Failure> {
        let home = Home::new(home);
        let lock = home.occupy().map_err(anyhow::Error::from)?;
        let runtime = tokio::runtime::Builder::new_multi_thread()
            .worker_threads(1)
            .thread_name("yonder-watch")
            .enable_all()
            .build()
            .context("the threads cannot be started")?;
        let cores = std::thread::available_parallelism().map_or(1, NonZero::get);
        let lanes = Lanes::start(cores).context("the media threads cannot be started")?;
        // Before anybody can know of the service and end it.
        let stop = {
            let _inside = runtime.enter();
            StopSignal::listen()
        };
        let engine = Engine::with_lanes(runtime.handle().clone(), &lanes);
        let token = home.local_token().map_err(anyhow::Error::from)?;
        let store = home.open_store().map_err(cannot_open)?;
        let service = Service::new(store, engine, token).context("the records cannot be read")?;
        let service = Arc::new(service);
        let server = Server::bind(Arc::clone(&service), listen).map_err(anyhow::Error::from)?;
        let address = server.address().context("the address listened on is unknown")?;
        let url = format!("http://{}", reachable(address));
        let facts = ServiceFacts {
            url: url.clone(),
            pid: std::process::id(),
            version: env!("CARGO_PKG_VERSION").to_owned(),
        };
        home.announce(&facts).map_err(anyhow::Error::from)?;
        Ok((Self { home, _lock: lock, _lanes: lanes, runtime, service, server, url }, stop))
    }

    /// Serves until `stop` resolves, then ends everything in order.
    pub(crate) fn run(self, stop: impl Future<Output = ()> + 'static) -> Result<(), Failure> {
        let Self { home, _lock, _lanes, runtime, service, server, .. } = self;
        let alive = runtime.spawn(watchdog::keep_telling(Arc::clone(&service)));
        watchdog::tell_ready();
        let served = actix_web::rt::System::new().block_on(server.run(stop));
        watchdog::tell_stopping();
        alive.abort();
        home.withdraw();
        tracing::info!("stopping");
        runtime.block_on(service.shutdown());
        runtime.shutdown_background();
        served.map_err(|error| anyhow::Error::from(error).into())
    }
}

/// What to do about records that cannot be opened.
fn cannot_open(error: HomeError) -> Failure {
    let damaged = matches!(error, HomeError::Store(StoreError::Damaged(_)));
    let error = anyhow::Error::from(error);
    Failure::Other(if damaged {
        anyhow::anyhow!("{error:#}\n        Put the last backup in their place: `yonder restore FILE`.")
    } else {
        error
    })
}

/// An address that clients on this machine can use.
fn reachable(mut address: SocketAddr) -> SocketAddr {
    if address.ip().is_unspecified() {
        address.set_ip(if address.is_ipv4() {
            std::net::Ipv4Addr::LOCALHOST.into()
        } else {
            std::net::Ipv6Addr::LOCALHOST.into()
        });
    }
    address
}
