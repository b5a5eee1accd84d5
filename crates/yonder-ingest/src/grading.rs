//! Receiver that grades one publisher as a platform would.

use std::io;
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use secrecy::{ExposeSecret as _, SecretString};
use subtle::ConstantTimeEq as _;
use tokio::net::TcpListener;
use tokio::task::JoinHandle;
use tokio::time::Instant;
use yonder_address::Passphrase;
use yonder_core::grade::{ChannelReport, Grader};

use crate::media::MediaEvent;
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

/// State shared by the sessions of a receiver.
#[derive(Debug)]
pub(crate) struct Channel {
    pub(crate) app: String,
    key: SecretString,
    began: Instant,
    state: Mutex<State>,
}

#[derive(Debug, Default)]
struct State {
    is_publishing: bool,
    broadcasts: u64,
    grader: Grader,
}

/// Reason for refusing a publisher.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Refusal {
    /// Wrong stream key.
    UnknownKey,
    /// Another session is publishing.
    Busy,
}

impl Channel {
    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Begins a broadcast. In an SRT stream ID the key follows the last slash.
    pub(crate) fn begin(self: &Arc<Self>, key: &str) -> Result<Broadcast, Refusal> {
        let expected = self.key.expose_secret().as_bytes();
        let last = key.rsplit_once('/').map_or(key, |(_, last)| last);
        if !bool::from(expected.ct_eq(key.as_bytes()) | expected.ct_eq(last.as_bytes())) {
            return Err(Refusal::UnknownKey);
        }
        let mut state = self.state();
        if state.is_publishing {
            return Err(Refusal::Busy);
        }
        state.is_publishing = true;
        state.broadcasts += 1;
        state.grader.begin(self.began.elapsed());
        drop(state);
        Ok(Broadcast(Arc::clone(self)))
    }
}

/// Broadcast, which ends on drop.
#[derive(Debug)]
pub(crate) struct Broadcast(Arc<Channel>);

impl Broadcast {
    /// Grades media.
    pub(crate) fn grade(&self, events: &mut Vec<MediaEvent>) {
        let now = self.0.began.elapsed();
        let mut state = self.0.state();
        let grader = &mut state.grader;
        for event in events.drain(..) {
            match event {
                MediaEvent::VideoHeaders(info) => grader.add_video_headers(info),
                MediaEvent::AudioHeaders(info) => grader.add_audio_headers(info),
                MediaEvent::Video { frame, .. } => grader.add_frame(frame, now),
                MediaEvent::Audio { pts, frame } => {
                    grader.add_audio(pts, u64::try_from(frame.len()).unwrap_or_default(), now);
                }
                MediaEvent::Unreadable(what) => grader.add_unreadable(what),
            }
        }
    }
}

impl Drop for Broadcast {
    fn drop(&mut self) {
        let now = self.0.began.elapsed();
        let mut state = self.0.state();
        state.is_publishing = false;
        state.grader.end(now);
    }
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
        let channel = Arc::new(Channel { app, key, began: Instant::now(), state: Mutex::default() });
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
        let state = self.channel.state();
        let report = state.grader.report(state.is_publishing, state.broadcasts, self.channel.began.elapsed());
        (state.broadcasts > 0).then_some(report)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn channel() -> Arc<Channel> {
        let (app, key) = ("live".to_owned(), "a-key".into());
        Arc::new(Channel { app, key, began: Instant::now(), state: Mutex::default() })
    }

    #[tokio::test]
    async fn one_publisher_with_the_right_key_is_accepted_at_a_time() {
        let channel = channel();
        assert_eq!(channel.begin("another").unwrap_err(), Refusal::UnknownKey);
        let first = channel.begin("publish/a-key").unwrap();
        assert_eq!(channel.begin("a-key").unwrap_err(), Refusal::Busy);
        drop(first);
        assert!(channel.begin("a-key").is_ok());
        assert_eq!(channel.state().broadcasts, 2);
    }

    #[tokio::test]
    async fn nothing_is_graded_before_the_first_broadcast() {
        let config = ReceiverConfig { app: "live".into(), key: "a-key".into(), srt: None };
        let receiver = GradingReceiver::start(config).unwrap();
        assert!(receiver.report().is_none() && receiver.server().starts_with("rtmp://127.0.0.1:"));
    }
}
