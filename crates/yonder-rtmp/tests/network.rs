//! Publisher and receiver over a simulated network. A failing run prints its seed.

#![expect(clippy::unwrap_used, reason = "a test ends where something unexpected happens")]

use std::time::Duration;

use bytes::Bytes;
use rstest::rstest;
use yonder_address::StreamKey;
use yonder_media::flv::Body;
use yonder_media::{AccessUnit, Payload, StreamHeaders, Track};
use yonder_protocol::simulation::{Line, Network, Stream};
use yonder_protocol::{Core as _, End};
use yonder_rtmp::{Publisher, PublisherConfig, PublisherEvent, PushError, PushStep, Receiver, ReceiverEvent};

const FRAME_INTERVAL: Duration = Duration::from_millis(40);

struct Push {
    network: Network<Stream<Publisher>, Stream<Receiver>>,
    published: Vec<PublisherEvent>,
    received: Vec<ReceiverEvent>,
}

impl Push {
    fn new(line: Line, seed: u64) -> Self {
        let server = "rtmp://ingest.example.net/live".parse().unwrap();
        let key = StreamKey::from_stored("planted-key".into());
        let mut publisher = Publisher::new(PublisherConfig { server, key, seed });
        publisher.start(Duration::ZERO);
        let network = Network::new(Stream::new(publisher), Stream::new(Receiver::new(seed)), line, seed);
        Self { network, published: Vec::new(), received: Vec::new() }
    }

    fn run(&mut self, span: Duration) {
        let until = self.network.now + span;
        self.network.run_until(until, |publisher, receiver, _now| {
            self.published.extend(std::iter::from_fn(|| publisher.core.poll_event()));
            while let Some(event) = receiver.core.poll_event() {
                match event {
                    ReceiverEvent::Connect { .. } => receiver.core.accept_connect(),
                    ReceiverEvent::Publish { .. } => receiver.core.accept_publish(),
                    other => self.received.push(other),
                }
            }
        });
    }

    fn publisher(&mut self) -> &mut Publisher {
        &mut self.network.local.core
    }

    fn end(&self) -> Option<&End<PushError>> {
        self.network.local.core.end()
    }
}

/// Returns a keyframe filled with its number, of 200 to 49 053 bytes.
fn picture(number: u32) -> Body {
    let length = 200 + usize::try_from(number % 50).unwrap() * 997;
    let nal = number.to_be_bytes().into_iter().cycle().take(length);
    let payload = Payload::Nals(vec![std::iter::once(0x65).chain(nal).collect::<Vec<_>>().into()]);
    let unit = AccessUnit { track: Track::Video, dts: 0, pts: 0, keyframe: true, payload };
    Body::of_unit(&unit, &StreamHeaders::default())
}

#[rstest]
fn a_minute_of_frames_arrives_complete_over_a_lossy_line(#[values(1, 2, 3, 4, 5)] seed: u64) {
    let line = Line { loss: 3, jitter: Duration::from_millis(30), max_segment: 300, ..Line::default() };
    let mut push = Push::new(line, seed);
    push.run(Duration::from_secs(10));
    assert_eq!(push.published.last(), Some(&PublisherEvent::Accepted), "seed {seed}");
    for number in 0..1_500 {
        push.publisher().send_body(&picture(number), number * 40);
        push.run(FRAME_INTERVAL);
    }
    push.publisher().close();
    push.run(Duration::from_secs(10));
    assert_eq!(push.end(), Some(&End::local(PushError::Closed)), "seed {seed}");
    assert!(matches!(push.received.last(), Some(ReceiverEvent::Ended)), "seed {seed}");
    let bodies: Vec<(u32, Bytes)> = push
        .received
        .into_iter()
        .filter_map(|event| match event {
            ReceiverEvent::Video { timestamp, body } => Some((timestamp, body)),
            _ => None,
        })
        .collect();
    assert_eq!(bodies.len(), 1_500, "seed {seed}");
    for ((timestamp, body), number) in bodies.iter().zip(0..) {
        assert_eq!(*timestamp, number * 40, "seed {seed}");
        assert_eq!(*body, picture(number).pieces.concat(), "seed {seed}, picture {number}");
    }
}

#[test]
fn line_cut_during_the_dialogue_times_out_at_its_step() {
    let mut push = Push::new(Line::default(), 1);
    // `connect` is on its way.
    push.run(Duration::from_millis(40));
    assert_eq!(push.publisher().step(), PushStep::Connecting);
    push.network.to_peer.is_cut = true;
    push.network.to_local.is_cut = true;
    push.run(Duration::from_secs(11));
    assert_eq!(push.end(), Some(&End::local(PushError::NoAnswer(PushStep::Connecting))));
}

#[test]
fn an_end_by_the_platform_is_the_peers_and_final() {
    let mut push = Push::new(Line::default(), 1);
    push.run(Duration::from_secs(1));
    push.network.peer.core.end_broadcast("twelve hours are over");
    push.run(Duration::from_secs(1));
    let Some(End { why: PushError::Ended { .. }, by: yonder_protocol::Side::Peer }) = push.end() else {
        panic!("{:?}", push.end())
    };
    push.publisher().send_body(&picture(1), 0);
    push.run(Duration::from_secs(30));
    assert!(!push.received.iter().any(|event| matches!(event, ReceiverEvent::Video { .. })));
}
