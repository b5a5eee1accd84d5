//! A stand-in platform: takes pushes over RTMP, RTMPS and SRT, checks keys, watches the streams and grades them.

mod channel;
mod manners;
mod rtmp;
mod srt;
mod told;

use std::io;
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use secrecy::SecretString;
use tokio::task::JoinHandle;
use yonder_core::grade::ChannelReport;

use crate::door::Door;
use crate::tls::Certificate;

pub use channel::Recording;
use channel::Shared;
pub use manners::{Limits, PlatformManners, Stage};
pub use srt::SrtConfig;
use srt::SrtPort;
pub use told::PLATFORM_WORDS;

/// Broadcasts that nobody came back to are looked for so often.
const LOOK_EVERY: Duration = Duration::from_millis(200);

/// How a platform is set up.
#[derive(Debug, Clone, Default)]
pub struct PlatformConfig {
    /// Application behind the host.
    pub app: String,
    /// Channels by name, with their stream keys.
    pub channels: Vec<(String, SecretString)>,
    /// RTMP port on loopback; 0 picks one.
    pub port: u16,
    /// RTMPS port on loopback, with its certificate; 0 picks one.
    pub tls: Option<(u16, Certificate)>,
    /// SRT port.
    pub srt: Option<SrtConfig>,
    /// Keep what was received, for comparison. Memory grows with every frame.
    pub record: bool,
    /// How it behaves.
    pub manners: PlatformManners,
}

/// The SRT port of a platform, open or closed.
#[derive(Debug)]
struct Srt {
    config: SrtConfig,
    address: SocketAddr,
    task: Mutex<Option<JoinHandle<()>>>,
}

/// A platform that runs until it is dropped.
#[derive(Debug)]
pub struct Platform {
    shared: Arc<Shared>,
    door: Arc<Door>,
    tls: Option<(Arc<Door>, Certificate)>,
    srt: Option<Srt>,
    watch: JoinHandle<()>,
}

impl Drop for Platform {
    fn drop(&mut self) {
        self.watch.abort();
        self.close_srt();
    }
}

fn loopback(port: u16) -> SocketAddr {
    SocketAddr::from((Ipv4Addr::LOCALHOST, port))
}

impl Platform {
    /// Starts a platform. To be called within a tokio runtime.
    ///
    /// # Errors
    /// When a port cannot be had.
    pub fn start(config: PlatformConfig) -> io::Result<Self> {
        let PlatformConfig { app, channels, port, tls, srt, record, manners } = config;
        let shared = Shared::new(app, channels, record, manners);
        let serving = Arc::clone(&shared);
        let door = Door::open(loopback(port), move |stream| rtmp::serve(stream, None, Arc::clone(&serving)))?;
        let tls = match tls {
            Some((port, certificate)) => {
                Some((Door::open(loopback(port), secure(&shared, &certificate))?, certificate))
            }
            None => None,
        };
        let srt = srt.map(|config| open_srt(config, &shared)).transpose()?;
        let watched = Arc::clone(&shared);
        let watch = tokio::spawn(async move {
            loop {
                tokio::time::sleep(LOOK_EVERY).await;
                watched.end_abandoned();
            }
        });
        Ok(Self { shared, door, tls, srt, watch })
    }

    /// Where it listens for RTMP.
    #[must_use]
    pub fn address(&self) -> SocketAddr {
        self.door.address()
    }

    /// Its RTMP server address, without a key.
    #[must_use]
    pub fn server(&self) -> String {
        format!("rtmp://{}/{}", self.address(), self.shared.app)
    }

    /// Its RTMPS server address, by the name `localhost`, that its certificate is made out for.
    #[must_use]
    pub fn tls_server(&self) -> Option<String> {
        let (door, _) = self.tls.as_ref()?;
        Some(format!("rtmps://localhost:{}/{}", door.address().port(), self.shared.app))
    }

    /// Its SRT server address, with a place for the key in the stream ID.
    #[must_use]
    pub fn srt_server(&self) -> Option<String> {
        let srt = self.srt.as_ref()?;
        Some(format!(
            "srt://{}?streamid=publish/{{key}}&latency={}",
            srt.address,
            srt.config.latency.as_millis()
        ))
    }

    /// Switches it off: its ports close and every broadcast is cut off.
    pub async fn switch_off(&self) {
        self.door.close().await;
        if let Some((door, _)) = &self.tls {
            door.close().await;
        }
        if let Some(task) = self.close_srt() {
            // Until the task is gone, the port is still bound.
            let _aborted = task.await;
        }
    }

    /// Switches it on again at the same addresses.
    ///
    /// # Errors
    /// When somebody else has taken a port meanwhile.
    pub fn switch_on(&self) -> io::Result<()> {
        let serving = Arc::clone(&self.shared);
        self.door.reopen(move |stream| rtmp::serve(stream, None, Arc::clone(&serving)))?;
        if let Some((door, certificate)) = &self.tls {
            door.reopen(secure(&self.shared, certificate))?;
        }
        if let Some(srt) = &self.srt {
            let mut task = srt.task.lock().unwrap_or_else(PoisonError::into_inner);
            if task.is_none() {
                let config = SrtConfig { port: srt.address.port(), ..srt.config.clone() };
                let port = SrtPort::new(SrtPort::bind(&config)?, &config, Arc::clone(&self.shared))?;
                *task = Some(tokio::spawn(port.run()));
            }
        }
        Ok(())
    }

    fn close_srt(&self) -> Option<JoinHandle<()>> {
        let srt = self.srt.as_ref()?;
        let task = srt.task.lock().unwrap_or_else(PoisonError::into_inner).take()?;
        task.abort();
        Some(task)
    }

    /// Gives a channel another key; a broadcast that runs goes on.
    pub fn set_key(&self, channel: &str, key: SecretString) {
        self.shared.set_key(channel, key);
    }

    /// Changes how it behaves.
    pub fn change(&self, change: impl FnOnce(&mut PlatformManners)) {
        self.shared.manners.send_modify(change);
    }

    /// What a channel's broadcasts were worth so far; `None` before its first.
    #[must_use]
    pub fn report(&self, channel: &str) -> Option<ChannelReport> {
        self.shared.report(channel)
    }

    /// What a channel received, if the platform records.
    #[must_use]
    pub fn recording(&self, channel: &str) -> Recording {
        self.shared.recording(channel)
    }
}

fn secure(
    shared: &Arc<Shared>,
    certificate: &Certificate,
) -> impl Fn(tokio::net::TcpStream) -> std::pin::Pin<Box<dyn Future<Output = ()> + Send>>
+ Send
+ Sync
+ Clone
+ use<> {
    let (shared, certificate) = (Arc::clone(shared), certificate.clone());
    move |stream| Box::pin(rtmp::serve(stream, Some(certificate.clone()), Arc::clone(&shared)))
}

fn open_srt(config: SrtConfig, shared: &Arc<Shared>) -> io::Result<Srt> {
    let socket = SrtPort::bind(&config)?;
    let address = socket.local_addr()?;
    let port = SrtPort::new(socket, &config, Arc::clone(shared))?;
    let task = Mutex::new(Some(tokio::spawn(port.run())));
    Ok(Srt { config, address, task })
}
