//! One session with a camera, from the first request to the last packet.

use std::sync::Arc;
use std::time::Duration;

use bytes::BytesMut;
use tokio::io::AsyncWriteExt as _;
use tokio::time::timeout;
use yonder_core::{Cause, CauseCode};
use yonder_media::timeline::{Timeline, TimelineEvent, TrackTiming};
use yonder_media::{AccessUnit, AudioConfig, StreamHeaders, TICKS_PER_SECOND, Track};
use yonder_rtsp::{ClientConfig, Described, Pull, PullEvent, RawUnit, Step};

use crate::alarm::Alarm;
use crate::feed::{Feed, lock};
use crate::hub::Entry;

use super::PullEnd;
use super::block::Block;
use super::connection::Connection;
use super::datagrams::{Datagrams, Received};

/// Nothing for so long on an open connection shows as stalled …
const SILENT_AFTER: Duration = Duration::from_secs(2);
/// … and for so long is a failure.
const STALLED_AFTER: Duration = Duration::from_secs(5);
/// Packets without a whole picture for so long are a failure.
const LOSSY_PATIENCE: Duration = Duration::from_secs(20);
/// Limits of a silence, counted from the last video frame.
#[derive(Debug, Clone, Copy)]
struct SilenceLimits {
    /// When the connection is given up.
    failure: Duration,
    /// Next time to check for silence.
    next: Duration,
}

/// A feed that flows without a keyframe for this long shows it.
const KEYFRAME_DROUGHT: Duration = Duration::from_secs(15);
/// A connection without a first keyframe for this long shows it, …
const KEYFRAME_DUE: Duration = Duration::from_secs(6);
/// … and after this long fails: another connection usually brings one.
const KEYFRAME_PATIENCE: Duration = Duration::from_secs(30);
/// How often figures of reception are passed on.
const TELL_EVERY: Duration = Duration::from_secs(1);
/// An orderly close may take this long.
const CLOSE_PATIENCE: Duration = Duration::from_millis(500);

/// One session with the camera.
pub(super) struct Session<'a> {
    feed: &'a Feed,
    timeline: &'a mut Timeline,
    pull: Pull,
    headers: Arc<StreamHeaders>,
    tracks: Vec<Described>,
    /// When the last video frame arrived, or the session began.
    last_frame_at: Duration,
    last_keyframe_at: Duration,
    began: Duration,
    flowing: bool,
    /// When the figures of reception were last passed on.
    told: Duration,
    /// The lack of a keyframe is shown.
    keyframe_missed: bool,
    /// Packets received and lost when a whole unit last came.
    packets_then: (u64, u64),
    /// Requests that the connection has not taken yet.
    unsent: BytesMut,
}

impl<'a> Session<'a> {
    pub(super) fn new(feed: &'a Feed, timeline: &'a mut Timeline, config: ClientConfig) -> Self {
        let now = feed.clock.now();
        Self {
            feed,
            timeline,
            pull: Pull::new(config),
            headers: Arc::default(),
            tracks: Vec::new(),
            last_frame_at: now,
            last_keyframe_at: now,
            began: now,
            flowing: false,
            told: now,
            keyframe_missed: false,
            packets_then: (0, 0),
            unsent: BytesMut::new(),
        }
    }

    /// Pictures came in this session.
    pub(super) fn has_flowed(&self) -> bool {
        self.flowing
    }

    pub(super) async fn run(
        &mut self,
        connection: &mut Connection,
        mut datagrams: Option<&mut Datagrams>,
    ) -> Result<(), PullEnd> {
        let mut block = Block::new();
        let mut received = Vec::new();
        let mut alarm = Alarm::new(self.feed.clock);
        self.pull.start(self.feed.clock.now());
        loop {
            self.transmit(connection, datagrams.as_deref_mut()).await?;
            let deadline = self.next_deadline();
            tokio::select! {
                count = block.read(connection) => {
                    let count = count.map_err(|error| lost(&error))?;
                    self.take_input(count, &mut block)?;
                }
                () = readable(datagrams.as_deref()), if datagrams.is_some() => {
                    if let Some(datagrams) = datagrams.as_deref_mut() {
                        datagrams.receive(&mut received);
                    }
                    self.take_datagrams(&mut received)?;
                }
                () = alarm.until(deadline) => self.handle_deadline()?,
            }
        }
    }

    fn take_input(&mut self, count: usize, block: &mut Block) -> Result<(), PullEnd> {
        if count == 0 {
            let message = "The camera closed the connection.";
            return Err(Cause::new(CauseCode::FeedClosedByCamera, message).into());
        }
        let now = self.feed.clock.now();
        lock(&self.feed.figures).add_bytes(count, now);
        let mut rest = block.filled();
        let result = self.pull.handle_input(&mut rest, now);
        let left = rest.len();
        block.keep_last(left);
        // What came before an end still counts.
        self.drain()?;
        Ok(result?)
    }

    fn take_datagrams(&mut self, received: &mut Vec<Received>) -> Result<(), PullEnd> {
        let now = self.feed.clock.now();
        let bytes = received.iter().map(|datagram| datagram.payload.len()).sum();
        lock(&self.feed.figures).add_bytes(bytes, now);
        let mut result = Ok(());
        for Received { track, channel, payload } in received.drain(..) {
            // After a goodbye the rest still counts.
            let taken = self.pull.handle_datagram(track, channel, payload, now);
            result = result.and(taken);
        }
        self.drain()?;
        Ok(result?)
    }

    /// Writes what the dialogue has to send.
    ///
    /// # Cancel safety
    /// Safe: what was not written stays in `unsent`.
    async fn transmit(
        &mut self,
        connection: &mut Connection,
        datagrams: Option<&mut Datagrams>,
    ) -> Result<(), Cause> {
        while let Some(bytes) = self.pull.poll_transmit() {
            self.unsent.extend_from_slice(&bytes);
        }
        if !self.unsent.is_empty() {
            // What was written is gone from the buffer at once: a write that is cancelled leaves no half of a request.
            while !self.unsent.is_empty() {
                connection.write_buf(&mut self.unsent).await.map_err(|error| lost(&error))?;
            }
            connection.flush().await.map_err(|error| lost(&error))?;
        }
        if let Some(datagrams) = datagrams {
            while let Some(datagram) = self.pull.poll_datagram() {
                // The tracks are known by the time there is something to send to them.
                datagrams.set_peers(&self.tracks);
                datagrams.send(&datagram);
            }
        }
        Ok(())
    }

    fn drain(&mut self) -> Result<(), Cause> {
        while let Some(event) = self.pull.poll_event() {
            match event {
                PullEvent::Step(step) => self.note_step(step),
                PullEvent::Offered(offered) => lock(&self.feed.figures).set_offered(offered),
                PullEvent::Tracks(tracks) => self.tracks = tracks,
                PullEvent::Headers(headers) => self.set_headers(headers),
                PullEvent::SenderReport { track, ntp, rtp } => {
                    self.timeline.handle_sender_report(track, ntp, rtp, self.feed.clock.now());
                }
                // The timeline detects the jump by itself and bridges it.
                PullEvent::Restarted(track) => {
                    tracing::info!(
                        feed = self.feed.spec().name,
                        ?track,
                        "camera restarted its sequence numbers"
                    );
                }
                PullEvent::Unit(unit) => self.publish(unit)?,
            }
        }
        Ok(())
    }

    fn set_headers(&mut self, headers: StreamHeaders) {
        if *self.headers != headers {
            self.headers = Arc::new(headers);
            lock(&self.feed.figures).set_headers(Arc::clone(&self.headers));
        }
        for described in &self.tracks {
            let (reorder_frames, frame_ticks) =
                match (described.track, &self.headers.video, &self.headers.audio) {
                    (Track::Video, Some(video), _) => {
                        let facts = video.facts();
                        (facts.reorder_frames, facts.frame_rate.map(frame_duration))
                    }
                    (Track::Audio, _, Some(AudioConfig::Aac { facts, .. })) => {
                        let samples = i64::from(yonder_media::aac::SAMPLES_PER_FRAME);
                        (Some(0), Some(samples * TICKS_PER_SECOND / i64::from(facts.sample_rate)))
                    }
                    _ => (None, None),
                };
            let timing = TrackTiming { clock_rate: described.clock_rate, reorder_frames, frame_ticks };
            self.timeline.configure(described.track, timing);
        }
    }

    /// Publishes a unit. A broadcast begins with a keyframe; units before the first one are left out.
    fn publish(&mut self, raw: RawUnit) -> Result<(), Cause> {
        let now = self.feed.clock.now();
        let is_keyframe = raw.track == Track::Video && raw.keyframe;
        // Audio alone is no broadcast: a camera whose video stopped has stalled.
        if raw.track == Track::Video {
            self.last_frame_at = now;
        }
        if !self.flowing {
            if !is_keyframe || self.headers.video.is_none() {
                return self.check_first_keyframe(raw.track, now);
            }
            self.flowing = true;
            lock(&self.feed.figures).note_step("first keyframe", now);
        }
        self.watch_keyframes(is_keyframe, now);
        let stamp = self.timeline.stamp(raw.track, raw.rtp_time, is_keyframe, now);
        if let Some(event) = self.timeline.poll_event() {
            self.log_timeline(event);
        }
        let unit = AccessUnit {
            track: raw.track,
            dts: stamp.dts,
            pts: stamp.pts,
            keyframe: raw.keyframe,
            payload: raw.payload,
        };
        lock(&self.feed.figures).add_unit(&unit, now);
        if raw.track == Track::Video {
            // First, so that readers of the unit find a feed that flows.
            self.feed.note_flowing();
        }
        self.feed.publish(Entry::new(unit, Arc::clone(&self.headers)));
        Ok(())
    }

    fn log_timeline(&self, event: TimelineEvent) {
        let feed = self.feed.spec().name;
        match event {
            TimelineEvent::Jumped { track, ticks } => {
                tracing::info!(feed, ?track, jump_ms = ticks / 90, "camera clock jumped, joined on");
            }
            TimelineEvent::Reanchored { ticks } => {
                tracing::warn!(
                    feed,
                    behind_ms = ticks / 90,
                    "camera clock fell behind, re-anchored at a keyframe"
                );
            }
        }
    }

    /// Warns about a feed that flows without keyframes: new pushes cannot begin, and slow ones cannot catch up.
    fn watch_keyframes(&mut self, is_keyframe: bool, now: Duration) {
        if is_keyframe {
            self.last_keyframe_at = now;
            if std::mem::take(&mut self.keyframe_missed) {
                self.feed.note_warning(None);
            }
            return;
        }
        let waited = now.saturating_sub(self.last_keyframe_at);
        if waited >= KEYFRAME_DROUGHT && !self.keyframe_missed {
            self.keyframe_missed = true;
            self.feed.note_warning(Some(no_keyframe(waited)));
        }
    }

    fn check_first_keyframe(&mut self, track: Track, now: Duration) -> Result<(), Cause> {
        let waited = now.saturating_sub(self.began);
        if track != Track::Video
            || waited < KEYFRAME_DUE
            || self.keyframe_missed && waited < KEYFRAME_PATIENCE
        {
            return Ok(());
        }
        if waited >= KEYFRAME_PATIENCE {
            return Err(no_keyframe(waited));
        }
        self.keyframe_missed = true;
        self.feed.note_warning(Some(no_keyframe(waited)));
        Ok(())
    }

    /// Why nothing whole comes: nothing comes at all, or too much of it is lost on the way.
    fn silence(&self, for_how_long: Duration) -> Cause {
        let (received, lost) = self.packets_since_frame();
        if self.is_lossy() {
            let percent = lost * 100 / (received + lost);
            let message = format!(
                "Packets come, but {lost} of {} were lost ({percent} %), and with them every picture.",
                received + lost
            );
            return Cause::new(CauseCode::FeedPacketLoss, message);
        }
        let message = format!("The connection is open but nothing came for {} s.", for_how_long.as_secs());
        Cause::new(CauseCode::FeedStalled, message)
    }

    fn packets(&self) -> (u64, u64) {
        self.pull.figures().fold((0, 0), |(received, lost), track| {
            (received + track.reception.received, lost + track.reception.lost)
        })
    }

    fn next_deadline(&self) -> Duration {
        let now = self.feed.clock.now();
        let media = self.last_frame_at + self.silence_limits(now).next;
        let tell = self.told + TELL_EVERY;
        self.pull.poll_timeout().map_or(media, |deadline| deadline.min(media)).min(tell)
    }

    /// Limits of the present silence. The deadline and its handler both go by them, so that a deadline never lies in the
    /// past.
    fn silence_limits(&self, now: Duration) -> SilenceLimits {
        let silent = now.saturating_sub(self.last_frame_at);
        let is_lossy = silent >= SILENT_AFTER && self.is_lossy();
        let failure = match (is_lossy, self.flowing) {
            // Another connection would lose as much: a whole keyframe is waited for instead.
            (true, _) => LOSSY_PATIENCE,
            (false, true) => STALLED_AFTER,
            (false, false) => STALLED_AFTER * 2,
        };
        let next = if self.flowing && silent < SILENT_AFTER { SILENT_AFTER } else { failure };
        SilenceLimits { failure, next }
    }

    fn is_lossy(&self) -> bool {
        let (received, lost) = self.packets_since_frame();
        lost > 0 && received > lost
    }

    /// Packets received and lost since the last whole unit.
    fn packets_since_frame(&self) -> (u64, u64) {
        let (received, lost) = self.packets();
        (received.saturating_sub(self.packets_then.0), lost.saturating_sub(self.packets_then.1))
    }

    fn tell_reception(&mut self, now: Duration) {
        self.told = now;
        if now.saturating_sub(self.last_frame_at) < TELL_EVERY {
            self.packets_then = self.packets();
        }
        lock(&self.feed.figures).set_reception(self.pull.figures().collect());
    }

    fn note_step(&self, step: Step) {
        let name = match step {
            Step::Greeted => "greeted",
            Step::SignedIn => "signed in",
            Step::Described => "stream described",
            Step::SetUp => "tracks set up",
            Step::Playing => "playing",
        };
        lock(&self.feed.figures).note_step(name, self.feed.clock.now());
    }

    fn handle_deadline(&mut self) -> Result<(), PullEnd> {
        let now = self.feed.clock.now();
        self.pull.handle_timeout(now)?;
        // A datagram that was waited for may have been given up, which releases those behind it.
        self.drain()?;
        self.tell_reception(now);
        let silent = now.saturating_sub(self.last_frame_at);
        if silent < SILENT_AFTER {
            return Ok(());
        }
        let cause = self.silence(silent);
        let lossy = cause.code == CauseCode::FeedPacketLoss;
        if silent >= self.silence_limits(now).failure {
            return Err(cause.into());
        }
        if self.flowing {
            self.feed.note_silent(cause);
        } else if lossy {
            self.feed.note_warning(Some(cause));
        }
        Ok(())
    }

    /// Says goodbye, if the connection takes it.
    pub(super) async fn close(&mut self, connection: &mut Connection) {
        self.tell_reception(self.feed.clock.now());
        self.pull.close(self.feed.clock.now());
        // A camera that is gone cannot be told.
        let _told = timeout(CLOSE_PATIENCE, self.transmit(connection, None)).await;
    }
}

fn no_keyframe(waited: Duration) -> Cause {
    let message = format!("The camera sends video, but no keyframe for {} s.", waited.as_secs());
    Cause::new(CauseCode::FeedNoKeyframe, message)
}

/// Duration of one frame in ticks.
fn frame_duration((rate, per): (u32, u32)) -> i64 {
    i64::from(per) * TICKS_PER_SECOND / i64::from(rate.max(1))
}

pub(super) fn lost(error: &std::io::Error) -> Cause {
    let message = format!("The connection to the camera broke ({error}).");
    Cause::new(CauseCode::FeedClosedByCamera, message)
}

async fn readable(datagrams: Option<&Datagrams>) {
    match datagrams {
        Some(datagrams) => datagrams.readable().await,
        None => std::future::pending().await,
    }
}
