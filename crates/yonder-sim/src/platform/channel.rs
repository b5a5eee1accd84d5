//! A platform's channels: keys, broadcasts, and what came.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use bytes::Bytes;
use secrecy::{ExposeSecret as _, SecretString};
use tokio::sync::watch;
use tokio::time::Instant;
use yonder_core::grade::{ChannelReport, Grader};
use yonder_ingest::MediaEvent;
use yonder_rtmp::Value;

use super::manners::PlatformManners;

/// A rate limit is judged after so long.
const RATE_AFTER: Duration = Duration::from_secs(3);
/// Sound is missed after so long.
const SOUND_AFTER: Duration = Duration::from_secs(3);

/// What a channel received, byte for byte.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Recording {
    /// Pictures as their NAL units, in the order in which they came.
    pub pictures: Vec<Vec<Bytes>>,
    /// When each picture is shown, in ticks of 1/90 000 s.
    pub shown: Vec<i64>,
    /// Frames of sound in order.
    pub sound: Vec<Bytes>,
    /// When each frame of sound is heard.
    pub heard: Vec<i64>,
    /// Metadata of RTMP.
    pub metadata: Vec<Value>,
    /// Payloads of SRT, as they were released.
    pub payloads: Vec<Bytes>,
}

/// Why a key is not taken.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum NotTaken {
    /// It is not known, or not good any more.
    Refused(String),
    /// Somebody sends with it, or did a moment ago.
    Busy,
}

#[derive(Debug, Default)]
struct Channel {
    /// Number of the session that sends.
    session: Option<u64>,
    /// A broadcast is open; with grace it outlives its session.
    open: bool,
    broadcasts: u64,
    busy_until: Option<Instant>,
    came: Option<Instant>,
    /// The key that an ended broadcast was sent with.
    spent: Option<SecretString>,
    grader: Grader,
    recording: Recording,
}

/// What all sessions of a platform share.
#[derive(Debug)]
pub(super) struct Shared {
    pub(super) app: String,
    record: bool,
    began: Instant,
    keys: Mutex<Vec<(String, SecretString)>>,
    channels: Mutex<HashMap<String, Channel>>,
    pub(super) manners: watch::Sender<PlatformManners>,
    sessions: std::sync::atomic::AtomicU64,
}

impl Shared {
    pub(super) fn new(
        app: String,
        keys: Vec<(String, SecretString)>,
        record: bool,
        manners: PlatformManners,
    ) -> Arc<Self> {
        Arc::new(Self {
            app,
            record,
            began: Instant::now(),
            keys: Mutex::new(keys),
            channels: Mutex::default(),
            manners: watch::Sender::new(manners),
            sessions: std::sync::atomic::AtomicU64::new(0),
        })
    }

    fn channels(&self) -> MutexGuard<'_, HashMap<String, Channel>> {
        self.channels.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn now(&self) -> Duration {
        self.began.elapsed()
    }

    pub(super) fn set_key(&self, channel: &str, key: SecretString) {
        let mut keys = self.keys.lock().unwrap_or_else(PoisonError::into_inner);
        keys.retain(|(name, _)| name != channel);
        keys.push((channel.to_owned(), key));
    }

    /// The channel of a key; of an SRT stream ID it is what stands behind the last slash.
    fn channel_of(&self, key: &str) -> Option<String> {
        let keys = self.keys.lock().unwrap_or_else(PoisonError::into_inner);
        let last = key.rsplit_once('/').map_or(key, |(_, last)| last);
        let found = keys.iter().find(|(_, known)| [key, last].contains(&known.expose_secret()));
        found.map(|(name, _)| name.clone())
    }

    /// Begins to take a stream under `key`, or goes on with a broadcast that is still open.
    pub(super) fn begin(self: &Arc<Self>, key: &str) -> Result<Broadcast, NotTaken> {
        let manners = self.manners.borrow().clone();
        if let Some(words) = manners.refuses_key {
            // Some platforms repeat the key that they refuse.
            return Err(NotTaken::Refused(words.replace("{key}", key)));
        }
        let name = self
            .channel_of(key)
            .ok_or_else(|| NotTaken::Refused("this stream key is not known here".to_owned()))?;
        let mut channels = self.channels();
        let channel = channels.entry(name.clone()).or_default();
        if channel.spent.as_ref().is_some_and(|spent| spent.expose_secret() == key) {
            return Err(NotTaken::Refused(
                "this stream key was for one broadcast, which has ended".to_owned(),
            ));
        }
        let busy = channel.busy_until.is_some_and(|until| Instant::now() < until);
        if channel.session.is_some() || busy {
            return Err(NotTaken::Busy);
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

    /// Ends what nobody came back to in time.
    pub(super) fn end_abandoned(&self) {
        let Some(grace) = self.manners.borrow().grace else { return };
        for channel in self.channels().values_mut() {
            let silent = channel.came.is_some_and(|came| came.elapsed() >= grace);
            if channel.open && channel.session.is_none() && silent {
                channel.open = false;
                channel.grader.end(self.began.elapsed());
            }
        }
    }

    /// Nothing came on a channel for longer than a broadcast survives.
    pub(super) fn is_silent(&self, channel: &str) -> bool {
        let Some(grace) = self.manners.borrow().grace else { return false };
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

/// One session's place on a channel.
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
    /// Why the platform accepts no more of it.
    pub(super) fn take(&mut self, event: MediaEvent) -> Result<(), String> {
        let limits = self.shared.manners.borrow().limits.clone();
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
            MediaEvent::AudioHeaders(seen) => channel.grader.add_sound_headers(seen),
            MediaEvent::Video { frame: seen, nals } => {
                channel.came = Some(Instant::now());
                self.bytes += seen.bytes;
                channel.grader.add_picture(seen, now);
                if self.shared.record {
                    channel.recording.pictures.push(nals);
                    channel.recording.shown.push(seen.pts);
                }
            }
            MediaEvent::Audio { pts, frame } => {
                self.heard = true;
                channel.grader.add_sound(pts, u64::try_from(frame.len()).unwrap_or_default(), now);
                if self.shared.record {
                    channel.recording.sound.push(frame);
                    channel.recording.heard.push(pts);
                }
            }
            MediaEvent::Unreadable(what) => channel.grader.add_unreadable(what),
        }
        drop(channels);
        let span = self.began.elapsed();
        if limits.needs_sound && !self.heard && span > SOUND_AFTER {
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

    /// Keeps metadata, where the platform records.
    pub(super) fn record_metadata(&self, data: Value) {
        self.record(|recording| recording.metadata.push(data));
    }

    /// Keeps a payload, where the platform records.
    pub(super) fn record_payload(&self, payload: &Bytes) {
        self.record(|recording| recording.payloads.push(payload.clone()));
    }

    fn record(&self, add: impl FnOnce(&mut Recording)) {
        if let Some(channel) = self.shared.channels().get_mut(&self.channel).filter(|_| self.shared.record) {
            add(&mut channel.recording);
        }
    }

    /// The publisher, or the platform, ends the broadcast in order.
    pub(super) fn end(&mut self) {
        self.ended = true;
    }
}

impl Drop for Broadcast {
    fn drop(&mut self) {
        let manners = self.shared.manners.borrow().clone();
        let now = self.shared.now();
        let mut channels = self.shared.channels();
        let Some(channel) = channels.get_mut(&self.channel) else { return };
        channel.session = None;
        if self.ended || manners.grace.is_none() {
            channel.open = false;
            channel.grader.end(now);
            if manners.one_broadcast_keys {
                channel.spent = Some(self.key.clone());
            }
        }
        if !self.ended && !manners.busy_after_drop.is_zero() {
            channel.busy_until = Some(Instant::now() + manners.busy_after_drop);
        }
    }
}
