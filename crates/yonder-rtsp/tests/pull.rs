//! A pull from the dialogue to units, against a camera written out by hand.

#![expect(clippy::unwrap_used, reason = "a test ends where something unexpected happens")]

use std::time::Duration;

use bytes::{BufMut as _, Bytes, BytesMut};
use proptest::prelude::*;
use yonder_media::{AudioConfig, Payload, Track};
use yonder_protocol::{Core as _, DatagramCore as _, End, Outbox, StreamCore as _, deliver};
use yonder_rtsp::message::{Headers, Item, Response, next_item};
use yonder_rtsp::{
    CameraUrl, Channel, Client, ClientConfig, DatagramPath, Pull, PullError, PullEvent, RtpAccessUnit,
    Transport,
};

/// Baseline 640x480 in Base64, and a picture parameter set.
const SDP: &str = "v=0\r\nm=video 0 RTP/AVP 96\r\na=rtpmap:96 H264/90000\r\n\
    a=fmtp:96 packetization-mode=1;sprop-parameter-sets=Z0IAHtoCgPZA,aM48gA==,\r\na=control:v\r\n\
    m=audio 0 RTP/AVP 97\r\na=rtpmap:97 MPEG4-GENERIC/48000/2\r\na=fmtp:97 config=1190\r\na=control:a\r\n";
/// High, 1920x1080.
const OTHER_SPS: &[u8] = &[
    0x67, 0x64, 0x00, 0x28, 0xac, 0xd9, 0x40, 0x78, 0x02, 0x27, 0xe5, 0xc0, 0x44, 0x00, 0x00, 0x03, 0x00,
    0x04, 0x00, 0x00, 0x03, 0x00, 0xc8, 0x3c, 0x60, 0xc6, 0x58,
];
const PPS: &[u8] = &[0x68, 0xce, 0x3c, 0x80];

fn config() -> ClientConfig {
    let (url, credentials) = CameraUrl::parse("rtsp://192.0.2.7/main").unwrap();
    ClientConfig {
        url,
        credentials,
        requires_digest: false,
        transport: Transport::Interleaved,
        seed: 0x0102_0304_0506_0708,
    }
}

/// Path of the first track's datagrams.
fn path(channel: Channel) -> DatagramPath {
    DatagramPath { track: 0, channel }
}

struct Camera {
    pull: Pull,
    now: Duration,
    sent: Vec<Bytes>,
    events: Vec<PullEvent>,
    sequence: u16,
}

impl Camera {
    /// A camera whose dialogue has come to PLAY.
    fn playing() -> Self {
        Self::set_up(&config())
    }

    fn set_up(config: &ClientConfig) -> Self {
        let mut camera = Self {
            pull: Pull::new(config.clone()),
            now: Duration::ZERO,
            sent: Vec::new(),
            events: Vec::new(),
            sequence: 9,
        };
        camera.pull.start(camera.now);
        for body in ["", SDP, "", "", ""] {
            camera.drain();
            camera.reply(body);
        }
        camera.events.clear();
        camera
    }

    fn drain(&mut self) {
        let mut out = Outbox::default();
        while self.pull.poll_transmit(self.now, self.now, &mut out).is_some() {
            self.sent.push(out.take_all().into());
        }
        self.events.extend(std::iter::from_fn(|| self.pull.poll_event()));
    }

    fn reply(&mut self, body: &str) {
        let Ok(Some(Item::Request(request))) = next_item(&mut &self.sent.last().unwrap()[..]) else {
            panic!("the last thing sent is no request")
        };
        let mut headers = Headers::default();
        headers.push("CSeq", request.headers.get("CSeq").unwrap());
        headers.push("Session", "s;timeout=60");
        let reply = Response {
            status: 200,
            reason: "OK".into(),
            headers,
            body: Bytes::copy_from_slice(body.as_bytes()),
        };
        self.deliver(&reply.encode()).unwrap();
    }

    fn deliver(&mut self, bytes: &[u8]) -> Result<(), PullError> {
        let result = deliver(&mut self.pull, &mut BytesMut::from(bytes), self.now);
        self.drain();
        result
    }

    fn frame(&mut self, channel: u8, packet: &[u8]) -> Result<(), PullError> {
        let mut frame = BytesMut::from(&[b'$', channel][..]);
        frame.put_u16(u16::try_from(packet.len()).unwrap());
        frame.put_slice(packet);
        self.deliver(&frame)
    }

    /// A whole picture in one packet of source `ssrc`.
    fn picture(&mut self, ssrc: u32, time: u32, nal: &[u8], marker: bool) {
        let mut packet = BytesMut::from(&[0x80, u8::from(marker) << 7 | 96][..]);
        packet.put_u16(self.sequence);
        packet.put_u32(time);
        packet.put_u32(ssrc);
        packet.put_slice(nal);
        self.sequence = self.sequence.wrapping_add(1);
        self.frame(0, &packet).unwrap();
    }

    fn units(&self) -> Vec<&RtpAccessUnit> {
        self.events
            .iter()
            .filter_map(|event| if let PullEvent::Unit(unit) = event { Some(unit) } else { None })
            .collect()
    }
}

fn sender_report(ssrc: u32, ntp: u64, rtp: u32) -> Vec<u8> {
    let mut packet = BytesMut::from(&[0x80, 200, 0, 6][..]);
    packet.put_u32(ssrc);
    packet.put_u64(ntp);
    packet.put_u32(rtp);
    packet.put_u64(0);
    packet.to_vec()
}

#[test]
fn description_yields_tracks_and_headers_before_the_first_frame() {
    let mut camera = Camera {
        pull: Pull::new(config()),
        now: Duration::ZERO,
        sent: Vec::new(),
        events: Vec::new(),
        sequence: 0,
    };
    camera.pull.start(camera.now);
    for body in ["", SDP, "", ""] {
        camera.drain();
        camera.reply(body);
    }
    let tracks = camera.events.iter().find_map(|event| match event {
        PullEvent::Tracks(tracks) => Some(tracks.iter().map(|t| (t.track, t.clock_rate)).collect::<Vec<_>>()),
        _ => None,
    });
    assert_eq!(tracks, Some(vec![(Track::Video, 90_000), (Track::Audio, 48_000)]));
    let headers = camera.events.iter().find_map(|event| match event {
        PullEvent::Headers(headers) => Some(headers),
        _ => None,
    });
    let headers = headers.unwrap();
    assert_eq!(headers.video.as_ref().map(|v| (v.facts().width, v.facts().height)), Some((640, 480)));
    assert_eq!(headers.audio.as_ref().map(AudioConfig::channels), Some(2));
}

#[test]
fn pictures_and_sound_become_units() {
    let mut camera = Camera::playing();
    camera.picture(5, 1_000, &[0x65, 0x88, 1], true);
    camera.picture(5, 4_600, &[0x41, 0x9a, 1], true);
    let mut audio = BytesMut::from(&[0x80, 0x80 | 97, 0, 1][..]);
    audio.put_u32(48);
    audio.put_u32(6);
    audio.put_slice(&[0, 16, 0, 3 << 3, 7, 8, 9]);
    camera.frame(2, &audio).unwrap();
    let units = camera.units();
    assert_eq!((units[0].track, units[0].rtp_time, units[0].keyframe), (Track::Video, 1_000, true));
    assert_eq!(units[2].payload, Payload::Frame(Bytes::from_static(&[7, 8, 9])));
}

#[test]
fn invalid_packets_and_other_payload_types_are_ignored() {
    let mut camera = Camera::playing();
    camera.frame(0, &[0x80, 99, 0, 1, 0, 0, 0, 1, 0, 0, 0, 5, 0x65]).unwrap();
    camera.frame(0, &[1, 2, 3]).unwrap();
    camera.frame(7, &[1, 2, 3]).unwrap();
    assert!(camera.events.is_empty());
}

#[test]
fn new_parameter_sets_in_band_are_new_headers_before_their_picture() {
    let mut camera = Camera::playing();
    camera.picture(5, 0, &[0x65, 0x88, 1], true);
    camera.picture(5, 3_600, OTHER_SPS, false);
    camera.picture(5, 3_600, PPS, false);
    camera.picture(5, 3_600, &[0x65, 0x88, 2], true);
    let at = |wanted: fn(&PullEvent) -> bool| camera.events.iter().rposition(wanted).unwrap();
    let (headers, unit) =
        (at(|e| matches!(e, PullEvent::Headers(_))), at(|e| matches!(e, PullEvent::Unit(_))));
    assert!(headers < unit);
    let PullEvent::Headers(headers) = &camera.events[headers] else { panic!() };
    assert_eq!(headers.video.as_ref().map(|v| v.facts().height), Some(1080));
}

#[test]
fn loss_is_counted_and_spoils_pictures_up_to_the_next_keyframe() {
    let mut camera = Camera::playing();
    camera.picture(5, 0, &[0x65, 0x88, 1], true);
    camera.picture(5, 1_800, &[0x41, 0x9a, 1], true);
    camera.sequence += 3;
    camera.picture(5, 3_600, &[0x41, 0x9a, 1], true);
    camera.picture(5, 7_200, &[0x65, 0x88, 1], true);
    assert_eq!(camera.units().iter().map(|unit| unit.rtp_time).collect::<Vec<_>>(), vec![0, 1_800, 7_200]);
    let video = camera.pull.stats().next().unwrap();
    assert_eq!((video.reception.lost, video.reception.received, video.units_dropped), (3, 4, 1));
}

#[test]
fn restart_of_the_camera_is_reported_and_begins_with_a_keyframe() {
    let mut camera = Camera::playing();
    camera.picture(5, 1_000_000, &[0x65, 0x88, 1], true);
    camera.picture(5, 1_003_600, &[0x41, 0x9a, 1], true);
    camera.picture(6, 77, &[0x41, 0x9a, 1], true);
    camera.picture(6, 3_677, &[0x65, 0x88, 1], true);
    assert!(camera.events.contains(&PullEvent::Restarted(Track::Video)));
    assert_eq!(camera.units().last().map(|unit| unit.rtp_time), Some(3_677));
    assert_eq!(camera.units().len(), 3);
}

#[test]
fn sender_reports_are_passed_on_and_answered_with_receiver_reports() {
    let mut camera = Camera::playing();
    camera.picture(5, 0, &[0x65, 0x88, 1], true);
    camera.frame(1, &sender_report(5, 0xaaaa_bbbb_cccc_dddd, 90)).unwrap();
    assert!(camera.events.contains(&PullEvent::SenderReport {
        track: Track::Video,
        ntp: 0xaaaa_bbbb_cccc_dddd,
        rtp: 90
    }));
    camera.sent.clear();
    camera.now = Duration::from_secs(5);
    camera.pull.handle_timeout(camera.now);
    camera.drain();
    let report = camera.sent.first().unwrap();
    assert_eq!(report[..2], [b'$', 1]);
    // Our source from the seed, and the middle of the NTP time behind its report block.
    assert_eq!(report[8..12], [5, 6, 7, 8]);
    assert_eq!(report[28..32], [0xbb, 0xbb, 0xcc, 0xcc]);
}

#[test]
fn bye_ends_the_pull_after_earlier_packets() {
    let mut camera = Camera::playing();
    camera.picture(5, 0, &[0x65, 0x88, 1], true);
    camera.picture(5, 3_600, &[0x41, 0x9a, 1], true);
    assert_eq!(camera.frame(1, &[0x81, 203, 0, 1, 0, 0, 0, 99]), Ok(()), "somebody else's goodbye");
    assert_eq!(camera.frame(1, &[0x81, 203, 0, 1, 0, 0, 0, 5]), Err(PullError::ClosedByCamera));
    assert_eq!(camera.units().len(), 2);
}

#[test]
fn datagrams_are_reordered_and_nat_bindings_opened() {
    let transport = Transport::Datagrams(vec![(5_000, 5_001), (5_002, 5_003)]);
    let mut camera = Camera::set_up(&ClientConfig { transport, ..config() });
    let (mut out, now) = (BytesMut::new(), camera.now);
    let opened = std::iter::from_fn(|| camera.pull.poll_datagram(now, now, &mut out));
    let towards: Vec<(usize, Channel)> = opened.map(|(path, _)| (path.track, path.channel)).collect();
    let both = [Channel::Control, Channel::Media];
    assert_eq!(
        towards,
        [0, 1].iter().flat_map(|track| both.map(|channel| (*track, channel))).collect::<Vec<_>>()
    );
    for (sequence, time, nal) in [(9, 0, 0x65), (11, 7_200, 0x41), (10, 3_600, 0x41), (12, 10_800, 0x41)] {
        let mut packet = BytesMut::from(&[0x80, 0x80 | 96][..]);
        packet.put_u16(sequence);
        packet.put_u32(time);
        packet.put_u32(5);
        packet.put_slice(&[nal, 0x9a, 1]);
        camera.pull.handle_datagram(path(Channel::Media), packet.freeze(), camera.now);
    }
    camera.drain();
    assert_eq!(
        camera.units().iter().map(|unit| unit.rtp_time).collect::<Vec<_>>(),
        vec![0, 3_600, 7_200, 10_800]
    );
    let video = camera.pull.stats().next().unwrap();
    assert_eq!((video.order.reordered, video.reception.lost), (1, 0));
    let goodbye = Bytes::from_static(&[0x81, 203, 0, 1, 0, 0, 0, 5]);
    camera.pull.handle_datagram(path(Channel::Control), goodbye, camera.now);
    assert_eq!(camera.pull.end(), Some(&End::peer(PullError::ClosedByCamera)));
}

#[test]
fn a_missing_datagram_is_waited_for_and_then_counted() {
    let transport = Transport::Datagrams(vec![(5_000, 5_001)]);
    let mut camera = Camera::set_up(&ClientConfig { transport, ..config() });
    for sequence in [9_u16, 11] {
        let mut packet = BytesMut::from(&[0x80, 0x80 | 96][..]);
        packet.put_u16(sequence);
        packet.put_u32(u32::from(sequence) * 3_600);
        packet.put_u32(5);
        packet.put_slice(&[0x65, 0x9a, 1]);
        camera.pull.handle_datagram(path(Channel::Media), packet.freeze(), camera.now);
    }
    let until = camera.pull.poll_timeout().unwrap();
    assert!(until <= Duration::from_millis(200), "{until:?}");
    camera.pull.handle_timeout(until);
    assert_eq!(camera.pull.stats().next().unwrap().reception.lost, 1);
}

proptest! {
    #[test]
    fn any_frames_in_a_session_are_handled(
        frames in prop::collection::vec((0_u8..5, prop::collection::vec(any::<u8>(), 0..60)), 0..40),
    ) {
        let mut camera = Camera::playing();
        for (channel, packet) in frames {
            if camera.frame(channel, &packet).is_err() {
                break;
            }
        }
    }

    #[test]
    fn any_bytes_at_any_step_are_handled(
        steps in 0_usize..5,
        bytes: Vec<u8>,
        text in "(RTSP/1.0 [0-9]{1,4} [A-Za-z ]{0,9}\r\n([A-Za-z-]{1,16}: [ -~]{0,30}\r\n){0,6}\r\n)?",
    ) {
        let mut client = Client::new(config());
        client.start(Duration::ZERO);
        let mut last = BytesMut::new();
        for _ in 0..steps {
            while let Some(sent) = client.poll_transmit() {
                last = BytesMut::from(&sent[..]);
            }
            let Ok(Some(Item::Request(request))) = next_item(&mut &last[..]) else { break };
            let reply = format!(
                "RTSP/1.0 200 OK\r\nCSeq: {}\r\nSession: s\r\nContent-Length: {}\r\n\r\n{SDP}",
                request.headers.get("CSeq").unwrap_or_default(),
                SDP.len(),
            );
            prop_assert!(client.handle_input(&mut reply.as_bytes(), Duration::ZERO).is_ok());
        }
        let mut input = BytesMut::from(text.as_bytes());
        input.extend_from_slice(&bytes);
        let _ = client.handle_input(&mut &input[..], Duration::ZERO);
        client.close(Duration::ZERO);
    }
}

#[test]
fn undescribed_payload_type_from_the_beginning_is_accepted() {
    let mut camera = Camera::playing();
    // Each packet is a keyframe of one slice.
    for sequence in 0..40_u8 {
        let time = [0, 0, 0, sequence];
        let head = [0x80, 0x80 | 99, 0, sequence, time[0], time[1], time[2], time[3], 0, 0, 0, 5];
        camera.frame(0, &[&head[..], &[0x65, 0x88, sequence]].concat()).unwrap();
    }
    let pictures = camera.events.iter().filter(|event| matches!(event, PullEvent::Unit(_))).count();
    assert!((38..=40).contains(&pictures), "{pictures}");
    let stats = camera.pull.stats().next().unwrap();
    assert_eq!(stats.drops.other_payload_type, 40);
    // The described one replaces it.
    camera.picture(5, 90_000, &[0x65, 0x88, 1], true);
    camera.picture(5, 93_600, &[0x65, 0x88, 1], true);
    camera.frame(0, &[0x80, 0x80 | 99, 0, 90, 0, 0, 0, 1, 0, 0, 0, 5, 0x65]).unwrap();
    assert_eq!(camera.pull.stats().next().unwrap().drops.other_payload_type, 41);
}

#[test]
fn a_packet_of_another_payload_type_among_others_changes_nothing() {
    let mut camera = Camera::playing();
    camera.picture(5, 0, &[0x65, 0x88, 1], true);
    for sequence in 0..40_u8 {
        camera.frame(0, &[0x80, 99, 0, sequence, 0, 0, 0, 1, 0, 0, 0, 9, 0x65, 0x88]).unwrap();
    }
    camera.picture(5, 3_600, &[0x41, 0x9a, 1], true);
    let pictures = camera.events.iter().filter(|event| matches!(event, PullEvent::Unit(_))).count();
    assert_eq!(pictures, 2);
    assert_eq!(camera.pull.stats().next().unwrap().drops.other_payload_type, 40);
}

#[test]
fn payload_type_that_changes_in_mid_stream_is_followed_and_is_no_loss() {
    let mut camera = Camera::playing();
    camera.picture(5, 0, &[0x65, 0x88, 1], true);
    let first = camera.sequence;
    for number in 0..60_u8 {
        let [high, low] = (first.wrapping_add(u16::from(number))).to_be_bytes();
        let head = [0x80, 0x80 | 99, high, low, 0, 0, 16, number, 0, 0, 0, 5];
        camera.frame(0, &[&head[..], &[0x65, 0x88, number]].concat()).unwrap();
    }
    let pictures = camera.events.iter().filter(|event| matches!(event, PullEvent::Unit(_))).count();
    assert!((40..=46).contains(&pictures), "{pictures}");
    let stats = camera.pull.stats().next().unwrap();
    assert_eq!((stats.reception.lost, stats.drops.other_payload_type), (0, 60));
}
