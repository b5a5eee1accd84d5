//! RTSP session with a camera, driven by its feed's actor.

use std::io;
use std::task::{Context, Poll};
use std::time::Duration;

use bytes::{Bytes, BytesMut};
use yonder_core::{Cause, CauseCode, DialStep};
use yonder_media::Track;
use yonder_protocol::{Core as _, DatagramCore as _};
use yonder_rtsp::{ClientConfig, DatagramPath, Described, Pull, PullEvent, Step};

use crate::clock::Clock;
use crate::driver::{Driver, StreamTransport, Transport};
use crate::link::Link;

use super::datagrams::Datagrams;
use super::inlet::{Inlet, PacketCounts};
use super::{DigestHosts, SourceEnd};

/// Size of one read.
const READ_SIZE: usize = 64 * 1024;

/// RTSP session.
#[derive(Debug)]
pub(crate) struct RtspSession {
    clock: Clock,
    digest_hosts: DigestHosts,
    /// Host and port of the camera.
    host: (String, u16),
    driver: Driver<Pull, CameraTransport>,
    /// Clock rates of the tracks, in RTP ticks per second.
    rates: Vec<(Track, u32)>,
}

impl RtspSession {
    pub(super) fn new(
        clock: Clock,
        digest_hosts: DigestHosts,
        config: ClientConfig,
        link: Link,
        datagrams: Option<Datagrams>,
    ) -> Self {
        let host = (config.url.host.clone(), config.url.port);
        let transport = CameraTransport {
            stream: StreamTransport::new(link, READ_SIZE),
            datagrams,
            received: Vec::new(),
            out: BytesMut::new(),
        };
        let driver = Driver { core: Pull::new(config), transport };
        Self { clock, digest_hosts, host, driver, rates: Vec::new() }
    }

    /// Begins the dialogue.
    pub(crate) fn start(&mut self, now: Duration) {
        self.driver.core.start(now);
    }

    /// Registers its sockets with the caller's runtime.
    ///
    /// # Errors
    /// I/O error of the registration; the session is lost.
    pub(crate) fn register_here(self) -> io::Result<Self> {
        let Driver { core, transport } = self.driver;
        Ok(Self { driver: Driver { core, transport: transport.register_here()? }, ..self })
    }

    /// Reads once and handles timeouts; on a tick statistics and silence as well. Returns true if something was read,
    /// so that there may be more. Otherwise the task is woken for input; the caller keeps the time of
    /// [`Self::poll_timeout`].
    ///
    /// # Errors
    /// [`SourceEnd`] at the end of the session. Frames that arrived before are in `inlet`.
    pub(crate) fn poll(
        &mut self,
        task: &mut Context<'_>,
        inlet: &mut Inlet,
        is_tick: bool,
    ) -> Result<bool, SourceEnd> {
        let now = self.clock.now();
        let received = self.driver.poll_input(task, now, |transport, event| {
            match event {
                PullEvent::Step(step) => inlet.stats.note_step(dial_step(step), now),
                PullEvent::DigestOffered => self.digest_hosts.remember(&self.host),
                PullEvent::Offered(offered) => inlet.stats.set_offered(offered),
                PullEvent::Tracks(tracks) => {
                    transport.set_peers(&tracks);
                    self.rates = tracks.iter().map(|track| (track.track, track.clock_rate)).collect();
                }
                PullEvent::Headers(headers) => inlet.set_headers(headers, &self.rates),
                PullEvent::SenderReport { track, ntp, rtp } => {
                    inlet.handle_sender_report(track, ntp, rtp, now);
                }
                // The timeline detects and bridges the jump by itself.
                PullEvent::Restarted(track) => {
                    tracing::info!(?track, "camera restarted its sequence numbers");
                }
                PullEvent::Unit(unit) => inlet.handle_unit(unit, now)?,
            }
            Ok(())
        })?;
        if let Poll::Ready(count) = received {
            inlet.stats.add_bytes(count, now);
        }
        if is_tick || now >= self.poll_timeout(inlet, now) {
            self.report_reception(inlet, now);
            inlet.handle_timeout(now)?;
        }
        let sent = self.driver.poll_transmit(task, now);
        sent.map_err(|error| connection_lost(&error))?;
        Ok(received.is_ready())
    }

    /// Returns the next time at which [`Self::poll`] is due.
    pub(crate) fn poll_timeout(&self, inlet: &Inlet, now: Duration) -> Duration {
        let deadline = inlet.poll_timeout(now);
        self.driver.core.poll_timeout().map_or(deadline, |protocol| protocol.min(deadline))
    }

    /// Passes on the reception statistics. Must be called once a second.
    pub(crate) fn report_reception(&mut self, inlet: &mut Inlet, now: Duration) {
        let pull = &self.driver.core;
        let packets = pull.stats().fold(PacketCounts::default(), |sum, track| PacketCounts {
            received: sum.received + track.reception.received,
            lost: sum.lost + track.reception.lost,
        });
        inlet.set_packets(packets, now);
        inlet.stats.set_reception(pull.stats().collect(), pull.skipped());
    }

    /// Closes the session in order (TEARDOWN), if the connection still works.
    ///
    /// # Cancel safety
    /// When dropped, the connection is closed.
    pub(crate) async fn close(mut self) {
        self.driver.core.close(self.clock.now());
        // A camera that is gone needs no TEARDOWN.
        let _sent = self.driver.finish(self.clock).await;
        self.driver.transport.stream.finish();
    }
}

/// Connection to a camera, and the ports of its datagrams.
#[derive(Debug)]
struct CameraTransport {
    stream: StreamTransport,
    datagrams: Option<Datagrams>,
    /// Received datagrams, before they are passed to the core.
    received: Vec<(DatagramPath, Bytes)>,
    /// Datagram to be sent.
    out: BytesMut,
}

impl CameraTransport {
    fn register_here(self) -> io::Result<Self> {
        let datagrams = self.datagrams.map(Datagrams::register_here).transpose()?;
        Ok(Self { stream: self.stream.register_here()?, datagrams, ..self })
    }

    fn set_peers(&mut self, tracks: &[Described]) {
        if let Some(datagrams) = &mut self.datagrams {
            datagrams.set_peers(tracks);
        }
    }
}

impl Transport<Pull> for CameraTransport {
    fn poll_receive(
        &mut self,
        core: &mut Pull,
        task: &mut Context<'_>,
        now: Duration,
    ) -> Poll<io::Result<usize>> {
        let mut received = self.stream.poll_receive(core, task, now);
        if let Some(datagrams) = &mut self.datagrams
            && datagrams.poll_readable(task).is_ready()
        {
            datagrams.receive(&mut self.received);
            let mut bytes = 0;
            for (path, datagram) in self.received.drain(..) {
                bytes += datagram.len();
                core.handle_datagram(path, datagram, now);
            }
            received = match received {
                Poll::Ready(Ok(count)) if count > 0 => Poll::Ready(Ok(count + bytes)),
                // Readable, but no datagram of the camera.
                Poll::Pending if bytes == 0 => {
                    task.waker().wake_by_ref();
                    Poll::Pending
                }
                Poll::Pending => Poll::Ready(Ok(bytes)),
                ended @ Poll::Ready(_) => ended,
            };
        }
        received
    }

    fn transmit(
        &mut self,
        core: &mut Pull,
        now: Duration,
        horizon: Duration,
        limit: usize,
    ) -> io::Result<()> {
        self.stream.transmit(core, now, horizon, limit)?;
        if let Some(datagrams) = &self.datagrams {
            while let Some((path, _)) = core.poll_datagram(now, horizon, &mut self.out) {
                datagrams.send(path, &self.out);
                self.out.clear();
            }
        }
        Ok(())
    }

    fn is_blocked(&self) -> bool {
        Transport::<Pull>::is_blocked(&self.stream)
    }

    fn poll_writable(&mut self, task: &mut Context<'_>) -> Poll<io::Result<()>> {
        Transport::<Pull>::poll_writable(&mut self.stream, task)
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

/// Returns the cause of a lost connection.
pub(super) fn connection_lost(error: &io::Error) -> Cause {
    let message = format!("The connection to the camera broke ({error}).");
    Cause::new(CauseCode::FeedClosedByCamera, message)
}
