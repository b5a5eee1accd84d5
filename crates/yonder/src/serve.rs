//! `yonder serve`: the service from its start to its orderly end.

use std::fs::File;
use std::num::NonZero;
use std::path::Path;
use std::sync::Arc;

use anyhow::Context as _;
use secrecy::ExposeSecret as _;
use tokio::runtime::Runtime;
use tokio::signal::unix::{Signal, SignalKind, signal};
use yonder_api::ServiceFacts;
use yonder_engine::{Engine, MediaThreads};
use yonder_http::{Server, ServerConfig};
use yonder_service::{BackupPlan, Home, HomeError, Service};
use yonder_store::StoreError;

use crate::failure::Failure;
use crate::logging::Log;
use crate::output::print_raw;
use crate::watchdog::{self, Watchdog};

/// Runs the service until it is stopped.
pub(crate) fn run(home: &Path, config: ServerConfig, backups: Option<BackupPlan>) -> Result<(), Failure> {
    let log = Log::start("info,actix_server=warn");
    raise_file_limit();
    let (instance, stop) = Instance::start(home, config, backups)?;
    instance.runtime.spawn(log.left_out().keep_reporting());
    #[cfg(debug_assertions)]
    instance.block_media_thread_on_request();
    let mut text = format!("Yonder Relay {} listens at {}\n", env!("CARGO_PKG_VERSION"), instance.url);
    if let Some(code) = instance.service.auth().set_up_code() {
        text += &format!("Set up the first person: {}/setup#{}\n", instance.url, code.expose_secret());
        text += "This link works once, until somebody can sign in.\n";
    }
    print_raw(&text);
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

/// The signals that ask the process to end. From the moment it exists they are heard, and end nothing by themselves.
#[derive(Debug)]
pub(crate) struct StopSignal {
    terminate: Option<Signal>,
    interrupt: Option<Signal>,
}

impl StopSignal {
    /// To be made within a tokio runtime.
    pub(crate) fn listen() -> Self {
        // A signal that cannot be handled ends the process, by default.
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
    threads: MediaThreads,
    /// Watches over them, apart from the threads that serve requests.
    pub(crate) runtime: Runtime,
    pub(crate) service: Arc<Service>,
    server: Server,
    pub(crate) url: String,
}

impl Instance {
    /// Opens the home folder and listens. Nothing is served and nothing runs yet.
    pub(crate) fn start(
        home: &Path,
        config: ServerConfig,
        backups: Option<BackupPlan>,
    ) -> Result<(Self, StopSignal), Failure> {
        let home = Home::new(home);
        let lock = home.occupy().map_err(anyhow::Error::from)?;
        let runtime = tokio::runtime::Builder::new_multi_thread()
            .worker_threads(1)
            .thread_name("yonder-watch")
            .enable_all()
            .build()
            .context("the threads cannot be started")?;
        let cores = std::thread::available_parallelism().map_or(1, NonZero::get);
        let threads = MediaThreads::start(cores).context("the media threads cannot be started")?;
        // Before anybody can know of the service and end it.
        let stop = {
            let _inside = runtime.enter();
            StopSignal::listen()
        };
        let engine = Engine::with_media_threads(runtime.handle().clone(), &threads)
            .with_slate_folder(home.slate_folder());
        let token = home.local_token().map_err(anyhow::Error::from)?;
        let store = home.open_store().map_err(cannot_open)?;
        #[cfg(debug_assertions)]
        hang_disk_on_request(&store);
        let service =
            Service::new(store, engine, token).context("the records cannot be read")?.with_backups(backups);
        let service = Arc::new(service);
        let server = Server::bind(Arc::clone(&service), config).map_err(anyhow::Error::from)?;
        let url = server.url().context("the address listened on is unknown")?;
        let facts = ServiceFacts {
            url: server.local_url().context("the address listened on is unknown")?,
            pid: std::process::id(),
            version: env!("CARGO_PKG_VERSION").to_owned(),
        };
        home.announce(&facts).map_err(anyhow::Error::from)?;
        Ok((Self { home, _lock: lock, threads, runtime, service, server, url }, stop))
    }

    /// Blocks a media thread, as a fault would, once the file that the environment names exists. Not part of release builds.
    #[cfg(debug_assertions)]
    fn block_media_thread_on_request(&self) {
        if let Some(file) = std::env::var_os("YONDER_TEST_BLOCK_MEDIA_THREAD") {
            self.threads.block_first_once(move || Path::new(&file).exists());
        }
    }

    /// Serves until `stop` resolves, then ends everything in order.
    pub(crate) fn run(self, stop: impl Future<Output = ()> + 'static) -> Result<(), Failure> {
        let Self { home, _lock, threads, runtime, service, server, .. } = self;
        let watchdog = Watchdog::start(threads.heartbeats()).context("the watchdog cannot be started")?;
        watchdog::notify_ready();
        let served = actix_web::rt::System::new().block_on(server.run(stop));
        watchdog::notify_stopping();
        drop(watchdog);
        home.withdraw();
        tracing::info!("stopping");
        runtime.block_on(service.shutdown());
        runtime.shutdown_background();
        served.map_err(|error| anyhow::Error::from(error).into())
    }
}

/// Lets the disk of the records hang, as a failing one does, while files that the environment names exist. Not part of release builds.
#[cfg(debug_assertions)]
fn hang_disk_on_request(store: &yonder_store::Store) {
    use yonder_store::DiskWork;
    let records = std::env::var_os("YONDER_TEST_HANG_RECORDS");
    let backup = std::env::var_os("YONDER_TEST_HANG_BACKUP");
    if records.is_none() && backup.is_none() {
        return;
    }
    store.hang_while(move |work| {
        let file = match work {
            DiskWork::Records => records.as_ref(),
            DiskWork::Backup => backup.as_ref(),
        };
        file.is_some_and(|file| Path::new(file).exists())
    });
}

/// Returns the failure of records that cannot be opened, with the next step.
fn cannot_open(error: HomeError) -> Failure {
    let hint = match &error {
        HomeError::Store(StoreError::Damaged(_)) => {
            "Put the last backup in their place: `yonder restore FILE`."
        }
        HomeError::MasterKeyMissing { .. } | HomeError::MasterKeyForeign { .. } => {
            "Put the right key back, or name its file by YONDER_MASTER_KEY_FILE; nothing was changed. If it is lost for good, \
             `yonder master-key reset` makes a new one, and every password and stream key has to be set again."
        }
        HomeError::RestoreInterrupted => {
            "Run `yonder restore FILE` again. The former records lie in a file beside, with `before-restore` in its name."
        }
        _ => return anyhow::Error::from(error).into(),
    };
    Failure::Other(anyhow::anyhow!("{:#}\n        {hint}", anyhow::Error::from(error)))
}
