//! A dialogue written by hand from the standard, run against the publisher and against the receiver.

#![expect(clippy::unwrap_used, clippy::panic, reason = "a test ends where something unexpected happens")]

use std::time::Duration;

use bytes::{Buf as _, BytesMut};
use rstest::rstest;
use yonder_address::StreamKey;
use yonder_protocol::{Core as _, deliver, take_transmit};
use yonder_rtmp::{Publisher, PublisherConfig, PublisherEvent, PushError, Receiver, ReceiverEvent};
use yonder_transcript::{Side, Transcript, Variables};

/// When the publisher ends the broadcast.
const END: Duration = Duration::from_millis(200);

/// One side of a connection.
trait Half {
    fn advance(&mut self, now: Duration);
    fn handle(&mut self, input: &mut BytesMut, now: Duration);
    /// Takes what is to be written.
    fn written(&mut self) -> Vec<u8>;
}

struct PublisherHalf {
    publisher: Publisher,
    is_closed: bool,
}

impl Half for PublisherHalf {
    fn advance(&mut self, now: Duration) {
        if now >= END && !std::mem::replace(&mut self.is_closed, true) {
            self.publisher.close();
        }
    }

    fn handle(&mut self, input: &mut BytesMut, now: Duration) {
        let ended = deliver(&mut self.publisher, input, now);
        assert!(ended.is_ok() || self.is_closed && ended == Err(PushError::Closed), "{ended:?}");
    }

    fn written(&mut self) -> Vec<u8> {
        take_transmit(&mut self.publisher, Duration::ZERO)
    }
}

struct ReceiverHalf {
    receiver: Receiver,
    events: Vec<ReceiverEvent>,
    is_pinged: bool,
}

impl Half for ReceiverHalf {
    fn advance(&mut self, now: Duration) {
        if now >= Duration::from_millis(100) && !std::mem::replace(&mut self.is_pinged, true) {
            self.receiver.ping(0x1234);
        }
    }

    fn handle(&mut self, input: &mut BytesMut, now: Duration) {
        deliver(&mut self.receiver, input, now).unwrap();
        while let Some(event) = self.receiver.poll_event() {
            match event {
                ReceiverEvent::Connect { .. } => self.receiver.accept_connect_with(&["hvc1"]),
                ReceiverEvent::Publish { .. } => self.receiver.accept_publish(),
                _ => {}
            }
            self.events.push(event);
        }
    }

    fn written(&mut self) -> Vec<u8> {
        take_transmit(&mut self.receiver, Duration::ZERO)
    }
}

/// Runs the transcript against one side, whose input comes in segments of `segment` bytes.
fn run(side: Side, half: &mut impl Half, segment: usize) {
    let transcript = Transcript::parse(include_str!("transcripts/publish.txt")).unwrap();
    let mut variables = Variables::default();
    variables.set("version", env!("CARGO_PKG_VERSION").as_bytes());
    let (mut sent, mut input) = (BytesMut::new(), BytesMut::new());
    for step in transcript.steps {
        half.advance(step.at);
        sent.extend_from_slice(&half.written());
        if step.side != side {
            for part in step.pattern.bytes(&mut variables).chunks(segment) {
                input.extend_from_slice(part);
                half.handle(&mut input, step.at);
            }
            continue;
        }
        let length = step.pattern.len().min(sent.len());
        let checked = step.pattern.check(sent.get(..length).unwrap(), &mut variables);
        checked.unwrap_or_else(|mismatch| panic!("line {}: {mismatch}", step.line));
        sent.advance(length);
    }
    sent.extend_from_slice(&half.written());
    assert!(sent.is_empty(), "sent besides: {sent:02x?}");
}

#[rstest]
fn publisher_follows_the_transcript(#[values(1, 7, 128, 65_536)] segment: usize) {
    let server = "rtmp://ingest.example.net/live".parse().unwrap();
    let key = StreamKey::from_stored("planted-key".into());
    let mut publisher = Publisher::new(PublisherConfig { server, key, seed: 7 });
    publisher.start(Duration::ZERO);
    let mut half = PublisherHalf { publisher, is_closed: false };
    run(Side::Client, &mut half, segment);
    let events: Vec<_> = std::iter::from_fn(|| half.publisher.poll_event()).collect();
    let connected = PublisherEvent::Connected { announces_h265: true };
    assert_eq!(events, [PublisherEvent::HandshakeDone, connected, PublisherEvent::Accepted]);
}

#[rstest]
fn receiver_follows_the_transcript(#[values(1, 7, 128, 65_536)] segment: usize) {
    let mut half = ReceiverHalf { receiver: Receiver::new(9), events: Vec::new(), is_pinged: false };
    run(Side::Server, &mut half, segment);
    assert!(
        matches!(&half.events[0], ReceiverEvent::Connect { app, .. } if app == "live"),
        "{:?}",
        half.events
    );
    assert!(matches!(half.events[1], ReceiverEvent::Publish { .. }), "{:?}", half.events);
    assert!(matches!(half.events.last(), Some(ReceiverEvent::Ended)), "{:?}", half.events);
}
