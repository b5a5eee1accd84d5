//! A pull from a camera over a simulated network, within the connection and by datagrams. A failing run prints its seed.

#![expect(clippy::unwrap_used, clippy::panic, reason = "a test ends where something unexpected happens")]

use std::collections::VecDeque;
use std::convert::Infallible;
use std::time::Duration;

use bytes::{BufMut as _, Bytes, BytesMut};
use rstest::rstest;
use yonder_media::{Payload, Track};
use yonder_protocol::simulation::{Line, Network, StreamAndDatagrams};
use yonder_protocol::{Core, DatagramCore, End, Outbox, Side, StreamCore};
use yonder_rtsp::message::{Headers, Item, Request, Response, next_item};
use yonder_rtsp::{
    CameraUrl, Channel, ClientConfig, DatagramPath, Pull, PullError, PullEvent, RtpAccessUnit, Step,
    Transport,
};

const SDP: &str = "v=0\r\nm=video 0 RTP/AVP 96\r\na=rtpmap:96 H264/90000\r\n\
    a=fmtp:96 packetization-mode=1;sprop-parameter-sets=Z0IAHtoCgPZA,aM48gA==\r\na=control:v\r\n";
const FRAME_INTERVAL: Duration = Duration::from_millis(40);
const FRAME_TICKS: u32 = 3_600;
/// Length of the slice of a packet, in bytes.
const SLICE: usize = 700;
/// Packets of a picture.
const SLICES: usize = 3;
const SSRC: u32 = 5;

/// A camera that answers every request and then sends a picture every 40 ms: a keyframe, and slices that refer to it.
struct Camera {
    outbox: Outbox,
    datagrams: VecDeque<(DatagramPath, Bytes)>,
    by_datagrams: bool,
    next_picture: Option<Duration>,
    pictures: u32,
    sequence: u16,
    /// The camera stops answering, and continues to send.
    is_mute: bool,
    methods: Vec<String>,
}

impl Camera {
    fn new() -> Self {
        Self {
            outbox: Outbox::default(),
            datagrams: VecDeque::new(),
            by_datagrams: false,
            next_picture: None,
            pictures: 0,
            sequence: 65_000,
            is_mute: false,
            methods: Vec::new(),
        }
    }

    fn answer(&mut self, request: &Request, now: Duration) {
        self.methods.push(request.method.clone());
        if self.is_mute {
            return;
        }
        let mut headers = Headers::default();
        headers.push("CSeq", request.headers.get("CSeq").unwrap());
        headers.push("Session", "s;timeout=10");
        let mut body = Bytes::new();
        match request.method.as_str() {
            "DESCRIBE" => body = Bytes::from_static(SDP.as_bytes()),
            "SETUP" => {
                let transport = request.headers.get("Transport").unwrap().to_owned();
                self.by_datagrams = transport.contains("client_port");
                let ports = if self.by_datagrams { ";server_port=6000-6001" } else { "" };
                headers.push("Transport", format!("{transport}{ports}"));
            }
            "PLAY" => self.next_picture = Some(now),
            "TEARDOWN" => self.next_picture = None,
            _ => {}
        }
        let reply = Response { status: 200, reason: "OK".into(), headers, body };
        self.outbox.push(reply.encode());
    }

    fn send_picture(&mut self) {
        for slice in 0..SLICES {
            let is_last = slice + 1 == SLICES;
            let mut packet = BytesMut::from(&[0x80, u8::from(is_last) << 7 | 96][..]);
            packet.put_u16(self.sequence);
            packet.put_u32(self.pictures.wrapping_mul(FRAME_TICKS));
            packet.put_u32(SSRC);
            packet.put_slice(&nal(self.pictures, slice));
            self.sequence = self.sequence.wrapping_add(1);
            if self.by_datagrams {
                let path = DatagramPath { track: 0, channel: Channel::Media };
                self.datagrams.push_back((path, packet.freeze()));
            } else {
                let mut frame = BytesMut::from(&[b'$', 0][..]);
                frame.put_u16(u16::try_from(packet.len()).unwrap());
                frame.put_slice(&packet);
                self.outbox.push(frame.freeze());
            }
        }
        self.pictures += 1;
    }
}

/// Returns a slice filled with the number of its frame. Every tenth frame is a keyframe.
fn nal(picture: u32, slice: usize) -> Vec<u8> {
    // `first_mb_in_slice` is zero in the first slice alone.
    let first = if slice == 0 { 0x88 } else { 0x40 };
    let kind = if picture.is_multiple_of(10) { 0x65 } else { 0x41 };
    [kind, first].into_iter().chain(picture.to_be_bytes().into_iter().cycle().take(SLICE)).collect()
}

impl Core for Camera {
    type Event = Infallible;
    type Why = Infallible;

    fn handle_timeout(&mut self, now: Duration) {
        while let Some(at) = self.next_picture.filter(|at| *at <= now) {
            self.next_picture = Some(at + FRAME_INTERVAL);
            self.send_picture();
        }
    }

    fn poll_timeout(&self) -> Option<Duration> {
        self.next_picture
    }

    fn poll_event(&mut self) -> Option<Infallible> {
        None
    }

    fn end(&self) -> Option<&End<Infallible>> {
        None
    }
}

impl StreamCore for Camera {
    fn handle_input(&mut self, input: &[u8], now: Duration) -> usize {
        let mut rest = input;
        while let Some(item) = next_item(&mut rest).unwrap() {
            if let Item::Request(request) = item {
                self.answer(&request, now);
            }
        }
        input.len() - rest.len()
    }

    fn poll_transmit(&mut self, _now: Duration, _horizon: Duration, out: &mut Outbox) -> Option<usize> {
        (!self.outbox.is_empty()).then(|| out.append(&mut self.outbox))
    }
}

impl DatagramCore for Camera {
    type Path = DatagramPath;

    fn handle_datagram(&mut self, _path: DatagramPath, _datagram: Bytes, _now: Duration) {}

    fn poll_datagram(
        &mut self,
        _now: Duration,
        _horizon: Duration,
        out: &mut BytesMut,
    ) -> Option<(DatagramPath, usize)> {
        let (path, datagram) = self.datagrams.pop_front()?;
        out.extend_from_slice(&datagram);
        Some((path, datagram.len()))
    }
}

struct Viewing {
    network: Network<StreamAndDatagrams<Pull>, StreamAndDatagrams<Camera>>,
    steps: Vec<Step>,
    pictures: Vec<RtpAccessUnit>,
}

impl Viewing {
    fn new(transport: Transport, line: Line, seed: u64) -> Self {
        let (url, credentials) = CameraUrl::parse("rtsp://192.0.2.7/main").unwrap();
        let config = ClientConfig { url, credentials, requires_digest: false, transport, seed };
        let mut pull = Pull::new(config);
        pull.start(Duration::ZERO);
        let (local, peer) = (StreamAndDatagrams::new(pull), StreamAndDatagrams::new(Camera::new()));
        Self { network: Network::new(local, peer, line, seed), steps: Vec::new(), pictures: Vec::new() }
    }

    fn run(&mut self, span: Duration) {
        let until = self.network.now + span;
        self.network.run_until(until, |pull, _camera, _now| {
            while let Some(event) = pull.core.poll_event() {
                match event {
                    PullEvent::Step(step) => self.steps.push(step),
                    PullEvent::Unit(unit) if unit.track == Track::Video => self.pictures.push(unit),
                    _ => {}
                }
            }
        });
    }

    fn end(&self) -> Option<&End<PullError>> {
        self.network.local.core.end()
    }

    /// Checks that each picture is complete, and returns their numbers.
    fn numbers(&self) -> Vec<u32> {
        let complete = |unit: &RtpAccessUnit| {
            let number = unit.rtp_time / FRAME_TICKS;
            let Payload::Nals(nals) = &unit.payload else { panic!("{unit:?}") };
            let sent: Vec<Vec<u8>> = (0..SLICES).map(|slice| nal(number, slice)).collect();
            assert!(*nals == sent, "picture {number} is not complete");
            number
        };
        self.pictures.iter().map(complete).collect()
    }
}

#[rstest]
fn every_picture_arrives_within_the_connection_over_a_lossy_line(#[values(1, 2, 3, 4, 5)] seed: u64) {
    let line = Line { loss: 3, jitter: Duration::from_millis(30), max_segment: 200, ..Line::default() };
    let mut viewing = Viewing::new(Transport::Interleaved, line, seed);
    viewing.run(Duration::from_secs(60));
    assert_eq!(viewing.steps.last(), Some(&Step::Playing), "seed {seed}");
    let numbers = viewing.numbers();
    assert!(numbers.len() > 1_000, "seed {seed}: {} pictures", numbers.len());
    assert_eq!(numbers, (0..).take(numbers.len()).collect::<Vec<_>>(), "seed {seed}");
    // Sessions of ten seconds are kept alive.
    let camera = &viewing.network.peer.core;
    let keep_alives = camera.methods.iter().filter(|method| *method == "GET_PARAMETER").count();
    assert!(keep_alives >= 9, "seed {seed}: {:?}", camera.methods);
    assert_eq!(viewing.end(), None);
}

#[rstest]
fn reordered_and_duplicate_datagrams_cost_at_most_the_first_frame(#[values(1, 2, 3, 4, 5)] seed: u64) {
    let line = Line { reorder: 10, repeat: 5, jitter: Duration::from_millis(5), ..Line::default() };
    let mut viewing = Viewing::new(Transport::Datagrams(vec![(5_000, 5_001)]), line, seed);
    viewing.run(Duration::from_secs(60));
    let numbers = viewing.numbers();
    assert!(numbers.len() > 1_400, "seed {seed}: {} pictures", numbers.len());
    // The first packet of all may be overtaken: then its picture, and those that refer to it, are not shown.
    let first = numbers[0];
    assert!(first == 0 || first == 10, "seed {seed}: {first}");
    assert_eq!(numbers, (first..).take(numbers.len()).collect::<Vec<_>>(), "seed {seed}");
    let stats = viewing.network.local.core.stats().next().unwrap();
    assert!(stats.order.reordered > 50 && stats.order.repeated > 50, "seed {seed}: {stats:?}");
    assert_eq!(stats.reception.lost, 0, "seed {seed}");
}

#[rstest]
fn a_lost_datagram_costs_pictures_up_to_the_next_keyframe_and_no_more(#[values(1, 2, 3, 4, 5)] seed: u64) {
    let line = Line { loss: 1, ..Line::default() };
    let mut viewing = Viewing::new(Transport::Datagrams(vec![(5_000, 5_001)]), line, seed);
    viewing.run(Duration::from_secs(60));
    let numbers = viewing.numbers();
    // Pictures that refer to a missing one are missing as well.
    for pair in numbers.windows(2) {
        let (&[before, after], gap) = (pair.first_chunk::<2>().unwrap(), pair[1] - pair[0]);
        assert!(gap == 1 || after.is_multiple_of(10), "seed {seed}: {before}, {after}");
    }
    let stats = viewing.network.local.core.stats().next().unwrap();
    assert!(stats.reception.lost > 10 && stats.units_dropped > 10, "seed {seed}: {stats:?}");
    assert!(numbers.len() > 700, "seed {seed}: {} pictures", numbers.len());
}

#[test]
fn camera_that_sends_but_does_not_respond_is_still_pulled() {
    let mut viewing = Viewing::new(Transport::Interleaved, Line::default(), 1);
    viewing.run(Duration::from_secs(2));
    viewing.network.peer.core.is_mute = true;
    viewing.run(Duration::from_secs(60));
    assert_eq!(viewing.end(), None);
    assert!(viewing.numbers().len() > 1_500);
}

#[test]
fn line_cut_during_the_dialogue_times_out() {
    let mut viewing = Viewing::new(Transport::Interleaved, Line::default(), 1);
    viewing.network.to_local.is_cut = true;
    viewing.run(Duration::from_secs(20));
    let Some(End { by: Side::Local, why: PullError::NoAnswer(_) }) = viewing.end() else {
        panic!("{:?}", viewing.end())
    };
}

#[test]
fn an_orderly_end_reaches_the_camera_and_is_final() {
    let mut viewing = Viewing::new(Transport::Interleaved, Line::default(), 1);
    viewing.run(Duration::from_secs(2));
    let now = viewing.network.now;
    viewing.network.local.core.close(now);
    viewing.run(Duration::from_secs(2));
    assert_eq!(viewing.end(), Some(&End::local(PullError::Closed)));
    assert_eq!(viewing.network.peer.core.methods.last().map(String::as_str), Some("TEARDOWN"));
    let received = viewing.pictures.len();
    viewing.run(Duration::from_secs(2));
    assert_eq!(viewing.pictures.len(), received);
}
