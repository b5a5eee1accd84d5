//! Entry points for data from platforms, and from clients of our receivers.

use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

use bytes::{Bytes, BytesMut};
use yonder_address::{KeyLength, Passphrase, RtmpServer, StreamKey, read_pasted, read_server};
use yonder_ingest::{RtmpUnits, TsUnits};
use yonder_media::flv;
use yonder_media::ts::{Demuxer, Muxer, TsEvent};
use yonder_media::{AccessUnit, AudioConfig, ParameterSets, Payload, StreamHeaders, Track, VideoCodec};
use yonder_protocol::{Core as _, DatagramCore as _, StreamCore as _, deliver, take_transmit};
use yonder_rtmp::amf0::Value;
use yonder_rtmp::{MeasuredRates, Publisher, PublisherConfig, Receiver, ReceiverEvent};
use yonder_srt::{
    Caller, CallerConfig, Connection, Entropy, KeyRefresh, Listener, ListenerConfig, ListenerEvent,
    Rejection, RequiredPassphrase,
};

const T0: Duration = Duration::ZERO;
const FROM: SocketAddr = SocketAddr::new(IpAddr::V4(std::net::Ipv4Addr::new(192, 0, 2, 7)), 40_000);

pub(super) fn amf0(data: &[u8]) {
    let _ = Value::decode_all(Bytes::copy_from_slice(data));
}

fn publisher() -> Publisher {
    let server = RtmpServer {
        tls: false,
        host: "ingest.example.net".into(),
        port: 1935,
        has_port: false,
        app: "live".into(),
    };
    let mut publisher =
        Publisher::new(PublisherConfig { server, key: StreamKey::from_stored("a-key".into()), seed: 1 });
    publisher.start(T0);
    publisher
}

/// Returns a publisher and a receiver after their handshake, and the receiver's output.
fn greeted() -> (Publisher, Receiver, Vec<u8>) {
    let (mut publisher, mut receiver) = (publisher(), Receiver::new(2));
    let mut said = Vec::new();
    for _ in 0..3 {
        receiver.handle_input(&take_transmit(&mut publisher, T0), T0);
        while let Some(event) = receiver.poll_event() {
            match event {
                ReceiverEvent::Connect { .. } => receiver.accept_connect(),
                ReceiverEvent::Publish { .. } => receiver.accept_publish(),
                _ => {}
            }
        }
        let back = take_transmit(&mut receiver, T0);
        said.extend_from_slice(&back);
        publisher.handle_input(&back, T0);
    }
    (publisher, receiver, said)
}

/// The first byte selects a valid handshake, and the segmentation of the input.
pub(super) fn rtmp_publisher(data: &[u8]) {
    let Some((&first, data)) = data.split_first() else { return };
    let mut publisher = if first & 1 == 0 { greeted().0 } else { publisher() };
    let mut buffer = BytesMut::new();
    for chunk in data.chunks(usize::from(first).max(5)) {
        buffer.extend_from_slice(chunk);
        if deliver(&mut publisher, &mut buffer, T0).is_err() {
            return;
        }
        while publisher.poll_event().is_some() {}
        take_transmit(&mut publisher, T0);
    }
    publisher.close();
}

pub(super) fn rtmp_receiver(data: &[u8]) {
    let Some((&first, data)) = data.split_first() else { return };
    let mut receiver = if first & 1 == 0 { greeted().1 } else { Receiver::new(3) };
    let mut buffer = BytesMut::new();
    for chunk in data.chunks(usize::from(first).max(5)) {
        buffer.extend_from_slice(chunk);
        if deliver(&mut receiver, &mut buffer, T0).is_err() {
            return;
        }
        while let Some(event) = receiver.poll_event() {
            match event {
                ReceiverEvent::Video { body, .. } => drop(flv::read_video(body)),
                ReceiverEvent::Audio { body, .. } => drop(flv::read_audio(body)),
                _ => {}
            }
        }
        take_transmit(&mut receiver, T0);
    }
}

fn entropy() -> Entropy {
    let mut next = 7_u8;
    Box::new(move |out| {
        out.iter_mut().for_each(|byte| {
            next = next.wrapping_mul(73).wrapping_add(41);
            *byte = next;
        });
    })
}

fn caller(encrypted: bool) -> Caller {
    let phrase = || Passphrase::from_stored("a passphrase of ours".into());
    let config = CallerConfig {
        stream_id: Some(StreamKey::from_stored("publish/summit".into())),
        encryption: encrypted.then(|| (phrase(), KeyLength::Aes128)),
        latency: Duration::from_millis(120),
        refresh: KeyRefresh::default(),
        address: FROM.ip(),
        induction_only: false,
        entropy: entropy(),
    };
    Caller::new(config, T0)
}

fn listener() -> Listener {
    let config = ListenerConfig {
        passphrase: RequiredPassphrase::None,
        key_length: KeyLength::Aes128,
        latency: Duration::from_millis(120),
        secret: 5,
    };
    Listener::new(config, T0)
}

/// Returns a connection, its ID, its caller, and every datagram of the handshake.
fn connected() -> Option<(u32, Connection, Caller, Vec<Vec<u8>>)> {
    let (mut caller, mut listener) = (caller(false), listener());
    let mut accepted = None;
    let mut said = Vec::new();
    for _ in 0..3 {
        let mut out = BytesMut::new();
        while caller.poll_datagram(T0, T0, &mut out).is_some() {
            let datagram = out.split().freeze();
            said.push(datagram.to_vec());
            listener.handle_datagram(FROM, datagram, T0);
        }
        while let Some(ListenerEvent::Request(request)) = listener.poll_event() {
            accepted = Some(listener.accept(*request, T0));
        }
        while listener.poll_datagram(T0, T0, &mut out).is_some() {
            let datagram = out.split().freeze();
            said.push(datagram.to_vec());
            caller.handle_datagram((), datagram, T0);
        }
    }
    accepted.map(|(number, connection)| (number, connection, caller, said))
}

/// Calls `each` with datagrams that have a length of two bytes before them, and a byte for destination and time.
fn datagrams(data: &[u8], mut each: impl FnMut(u8, &[u8])) {
    let mut rest = data;
    while let Some((&[how, high, low], after)) = rest.split_first_chunk::<3>() {
        let length = usize::from(u16::from_be_bytes([high, low])).min(after.len());
        let (datagram, after) = after.split_at(length);
        each(how, datagram);
        rest = after;
    }
}

pub(super) fn srt_handshake(data: &[u8]) {
    // Key derivation takes two thousand rounds by design, so most inputs are not encrypted.
    let encrypted = data.first().is_some_and(|first| first % 64 == 0);
    let (mut caller, mut listener) = (caller(encrypted), listener());
    let mut now = T0;
    let mut out = BytesMut::new();
    datagrams(data, |how, datagram| {
        now += Duration::from_millis(u64::from(how));
        let datagram = Bytes::copy_from_slice(datagram);
        if how & 1 == 0 {
            caller.handle_datagram((), datagram, now);
        } else {
            listener.handle_datagram(FROM, datagram, now);
        }
        while let Some(ListenerEvent::Request(request)) = listener.poll_event() {
            if how & 2 == 0 {
                drop(listener.accept(*request, now));
            } else {
                listener.reject(&request, Rejection::Forbidden, now);
            }
        }
        caller.handle_timeout(now);
        while caller.poll_datagram(now, now, &mut out).is_some() {
            out.clear();
        }
        while listener.poll_datagram(now, now, &mut out).is_some() {
            out.clear();
        }
    });
}

pub(super) fn srt_connection(data: &[u8]) {
    let Some((number, mut connection, mut caller, _)) = connected() else { return };
    let mut now = T0;
    let mut out = BytesMut::new();
    datagrams(data, |how, datagram| {
        now += Duration::from_millis(u64::from(how));
        let mut datagram = BytesMut::from(datagram);
        if how & 1 == 0 {
            // Addressed to the connection.
            if let Some(destination) = datagram.get_mut(12..16) {
                destination.copy_from_slice(&number.to_be_bytes());
            }
            connection.handle_datagram((), datagram.freeze(), now);
        } else {
            caller.send(Bytes::from_static(&[0x47; 188]), now);
            caller.handle_datagram((), datagram.freeze(), now);
        }
        connection.handle_timeout(now);
        caller.handle_timeout(now);
        while connection.poll_data(now).is_some() {}
        while connection.poll_datagram(now, now, &mut out).is_some() {
            caller.handle_datagram((), out.split().freeze(), now);
        }
        while caller.poll_datagram(now, now, &mut out).is_some() {
            out.clear();
        }
        let _ = (connection.poll_timeout(), connection.stats(), caller.stats());
    });
}

/// RTMP messages of an encoder, up to the media of its feed.
pub(super) fn ingest_rtmp(data: &[u8]) {
    let (mut receiver, mut units, mut made) = (greeted().1, RtmpUnits::default(), Vec::new());
    let mut buffer = BytesMut::new();
    for chunk in data.chunks(997) {
        buffer.extend_from_slice(chunk);
        if deliver(&mut receiver, &mut buffer, T0).is_err() {
            return;
        }
        while let Some(event) = receiver.poll_event() {
            match event {
                ReceiverEvent::Video { timestamp, body } => units.read_video(timestamp, body, &mut made),
                ReceiverEvent::Audio { timestamp, body } => units.read_audio(timestamp, body, &mut made),
                _ => {}
            }
        }
        made.clear();
        take_transmit(&mut receiver, T0);
    }
}

/// Transport stream of an encoder, up to the media of its feed. The first byte is the size of its pieces.
pub(super) fn ingest_srt(data: &[u8]) {
    let Some((&first, data)) = data.split_first() else { return };
    let (mut units, mut made) = (TsUnits::default(), Vec::new());
    for chunk in data.chunks(usize::from(first).max(1) * 7) {
        units.read(chunk, &mut made);
        made.clear();
    }
}

pub(super) fn transport_stream(data: &[u8]) {
    let mut demuxer = Demuxer::default();
    let mut input = BytesMut::new();
    for chunk in data.chunks(500) {
        input.extend_from_slice(chunk);
        demuxer.handle_input(&mut input);
        while let Some(event) = demuxer.poll_event() {
            if let TsEvent::VideoFrame { nals, .. } = event {
                let mut sets = ParameterSets::new(VideoCodec::H264);
                for nal in &nals {
                    let _ = sets.take(nal);
                }
            }
        }
    }
    demuxer.finish();
}

pub(super) fn pasted(data: &[u8]) {
    let text = String::from_utf8_lossy(data);
    let (server, key) = text.split_once('|').unwrap_or((&text, ""));
    let _ = (read_pasted(Some(server), Some(key)), read_server(server));
}

/// Returns valid input for an entry, made by our other side.
pub(crate) fn seeds(name: &str) -> Vec<Vec<u8>> {
    let framed = |how: u8, datagram: &[u8]| {
        let length = u16::try_from(datagram.len()).unwrap_or_default().to_be_bytes();
        [&[how], &length[..], datagram].concat()
    };
    match name {
        "amf0" => vec![
            b"\x02\x00\x07connect\x00\x3f\xf0\x00\x00\x00\x00\x00\x00\x03\x00\x03app\x02\x00\x04live\x00\x00\x09".to_vec(),
            b"\x08\x00\x00\x00\x01\x00\x05width\x00\x40\x94\x00\x00\x00\x00\x00\x00\x00\x00\x09\x0a\x00\x00\x00\x01\x05".to_vec(),
        ],
        "rtmp-publisher" => vec![[vec![1], greeted().2].concat()],
        "rtmp-receiver" | "ingest-rtmp" => {
            let (mut publisher, ..) = greeted();
            publisher.send_headers(&headers(), MeasuredRates::default(), 0);
            for unit in units() {
                publisher.send_body(&flv::Body::of_unit(&unit, &headers()), 40);
            }
            let sent = take_transmit(&mut publisher, T0);
            vec![if name == "ingest-rtmp" { sent } else { [vec![0], sent].concat() }]
        }
        "srt-handshake" => {
            let said = connected().map(|(.., said)| said).unwrap_or_default();
            let both = said.iter().enumerate().map(|(at, datagram)| framed(u8::from(at % 2 == 0), datagram));
            vec![both.collect::<Vec<_>>().concat()]
        }
        "srt-connection" => {
            let Some((_, _, mut caller, _)) = connected() else { return Vec::new() };
            let mut all = Vec::new();
            for at in 0..6 {
                caller.send(Bytes::from_static(&[0x47; 188]), Duration::from_millis(at));
            }
            let mut out = BytesMut::new();
            while caller.poll_datagram(Duration::from_millis(9), Duration::from_millis(9), &mut out).is_some() {
                all.extend(framed(2, &out.split()));
            }
            let control = |kind: u8, rest: &[u8]| {
                let head = [0x80, kind, 0, 0, 0, 0, 0, 1, 0, 0, 0, 9, 0, 0, 0, 0];
                framed(4, &[&head[..], rest].concat())
            };
            for (kind, rest) in [(2, &[0, 0, 0, 5][..]), (3, &[0x80, 0, 0, 1, 0, 0, 0, 4]), (7, &[0, 0, 0, 1, 0, 0, 0, 2])] {
                all.extend(control(kind, rest));
            }
            vec![all]
        }
        "transport-stream" | "ingest-srt" => {
            let mut muxer = Muxer::default();
            let stream = units().into_iter().flat_map(|unit| muxer.write(&unit, &headers()).bytes.to_vec());
            let size = (name == "ingest-srt").then_some(188);
            vec![size.into_iter().chain(stream).collect()]
        }
        "pasted" => vec![
            b"rtmp://ingest.example.net/live|abcd-1234-efgh".to_vec(),
            b"srt://192.0.2.9:8890?streamid=%23!::r={key}&latency=200&mode=caller|key".to_vec(),
            b" \"rtmps://[2001:db8::1]:443//live/key?a=b&c=d\"|".to_vec(),
        ],
        _ => Vec::new(),
    }
}

fn headers() -> StreamHeaders {
    let mut sets = ParameterSets::new(VideoCodec::H264);
    sets.take(&Bytes::from_static(&[0x67, 0x42, 0x00, 0x1e, 0xda, 0x02, 0x80, 0xf6, 0x40]));
    sets.take(&Bytes::from_static(&[0x68, 0xce, 0x38, 0x80]));
    StreamHeaders { video: sets.config(), audio: AudioConfig::aac(Bytes::from_static(&[0x11, 0x90])) }
}

fn units() -> Vec<AccessUnit> {
    let unit = |track, dts, payload| AccessUnit { track, dts, pts: dts, keyframe: dts == 0, payload };
    let nals = |first: u8| Payload::Nals(vec![Bytes::from(vec![first; 300])]);
    let frame = || Payload::Frame(Bytes::from(vec![0x21; 100]));
    vec![
        unit(Track::Video, 0, nals(0x65)),
        unit(Track::Audio, 0, frame()),
        unit(Track::Audio, 1_920, frame()),
        unit(Track::Video, 3_600, nals(0x41)),
        unit(Track::Audio, 3_840, frame()),
    ]
}
