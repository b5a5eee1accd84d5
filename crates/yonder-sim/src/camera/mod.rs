//! A stand-in camera: serves loops in real time over RTSP, interleaved or as datagrams, with or without TLS; it
//! behaves and misbehaves as it is told, also while it runs.

mod describe;
mod manners;
mod packets;
mod playback;
mod session;
mod sign_in;
mod sink;
mod strict;
mod told;

use std::collections::HashMap;
use std::io;
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use secrecy::SecretString;
use tokio::net::TcpStream;
use tokio::sync::watch;

pub use manners::{Description, Manners, Marker, Oddities, SignIn, Transports, Weather};
pub use told::WORDS;
pub(crate) use told::per_mille;

use crate::door::Door;
use crate::media::LoopMedia;
use crate::tls::Certificate;

/// A stream of a camera.
#[derive(Debug, Clone)]
pub struct CameraStream {
    /// Path behind the host.
    pub path: String,
    /// What it shows.
    pub media: Arc<LoopMedia>,
}

/// How a camera is set up.
#[derive(Debug, Clone, Default)]
pub struct CameraConfig {
    /// Its streams.
    pub streams: Vec<CameraStream>,
    /// User name and password; `None` lets everybody in.
    pub account: Option<(String, SecretString)>,
    /// Loopback address; 127.0.0.1 where none is given.
    pub host: Option<Ipv4Addr>,
    /// Port there; 0 picks one.
    pub port: u16,
    /// How it behaves at first.
    pub manners: Manners,
    /// Its certificate, when it speaks TLS.
    pub certificate: Option<Certificate>,
}

/// What all sessions of a camera share.
#[derive(Debug)]
pub(crate) struct Shared {
    streams: HashMap<String, Arc<LoopMedia>>,
    account: Mutex<Option<(String, SecretString)>>,
    manners: watch::Sender<Manners>,
    certificate: Option<Certificate>,
    viewers: AtomicUsize,
    sessions: AtomicU64,
    refused: AtomicU64,
}

/// Somebody who watches; counted until dropped.
#[derive(Debug)]
struct Viewer(Arc<Shared>);

impl Drop for Viewer {
    fn drop(&mut self) {
        self.0.viewers.fetch_sub(1, Ordering::AcqRel);
    }
}

impl Shared {
    fn account(&self) -> Option<(String, SecretString)> {
        self.account.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    fn manners(&self) -> Manners {
        self.manners.borrow().clone()
    }

    fn changes(&self) -> watch::Receiver<Manners> {
        self.manners.subscribe()
    }

    /// Room for one more viewer, if there is.
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

/// A camera that runs until it is dropped.
#[derive(Debug)]
pub struct Camera {
    shared: Arc<Shared>,
    door: Arc<Door>,
}

impl Camera {
    /// Starts a camera. To be called within a tokio runtime.
    ///
    /// # Errors
    /// When the port cannot be had.
    pub fn start(config: CameraConfig) -> io::Result<Self> {
        let streams = config.streams.into_iter().map(|stream| (stream.path, stream.media)).collect();
        let shared = Arc::new(Shared {
            streams,
            account: Mutex::new(config.account),
            manners: watch::Sender::new(config.manners),
            certificate: config.certificate,
            viewers: AtomicUsize::new(0),
            sessions: AtomicU64::new(0),
            refused: AtomicU64::new(0),
        });
        let address = SocketAddr::from((config.host.unwrap_or(Ipv4Addr::LOCALHOST), config.port));
        let serving = Arc::clone(&shared);
        let door = Door::open(address, move |stream| Arc::clone(&serving).serve(stream))?;
        Ok(Self { shared, door })
    }

    /// Where it listens.
    #[must_use]
    pub fn address(&self) -> SocketAddr {
        self.door.address()
    }

    /// The address of one of its streams, without user name and password.
    #[must_use]
    pub fn url(&self, path: &str) -> String {
        let scheme = if self.shared.certificate.is_some() { "rtsps" } else { "rtsp" };
        format!("{scheme}://{}{path}", self.address())
    }

    /// Switches it off: the port closes and every viewer is cut off.
    pub async fn switch_off(&self) {
        self.door.close().await;
    }

    /// Switches it on again at the same address.
    ///
    /// # Errors
    /// When somebody else has taken the port meanwhile.
    pub fn switch_on(&self) -> io::Result<()> {
        let serving = Arc::clone(&self.shared);
        self.door.reopen(move |stream| Arc::clone(&serving).serve(stream))
    }

    /// Changes the password; viewers that are in stay in.
    pub fn set_account(&self, account: Option<(String, SecretString)>) {
        *self.shared.account.lock().unwrap_or_else(PoisonError::into_inner) = account;
    }

    /// Changes how it behaves, for sessions that run and those to come.
    pub fn change(&self, change: impl FnOnce(&mut Manners)) {
        self.shared.manners.send_modify(change);
    }

    /// How it behaves.
    #[must_use]
    pub fn manners(&self) -> Manners {
        self.shared.manners()
    }

    /// Viewers at this moment.
    #[must_use]
    pub fn viewers(&self) -> usize {
        self.shared.viewers.load(Ordering::Acquire)
    }

    /// Sessions that were set up so far.
    #[must_use]
    pub fn sessions(&self) -> u64 {
        self.shared.sessions.load(Ordering::Relaxed)
    }

    /// Requests with a wrong user name or password so far.
    #[must_use]
    pub fn refused(&self) -> u64 {
        self.shared.refused.load(Ordering::Relaxed)
    }
}
