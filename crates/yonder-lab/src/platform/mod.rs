//! A stand-in platform: takes pushes over RTMP, checks the key, watches the stream and grades it.

mod grade;
mod session;

use std::collections::HashMap;
use std::io;
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use bytes::Bytes;
use secrecy::{ExposeSecret as _, SecretString};

use crate::door::Door;

use grade::Grader;
pub use grade::{ChannelReport, Finding};

/// How a platform is set up.
#[derive(Debug, Clone)]
pub struct PlatformConfig {
    /// Application behind the host.
    pub app: String,
    /// Channels by name, with their stream keys.
    pub channels: Vec<(String, SecretString)>,
    /// Port on loopback; 0 picks one.
    pub port: u16,
    /// Keep what was received, for comparison. Memory grows with every frame.
    pub record: bool,
}

/// What a channel received, byte for byte.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Recording {
    /// Pictures as their NAL units, in the order in which they came.
    pub pictures: Vec<Vec<Bytes>>,
    /// Frames of sound in order.
    pub sound: Vec<Bytes>,
}

#[derive(Debug, Default)]
struct Channel {
    live: bool,
    broadcasts: u64,
    grader: Grader,
    recording: Recording,
}

/// What all sessions of a platform share.
#[derive(Debug)]
pub(crate) struct Shared {
    app: String,
    record: bool,
    keys: Mutex<Vec<(String, SecretString)>>,
    channels: Mutex<HashMap<String, Channel>>,
}

impl Shared {
    fn channels(&self) -> MutexGuard<'_, HashMap<String, Channel>> {
        self.channels.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn keys(&self) -> MutexGuard<'_, Vec<(String, SecretString)>> {
        self.keys.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn channel_of(&self, key: &SecretString) -> Option<String> {
        let keys = self.keys();
        keys.iter()
            .find(|(_, known)| known.expose_secret() == key.expose_secret())
            .map(|(name, _)| name.clone())
    }
}

/// A platform that runs until it is dropped.
#[derive(Debug)]
pub struct Platform {
    shared: Arc<Shared>,
    door: Arc<Door>,
}

impl Platform {
    /// Starts a platform. To be called within a tokio runtime.
    ///
    /// # Errors
    /// When the port cannot be had.
    pub fn start(config: PlatformConfig) -> io::Result<Self> {
        let shared = Arc::new(Shared {
            app: config.app,
            record: config.record,
            keys: Mutex::new(config.channels),
            channels: Mutex::default(),
        });
        let serving = Arc::clone(&shared);
        let door = Door::open(SocketAddr::from((Ipv4Addr::LOCALHOST, config.port)), move |stream| {
            session::serve(stream, Arc::clone(&serving))
        })?;
        Ok(Self { shared, door })
    }

    /// Where it listens.
    #[must_use]
    pub fn address(&self) -> SocketAddr {
        self.door.address()
    }

    /// Its server address, without a key.
    #[must_use]
    pub fn server(&self) -> String {
        format!("rtmp://{}/{}", self.address(), self.shared.app)
    }

    /// Switches it off: the port closes and every broadcast is cut off.
    pub async fn switch_off(&self) {
        self.door.close().await;
        for channel in self.shared.channels().values_mut() {
            channel.live = false;
        }
    }

    /// Switches it on again at the same address.
    ///
    /// # Errors
    /// When somebody else has taken the port meanwhile.
    pub fn switch_on(&self) -> io::Result<()> {
        let serving = Arc::clone(&self.shared);
        self.door.reopen(move |stream| session::serve(stream, Arc::clone(&serving)))
    }

    /// Gives a channel another key; a broadcast that runs goes on.
    pub fn set_key(&self, channel: &str, key: SecretString) {
        let mut keys = self.shared.keys();
        keys.retain(|(name, _)| name != channel);
        keys.push((channel.to_owned(), key));
    }

    /// What a channel's broadcasts were worth so far; `None` before its first.
    #[must_use]
    pub fn report(&self, channel: &str) -> Option<ChannelReport> {
        let channels = self.shared.channels();
        let known = channels.get(channel)?;
        Some(known.grader.report(known.live, known.broadcasts))
    }

    /// What a channel received, if the platform records.
    #[must_use]
    pub fn recording(&self, channel: &str) -> Recording {
        self.shared.channels().get(channel).map(|known| known.recording.clone()).unwrap_or_default()
    }
}
