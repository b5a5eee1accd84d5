//! Inlet: the first keyframe, silence detection, timestamps and statistics of any source of a feed.

use std::sync::Arc;
use std::time::Duration;

use yonder_core::{Cause, CauseCode, DialStep};
use yonder_ingest::PublishedUnit;
use yonder_media::h264::SpsError;
use yonder_media::ticks::{of_samples, to_millis};
use yonder_media::timeline::{Timeline, TimelineEvent, Timestamps, TrackTiming};
use yonder_media::{AccessUnit, AudioConfig, FrameRate, Payload, StreamHeaders, Track};
use yonder_rtsp::RtpAccessUnit;

use crate::feed::FeedStats;
use yonder_media::Frame;

/// Time without video after which a source shows as stalled.
const SILENT_AFTER: Duration = Duration::from_secs(2);
/// Time without video after which a source has failed.
const STALLED_AFTER: Duration = Duration::from_secs(5);
/// Time with packets but without a complete frame after which a source has failed.
const LOSSY_TIMEOUT: Duration = Duration::from_secs(20);
/// Time without a keyframe after which a flowing feed has a warning.
const KEYFRAME_DROUGHT: Duration = Duration::from_secs(15);
/// Time without a first keyframe after which there is a warning.
const FIRST_KEYFRAME_WARNING: Duration = Duration::from_secs(6);
/// Time without a first keyframe after which the source has failed, since a new connection usually brings one.
const FIRST_KEYFRAME_TIMEOUT: Duration = Duration::from_secs(30);
/// Minimum of received packets, without a complete frame, before the payload is reported as unreadable.
const UNREADABLE_PACKETS: u64 = 30;
/// A packet loss is recent until a complete frame has arrived within this time.
const RECENT_FRAME: Duration = Duration::from_secs(1);

/// Packet counts of a source.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(crate) struct PacketCounts {
    pub(crate) received: u64,
    pub(crate) lost: u64,
}

/// Event of a source for the feed's state.
#[derive(Debug)]
pub(crate) enum InletEvent {
    /// A video frame has arrived.
    Flowing,
    /// No video arrives on an open connection.
    Silent(Cause),
    /// Obstacle that does not end the connection; `None` once it is gone.
    Warning(Option<Cause>),
}

/// Timeouts of silence, counted from the last video frame.
#[derive(Debug, Clone, Copy)]
struct SilenceLimits {
    /// Failure of the connection.
    failure: Duration,
    /// Next check.
    next: Duration,
}

/// State of the present connection.
#[derive(Debug)]
struct Session {
    began: Duration,
    /// Time of the last video frame, or the beginning of the session.
    last_frame_at: Duration,
    last_keyframe_at: Duration,
    /// Frames have been published.
    has_flowed: bool,
    /// Keyframes without valid parameter sets.
    keyframes_without_sets: u32,
    /// A missing keyframe is shown as a warning.
    keyframe_missed: bool,
    /// Packet counts at the last complete frame.
    packets_then: PacketCounts,
    packets: PacketCounts,
}

impl Session {
    fn new(now: Duration) -> Self {
        Self {
            began: now,
            last_frame_at: now,
            last_keyframe_at: now,
            has_flowed: false,
            keyframes_without_sets: 0,
            keyframe_missed: false,
            packets_then: PacketCounts::default(),
            packets: PacketCounts::default(),
        }
    }

    /// Returns the packets received and lost since the last complete frame.
    fn packets_since_frame(&self) -> PacketCounts {
        PacketCounts {
            received: self.packets.received.saturating_sub(self.packets_then.received),
            lost: self.packets.lost.saturating_sub(self.packets_then.lost),
        }
    }

    fn is_lossy(&self) -> bool {
        let PacketCounts { received, lost } = self.packets_since_frame();
        lost > 0 && received > lost
    }
}

/// Converts the units of a source to frames of its feed.
#[derive(Debug)]
pub(crate) struct Inlet {
    /// Name of the feed, for the log.
    feed: String,
    timeline: Timeline,
    pub(crate) stats: FeedStats,
    headers: Arc<StreamHeaders>,
    session: Session,
    /// Frames to be published.
    pub(crate) frames: Vec<Arc<Frame>>,
    /// Events to be handled, before the frames.
    pub(crate) events: Vec<InletEvent>,
    /// The last event was [`InletEvent::Flowing`], and need not be repeated.
    flows: bool,
}

impl Inlet {
    pub(crate) fn new(feed: String, now: Duration) -> Self {
        Self {
            feed,
            timeline: Timeline::new(Duration::ZERO),
            stats: FeedStats::default(),
            headers: Arc::default(),
            session: Session::new(now),
            frames: Vec::new(),
            events: Vec::new(),
            flows: false,
        }
    }

    /// Begins a connection.
    pub(crate) fn begin_session(&mut self, now: Duration) {
        self.timeline.begin_session();
        self.session = Session::new(now);
        self.headers = Arc::default();
        self.flows = false;
    }

    /// Returns true once the present connection has delivered frames.
    pub(crate) fn has_flowed(&self) -> bool {
        self.session.has_flowed
    }

    /// Handles a sender report (RFC 3550, 6.4.1).
    pub(crate) fn handle_sender_report(&mut self, track: Track, ntp: u64, rtp: u32, now: Duration) {
        self.timeline.handle_sender_report(track, ntp, rtp, now);
    }

    /// Sets the stream headers, and the clock rates of its tracks.
    pub(crate) fn set_headers(&mut self, headers: StreamHeaders, clock_rates: &[(Track, u32)]) {
        if *self.headers != headers {
            self.headers = Arc::new(headers);
            self.stats.set_headers(Arc::clone(&self.headers));
        }
        for (track, clock_rate) in clock_rates {
            let (reorder_frames, frame_ticks) = match (track, &self.headers.video, &self.headers.audio) {
                (Track::Video, Some(video), _) => {
                    let facts = video.facts();
                    (facts.reorder_frames, facts.frame_rate.map(FrameRate::frame_ticks))
                }
                (Track::Audio, _, Some(AudioConfig::Aac { facts, .. })) => {
                    let samples = i64::from(yonder_media::aac::SAMPLES_PER_FRAME);
                    (Some(0), Some(of_samples(samples, facts.sample_rate)))
                }
                _ => (None, None),
            };
            let timing = TrackTiming { clock_rate: *clock_rate, reorder_frames, frame_ticks };
            self.timeline.configure(*track, timing);
        }
    }

    /// Handles a unit of a camera. Units before the first keyframe are dropped.
    ///
    /// # Errors
    /// The cause for giving up the connection: no keyframe arrives.
    pub(crate) fn handle_unit(&mut self, raw: RtpAccessUnit, now: Duration) -> Result<(), Cause> {
        let RtpAccessUnit { track, rtp_time, keyframe, payload, .. } = raw;
        if self.admit(track, keyframe, now)? {
            let is_keyframe = track == Track::Video && keyframe;
            let stamp = self.timeline.stamp(track, rtp_time, is_keyframe, now);
            self.publish(track, stamp, keyframe, payload, now);
        }
        Ok(())
    }

    /// Handles a unit of an encoder, with its own times. Units before the first keyframe are dropped.
    ///
    /// # Errors
    /// As [`Inlet::handle_unit`].
    pub(crate) fn handle_published(&mut self, unit: PublishedUnit, now: Duration) -> Result<(), Cause> {
        let PublishedUnit { track, dts, pts, keyframe, payload } = unit;
        if self.admit(track, keyframe, now)? {
            let is_keyframe = track == Track::Video && keyframe;
            let stamp = self.timeline.stamp_decoded(track, dts, pts, is_keyframe, now);
            self.publish(track, stamp, keyframe, payload, now);
        }
        Ok(())
    }

    /// Returns true if a unit is published: from the first keyframe on.
    ///
    /// # Errors
    /// The cause for giving up the connection: no keyframe arrives.
    fn admit(&mut self, track: Track, keyframe: bool, now: Duration) -> Result<bool, Cause> {
        let is_keyframe = track == Track::Video && keyframe;
        // Audio alone does not count: a camera whose video stopped has stalled.
        if track == Track::Video {
            self.session.last_frame_at = now;
        }
        if !self.session.has_flowed {
            if !is_keyframe || self.headers.video.is_none() {
                self.session.keyframes_without_sets += u32::from(is_keyframe);
                return self.check_first_keyframe(track, now).map(|()| false);
            }
            self.session.has_flowed = true;
            self.stats.note_step(DialStep::FirstKeyframe, now);
        }
        self.watch_keyframes(is_keyframe, now);
        Ok(true)
    }

    fn publish(&mut self, track: Track, stamp: Timestamps, keyframe: bool, payload: Payload, now: Duration) {
        if let Some(event) = self.timeline.poll_event() {
            self.log_timeline(event);
        }
        let Timestamps { dts, pts } = stamp;
        let unit = AccessUnit { track, dts, pts, keyframe, payload };
        self.stats.add_unit(&unit, now);
        if track == Track::Video && !std::mem::replace(&mut self.flows, true) {
            self.events.push(InletEvent::Flowing);
        }
        self.frames.push(Arc::new(Frame::new(unit, Arc::clone(&self.headers))));
    }

    fn log_timeline(&self, event: TimelineEvent) {
        let feed = &self.feed;
        match event {
            TimelineEvent::Jumped { track, ticks } => {
                tracing::info!(feed, ?track, jump_ms = to_millis(ticks), "camera clock jumped, joined on");
            }
            TimelineEvent::Reanchored { ticks } => {
                tracing::warn!(
                    feed,
                    behind_ms = to_millis(ticks),
                    "camera clock fell behind, re-anchored at a keyframe"
                );
            }
        }
    }

    /// Warns about a feed that flows without keyframes: new pushes cannot begin, and slow ones cannot catch up.
    fn watch_keyframes(&mut self, is_keyframe: bool, now: Duration) {
        if is_keyframe {
            self.session.last_keyframe_at = now;
            if std::mem::take(&mut self.session.keyframe_missed) {
                self.events.push(InletEvent::Warning(None));
            }
            return;
        }
        let waited = now.saturating_sub(self.session.last_keyframe_at);
        if waited >= KEYFRAME_DROUGHT && !self.session.keyframe_missed {
            self.session.keyframe_missed = true;
            self.events.push(InletEvent::Warning(Some(no_keyframe(waited))));
        }
    }

    fn check_first_keyframe(&mut self, track: Track, now: Duration) -> Result<(), Cause> {
        let waited = now.saturating_sub(self.session.began);
        if track != Track::Video
            || waited < FIRST_KEYFRAME_WARNING
            || self.session.keyframe_missed && waited < FIRST_KEYFRAME_TIMEOUT
        {
            return Ok(());
        }
        let cause = if self.session.keyframes_without_sets > 0 {
            no_parameter_sets(self.stats.parameter_problem())
        } else {
            no_keyframe(waited)
        };
        if waited >= FIRST_KEYFRAME_TIMEOUT {
            return Err(cause);
        }
        self.session.keyframe_missed = true;
        self.events.push(InletEvent::Warning(Some(cause)));
        Ok(())
    }

    /// Updates the packet counts of the present connection.
    pub(crate) fn set_packets(&mut self, packets: PacketCounts, now: Duration) {
        self.session.packets = packets;
        if now.saturating_sub(self.session.last_frame_at) < RECENT_FRAME {
            self.session.packets_then = packets;
        }
    }

    /// Returns the next time at which [`Self::handle_timeout`] is due.
    pub(crate) fn poll_timeout(&self, now: Duration) -> Duration {
        self.session.last_frame_at + self.silence_limits(now).next
    }

    /// Checks for silence.
    ///
    /// # Errors
    /// The cause for giving up the connection.
    pub(crate) fn handle_timeout(&mut self, now: Duration) -> Result<(), Cause> {
        let silent = now.saturating_sub(self.session.last_frame_at);
        if silent < SILENT_AFTER {
            return Ok(());
        }
        let cause = self.silence(silent);
        let is_lossy = cause.code == CauseCode::FeedPacketLoss;
        if silent >= self.silence_limits(now).failure {
            return Err(cause);
        }
        if self.session.has_flowed {
            self.flows = false;
            self.events.push(InletEvent::Silent(cause));
        } else if is_lossy {
            self.events.push(InletEvent::Warning(Some(cause)));
        }
        Ok(())
    }

    /// Returns the timeouts of the present silence, used both for the deadline and its handler, so that a deadline
    /// never lies in the past.
    fn silence_limits(&self, now: Duration) -> SilenceLimits {
        let silent = now.saturating_sub(self.session.last_frame_at);
        let is_lossy = silent >= SILENT_AFTER && self.session.is_lossy();
        let failure = match (is_lossy, self.session.has_flowed) {
            // Another connection would lose as much: a complete keyframe is waited for instead.
            (true, _) => LOSSY_TIMEOUT,
            (false, true) => STALLED_AFTER,
            (false, false) => STALLED_AFTER * 2,
        };
        let next = if self.session.has_flowed && silent < SILENT_AFTER { SILENT_AFTER } else { failure };
        SilenceLimits { failure, next }
    }

    /// Returns the cause of a silence: no data, or too much packet loss.
    fn silence(&self, silent: Duration) -> Cause {
        let PacketCounts { received, lost } = self.session.packets_since_frame();
        if self.session.is_lossy() {
            let all = received + lost;
            let percent = lost * 100 / all;
            let message = format!(
                "Packets come, but {lost} of {all} were lost ({percent} %), and with them every picture."
            );
            return Cause::new(CauseCode::FeedPacketLoss, message);
        }
        // Packets arrive without loss, but no frame can be assembled from them.
        if let Some((obstacle, count)) = self.stats.main_obstacle().filter(|_| received >= UNREADABLE_PACKETS)
        {
            let message = format!(
                "{received} packets came in {} s, but no picture: {count} {obstacle}.",
                silent.as_secs()
            );
            return Cause::new(CauseCode::FeedUnreadable, message);
        }
        let message = format!("The connection is open but nothing came for {} s.", silent.as_secs());
        Cause::new(CauseCode::FeedStalled, message)
    }
}

fn no_parameter_sets(problem: Option<SpsError>) -> Cause {
    let message = match problem {
        Some(problem) => {
            format!("Keyframes arrive, but their sequence parameter set cannot be read: {problem}.")
        }
        None => "Keyframes arrive without the parameter sets (SPS and PPS) that belong to them.".to_owned(),
    };
    Cause::new(CauseCode::FeedUnreadable, message)
}

fn no_keyframe(waited: Duration) -> Cause {
    let message = format!("The camera sends video, but no keyframe for {} s.", waited.as_secs());
    Cause::new(CauseCode::FeedNoKeyframe, message)
}
