//! `yonder serve`: the service from start to orderly shutdown.

use std::fs::File;
use std::num::NonZero;
use std::path::Path;
use std::sync::Arc;

use anyhow::Context as _;
use secrecy::ExposeSecret as _;
use tokio::runtime::Runtime;
use tokio::signal::unix::{Signal, SignalKind, signal};
use yonder_api::{IngestListeners, ServiceFacts};
use yonder_engine::{Engine, MediaThreads};
use yonder_http::{Server, ServerConfig};
use yonder_public::PublicServer;
use yonder_service::{BackupPlan, DataDir, DataDirError, Service};
use yonder_store::StoreError;

use crate::failure::Failure;
use crate::listeners::{ListenerSettings, Listeners};
use crate::logging::Log;
use crate::output::print_raw;
use crate::public::{self, PublicSettings};
use crate::watchdog::{self, Watchdog};

/// Runs the service until it is stopped.
pub(crate) fn run(
    home: &Path,
    config: ServerConfig,
    listeners: ListenerSettings,
    public: Option<PublicSettings>,
    backups: Option<BackupPlan>,
) -> Result<(), Failure> {
    let log = Log::start("info,actix_server=warn");
    raise_file_limit();
    let (instance, stop) = Instance::start(home, config, listeners, public, backups)?;
    instance.runtime.spawn(log.left_out().keep_reporting());
    #[cfg(debug_assertions)]
    instance.block_media_thread_on_request();
    let mut text = format!("Yonder Relay {} listens at {}\n", env!("CARGO_PKG_VERSION"), instance.url);
    if let Some(IngestListeners { rtmp, rtmps, srt }) = instance.service.ingest().local_listeners() {
        let addresses: Vec<String> = [rtmp, rtmps, srt].into_iter().flatten().collect();
        text += &format!("Encoders publish to {}\n", addresses.join(", "));
    }
    if let Some(base) = instance.service.sharing().base() {
        text += &format!("Viewers reach the signposts at {}w/ALIAS\n", base.as_str());
    }
    if let Some(code) = instance.service.auth().set_up_code() {
        text += &format!("Set up the first account: {}/setup#{}\n", instance.url, code.expose_secret());
        text += "This link works once, until the first account is created.\n";
    }
    print_raw(&text);
    instance.service.resume();
    instance.run(stop.heard())
}

/// Raises the limit of open files to the maximum, since each feed and each push needs some.
pub(crate) fn raise_file_limit() {
    match rlimit::increase_nofile_limit(u64::MAX) {
        Ok(limit) => tracing::debug!(limit, "open files"),
        Err(error) => tracing::warn!(%error, "the limit on open files stays as it is"),
    }
}

/// Signals that request the end of the process. Once created, they no longer terminate it by themselves.
#[derive(Debug)]
pub(crate) struct StopSignal {
    terminate: Option<Signal>,
    interrupt: Option<Signal>,
}

impl StopSignal {
    /// Must be called within a tokio runtime.
    pub(crate) fn listen() -> Self {
        // A signal without a handler ends the process.
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

/// Service that is set up and listening.
pub(crate) struct Instance {
    home: DataDir,
    /// Lock of the data directory.
    _lock: File,
    /// Threads of feeds and pushes.
    threads: MediaThreads,
    /// Runtime of supervision, separate from the threads that serve requests.
    pub(crate) runtime: Runtime,
    pub(crate) service: Arc<Service>,
    server: Server,
    listeners: Option<Listeners>,
    public: Option<PublicServer>,
    pub(crate) url: String,
}

impl Instance {
    /// Opens the data directory and binds the listeners, without serving or running anything yet.
    pub(crate) fn start(
        home: &Path,
        config: ServerConfig,
        listeners: ListenerSettings,
        public: Option<PublicSettings>,
        backups: Option<BackupPlan>,
    ) -> Result<(Self, StopSignal), Failure> {
        let (folder, home) = (home, DataDir::new(home));
        let lock = home.lock_exclusively().map_err(anyhow::Error::from)?;
        let runtime = tokio::runtime::Builder::new_multi_thread()
            .worker_threads(1)
            .thread_name("yonder-watch")
            .enable_all()
            .build()
            .context("the threads cannot be started")?;
        let cores = std::thread::available_parallelism().map_or(1, NonZero::get);
        let threads = MediaThreads::start(cores).context("the media threads cannot be started")?;
        // Installed before a client can know of the service and end it.
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
        let url = server.url().context("the listening address is unknown")?;
        let listeners = Listeners::start(listeners, folder, &service)?;
        let public = public.map(|public| public::start(public, &service, runtime.handle())).transpose()?;
        let facts = ServiceFacts {
            url: server.local_url().context("the listening address is unknown")?,
            pid: std::process::id(),
            version: env!("CARGO_PKG_VERSION").to_owned(),
            ingest: service.ingest().local_listeners(),
            public: public.as_ref().map(|public| public.local_url().to_owned()),
        };
        home.write_service_file(&facts).map_err(anyhow::Error::from)?;
        Ok((Self { home, _lock: lock, threads, runtime, service, server, listeners, public, url }, stop))
    }

    /// Blocks a media thread once the file named by the environment exists. Not part of release builds.
    #[cfg(debug_assertions)]
    fn block_media_thread_on_request(&self) {
        if let Some(file) = std::env::var_os("YONDER_TEST_BLOCK_MEDIA_THREAD") {
            self.threads.block_first_once(move || Path::new(&file).exists());
        }
    }

    /// Serves until `stop` resolves, then shuts down in order.
    pub(crate) fn run(self, stop: impl Future<Output = ()> + 'static) -> Result<(), Failure> {
        let Self { home, _lock, threads, runtime, service, server, listeners, public, .. } = self;
        let watchdog = Watchdog::start(threads.heartbeats()).context("the watchdog cannot be started")?;
        watchdog::notify_ready();
        let served = actix_web::rt::System::new().block_on(server.run(stop));
        watchdog::notify_stopping();
        drop(watchdog);
        home.remove_service_file();
        tracing::info!("stopping");
        drop(public);
        runtime.block_on(service.shutdown());
        if let Some(listeners) = listeners {
            listeners.stop();
        }
        runtime.shutdown_background();
        served.map_err(|error| anyhow::Error::from(error).into())
    }
}

/// Blocks the disk of the records while files named by the environment exist. Not part of release builds.
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

/// Adds the next step to the error of opening the records.
fn cannot_open(error: DataDirError) -> Failure {
    let hint = match &error {
        DataDirError::Store(StoreError::Damaged(_)) => "Restore the last backup: `yonder restore FILE`.",
        DataDirError::MasterKeyMissing { .. } | DataDirError::MasterKeyForeign { .. } => {
            "Restore the key file, or set YONDER_MASTER_KEY_FILE. Nothing was changed. If the key is lost, `yonder master-key reset` creates a new one; then set every password and stream key again."
        }
        DataDirError::RestoreInterrupted => {
            "Run `yonder restore FILE` again. The previous records are in the same directory, with `before-restore` in their name."
        }
        _ => return anyhow::Error::from(error).into(),
    };
    Failure::Other(anyhow::anyhow!("{:#}\n        {hint}", anyhow::Error::from(error)))
}
