//! SRT connection of a push: MPEG-TS packets, seven to a datagram, each at its time.
//!
//! A connection works in ticks: every 10 ms it receives, and sends what is due until the next tick. The ticks of all
//! connections coincide, so that a media thread wakes once for all of them.

mod batch;
mod pacer;
mod port;
mod transport;

use std::collections::VecDeque;
use std::io::{self, ErrorKind};
use std::task::Poll;
use std::time::Duration;

use yonder_core::{Cause, DialStep};
use yonder_media::ts::Chunk;
use yonder_media::{TICKS_PER_SECOND, Track};
use yonder_srt::{Caller, CallerEvent, SrtError, Stats};

use crate::causes;
use crate::clock::Clock;
use crate::connect::{self, DialError};
use crate::driver::{DriveEnd, Driver, Transport as _};
use crate::output::ring::{Cursor, Next};
use crate::view::LinkView;

use super::backlog;
use super::state::{KEYFRAME_WARNING, PushContext, PushCore, no_keyframe};

use pacer::Pacer;
pub(super) use port::Port;
use transport::SrtTransport;

/// Maximum payload bytes queued in the connection; the rest stays in the ring, which needs no additional memory.
const MAX_QUEUED: usize = 1024 * 1024;
/// Tick interval. A burst is at most ten milliseconds of the stream, which every line can buffer and the latency absorbs.
const TICK_INTERVAL: Duration = Duration::from_millis(10);
/// Ticks within a short latency.
const TICKS_PER_LATENCY: u32 = 10;
/// Minimum tick interval.
const MIN_TICK_INTERVAL: Duration = Duration::from_millis(1);
/// Retry interval of a full socket.
const SEND_RETRY: Duration = Duration::from_millis(2);
/// Distance, in ticks, of the newest queued frame to the ring beyond which a push catches up.
const MAX_LAG_TICKS: i64 = TICKS_PER_SECOND / 10;
/// Evaluations over which losses are counted.
const LOSS_INTERVALS: usize = 4;
/// Loss in percent from which retransmissions use so much bandwidth that they arrive too late.
const MAX_LOSS_PERCENT: u64 = 15;
/// Minimum packets for an evaluation of losses.
const MIN_LOSS_PACKETS: u64 = 200;
/// Minimum interval of logged socket errors.
const ERROR_LOG_INTERVAL: Duration = Duration::from_secs(60);
/// Maximum time for repairing losses at an orderly end: a stopping service has three seconds for everything.
const MAX_DRAIN: Duration = Duration::from_millis(1_500);

/// Packet counters at an evaluation.
#[derive(Debug, Clone, Copy)]
struct LossCounts {
    sent: u64,
    lost: u64,
}

/// Connection to an SRT listener.
#[derive(Debug)]
pub(crate) struct SrtConnection {
    clock: Clock,
    driver: Driver<Caller, SrtTransport>,
    is_encrypted: bool,
    latency: Duration,
    /// Since when the listener accepts packets.
    connected_at: Option<Duration>,
    is_live: bool,
    pacer: Pacer,
    last_dts: Option<i64>,
    next_tick: Duration,
    /// Dropped packets at the last evaluation.
    given_up: u64,
    /// Socket errors since the handshake, and when one was last logged.
    socket_errors: u64,
    error_logged_at: Option<Duration>,
    /// Packets sent and lost, at the last evaluations.
    counts: VecDeque<LossCounts>,
}

impl SrtConnection {
    pub(super) fn new(
        clock: Clock,
        port: Port,
        caller: Caller,
        latency: Duration,
        is_encrypted: bool,
    ) -> Self {
        let now = clock.now();
        Self {
            clock,
            driver: Driver { core: caller, transport: SrtTransport::new(port) },
            is_encrypted,
            latency,
            connected_at: None,
            is_live: false,
            pacer: Pacer::default(),
            last_dts: None,
            next_tick: now,
            given_up: 0,
            socket_errors: 0,
            error_logged_at: None,
            counts: VecDeque::new(),
        }
    }

    fn tick_interval(&self) -> Duration {
        (self.latency / TICKS_PER_LATENCY).clamp(MIN_TICK_INTERVAL, TICK_INTERVAL)
    }

    /// Returns the next time at which [`Self::poll`] is due.
    pub(super) fn poll_timeout(&self) -> Duration {
        self.next_tick
    }

    /// Performs a tick if due: receives, queues units of the ring, and sends what is due.
    ///
    /// # Errors
    /// The cause of the end of the connection.
    pub(super) fn poll(
        &mut self,
        core: &mut PushCore,
        cursor: &mut Cursor,
        context: &mut PushContext<'_, '_>,
    ) -> Result<(), Cause> {
        let now = context.now;
        if context.is_tick {
            match self.connected_at {
                Some(since) if !self.is_live => core.warn_about_keyframe(now.saturating_sub(since)),
                _ => self.evaluate(core, context),
            }
        }
        if now < self.next_tick {
            return Ok(());
        }
        self.next_tick = next_multiple(now, self.tick_interval());
        self.read(core, context)?;
        self.fill(core, cursor, context);
        self.transmit(core, now)
    }

    /// Handles a socket error. During the handshake it is the result. Afterwards it is one lost datagram (an ICMP
    /// message, a temporarily missing route, a full connection table), for which retransmission and the connection
    /// timeout suffice.
    fn handle_socket_error(&mut self, error: &io::Error, core: &PushCore) -> Result<(), Cause> {
        if self.connected_at.is_none() {
            let error = match error.kind() {
                ErrorKind::ConnectionRefused => DialError::Refused,
                _ => connect::connect_error(error),
            };
            return Err(causes::push_dial(&error, &self.driver.transport.peer().to_string()));
        }
        let now = self.clock.now();
        self.socket_errors += 1;
        if self.error_logged_at.is_none_or(|at| now.saturating_sub(at) >= ERROR_LOG_INTERVAL) {
            self.error_logged_at = Some(now);
            let (relay, destination) = (&*core.relay, &core.spec.destination);
            tracing::info!(relay, destination, %error, errors = self.socket_errors, "SRT socket failed, waiting it out");
        }
        Ok(())
    }

    /// Returns the feed's lack of a keyframe, if that explains the end of a connection; otherwise `cause`.
    fn blame_keyframe(&self, cause: Cause) -> Cause {
        let since = self.connected_at.filter(|_| !self.is_live);
        let waited = since.map(|since| self.clock.now().saturating_sub(since));
        waited.filter(|waited| *waited >= KEYFRAME_WARNING).map_or(cause, no_keyframe)
    }

    /// Handles received datagrams and timeouts.
    fn read(&mut self, core: &mut PushCore, context: &mut PushContext<'_, '_>) -> Result<(), Cause> {
        loop {
            let input = self.driver.poll_input(context.task, context.now, |_transport, event| {
                match event {
                    CallerEvent::Answered { .. } => core.note_step(DialStep::ListenerAnswered),
                    CallerEvent::Connected { latency } => {
                        core.note_step(if self.is_encrypted {
                            DialStep::AcceptedEncrypted
                        } else {
                            DialStep::Accepted
                        });
                        self.latency = latency;
                        self.connected_at = Some(self.clock.now());
                    }
                }
                Ok(())
            });
            match input {
                Ok(Poll::Pending) => return Ok(()),
                Ok(Poll::Ready(_)) | Err(DriveEnd::Eof) => {}
                Err(DriveEnd::Io(error)) => self.handle_socket_error(&error, core)?,
                Err(DriveEnd::Owner(cause)) => return Err(cause),
                Err(DriveEnd::Protocol(end)) => {
                    let cause = causes::push_srt(&end.why, |refusal| core.cause_of(refusal));
                    let has_begun = matches!(end.why, SrtError::Closed(_));
                    return Err(if has_begun { self.blame_keyframe(cause) } else { cause });
                }
            }
        }
    }

    /// Moves units from the ring into the connection, up to its limit.
    fn fill(&mut self, core: &mut PushCore, cursor: &mut Cursor, context: &mut PushContext<'_, '_>) {
        if self.connected_at.is_none() {
            return;
        }
        let (mut sent, mut dropped) = (0, 0);
        while self.driver.core.backlog() < MAX_QUEUED {
            let Some(Next { number, skipped }) = context.ring.read(cursor) else { break };
            dropped += skipped;
            if let Some(slot) = context.ring.slot(number)
                && slot.frame.unit.track == Track::Video
            {
                sent += 1;
                self.last_dts = Some(slot.times.dts);
            }
            if let Some(chunk) = context.ring.packets(number) {
                self.schedule(&chunk, context);
            }
        }
        if sent + dropped == 0 {
            return;
        }
        core.stats.frames_sent += sent;
        core.stats.frames_dropped += dropped;
        if !self.is_live {
            self.is_live = true;
            core.go_live(context.signal);
        }
    }

    /// Queues the packets of a unit, each for its time on the transport clock.
    fn schedule(&mut self, chunk: &Chunk, context: &PushContext<'_, '_>) {
        let newest = context.ring.newest_dts();
        let is_behind = newest.zip(self.last_dts).is_some_and(|(newest, last)| newest - last > MAX_LAG_TICKS);
        self.pacer.begin(chunk.begin, context.now, is_behind);
        for (clock, payload) in chunk.groups(self.driver.transport.packets_per_datagram()) {
            self.driver.core.send(payload, self.pacer.time_of(clock));
        }
    }

    /// Sends what is due before the next tick.
    fn transmit(&mut self, core: &mut PushCore, now: Duration) -> Result<(), Cause> {
        while let Err(error) = self.driver.transmit(now, self.next_tick, usize::MAX) {
            self.handle_socket_error(&error, core)?;
        }
        if self.driver.transport.is_blocked() {
            self.next_tick = self.next_tick.min(now + SEND_RETRY);
        }
        core.stats.add_bytes(self.driver.transport.take_written(), now);
        Ok(())
    }

    fn evaluate(&mut self, core: &mut PushCore, context: &mut PushContext<'_, '_>) {
        let stats = self.driver.core.stats();
        core.stats.link = Some(self.link(&stats));
        if stats.dropped > self.given_up {
            self.given_up = stats.dropped;
            let message = format!(
                "{} {} packets came too late and were given up; round trip {} ms.",
                backlog::rates(core, context),
                stats.dropped,
                stats.rtt.as_millis()
            );
            backlog::set_lagging(core, message);
        } else if let Some(percent) = self.excessive_loss(&stats) {
            let message = format!(
                "{percent} % of the packets are lost on the path to this destination; round trip {} ms. So many cannot be \
                 repaired in time.",
                stats.rtt.as_millis()
            );
            backlog::set_lagging(core, message);
        } else {
            backlog::evaluate(core, self.last_dts, context);
        }
    }

    /// Returns the recent packet loss in percent, if it is excessive.
    fn excessive_loss(&mut self, stats: &Stats) -> Option<u64> {
        self.counts.push_back(LossCounts { sent: stats.sent, lost: stats.lost });
        if self.counts.len() > LOSS_INTERVALS {
            self.counts.pop_front();
        }
        let first = self.counts.front()?;
        let (sent, lost) = (stats.sent - first.sent, stats.lost - first.lost);
        let percent = lost * 100 / sent.max(1);
        (sent >= MIN_LOSS_PACKETS && percent >= MAX_LOSS_PERCENT).then_some(percent)
    }

    fn link(&self, stats: &Stats) -> LinkView {
        LinkView {
            latency: self.latency,
            rtt: stats.rtt,
            lost: stats.lost,
            sent: stats.sent,
            retransmitted: stats.retransmitted,
            dropped: stats.dropped,
            estimated_bandwidth_kbps: Some(stats.estimated_bandwidth_kbps).filter(|room| *room > 0),
            receiving_kbps: Some(stats.receiving_kbps).filter(|rate| *rate > 0),
            encrypted: self.is_encrypted,
        }
    }

    /// Closes the connection in order: losses are repaired within the latency, then shutdown packets are sent.
    pub(super) async fn close(mut self) {
        let drain = if self.is_live { self.latency.min(MAX_DRAIN) } else { Duration::ZERO };
        self.driver.core.close(self.clock.now(), drain);
        let _finished = self.driver.finish(self.clock).await;
    }
}

/// Returns the first multiple of `interval` after `now`.
fn next_multiple(now: Duration, interval: Duration) -> Duration {
    let nanos = interval.as_nanos().max(1);
    let next = (now.as_nanos() / nanos + 1) * nanos;
    Duration::from_nanos(u64::try_from(next).unwrap_or(u64::MAX))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ticks_of_all_connections_coincide() {
        let ms = Duration::from_millis;
        assert_eq!(next_multiple(ms(101), TICK_INTERVAL), ms(110));
        assert_eq!(next_multiple(ms(109), TICK_INTERVAL), ms(110));
        assert_eq!(next_multiple(ms(110), TICK_INTERVAL), ms(120));
        assert_eq!(next_multiple(ms(0), ms(2)), ms(2));
    }
}
