//! Both halves of RTMP under hostile input, and through days of simulated time.

#![expect(clippy::unwrap_used, reason = "a test ends where something unexpected happens")]

use std::time::Duration;

use bytes::{Bytes, BytesMut};
use proptest::prelude::*;
use yonder_address::StreamKey;
use yonder_media::flv::Body;
use yonder_media::{AccessUnit, Payload, StreamHeaders, Track};
use yonder_protocol::{Core as _, StreamCore as _, deliver, take_transmit};
use yonder_rtmp::{Command, Publisher, PublisherConfig, PushStep, Receiver, ReceiverEvent};

const T0: Duration = Duration::ZERO;

fn publisher() -> Publisher {
    let server = "rtmp://ingest.example.net/live".parse().unwrap();
    let key = StreamKey::from_stored("a-key-of-some-length".into());
    let mut publisher = Publisher::new(PublisherConfig { server, key, seed: 1 });
    publisher.start(T0);
    publisher
}

/// Carries bytes both ways until neither side has any; the receiver grants everything.
fn exchange(publisher: &mut Publisher, receiver: &mut Receiver) -> Vec<ReceiverEvent> {
    let mut events = Vec::new();
    loop {
        let up = take_transmit(publisher, T0);
        deliver(receiver, &mut BytesMut::from(&up[..]), T0).unwrap();
        while let Some(event) = receiver.poll_event() {
            match event {
                ReceiverEvent::Connect { .. } => receiver.accept_connect(),
                ReceiverEvent::Publish { .. } => receiver.accept_publish(),
                other => events.push(other),
            }
        }
        let down = take_transmit(receiver, T0);
        publisher.handle_input(&down, T0);
        if up.is_empty() && down.is_empty() {
            return events;
        }
    }
}

fn live() -> (Publisher, Receiver) {
    let (mut publisher, mut receiver) = (publisher(), Receiver::new(2));
    exchange(&mut publisher, &mut receiver);
    assert_eq!(publisher.step(), PushStep::Live);
    (publisher, receiver)
}

fn picture(keyframe: bool) -> Body {
    let payload = Payload::Nals(vec![Bytes::from_static(&[0x65, 1, 2, 3])]);
    let unit = AccessUnit { track: Track::Video, dts: 0, pts: 0, keyframe, payload };
    Body::of_unit(&unit, &StreamHeaders::default())
}

#[test]
fn sixty_days_cross_the_wrap_of_rtmp_time_without_a_step_back() {
    let (mut publisher, mut receiver) = live();
    let (body, mut last) = (picture(true), None::<u32>);
    // One picture every ten minutes; 2^32 ms are 49.7 days.
    for step in 0..60 * 24 * 6_u64 {
        let timestamp = u32::try_from(step * 600_000 % (1 << 32)).unwrap();
        publisher.send_body(&body, timestamp);
        let events = exchange(&mut publisher, &mut receiver);
        let [ReceiverEvent::Video { timestamp: seen, .. }] = events.as_slice() else { panic!("{events:?}") };
        assert_eq!(*seen, timestamp);
        if let Some(last) = last {
            assert_eq!(seen.wrapping_sub(last), 600_000);
        }
        last = Some(*seen);
    }
}

#[test]
fn extended_times_are_read_on_every_kind_of_chunk() {
    let (mut publisher, mut receiver) = live();
    // Larger than our chunk size, beyond 24 bits of time: headers of kinds 0 and 3 with extended fields.
    let payload = Payload::Nals(vec![Bytes::from(vec![0x65; 200_000])]);
    let unit = AccessUnit { track: Track::Video, dts: 0, pts: 0, keyframe: true, payload };
    let large = Body::of_unit(&unit, &StreamHeaders::default());
    for timestamp in [0x0100_0000, 0x0200_0000, 0x0200_0028, 0x0200_0050] {
        publisher.send_body(&large, timestamp);
        let events = exchange(&mut publisher, &mut receiver);
        let [ReceiverEvent::Video { timestamp: seen, body }] = events.as_slice() else {
            panic!("{events:?}")
        };
        assert_eq!((*seen, body.len()), (timestamp, 200_009));
    }
}

#[test]
fn a_second_publish_attempt_after_closing_needs_a_new_connection() {
    let (mut publisher, mut receiver) = live();
    publisher.close();
    let events = exchange(&mut publisher, &mut receiver);
    assert!(events.iter().any(|event| matches!(event, ReceiverEvent::Ended)));
    publisher.send_body(&picture(true), 0);
    assert!(take_transmit(&mut publisher, T0).is_empty());
}

proptest! {
    #[test]
    fn a_publisher_survives_any_bytes_after_the_greeting(bytes: Vec<u8>, segment in 1_usize..50) {
        let mut publisher = publisher();
        let mut input = BytesMut::from(&[&[3_u8][..], &[0; 3072]].concat()[..]);
        prop_assert!(deliver(&mut publisher, &mut input, T0).is_ok());
        for part in bytes.chunks(segment) {
            input.extend_from_slice(part);
            if deliver(&mut publisher, &mut input, T0).is_err() {
                break;
            }
        }
    }

    #[test]
    fn a_live_publisher_survives_any_command(name in "[a-zA-Z_]{1,20}", transaction in -5_f64..10.0, payload: Vec<u8>) {
        let (mut publisher, _) = live();
        let mut command = Command::new(&name, transaction, Vec::new()).encode().to_vec();
        command.extend_from_slice(&payload);
        command.truncate(120);
        // A chunk of kind 0 on the command stream.
        let length = u8::try_from(command.len()).unwrap();
        let mut input = BytesMut::from(&[3, 0, 0, 0, 0, 0, length, 20, 0, 0, 0, 0][..]);
        input.extend_from_slice(&command);
        let result = deliver(&mut publisher, &mut input, T0);
        // These can end a broadcast; no other command may, whatever is in it.
        let can_end = ["onStatus", "_error", "close"].contains(&name.as_str());
        prop_assert!(result.is_ok() || can_end, "{} ended the push: {:?}", name, result);
    }

    #[test]
    fn a_receiver_survives_any_bytes_after_the_greeting(bytes: Vec<u8>) {
        let mut receiver = Receiver::new(1);
        let input = [&[3_u8][..], &[0; 3072], &bytes].concat();
        prop_assert!(receiver.handle_input(&input, T0) <= input.len());
    }
}
