//! Stand-in platform: accepts RTMP, RTMPS and SRT publishers, checks stream keys and grades the received streams.

mod channel;
mod fault_commands;
mod faults;
mod rtmp;
mod srt;

use std::io;
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

use parking_lot::Mutex;
use secrecy::SecretString;
use tokio::task::JoinHandle;
use yonder_core::grade::ChannelReport;

use crate::listener::RestartableListener;
use crate::tls::Certificate;

pub use channel::Recording;
use channel::Shared;
pub use fault_commands::PLATFORM_COMMANDS;
pub use faults::{Limits, PlatformFaults, Stage};
pub use srt::SrtConfig;
use srt::SrtPort;

/// Interval at which expired broadcasts are ended.
const LOOK_EVERY: Duration = Duration::from_millis(200);

/// Configuration of a platform.
#[derive(Debug, Clone, Default)]
pub struct PlatformConfig {
    /// RTMP application name.
    pub app: String,
    /// Channels by name, with their stream keys.
    pub channels: Vec<(String, SecretString)>,
    /// RTMP port on loopback; 0 picks one.
    pub port: u16,
    /// RTMPS port on loopback, with its certificate; 0 picks one.
    pub tls: Option<(u16, Certificate)>,
    /// SRT port.
    pub srt: Option<SrtConfig>,
    /// Record received media for comparison. Memory grows with every frame.
    pub record: bool,
    /// Faults and limits.
    pub faults: PlatformFaults,
}

/// The SRT port of a platform, open or closed.
#[derive(Debug)]
struct Srt {
    config: SrtConfig,
    address: SocketAddr,
    task: Mutex<Option<JoinHandle<()>>>,
}

/// Platform that runs until it is dropped.
#[derive(Debug)]
pub struct Platform {
    shared: Arc<Shared>,
    door: Arc<RestartableListener>,
    tls: Option<(Arc<RestartableListener>, Certificate)>,
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
    /// When a port cannot be bound.
    pub fn start(config: PlatformConfig) -> io::Result<Self> {
        let PlatformConfig { app, channels, port, tls, srt, record, faults } = config;
        let shared = Shared::new(app, channels, record, faults);
        let serving = Arc::clone(&shared);
        let door = RestartableListener::open(loopback(port), move |stream| {
            rtmp::serve(stream, None, Arc::clone(&serving))
        })?;
        let tls = match tls {
            Some((port, certificate)) => {
                Some((RestartableListener::open(loopback(port), secure(&shared, &certificate))?, certificate))
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

    /// Returns the address of its RTMP listener.
    #[must_use]
    pub fn address(&self) -> SocketAddr {
        self.door.address()
    }

    /// Returns the RTMP server address, without a stream key.
    #[must_use]
    pub fn server(&self) -> String {
        format!("rtmp://{}/{}", self.address(), self.shared.app)
    }

    /// Returns the RTMPS server address, with the host `localhost` of its certificate.
    #[must_use]
    pub fn tls_server(&self) -> Option<String> {
        let (door, _) = self.tls.as_ref()?;
        Some(format!("rtmps://localhost:{}/{}", door.address().port(), self.shared.app))
    }

    /// Returns the SRT server address, with a placeholder for the key in the stream ID.
    #[must_use]
    pub fn srt_server(&self) -> Option<String> {
        let srt = self.srt.as_ref()?;
        Some(format!(
            "srt://{}?streamid=publish/{{key}}&latency={}",
            srt.address,
            srt.config.latency.as_millis()
        ))
    }

    /// Switches the platform off: closes its ports and drops all connections.
    pub async fn switch_off(&self) {
        self.door.close().await;
        if let Some((door, _)) = &self.tls {
            door.close().await;
        }
        if let Some(task) = self.close_srt() {
            // The port stays bound until the task has ended.
            let _aborted = task.await;
        }
    }

    /// Switches the platform on again, at the same addresses.
    ///
    /// # Errors
    /// When another process has bound a port.
    pub fn switch_on(&self) -> io::Result<()> {
        let serving = Arc::clone(&self.shared);
        self.door.reopen(move |stream| rtmp::serve(stream, None, Arc::clone(&serving)))?;
        if let Some((door, certificate)) = &self.tls {
            door.reopen(secure(&self.shared, certificate))?;
        }
        if let Some(srt) = &self.srt {
            let mut task = srt.task.lock();
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
        let task = srt.task.lock().take()?;
        task.abort();
        Some(task)
    }

    /// Replaces the stream key of a channel. A running broadcast continues.
    pub fn set_key(&self, channel: &str, key: SecretString) {
        self.shared.set_key(channel, key);
    }

    /// Changes faults and limits.
    pub fn change(&self, change: impl FnOnce(&mut PlatformFaults)) {
        self.shared.faults.send_modify(change);
    }

    /// Returns the grade of a channel's broadcasts so far; `None` before the first.
    #[must_use]
    pub fn report(&self, channel: &str) -> Option<ChannelReport> {
        self.shared.report(channel)
    }

    /// Returns the recording of a channel, if the platform records.
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
