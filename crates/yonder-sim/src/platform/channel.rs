//! Channels of a stand-in platform: stream keys, broadcasts, and recordings of the received media.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use parking_lot::{Mutex, MutexGuard};
use secrecy::{ExposeSecret as _, SecretString};
use tokio::sync::watch;
use tokio::time::Instant;
use yonder_core::grade::{ChannelReport, Grader};
use yonder_ingest::MediaEvent;
use yonder_rtmp::Value;

use super::faults::PlatformFaults;

/// Duration after which a bit rate limit is enforced.
const RATE_AFTER: Duration = Duration::from_secs(3);
/// Duration after which missing audio is refused.
const SOUND_AFTER: Duration = Duration::from_secs(3);

/// Media that a channel received, byte for byte.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Recording {
    /// NAL units of each video frame, in order of arrival.
    pub pictures: Vec<Vec<Bytes>>,
    /// Presentation time of each video frame, in ticks of 1/90 000 s.
    pub shown: Vec<i64>,
    /// Audio frames in order of arrival.
    pub audio: Vec<Bytes>,
    /// Presentation time of each audio frame, in ticks of 1/90 000 s.
    pub heard: Vec<i64>,
    /// `onMetaData` objects (RTMP).
    pub metadata: Vec<Value>,
    /// SRT payloads, in the order in which they were delivered.
    pub payloads: Vec<Bytes>,
}

/// Reason for which a publish request is rejected.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum PublishRejected {
    /// The stream key is unknown or used up.
    Refused(String),
    /// The stream key is in use, or was a moment ago.
    Busy,
}

#[derive(Debug, Default)]
struct Channel {
    /// Number of the publishing session.
    session: Option<u64>,
    /// A broadcast is open. With a grace period it outlives its session.
    open: bool,
    broadcasts: u64,
    busy_until: Option<Instant>,
    came: Option<Instant>,
    /// Stream key of the broadcast that ended.
    spent: Option<SecretString>,
    grader: Grader,
    recording: Recording,
}

/// State that all sessions of a platform share.
#[derive(Debug)]
pub(super) struct Shared {
    pub(super) app: String,
    record: bool,
    began: Instant,
    keys: Mutex<Vec<(String, SecretString)>>,
    channels: Mutex<HashMap<String, Channel>>,
    pub(super) faults: watch::Sender<PlatformFaults>,
    sessions: std::sync::atomic::AtomicU64,
}

impl Shared {
    pub(super) fn new(
        app: String,
        keys: Vec<(String, SecretString)>,
        record: bool,
        faults: PlatformFaults,
    ) -> Arc<Self> {
        Arc::new(Self {
            app,
            record,
            began: Instant::now(),
            keys: Mutex::new(keys),
            channels: Mutex::default(),
            faults: watch::Sender::new(faults),
            sessions: std::sync::atomic::AtomicU64::new(0),
        })
    }

    fn channels(&self) -> MutexGuard<'_, HashMap<String, Channel>> {
        self.channels.lock()
    }

    fn now(&self) -> Duration {
        self.began.elapsed()
    }

    pub(super) fn set_key(&self, channel: &str, key: SecretString) {
        let mut keys = self.keys.lock();
        keys.retain(|(name, _)| name != channel);
        keys.push((channel.to_owned(), key));
    }

    /// Returns the channel of a stream key. In an SRT stream ID the key follows the last slash.
    fn channel_of(&self, key: &str) -> Option<String> {
        let keys = self.keys.lock();
        let last = key.rsplit_once('/').map_or(key, |(_, last)| last);
        let found = keys.iter().find(|(_, known)| [key, last].contains(&known.expose_secret()));
        found.map(|(name, _)| name.clone())
    }

    /// Begins a broadcast under `key`, or continues one that is still open.
    pub(super) fn begin(self: &Arc<Self>, key: &str) -> Result<Broadcast, PublishRejected> {
        let faults = self.faults.borrow().clone();
        if let Some(words) = faults.refuses_key {
            // Some platforms repeat the key that they refuse.
            return Err(PublishRejected::Refused(words.replace("{key}", key)));
        }
        let name = self
            .channel_of(key)
            .ok_or_else(|| PublishRejected::Refused("this stream key is not known here".to_owned()))?;
        let mut channels = self.channels();
        let channel = channels.entry(name.clone()).or_default();
        if channel.spent.as_ref().is_some_and(|spent| spent.expose_secret() == key) {
            return Err(PublishRejected::Refused(
                "this stream key was for one broadcast, which has ended".to_owned(),
            ));
        }
        let busy = channel.busy_until.is_some_and(|until| Instant::now() < until);
        if channel.session.is_some() || busy {
            return Err(PublishRejected::Busy);
        }
        if !channel.open {
            channel.open = true;
            channel.broadcasts += 1;
            channel.grader.begin(self.now());
        }
        let session = self.sessions.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
        channel.session = Some(session);
        channel.came = Some(Instant::now());
        channel.busy_until = None;
        drop(channels);
        Ok(Broadcast {
            shared: Arc::clone(self),
            channel: name,
            key: key.to_owned().into(),
            began: Instant::now(),
            bytes: 0,
            heard: false,
            ended: false,
        })
    }

    /// Ends broadcasts whose publishers did not return within the grace period.
    pub(super) fn end_abandoned(&self) {
        let Some(grace) = self.faults.borrow().grace else { return };
        for channel in self.channels().values_mut() {
            let silent = channel.came.is_some_and(|came| came.elapsed() >= grace);
            if channel.open && channel.session.is_none() && silent {
                channel.open = false;
                channel.grader.end(self.began.elapsed());
            }
        }
    }

    /// Returns true when a channel has received nothing for longer than a broadcast survives.
    pub(super) fn is_silent(&self, channel: &str) -> bool {
        let Some(grace) = self.faults.borrow().grace else { return false };
        let channels = self.channels();
        let came = channels.get(channel).and_then(|channel| channel.came);
        came.is_some_and(|came| came.elapsed() >= grace)
    }

    pub(super) fn report(&self, name: &str) -> Option<ChannelReport> {
        let channels = self.channels();
        let channel = channels.get(name)?;
        Some(channel.grader.report(channel.open, channel.broadcasts, self.now()))
    }

    pub(super) fn recording(&self, name: &str) -> Recording {
        self.channels().get(name).map(|channel| channel.recording.clone()).unwrap_or_default()
    }
}

/// Broadcast of one session on a channel.
#[derive(Debug)]
pub(super) struct Broadcast {
    shared: Arc<Shared>,
    pub(super) channel: String,
    key: SecretString,
    began: Instant,
    bytes: u64,
    heard: bool,
    ended: bool,
}

impl Broadcast {
    /// Handles media.
    ///
    /// # Errors
    /// The reason for which the platform ends the broadcast.
    pub(super) fn take(&mut self, event: MediaEvent) -> Result<(), String> {
        let limits = self.shared.faults.borrow().limits.clone();
        let now = self.shared.now();
        let mut channels = self.shared.channels();
        let Some(channel) = channels.get_mut(&self.channel) else { return Ok(()) };
        match event {
            MediaEvent::VideoHeaders(seen) => {
                let refused = seen.as_ref().and_then(|seen| {
                    let lines = limits.lines.filter(|most| seen.height > *most);
                    match (lines, limits.h264_only && seen.codec != "H.264") {
                        (Some(most), _) => {
                            Some(format!("{} lines are too many, at most {most}", seen.height))
                        }
                        (None, true) => Some(format!("the codec {} is not supported", seen.codec)),
                        (None, false) => None,
                    }
                });
                channel.grader.add_video_headers(seen);
                if let Some(words) = refused {
                    return Err(words);
                }
            }
            MediaEvent::AudioHeaders(seen) => channel.grader.add_audio_headers(seen),
            MediaEvent::Video { frame: seen, nals } => {
                channel.came = Some(Instant::now());
                self.bytes += seen.bytes;
                channel.grader.add_frame(seen, now);
                if self.shared.record {
                    channel.recording.pictures.push(nals);
                    channel.recording.shown.push(seen.pts);
                }
            }
            MediaEvent::Audio { pts, frame } => {
                self.heard = true;
                channel.grader.add_audio(pts, u64::try_from(frame.len()).unwrap_or_default(), now);
                if self.shared.record {
                    channel.recording.audio.push(frame);
                    channel.recording.heard.push(pts);
                }
            }
            MediaEvent::Unreadable(what) => channel.grader.add_unreadable(what),
        }
        drop(channels);
        let span = self.began.elapsed();
        if limits.needs_audio && !self.heard && span > SOUND_AFTER {
            return Err("there is no sound".to_owned());
        }
        let span_ms = u64::try_from(span.as_millis()).unwrap_or(u64::MAX).max(1);
        match limits.kbps {
            Some(most) if span > RATE_AFTER && self.bytes * 8 / span_ms > most => {
                Err(format!("{} kbit/s are too many, at most {most}", self.bytes * 8 / span_ms))
            }
            _ => Ok(()),
        }
    }

    /// Records metadata, if the platform records.
    pub(super) fn record_metadata(&self, data: Value) {
        self.record(|recording| recording.metadata.push(data));
    }

    /// Records a payload, if the platform records.
    pub(super) fn record_payload(&self, payload: &Bytes) {
        self.record(|recording| recording.payloads.push(payload.clone()));
    }

    fn record(&self, add: impl FnOnce(&mut Recording)) {
        if let Some(channel) = self.shared.channels().get_mut(&self.channel).filter(|_| self.shared.record) {
            add(&mut channel.recording);
        }
    }

    /// Ends the broadcast in order.
    pub(super) fn end(&mut self) {
        self.ended = true;
    }
}

impl Drop for Broadcast {
    fn drop(&mut self) {
        let faults = self.shared.faults.borrow().clone();
        let now = self.shared.now();
        let mut channels = self.shared.channels();
        let Some(channel) = channels.get_mut(&self.channel) else { return };
        channel.session = None;
        if self.ended || faults.grace.is_none() {
            channel.open = false;
            channel.grader.end(now);
            if faults.one_broadcast_keys {
                channel.spent = Some(self.key.clone());
            }
        }
        if !self.ended && !faults.busy_after_drop.is_zero() {
            channel.busy_until = Some(Instant::now() + faults.busy_after_drop);
        }
    }
}
