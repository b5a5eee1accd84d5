//! Both halves of RTMP under hostile input, and through days of simulated time.

#![expect(clippy::unwrap_used, reason = "a test ends where something unexpected happens")]

use std::time::Duration;

use bytes::{Bytes, BytesMut};
use proptest::prelude::*;
use yonder_address::StreamKey;
use yonder_media::flv::Body;
use yonder_media::{AccessUnit, Payload, StreamHeaders, Track};
use yonder_protocol::{Core as _, StreamCore as _, deliver, take_transmit};
use yonder_rtmp::{Command, MessageKind, Publisher, PublisherConfig, PushStep, Receiver, ReceiverEvent};

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

/// Sends messages of a foreign publisher over a connection that is live.
fn received(receiver: &mut Receiver, messages: &[(MessageKind, u32, &[u8])]) -> Vec<ReceiverEvent> {
    // Set Chunk Size 65 536, then messages of one chunk with headers of type 0.
    let mut out = vec![2, 0, 0, 0, 0, 0, 4, 1, 0, 0, 0, 0, 0, 1, 0, 0];
    for (kind, timestamp, payload) in messages {
        let ([_, t0, t1, t2], [_, .., l0, l1, l2]) = (timestamp.to_be_bytes(), payload.len().to_be_bytes());
        out.extend_from_slice(&[6, t0, t1, t2, l0, l1, l2, kind.id(), 1, 0, 0, 0]);
        out.extend_from_slice(payload);
    }
    deliver(receiver, &mut BytesMut::from(&out[..]), T0).unwrap();
    std::iter::from_fn(|| receiver.poll_event()).collect()
}

#[test]
fn received_bytes_are_acknowledged_before_the_window_is_full() {
    let (_, mut receiver) = live();
    received(&mut receiver, &[(MessageKind::WindowSize, 0, &100_000_u32.to_be_bytes())]);
    take_transmit(&mut receiver, T0);
    let mut acknowledgements = 0;
    for at in 0..20 {
        received(&mut receiver, &[(MessageKind::Video, at, &[0; 10_000])]);
        // Header, then the count of bytes (5.4.3).
        acknowledgements += u32::from(!take_transmit(&mut receiver, T0).is_empty());
    }
    assert!((3..=5).contains(&acknowledgements), "{acknowledgements}");
}

#[test]
fn media_of_an_aggregate_has_its_own_times() {
    let (_, mut receiver) = live();
    let aggregate = [
        9, 0, 0, 2, 0, 0, 100, 0, 0, 0, 0, 0x17, 1, 0, 0, 0, 13, // video at 100 ms
        8, 0, 0, 1, 0, 0, 120, 0, 0, 0, 0, 0xaf, 0, 0, 0, 12, // audio at 120 ms
    ];
    let events = received(&mut receiver, &[(MessageKind::Aggregate, 5_000, &aggregate)]);
    let [ReceiverEvent::Video { timestamp: 5_000, .. }, ReceiverEvent::Audio { timestamp: 5_020, .. }] =
        events.as_slice()
    else {
        panic!("{events:?}")
    };
}

#[test]
fn metadata_that_cannot_be_decoded_does_not_end_the_broadcast() {
    let (_, mut receiver) = live();
    let odd: [&[u8]; 3] = [&[2, 0, 200, 1], &[0xff; 20], &[2, 0, 1, b'x', 5]];
    for payload in odd {
        assert!(received(&mut receiver, &[(MessageKind::Data, 0, payload)]).is_empty());
    }
    // Under AMF3, and without @setDataFrame.
    let data = [&[0, 2, 0, 10][..], b"onMetaData", &[3, 0, 1, b'a', 5, 0, 0, 9]].concat();
    let events = received(&mut receiver, &[(MessageKind::Data3, 0, &data)]);
    assert!(matches!(events.as_slice(), [ReceiverEvent::Metadata(_)]), "{events:?}");
}

#[test]
fn ping_request_of_a_publisher_is_answered() {
    let (_, mut receiver) = live();
    received(&mut receiver, &[(MessageKind::UserControl, 0, &[0, 6, 1, 2, 3, 4])]);
    assert!(take_transmit(&mut receiver, T0).ends_with(&[0, 7, 1, 2, 3, 4]));
}

#[test]
fn peer_without_a_key_costs_64_kilobytes_at_most() {
    // A connect command that never ends.
    let mut receiver = Receiver::new(2);
    let greeting = [&[3_u8][..], &[0; 3_072], &[3, 0, 0, 0, 0xff, 0xff, 0xff, 20, 0, 0, 0, 0]].concat();
    assert!(deliver(&mut receiver, &mut BytesMut::from(&greeting[..]), T0).is_err());
    // Small messages without an end.
    let mut receiver = Receiver::new(2);
    let mut sent = 0;
    let mut input = BytesMut::from(&[&[3_u8][..], &[0; 3_072]].concat()[..]);
    while deliver(&mut receiver, &mut input, T0).is_ok() {
        input.extend_from_slice(&[3, 0, 0, 0, 0, 0, 4, 4, 0, 0, 0, 0, 0, 9, 0, 0]);
        sent += 16;
        assert!(sent < 70_000, "{sent} bytes");
    }
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
