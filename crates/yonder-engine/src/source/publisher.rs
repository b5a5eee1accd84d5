//! Publisher of a feed: reads the messages of the ingest server.

use std::task::{Context, Poll};
use std::time::Duration;

use yonder_core::{Cause, CauseCode};
use yonder_ingest::{Publisher, PublisherEnd, PublisherMessage, UnitEvent};
use yonder_media::Track;

use crate::clock::Clock;
use crate::view::PublisherView;

use super::inlet::{Inlet, PacketCounts};

/// Maximum messages in one poll, before frames are written to pushes.
const MAX_MESSAGES: usize = 64;
/// Units that cannot be read, without one that can, before the publisher is given up.
const MAX_PROBLEMS: u32 = 200;
/// Clock rate of both tracks: times are in ticks of 1/90 000 s.
const CLOCK_RATES: [(Track, u32); 2] = [(Track::Video, 90_000), (Track::Audio, 90_000)];

/// Session of a publisher. Dropping it closes the connection.
#[derive(Debug)]
pub(crate) struct PublisherSession {
    clock: Clock,
    publisher: Publisher,
    began: Duration,
    /// Round-trip time of an SRT connection.
    rtt: Option<Duration>,
    /// Consecutive units that cannot be read.
    problems: u32,
}

impl PublisherSession {
    pub(crate) fn new(clock: Clock, publisher: Publisher) -> Self {
        Self { clock, publisher, began: clock.now(), rtt: None, problems: 0 }
    }

    /// Returns the facts of the encoder.
    pub(crate) fn view(&self) -> PublisherView {
        let info = self.publisher.info.clone();
        PublisherView { info, since: self.clock.wall(self.began), rtt: self.rtt }
    }

    /// Reads messages and handles timeouts. Returns true if there may be more to read; otherwise the task is woken for them.
    ///
    /// # Errors
    /// The cause of the end. Frames that arrived before are in `inlet`.
    pub(crate) fn poll(
        &mut self,
        task: &mut Context<'_>,
        inlet: &mut Inlet,
        is_tick: bool,
    ) -> Result<bool, Cause> {
        let now = self.clock.now();
        let mut has_more = false;
        for at in 1..=MAX_MESSAGES {
            match self.publisher.messages.poll_recv(task) {
                Poll::Ready(Some(message)) => self.handle(message, inlet, now)?,
                Poll::Ready(None) => return Err(ended(&PublisherEnd::Closed)),
                Poll::Pending => break,
            }
            has_more = at == MAX_MESSAGES;
        }
        if is_tick || now >= inlet.poll_timeout(now) {
            inlet.handle_timeout(now)?;
        }
        Ok(has_more)
    }

    fn handle(&mut self, message: PublisherMessage, inlet: &mut Inlet, now: Duration) -> Result<(), Cause> {
        match message {
            PublisherMessage::Received(bytes) => inlet.stats.add_bytes(bytes, now),
            PublisherMessage::Media(UnitEvent::Headers(headers)) => inlet.set_headers(headers, &CLOCK_RATES),
            PublisherMessage::Media(UnitEvent::Unit(unit)) => {
                self.problems = 0;
                inlet.handle_published(unit, now)?;
            }
            PublisherMessage::Media(UnitEvent::Problem(problem)) => {
                self.problems += 1;
                if self.problems >= MAX_PROBLEMS {
                    let message = format!("The encoder sends what cannot be read: {problem}.");
                    return Err(Cause::new(CauseCode::FeedPublisherInvalid, message));
                }
            }
            PublisherMessage::Software(software) => self.publisher.info.software = Some(software),
            PublisherMessage::Link(link) => {
                self.rtt = Some(link.rtt);
                inlet.set_packets(PacketCounts { received: link.received, lost: link.missing }, now);
            }
            PublisherMessage::End(end) => return Err(ended(&end)),
        }
        Ok(())
    }
}

/// Returns the cause of an end.
fn ended(end: &PublisherEnd) -> Cause {
    let code = match end {
        PublisherEnd::Ended | PublisherEnd::Replaced => CauseCode::FeedPublisherEnded,
        PublisherEnd::Closed | PublisherEnd::Lost(_) => CauseCode::FeedPublisherLost,
        PublisherEnd::Protocol(_) => CauseCode::FeedPublisherInvalid,
    };
    let text = end.to_string();
    let mut characters = text.chars();
    let first = characters.next().map(|first| first.to_uppercase().to_string()).unwrap_or_default();
    Cause::new(code, format!("{first}{}.", characters.as_str()))
}
