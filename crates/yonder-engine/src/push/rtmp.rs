//! RTMP connection of a push, with or without TLS.
//!
//! Frames are written by the feed's actor in the poll that has read them. What the socket does not accept stays in the
//! output's ring, where a backlog can be evaluated, and not in a buffer of its own.

use std::io::{self, ErrorKind};
use std::sync::Arc;
use std::task::Poll;
use std::time::Duration;

use yonder_core::{Cause, CauseCode, DialStep};
use yonder_media::ticks::to_millis;
use yonder_media::{StreamHeaders, Track, VideoCodec};
use yonder_protocol::{Core as _, End};
use yonder_rtmp::{MeasuredRates, Publisher, PublisherEvent, PushError};

use crate::causes;
use crate::clock::Clock;
use crate::driver::{DriveEnd, Driver, StreamTransport, Transport};
use crate::link::Link;
use crate::output::ring::{Cursor, Next};

use super::backlog;
use super::state::{KEYFRAME_WARNING, NO_PROGRESS_TIMEOUT, PushContext, PushCore, no_keyframe};

/// Maximum bytes that wait for the socket; the rest stays in the ring, which needs no additional memory.
const MAX_OUTBOX: usize = 256 * 1024;
/// Maximum bytes written in one poll, before other pushes are polled.
const MAX_WRITE: usize = 128 * 1024;
/// Interval after metadata without measured rates.
const FIRST_METADATA_INTERVAL: Duration = Duration::from_secs(5);
/// Minimum interval of metadata afterwards.
const METADATA_INTERVAL: Duration = Duration::from_secs(60);
/// Relative change of a rate beyond which metadata is sent again: of the frame rate, and of a bit rate.
const MAX_FPS_DEVIATION: f64 = 0.1;
const MAX_RATE_DEVIATION: f64 = 0.5;
/// Time after unannounced H.265 within which a closed connection counts as a refusal of the codec.
const CODEC_REFUSAL_TIME: Duration = Duration::from_secs(10);
const UNANNOUNCED_H265: &str =
    "The server has not announced that it takes H.265 (Enhanced RTMP): viewers may see no picture.";
/// Size of a read; platforms send little.
const READ_SIZE: usize = 4096;

/// Connection to an RTMP server.
#[derive(Debug)]
pub(crate) struct RtmpConnection {
    clock: Clock,
    driver: Driver<Publisher, StreamTransport>,
    /// Since when the platform accepts media.
    accepted_at: Option<Duration>,
    /// A unit was sent.
    is_live: bool,
    /// Decoding time of timestamp zero, in ticks.
    base: Option<i64>,
    last_dts: Option<i64>,
    /// Timestamp of the last message, in milliseconds.
    last_timestamp: u32,
    headers: Option<Arc<StreamHeaders>>,
    /// The server has announced H.265.
    announces_h265: bool,
    /// Rates in the last metadata, and when it was sent.
    metadata: Option<(MeasuredRates, Duration)>,
    /// When the socket last accepted bytes, or nothing was to be written.
    progressed_at: Duration,
}

/// Result of one write pass.
#[derive(Debug, Default)]
struct WriteStats {
    sent: u64,
    dropped: u64,
    written: usize,
}

impl RtmpConnection {
    pub(super) fn new(clock: Clock, link: Link, publisher: Publisher) -> Self {
        let transport = StreamTransport::new(link, READ_SIZE);
        Self {
            clock,
            driver: Driver { core: publisher, transport },
            accepted_at: None,
            is_live: false,
            base: None,
            last_dts: None,
            last_timestamp: 0,
            headers: None,
            announces_h265: false,
            metadata: None,
            progressed_at: clock.now(),
        }
    }

    /// Begins the dialogue.
    pub(super) fn start(&mut self, now: Duration) {
        self.progressed_at = now;
        self.driver.core.start(now);
    }

    /// Registers its socket with the caller's runtime.
    pub(super) fn register_here(self) -> io::Result<Self> {
        let Driver { core, transport } = self.driver;
        Ok(Self { driver: Driver { core, transport: transport.register_here()? }, ..self })
    }

    /// Reads, handles timeouts, and writes units of the ring if `is_pump_due`. Returns true if there is more to write
    /// at once.
    ///
    /// # Errors
    /// The cause of the end of the connection.
    pub(super) fn poll(
        &mut self,
        core: &mut PushCore,
        cursor: &mut Cursor,
        is_pump_due: bool,
        context: &mut PushContext<'_, '_>,
    ) -> Result<bool, Cause> {
        let has_read = self.read(core, context)?;
        self.check_progress(context.now)?;
        if context.is_tick {
            match self.waited_for_keyframe(context.now) {
                Some(waited) => core.warn_about_keyframe(waited),
                None => {
                    self.update_metadata(context);
                    backlog::evaluate(core, self.last_dts, context);
                }
            }
        }
        if !is_pump_due && !has_read && !self.is_blocked() {
            return Ok(false);
        }
        loop {
            if self.pump(core, cursor, context)? {
                return Ok(true);
            }
            if !self.is_blocked() {
                return Ok(false);
            }
            match Transport::<Publisher>::poll_writable(&mut self.driver.transport, context.task) {
                Poll::Ready(Ok(())) => {}
                Poll::Ready(Err(error)) => return Err(connection_lost(&error)),
                Poll::Pending => return Ok(false),
            }
        }
    }

    fn is_blocked(&self) -> bool {
        Transport::<Publisher>::is_blocked(&self.driver.transport) || self.driver.core.pending() > 0
    }

    /// Handles received data and timeouts. Returns true if data was received.
    fn read(&mut self, core: &mut PushCore, context: &mut PushContext<'_, '_>) -> Result<bool, Cause> {
        let mut has_read = false;
        loop {
            let input = self.driver.poll_input(context.task, context.now, |_transport, event| {
                match event {
                    PublisherEvent::HandshakeDone => core.note_step(DialStep::Greeted),
                    PublisherEvent::Connected { announces_h265 } => {
                        self.announces_h265 = announces_h265;
                        core.note_step(DialStep::ApplicationAccepted);
                    }
                    PublisherEvent::ReconnectRequested { server } => {
                        core.is_reconnect_requested = true;
                        core.redirect = server;
                    }
                    PublisherEvent::Accepted => {
                        core.note_step(DialStep::KeyAccepted);
                        self.accepted_at = Some(self.clock.now());
                    }
                }
                Ok(())
            });
            match input {
                Ok(Poll::Pending) => return Ok(has_read),
                Ok(Poll::Ready(_)) => has_read = true,
                Err(DriveEnd::Eof) => return Err(self.closed_by_platform(core)),
                Err(DriveEnd::Io(error)) => return Err(connection_lost(&error)),
                Err(DriveEnd::Owner(cause)) => return Err(cause),
                Err(DriveEnd::Protocol(End { why, .. })) => {
                    if let PushError::Redirected { server } = &why {
                        core.redirect = Some((**server).clone());
                    }
                    return Err(causes::push(&why, |refusal| core.cause_of(refusal)));
                }
            }
        }
    }

    /// Moves units from the ring to the socket until the ring is empty or the socket is full. Returns true if there are
    /// more and the socket accepts them.
    fn pump(
        &mut self,
        core: &mut PushCore,
        cursor: &mut Cursor,
        context: &mut PushContext<'_, '_>,
    ) -> Result<bool, Cause> {
        core.stats.warning = self.unannounced_codec();
        let mut stats = WriteStats::default();
        let has_more = loop {
            let is_exhausted = self.fill(&mut stats, cursor, context);
            let sent = self.driver.transmit(context.now, context.now, MAX_WRITE - stats.written);
            sent.map_err(|error| connection_lost(&error))?;
            stats.written += self.driver.transport.take_written();
            if stats.written >= MAX_WRITE {
                break true;
            }
            if is_exhausted || self.is_blocked() {
                break false;
            }
        };
        self.record(&stats, core, context);
        Ok(has_more)
    }

    /// Moves units into the outbox, up to its limit. Returns true if the ring is empty.
    fn fill(
        &mut self,
        stats: &mut WriteStats,
        cursor: &mut Cursor,
        context: &mut PushContext<'_, '_>,
    ) -> bool {
        if self.accepted_at.is_none() {
            return true;
        }
        while self.driver.core.pending() + self.driver.transport.unsent() < MAX_OUTBOX {
            let Some(Next { number, skipped }) = context.ring.read(cursor) else { return true };
            stats.dropped += skipped;
            stats.sent += u64::from(self.send(number, context) == Some(Track::Video));
        }
        false
    }

    /// Sends a unit and returns its track.
    fn send(&mut self, number: u64, context: &mut PushContext<'_, '_>) -> Option<Track> {
        let slot = context.ring.slot(number)?;
        let (dts, track) = (slot.times.dts, slot.frame.unit.track);
        let base = *self.base.get_or_insert(dts);
        // Modulo 2^32: RTMP time wraps after 49.7 days and receivers expect it to.
        let milliseconds = to_millis(dts.saturating_sub(base).max(0));
        let timestamp = u32::try_from(milliseconds & 0xffff_ffff).unwrap_or_default();
        let headers = &slot.frame.headers;
        let is_known = self.headers.as_ref().is_some_and(|known| Arc::ptr_eq(known, headers));
        if !is_known {
            if self.headers.as_ref().is_none_or(|known| **known != **headers) {
                // At the beginning of a feed nothing has been measured: `update_metadata` follows.
                let rates = context.stats.measured_rates(context.now);
                self.driver.core.send_headers(headers, rates, timestamp);
                self.metadata = Some((rates, context.now));
                self.last_timestamp = timestamp;
            }
            self.headers = Some(Arc::clone(headers));
        }
        self.last_timestamp = timestamp;
        self.driver.core.send_body(slot.body(), timestamp);
        if track == Track::Video {
            self.last_dts = Some(dts);
        }
        Some(track)
    }

    /// Sends metadata again if the measured rates differ from the last ones: a push that begins with its feed has none.
    fn update_metadata(&mut self, context: &mut PushContext<'_, '_>) {
        let (Some(headers), Some((sent, at))) = (&self.headers, self.metadata) else { return };
        let is_first = sent.fps.is_none() || sent.video_kbps.is_none();
        let interval = if is_first { FIRST_METADATA_INTERVAL } else { METADATA_INTERVAL };
        if context.now.saturating_sub(at) < interval {
            return;
        }
        let rates = context.stats.measured_rates(context.now);
        let differs = |sent: Option<f64>, now: Option<f64>, share: f64| match (sent, now) {
            (Some(sent), Some(now)) => (now - sent).abs() > sent * share,
            (None, Some(_)) => true,
            (_, None) => false,
        };
        if differs(sent.fps, rates.fps, MAX_FPS_DEVIATION)
            || differs(sent.video_kbps, rates.video_kbps, MAX_RATE_DEVIATION)
            || differs(sent.audio_kbps, rates.audio_kbps, MAX_RATE_DEVIATION)
        {
            self.driver.core.send_metadata(headers, rates, self.last_timestamp);
            self.metadata = Some((rates, context.now));
        }
    }

    /// Returns a warning if H.265 is sent to a server that has not announced it.
    fn unannounced_codec(&self) -> Option<&'static str> {
        let video = self.headers.as_ref()?.video.as_ref()?;
        (video.codec() == VideoCodec::H265 && !self.announces_h265).then_some(UNANNOUNCED_H265)
    }

    fn record(&mut self, stats: &WriteStats, core: &mut PushCore, context: &PushContext<'_, '_>) {
        // Having nothing to write counts as progress.
        if stats.written > 0 || !self.is_blocked() {
            self.progressed_at = context.now;
        }
        core.stats.frames_sent += stats.sent;
        core.stats.frames_dropped += stats.dropped;
        if stats.written > 0 {
            core.stats.add_bytes(stats.written, context.now);
        }
        if !self.is_live && stats.sent + stats.dropped > 0 {
            self.is_live = true;
            core.go_live(context.signal);
        }
    }

    fn closed_by_platform(&self, core: &PushCore) -> Cause {
        if let Some(waited) = self.waited_for_keyframe(core.clock.now())
            && waited >= KEYFRAME_WARNING
        {
            return no_keyframe(waited);
        }
        let soon =
            self.accepted_at.is_some_and(|at| core.clock.now().saturating_sub(at) < CODEC_REFUSAL_TIME);
        if soon && let Some(warning) = self.unannounced_codec() {
            let message = format!("The platform closed the connection soon after H.265 had begun. {warning}");
            return Cause::new(CauseCode::PushCodecRefused, message);
        }
        let message = if self.accepted_at.is_some() {
            "The platform closed the connection.".to_owned()
        } else {
            let waiting = self.driver.core.step().waits_for();
            format!("The platform closed the connection while we waited for {waiting}.")
        };
        Cause::new(CauseCode::PushClosedByPlatform, message)
    }

    /// Returns how long the platform has been waiting for the first unit; `None` before it accepts media and once a
    /// unit was sent.
    fn waited_for_keyframe(&self, now: Duration) -> Option<Duration> {
        Some(now.saturating_sub(self.accepted_at.filter(|_| !self.is_live)?))
    }

    /// Returns the next time at which [`Self::poll`] is due.
    pub(super) fn poll_timeout(&self) -> Option<Duration> {
        let stalled = self.is_blocked().then(|| self.progressed_at + NO_PROGRESS_TIMEOUT);
        [self.driver.core.poll_timeout(), stalled].into_iter().flatten().min()
    }

    /// Fails if the platform has accepted no bytes for too long.
    fn check_progress(&mut self, now: Duration) -> Result<(), Cause> {
        if !self.is_blocked() {
            // Having nothing to write counts as progress.
            self.progressed_at = now;
        } else if now.saturating_sub(self.progressed_at) >= NO_PROGRESS_TIMEOUT {
            let message = format!("The platform has taken no data for {} s.", NO_PROGRESS_TIMEOUT.as_secs());
            return Err(Cause::new(CauseCode::PushNoAnswer, message));
        }
        Ok(())
    }

    /// Ends the broadcast in order, and waits until the platform has closed the connection: closing it first could
    /// discard data that the platform has not read yet.
    ///
    /// # Cancel safety
    /// When dropped, the connection is closed.
    pub(super) async fn close(mut self) {
        self.driver.core.close();
        if self.driver.finish(self.clock).await {
            self.driver.transport.finish();
            self.driver.transport.discard_until_closed().await;
        }
    }
}

/// Returns the cause of a lost connection.
pub(super) fn connection_lost(error: &io::Error) -> Cause {
    let code = if error.kind() == ErrorKind::TimedOut {
        CauseCode::PushNoAnswer
    } else {
        CauseCode::PushClosedByPlatform
    };
    Cause::new(code, format!("The connection to the platform broke ({error})."))
}
