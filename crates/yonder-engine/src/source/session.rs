//! RTSP session with a camera, from the first request to the last packet, driven by its feed's actor.

use std::io;
use std::task::{Context, Poll};
use std::time::Duration;

use bytes::BytesMut;
use yonder_core::{Cause, CauseCode, DialStep};
use yonder_media::Track;
use yonder_rtsp::{ClientConfig, Described, Pull, PullEvent, Step};

use crate::clock::Clock;
use crate::link::Link;

use super::block::Block;
use super::datagrams::{Datagrams, Received};
use super::inlet::{Inlet, PacketCounts};
use super::{SourceEnd, digest};

/// RTSP session.
#[derive(Debug)]
pub(crate) struct RtspSession {
    clock: Clock,
    /// Host and port of the camera.
    host: (String, u16),
    pull: Pull,
    link: Link,
    datagrams: Option<Datagrams>,
    tracks: Vec<Described>,
    block: Block,
    /// Requests that the connection has not accepted yet.
    unsent: BytesMut,
    received: Vec<Received>,
}

impl RtspSession {
    pub(super) fn new(clock: Clock, config: ClientConfig, link: Link, datagrams: Option<Datagrams>) -> Self {
        Self {
            clock,
            host: (config.url.host.clone(), config.url.port),
            pull: Pull::new(config),
            link,
            datagrams,
            tracks: Vec::new(),
            block: Block::new(),
            unsent: BytesMut::new(),
            received: Vec::new(),
        }
    }

    /// Begins the dialogue.
    pub(crate) fn start(&mut self, now: Duration) {
        self.pull.start(now);
    }

    /// Registers its sockets with the runtime that runs the caller.
    ///
    /// # Errors
    /// When the system refuses it; the session is lost.
    pub(crate) fn register_here(self) -> io::Result<Self> {
        let datagrams = self.datagrams.map(Datagrams::register_here).transpose()?;
        Ok(Self { link: self.link.register_here()?, datagrams, ..self })
    }

    /// Reads once and handles what is due; on a tick statistics and silence as well. True when something was read, so that there
    /// may be more. Otherwise the task is woken for input; the caller keeps the time of [`Self::poll_timeout`].
    ///
    /// # Errors
    /// [`SourceEnd`] when the session is over. Frames that arrived before are in `inlet`.
    pub(crate) fn poll(
        &mut self,
        context: &mut Context<'_>,
        inlet: &mut Inlet,
        is_tick: bool,
    ) -> Result<bool, SourceEnd> {
        let now = self.clock.now();
        if is_tick || now >= self.poll_timeout(inlet, now) {
            self.handle_timeout(inlet, now)?;
        }
        self.transmit(context)?;
        let mut has_read = false;
        match self.block.poll_read(context, &mut self.link) {
            Poll::Ready(Ok(count)) => {
                has_read = true;
                self.handle_input(count, inlet)?;
            }
            Poll::Ready(Err(error)) => return Err(connection_lost(&error).into()),
            Poll::Pending => {}
        }
        if let Some(datagrams) = &mut self.datagrams
            && datagrams.poll_readable(context).is_ready()
        {
            has_read = true;
            datagrams.receive(&mut self.received);
            self.handle_datagrams(inlet)?;
        }
        self.transmit(context)?;
        Ok(has_read)
    }

    /// Returns the next time at which [`Self::poll`] has something to do.
    pub(crate) fn poll_timeout(&self, inlet: &Inlet, now: Duration) -> Duration {
        let deadline = inlet.poll_timeout(now);
        self.pull.poll_timeout().map_or(deadline, |protocol| protocol.min(deadline))
    }

    fn handle_input(&mut self, count: usize, inlet: &mut Inlet) -> Result<(), SourceEnd> {
        if count == 0 {
            let message = "The camera closed the connection.";
            return Err(Cause::new(CauseCode::FeedClosedByCamera, message).into());
        }
        let now = self.clock.now();
        inlet.figures.add_bytes(count, now);
        let mut rest = self.block.filled();
        let result = self.pull.handle_input(&mut rest, now);
        let left = rest.len();
        self.block.keep_last(left);
        // Handle media received before the error.
        self.drain(inlet, now)?;
        Ok(result?)
    }

    fn handle_datagrams(&mut self, inlet: &mut Inlet) -> Result<(), SourceEnd> {
        let now = self.clock.now();
        let bytes = self.received.iter().map(|datagram| datagram.payload.len()).sum();
        inlet.figures.add_bytes(bytes, now);
        let mut result = Ok(());
        for Received { track, channel, payload } in self.received.drain(..) {
            // Handle media received after a BYE as well.
            let handled = self.pull.handle_datagram(track, channel, payload, now);
            result = result.and(handled);
        }
        self.drain(inlet, now)?;
        Ok(result?)
    }

    fn drain(&mut self, inlet: &mut Inlet, now: Duration) -> Result<(), Cause> {
        while let Some(event) = self.pull.poll_event() {
            match event {
                PullEvent::Step(step) => inlet.figures.note_step(dial_step(step), now),
                PullEvent::DigestOffered => digest::remember(&self.host),
                PullEvent::Offered(offered) => inlet.figures.set_offered(offered),
                PullEvent::Tracks(tracks) => self.tracks = tracks,
                PullEvent::Headers(headers) => {
                    let rates: Vec<(Track, u32)> =
                        self.tracks.iter().map(|described| (described.track, described.clock_rate)).collect();
                    inlet.set_headers(headers, &rates);
                }
                PullEvent::SenderReport { track, ntp, rtp } => {
                    inlet.handle_sender_report(track, ntp, rtp, now);
                }
                // The timeline detects the jump by itself and bridges it.
                PullEvent::Restarted(track) => {
                    tracing::info!(?track, "camera restarted its sequence numbers");
                }
                PullEvent::Unit(unit) => inlet.handle_unit(unit, now)?,
            }
        }
        Ok(())
    }

    /// Writes requests and receiver reports, as far as the sockets accept them. What was written is removed from the buffer at
    /// once, so that no part of a request is sent twice.
    fn transmit(&mut self, context: &mut Context<'_>) -> Result<(), Cause> {
        while let Some(bytes) = self.pull.poll_transmit() {
            self.unsent.extend_from_slice(&bytes);
        }
        while !self.unsent.is_empty() || self.link.wants_write() {
            self.link.try_write_bytes(&mut self.unsent).map_err(|error| connection_lost(&error))?;
            if self.unsent.is_empty() && !self.link.wants_write() {
                break;
            }
            match self.link.poll_write_ready(context) {
                Poll::Ready(Ok(())) => {}
                Poll::Ready(Err(error)) => return Err(connection_lost(&error)),
                Poll::Pending => break,
            }
        }
        if let Some(datagrams) = &mut self.datagrams {
            while let Some(datagram) = self.pull.poll_datagram() {
                // The tracks are known by the time there is something to send to them.
                datagrams.set_peers(&self.tracks);
                datagrams.send(&datagram);
            }
        }
        Ok(())
    }

    fn handle_timeout(&mut self, inlet: &mut Inlet, now: Duration) -> Result<(), SourceEnd> {
        self.pull.handle_timeout(now)?;
        // A datagram that was waited for may have been given up, which releases those behind it.
        self.drain(inlet, now)?;
        self.report_reception(inlet, now);
        Ok(inlet.handle_timeout(now)?)
    }

    /// Passes statistics of reception on. To be called once a second.
    pub(crate) fn report_reception(&mut self, inlet: &mut Inlet, now: Duration) {
        let packets = self.pull.figures().fold(PacketCounts::default(), |sum, track| PacketCounts {
            received: sum.received + track.reception.received,
            lost: sum.lost + track.reception.lost,
        });
        inlet.set_packets(packets, now);
        inlet.figures.set_reception(self.pull.figures().collect(), self.pull.skipped());
    }

    /// Ends the session in order (TEARDOWN), if the connection accepts it.
    ///
    /// # Cancel safety
    /// When dropped, the connection is closed.
    pub(crate) async fn close(mut self) {
        self.pull.close(self.clock.now());
        // A camera that is gone needs no farewell.
        let _closed = std::future::poll_fn(|context| match self.transmit(context) {
            Ok(()) if !self.unsent.is_empty() || self.link.wants_write() => Poll::Pending,
            done => Poll::Ready(done),
        })
        .await;
        self.link.finish();
    }
}

fn dial_step(step: Step) -> DialStep {
    match step {
        Step::Greeted => DialStep::Greeted,
        Step::SignedIn => DialStep::SignedIn,
        Step::Described => DialStep::StreamDescribed,
        Step::SetUp => DialStep::TracksSetUp,
        Step::Playing => DialStep::Playing,
    }
}

/// Cause of a connection that broke.
pub(super) fn connection_lost(error: &io::Error) -> Cause {
    let message = format!("The connection to the camera broke ({error}).");
    Cause::new(CauseCode::FeedClosedByCamera, message)
}
