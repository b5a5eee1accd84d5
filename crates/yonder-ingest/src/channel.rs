//! Channel of a receiver: one publisher at a time, graded.

use std::sync::Arc;

use parking_lot::{Mutex, MutexGuard};
use secrecy::{ExposeSecret as _, SecretString};
use subtle::ConstantTimeEq as _;
use tokio::time::Instant;
use yonder_core::grade::{ChannelReport, Grader};

use crate::media::MediaEvent;

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
    /// Creates a channel with this RTMP application and stream key.
    pub(crate) fn new(app: String, key: SecretString) -> Arc<Self> {
        Arc::new(Self { app, key, began: Instant::now(), state: Mutex::default() })
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock()
    }

    /// Returns the grade so far; `None` before the first broadcast.
    pub(crate) fn report(&self) -> Option<ChannelReport> {
        let state = self.state();
        let report = state.grader.report(state.is_publishing, state.broadcasts, self.began.elapsed());
        (state.broadcasts > 0).then_some(report)
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

#[cfg(test)]
mod tests {
    use super::*;

    fn channel() -> Arc<Channel> {
        Channel::new("live".to_owned(), "a-key".into())
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
}
