//! A stand-in camera: serves loops in real time over RTSP with Digest sign-in, interleaved on TCP.

mod packets;
mod playback;
mod session;
mod sign_in;

use std::collections::HashMap;
use std::io;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex, PoisonError};

use secrecy::SecretString;

use crate::door::Door;
use crate::media::LoopMedia;

/// A stream of a camera.
#[derive(Debug, Clone)]
pub struct CameraStream {
    /// Path behind the host.
    pub path: String,
    /// What it shows.
    pub media: Arc<LoopMedia>,
}

/// How a camera is set up.
#[derive(Debug, Clone)]
pub struct CameraConfig {
    /// Its streams.
    pub streams: Vec<CameraStream>,
    /// User name and password; `None` lets everybody in.
    pub account: Option<(String, SecretString)>,
    /// Port on loopback; 0 picks one.
    pub port: u16,
}

/// What all sessions of a camera share.
#[derive(Debug)]
pub(crate) struct Shared {
    streams: HashMap<String, Arc<LoopMedia>>,
    account: Mutex<Option<(String, SecretString)>>,
}

impl Shared {
    fn account(&self) -> Option<(String, SecretString)> {
        self.account.lock().unwrap_or_else(PoisonError::into_inner).clone()
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
        let shared = Arc::new(Shared { streams, account: Mutex::new(config.account) });
        let serving = Arc::clone(&shared);
        let door = Door::open(config.port, move |stream| session::serve(stream, Arc::clone(&serving)))?;
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
        format!("rtsp://{}{path}", self.address())
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
        self.door.reopen(move |stream| session::serve(stream, Arc::clone(&serving)))
    }

    /// Changes the password; viewers that are in stay in.
    pub fn set_account(&self, account: Option<(String, SecretString)>) {
        *self.shared.account.lock().unwrap_or_else(PoisonError::into_inner) = account;
    }
}
