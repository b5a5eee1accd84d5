//! Stand-in camera: serves loops in real time over RTSP, interleaved or by datagrams, with or without TLS. Faults can be
//! injected while it runs.

mod describe;
mod fault_commands;
mod faults;
mod packets;
mod playback;
mod rtp_transport;
mod session;
mod sign_in;
mod strict;

use std::collections::HashMap;
use std::io;
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};

use parking_lot::Mutex;
use secrecy::SecretString;
use tokio::net::TcpStream;
use tokio::sync::watch;
use yonder_codec::CodecError;

pub use fault_commands::CAMERA_COMMANDS;
pub(crate) use fault_commands::per_mille;
pub use faults::{CameraFaults, Description, Impairment, Marker, Oddities, SignIn, Transports};

use crate::encoding::StreamSettings;
use crate::listener::RestartableListener;
use crate::media::LoopMedia;
use crate::tls::Certificate;

/// Stream of a camera.
#[derive(Debug, Clone)]
pub struct CameraStream {
    /// Path of its address.
    pub path: String,
    /// Media of the stream.
    pub media: Arc<LoopMedia>,
}

/// Configuration of a camera.
#[derive(Debug, Clone, Default)]
pub struct CameraConfig {
    /// Streams.
    pub streams: Vec<CameraStream>,
    /// User name and password; `None` without authentication.
    pub account: Option<(String, SecretString)>,
    /// Loopback address; 127.0.0.1 where none is given.
    pub host: Option<Ipv4Addr>,
    /// Port there; 0 picks one.
    pub port: u16,
    /// Initial faults.
    pub faults: CameraFaults,
    /// Certificate, for TLS.
    pub certificate: Option<Certificate>,
}

/// State that all sessions of a camera share.
#[derive(Debug)]
pub(crate) struct Shared {
    /// Streams as configured, by path.
    originals: HashMap<String, Arc<LoopMedia>>,
    /// Streams as the encoders send them, by path.
    streams: watch::Sender<HashMap<String, Arc<LoopMedia>>>,
    account: Mutex<Option<(String, SecretString)>>,
    faults: watch::Sender<CameraFaults>,
    certificate: Option<Certificate>,
    viewers: AtomicUsize,
    sessions: AtomicU64,
    refused: AtomicU64,
}

/// Playing session, counted until it is dropped.
#[derive(Debug)]
struct Viewer(Arc<Shared>);

impl Drop for Viewer {
    fn drop(&mut self) {
        self.0.viewers.fetch_sub(1, Ordering::AcqRel);
    }
}

impl Shared {
    fn account(&self) -> Option<(String, SecretString)> {
        self.account.lock().clone()
    }

    fn faults(&self) -> CameraFaults {
        self.faults.borrow().clone()
    }

    fn changes(&self) -> watch::Receiver<CameraFaults> {
        self.faults.subscribe()
    }

    /// Returns a slot for another session; `None` at the limit.
    fn admit(self: &Arc<Self>, most: Option<usize>) -> Option<Viewer> {
        let before = self.viewers.fetch_add(1, Ordering::AcqRel);
        let viewer = Viewer(Arc::clone(self));
        if most.is_some_and(|most| before >= most) {
            return None;
        }
        self.sessions.fetch_add(1, Ordering::Relaxed);
        Some(viewer)
    }

    async fn serve(self: Arc<Self>, stream: TcpStream) {
        let peer = stream.peer_addr().map_or(IpAddr::V4(Ipv4Addr::LOCALHOST), |peer| peer.ip());
        match &self.certificate {
            None => session::serve(stream, peer, Arc::clone(&self)).await,
            Some(certificate) => match certificate.acceptor().accept(stream).await {
                Ok(stream) => session::serve(stream, peer, Arc::clone(&self)).await,
                Err(error) => tracing::debug!(%error, "viewer does not get through TLS"),
            },
        }
    }
}

/// Control of a camera's encoders.
#[derive(Debug, Clone)]
pub struct CameraEncoders(Arc<Shared>);

impl CameraEncoders {
    /// Encodes a stream with other settings. Its sessions end when it is ready, as with most cameras. Takes some seconds.
    ///
    /// # Errors
    /// [`CodecError`] for settings that it cannot encode.
    pub fn set(&self, path: &str, settings: &StreamSettings) -> Result<(), CodecError> {
        let Some(original) = self.0.originals.get(path) else { return Ok(()) };
        let media = Arc::new(original.encoded(settings)?);
        self.0.streams.send_modify(|streams| {
            streams.insert(path.to_owned(), media);
        });
        Ok(())
    }
}

/// Camera that runs until it is dropped.
#[derive(Debug)]
pub struct Camera {
    shared: Arc<Shared>,
    door: Arc<RestartableListener>,
}

impl Camera {
    /// Starts a camera. To be called within a tokio runtime.
    ///
    /// # Errors
    /// When the port cannot be bound.
    pub fn start(config: CameraConfig) -> io::Result<Self> {
        let streams: HashMap<_, _> =
            config.streams.into_iter().map(|stream| (stream.path, stream.media)).collect();
        let shared = Arc::new(Shared {
            originals: streams.clone(),
            streams: watch::Sender::new(streams),
            account: Mutex::new(config.account),
            faults: watch::Sender::new(config.faults),
            certificate: config.certificate,
            viewers: AtomicUsize::new(0),
            sessions: AtomicU64::new(0),
            refused: AtomicU64::new(0),
        });
        let address = SocketAddr::from((config.host.unwrap_or(Ipv4Addr::LOCALHOST), config.port));
        let serving = Arc::clone(&shared);
        let door = RestartableListener::open(address, move |stream| Arc::clone(&serving).serve(stream))?;
        Ok(Self { shared, door })
    }

    /// Returns the address of its listener.
    #[must_use]
    pub fn address(&self) -> SocketAddr {
        self.door.address()
    }

    /// Returns the URL of a stream, without credentials.
    #[must_use]
    pub fn url(&self, path: &str) -> String {
        let scheme = if self.shared.certificate.is_some() { "rtsps" } else { "rtsp" };
        format!("{scheme}://{}{path}", self.address())
    }

    /// Switches the camera off: closes the port and drops all sessions.
    pub async fn switch_off(&self) {
        self.door.close().await;
    }

    /// Switches the camera on again, at the same address.
    ///
    /// # Errors
    /// When another process has bound the port.
    pub fn switch_on(&self) -> io::Result<()> {
        let serving = Arc::clone(&self.shared);
        self.door.reopen(move |stream| Arc::clone(&serving).serve(stream))
    }

    /// Changes the credentials. Running sessions continue.
    pub fn set_account(&self, account: Option<(String, SecretString)>) {
        *self.shared.account.lock() = account;
    }

    /// Returns the control of its encoders, for its device.
    #[must_use]
    pub fn encoders(&self) -> CameraEncoders {
        CameraEncoders(Arc::clone(&self.shared))
    }

    /// Changes faults, for running and future sessions.
    pub fn change(&self, change: impl FnOnce(&mut CameraFaults)) {
        self.shared.faults.send_modify(change);
    }

    /// Faults and limits.
    #[must_use]
    pub fn faults(&self) -> CameraFaults {
        self.shared.faults()
    }

    /// Returns the number of playing sessions.
    #[must_use]
    pub fn viewers(&self) -> usize {
        self.shared.viewers.load(Ordering::Acquire)
    }

    /// Returns the number of sessions set up so far.
    #[must_use]
    pub fn sessions(&self) -> u64 {
        self.shared.sessions.load(Ordering::Relaxed)
    }

    /// Returns the number of requests with wrong credentials so far.
    #[must_use]
    pub fn refused(&self) -> u64 {
        self.shared.refused.load(Ordering::Relaxed)
    }
}
