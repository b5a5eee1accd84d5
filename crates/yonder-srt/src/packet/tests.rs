use super::*;
use proptest::prelude::*;
use rstest::rstest;
use std::net::IpAddr;

fn written(control: &Control) -> Bytes {
    let mut out = BytesMut::new();
    control.put(0x0102_0304, 0x0506_0708, &mut out);
    out.freeze()
}

fn read(control: &Control) -> Control {
    let packet = Packet::read(written(control)).unwrap();
    assert_eq!((packet.timestamp, packet.destination), (0x0102_0304, 0x0506_0708));
    match packet.body {
        PacketBody::Control(control) => control,
        PacketBody::Data(_) => panic!("data"),
    }
}

fn material(slots: u8, key_bytes: usize) -> KeyMaterial {
    let keys = if slots == 3 { 2 } else { 1 };
    KeyMaterial { slots, salt: [7; 16], key_bytes, wrapped: Bytes::from(vec![9; 8 + keys * key_bytes]) }
}

fn conclusion(extensions: Vec<Extension>) -> Handshake {
    Handshake {
        version: 5,
        encryption: 2,
        extension_field: extensions.iter().fold(0, |sum, extension| sum | extension.flag()),
        initial_sequence: 77,
        mtu: 1500,
        window: 8192,
        kind: HandshakeKind::Conclusion,
        socket: 99,
        cookie: 0xdead_beef,
        address: IpAddr::from([192, 0, 2, 7]),
        extensions,
    }
}

#[test]
fn induction_matches_the_draft() {
    let handshake = Handshake {
        version: 4,
        encryption: 0,
        extension_field: 2,
        initial_sequence: 0x1234_5678,
        kind: HandshakeKind::Induction,
        cookie: 0,
        ..conclusion(Vec::new())
    };
    let bytes = written(&Control::Handshake(Box::new(handshake)));
    // Figure 5: header of 16 bytes, then version, fields, sequence, MTU, window, type, socket, cookie, address.
    assert_eq!(bytes[..8], [0x80, 0, 0, 0, 0, 0, 0, 0]);
    assert_eq!(bytes[16..24], [0, 0, 0, 4, 0, 0, 0, 2]);
    assert_eq!(bytes[24..28], [0x12, 0x34, 0x56, 0x78]);
    assert_eq!(bytes[28..36], [0, 0, 5, 0xdc, 0, 0, 0x20, 0]);
    assert_eq!(bytes[36..48], [0, 0, 0, 1, 0, 0, 0, 99, 0, 0, 0, 0]);
    assert_eq!(bytes.len(), 64);
}

#[rstest]
#[case(Control::KeepAlive)]
#[case(Control::Shutdown)]
#[case(Control::CongestionWarning)]
#[case(Control::AckAck(17))]
#[case(Control::PeerError(4_000))]
#[case(Control::Ack { number: 0, next: 5, report: None })]
#[case(Control::Ack { number: 8, next: 5, report: Some(AckReport { rtt_us: 100, rtt_variance_us: 50, free_packets: 8_000, packets_per_s: 300, capacity_packets_per_s: 9_000, bytes_per_s: 400_000 }) })]
#[case(Control::Nak(vec![LossRange { first: 4, last: 4 }, LossRange { first: 6, last: 9 }]))]
#[case(Control::DropRequest { message: 3, range: LossRange { first: 1, last: 2 } })]
#[case(Control::KeyRequest(material(1, 16)))]
#[case(Control::KeyRequest(material(3, 32)))]
#[case(Control::KeyResponse(Ok(material(2, 24))))]
#[case(Control::KeyResponse(Err(4)))]
#[case(Control::Handshake(Box::new(conclusion(vec![
    Extension::Latency { response: false, version: 0x0001_0500, flags: flags::ALL, receive_ms: 120, send_ms: 250 },
    Extension::KeyRequest(material(1, 16)),
    Extension::stream_id("publish/summit"),
]))))]
#[case(Control::Handshake(Box::new(Handshake { kind: HandshakeKind::Rejection(1404), ..conclusion(Vec::new()) })))]
fn control_packets_survive_the_round_trip(#[case] control: Control) {
    assert_eq!(read(&control), control);
}

#[rstest]
#[case("", 0)]
#[case("abc", 4)]
#[case("abcd", 4)]
#[case("#!::r=summit,m=publish", 24)]
fn stream_ids_are_little_endian_words(#[case] text: &str, #[case] length: usize) {
    let Extension::StreamId(words) = Extension::stream_id(text) else { panic!() };
    assert_eq!(words.len(), length);
    assert_eq!(stream_id_text(&words), text);
    if text.len() >= 4 {
        let reversed: Vec<u8> = text.bytes().take(4).rev().collect();
        assert_eq!(words[..4], reversed[..]);
    }
}

#[test]
fn a_data_packet_carries_its_flags() {
    let data = Data {
        sequence: 5,
        message: 6,
        encryption: Encryption::With(Slot::Odd),
        retransmitted: true,
        payload: Bytes::from_static(b"payload"),
    };
    let mut out = BytesMut::new();
    data.put(1, 2, &mut out);
    assert_eq!(out[..8], [0, 0, 0, 5, 0b1101_0100, 0, 0, 6]);
    assert_eq!(Packet::read(out.freeze()).unwrap().body, PacketBody::Data(data));
}

#[test]
fn debug_output_has_neither_stream_id_nor_keys() {
    let text = format!(
        "{:?}",
        conclusion(vec![Extension::stream_id("planted-secret"), Extension::KeyRequest(material(1, 16))])
    );
    assert!(!text.contains("planted") && !text.contains("9, 9"), "{text}");
}

#[rstest]
#[case::short(&[0x80; 15])]
#[case::unknown_type(&[0x90, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0])]
#[case::both_keys(&[0, 0, 0, 1, 0xd8, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0])]
fn invalid_packets_are_refused(#[case] datagram: &'static [u8]) {
    assert!(Packet::read(Bytes::from_static(datagram)).is_err());
}

proptest! {
    #[test]
    fn any_bytes_are_parsed_or_refused(data: Vec<u8>, kind in 0_u8..10) {
        let _ = Packet::read(Bytes::from(data.clone()));
        let head = [0x80, kind, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0, 0];
        let _ = Packet::read(Bytes::from([&head[..], &data].concat()));
        let _ = (KeyMaterial::read(&data), Handshake::read(&data));
    }
}
