//! Receiver that grades one publisher as a platform would.

use std::io;
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

use secrecy::SecretString;
use tokio::net::TcpListener;
use tokio::task::JoinHandle;
use yonder_address::Passphrase;
use yonder_core::grade::ChannelReport;

use crate::channel::Channel;
use crate::{rtmp, srt};

/// Latency of the SRT listener.
const SRT_LATENCY: Duration = Duration::from_millis(120);

/// Configuration of a receiver.
#[derive(Debug, Clone)]
pub struct ReceiverConfig {
    /// RTMP application.
    pub app: String,
    /// Stream key of the publisher.
    pub key: SecretString,
    /// Receive by SRT, with a passphrase if there is one, instead of RTMP.
    pub srt: Option<Option<Passphrase>>,
}

/// Receiver on loopback that grades one publisher at a time, until it is dropped.
#[derive(Debug)]
pub struct GradingReceiver {
    channel: Arc<Channel>,
    server: String,
    task: JoinHandle<()>,
}

impl Drop for GradingReceiver {
    fn drop(&mut self) {
        self.task.abort();
    }
}

impl GradingReceiver {
    /// Starts a receiver. Must be called within a tokio runtime.
    ///
    /// # Errors
    /// If no port can be bound.
    pub fn start(config: ReceiverConfig) -> io::Result<Self> {
        let ReceiverConfig { app, key, srt } = config;
        let channel = Channel::new(app, key);
        let loopback = SocketAddr::from((Ipv4Addr::LOCALHOST, 0));
        let (server, task) = match srt {
            Some(passphrase) => {
                let port = srt::Port::bind(loopback, passphrase, SRT_LATENCY, Arc::clone(&channel))?;
                let latency = SRT_LATENCY.as_millis();
                let server = format!("srt://{}?streamid=publish/{{key}}&latency={latency}", port.address()?);
                (server, tokio::spawn(port.run()))
            }
            None => {
                let listener = std::net::TcpListener::bind(loopback)?;
                listener.set_nonblocking(true)?;
                let listener = TcpListener::from_std(listener)?;
                let server = format!("rtmp://{}/{}", listener.local_addr()?, channel.app);
                (server, tokio::spawn(rtmp::accept(listener, Arc::clone(&channel))))
            }
        };
        Ok(Self { channel, server, task })
    }

    /// Returns the server address, without the key: an SRT address has a placeholder for it.
    #[must_use]
    pub fn server(&self) -> &str {
        &self.server
    }

    /// Returns the grade so far; `None` before the first broadcast.
    #[must_use]
    pub fn report(&self) -> Option<ChannelReport> {
        self.channel.report()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn nothing_is_graded_before_the_first_broadcast() {
        let config = ReceiverConfig { app: "live".into(), key: "a-key".into(), srt: None };
        let receiver = GradingReceiver::start(config).unwrap();
        assert!(receiver.report().is_none() && receiver.server().starts_with("rtmp://127.0.0.1:"));
    }
}
