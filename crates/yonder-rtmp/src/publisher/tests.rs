use super::*;
use crate::amf0::Value;
use crate::receiver::{Receiver, ReceiverEvent};
use bytes::BytesMut;
use rstest::rstest;
use secrecy::ExposeSecret as _;
use yonder_media::{AccessUnit, FrameRate, Payload};
use yonder_protocol::{deliver, take_transmit};

const T0: Duration = Duration::ZERO;

fn publisher() -> Publisher {
    let server = "rtmp://ingest.example.net/live".parse().unwrap();
    let key = StreamKey::from_stored("planted-secret-key".into());
    let mut publisher = Publisher::new(PublisherConfig { server, key, seed: 7 });
    publisher.start(T0);
    publisher
}

/// A publisher and a receiver with queues between them.
struct Pair {
    publisher: Publisher,
    receiver: Receiver,
    segment: usize,
    events: Vec<ReceiverEvent>,
}

impl Pair {
    fn new(segment: usize) -> Self {
        Self { publisher: publisher(), receiver: Receiver::new(9), segment, events: Vec::new() }
    }

    /// Carries bytes both ways until neither side has any.
    fn exchange(&mut self) -> Result<(), PushError> {
        loop {
            let up = take_transmit(&mut self.publisher, T0);
            let mut buffer = BytesMut::new();
            for part in up.chunks(self.segment) {
                buffer.extend_from_slice(part);
                deliver(&mut self.receiver, &mut buffer, T0).unwrap();
            }
            while let Some(event) = self.receiver.poll_event() {
                self.events.push(event);
            }
            let down = take_transmit(&mut self.receiver, T0);
            if up.is_empty() && down.is_empty() {
                return Ok(());
            }
            let mut buffer = BytesMut::new();
            for part in down.chunks(self.segment) {
                buffer.extend_from_slice(part);
                deliver(&mut self.publisher, &mut buffer, T0)?;
            }
        }
    }

    fn connect(&mut self) {
        self.exchange().unwrap();
        assert!(matches!(self.events.last(), Some(ReceiverEvent::Connect { app, .. }) if app == "live"));
        self.receiver.accept_connect();
        self.exchange().unwrap();
        let Some(ReceiverEvent::Publish { key }) = self.events.last() else { panic!("{:?}", self.events) };
        assert_eq!(key.expose_secret(), "planted-secret-key");
    }

    fn go_live(&mut self) {
        self.connect();
        self.receiver.accept_publish();
        self.exchange().unwrap();
        assert_eq!(self.publisher.step(), PushStep::Live);
    }
}

fn picture(bytes: usize) -> Body {
    let payload = Payload::Nals(vec![Bytes::from(vec![0x65; bytes])]);
    let unit = AccessUnit { track: Track::Video, dts: 0, pts: 0, keyframe: true, payload };
    Body::of_unit(&unit, &StreamHeaders::default())
}

#[rstest]
fn the_dialogue_leads_to_live_in_any_segmentation(#[values(1, 100, 1536, 1_000_000)] segment: usize) {
    let mut pair = Pair::new(segment);
    pair.go_live();
    let steps: Vec<PublisherEvent> = std::iter::from_fn(|| pair.publisher.poll_event()).collect();
    assert_eq!(
        steps,
        vec![
            PublisherEvent::HandshakeDone,
            PublisherEvent::Connected { announces_h265: false },
            PublisherEvent::Accepted
        ]
    );
    assert_eq!(pair.publisher.poll_timeout(), None);
}

#[test]
fn metadata_headers_and_bodies_arrive_in_order_and_whole() {
    let mut pair = Pair::new(1000);
    pair.go_live();
    pair.events.clear();
    let headers = StreamHeaders { video: Some(sample_video()), audio: None };
    pair.publisher.send_headers(&headers, MeasuredRates::default(), 0);
    pair.publisher.send_body(&picture(200_000), 40);
    pair.exchange().unwrap();
    let [
        ReceiverEvent::Metadata(data),
        ReceiverEvent::Video { body: first, .. },
        ReceiverEvent::Video { timestamp, body },
    ] = pair.events.as_slice()
    else {
        panic!("{:?}", pair.events.len())
    };
    assert_eq!(data.get("width"), Some(&Value::Number(640.0)));
    assert_eq!(first[..2], [0x17, 0]);
    assert_eq!((*timestamp, body.len()), (40, 200_009));
}

#[test]
fn measured_rates_are_in_the_metadata_once_known() {
    let sent_metadata = |rates| {
        let mut pair = Pair::new(1000);
        pair.go_live();
        pair.events.clear();
        let audio = yonder_media::AudioConfig::aac(Bytes::from_static(&[0x11, 0x90]));
        let headers = StreamHeaders { video: Some(sample_video()), audio };
        pair.publisher.send_headers(&headers, rates, 0);
        pair.exchange().unwrap();
        let Some(ReceiverEvent::Metadata(data)) = pair.events.first().cloned() else { panic!("no metadata") };
        data
    };
    let measured = MeasuredRates { fps: Some(12.5), video_kbps: Some(1_800.0), audio_kbps: Some(96.0) };
    let data = sent_metadata(measured);
    for (name, value) in [("framerate", 12.5), ("videodatarate", 1_800.0), ("audiodatarate", 96.0)] {
        assert_eq!(data.get(name), Some(&Value::Number(value)), "{name}");
    }
    assert_eq!(sent_metadata(MeasuredRates::default()).get("videodatarate"), None);
}

#[rstest]
#[case::nothing_measured(Some((25, 1)), None, Some(25.0))]
#[case::agrees(Some((25, 1)), Some(24.1), Some(25.0))]
#[case::fields_declared_as_frames(Some((50, 1)), Some(25.0), Some(25.0))]
#[case::half_declared(Some((25, 2)), Some(25.0), Some(25.0))]
#[case::nothing_declared(None, Some(12.5), Some(12.5))]
#[case::nothing_known(None, None, None)]
fn measured_frame_rate_replaces_a_wrong_one(
    #[case] declared: Option<(u32, u32)>,
    #[case] fps: Option<f64>,
    #[case] expected: Option<f64>,
) {
    let VideoConfig::H264(mut config) = sample_video() else { panic!("another codec") };
    config.facts.frame_rate = declared.map(|(frames, per)| FrameRate { frames, per });
    let headers = StreamHeaders { video: Some(VideoConfig::H264(config)), audio: None };
    let mut pair = Pair::new(1000);
    pair.go_live();
    pair.events.clear();
    pair.publisher.send_metadata(&headers, MeasuredRates { fps, ..MeasuredRates::default() }, 0);
    pair.exchange().unwrap();
    let [ReceiverEvent::Metadata(data)] = pair.events.as_slice() else { panic!("{:?}", pair.events) };
    assert_eq!(data.get("framerate").and_then(Value::as_number), expected);
}

fn events(publisher: &mut Publisher) -> Vec<PublisherEvent> {
    std::iter::from_fn(|| publisher.poll_event()).collect()
}

#[rstest]
#[case::nothing(&[], false)]
#[case::h265(&["av01", "hvc1"], true)]
#[case::every_codec(&["*"], true)]
#[case::others(&["av01"], false)]
fn codecs_that_the_server_announces_are_read(#[case] four_ccs: &[&str], #[case] announces_h265: bool) {
    let mut pair = Pair::new(1000);
    pair.exchange().unwrap();
    pair.receiver.accept_connect_with(four_ccs);
    pair.exchange().unwrap();
    assert_eq!(
        events(&mut pair.publisher),
        [PublisherEvent::HandshakeDone, PublisherEvent::Connected { announces_h265 }]
    );
}

#[rstest]
#[case::other_host("rtmp://other.example.net/live", Some("rtmp://other.example.net/live"))]
#[case::path("/other", Some("rtmp://ingest.example.net/other"))]
#[case::no_address("https://other.example.net/", None)]
fn redirect_names_the_other_server(#[case] target: &str, #[case] expected: Option<&str>) {
    let mut pair = Pair::new(1000);
    pair.exchange().unwrap();
    pair.receiver.redirect(target);
    let server = match pair.exchange().unwrap_err() {
        PushError::Redirected { server } => Some(server.full_address()),
        PushError::Refused { step: PushStep::Connecting, .. } => None,
        error => panic!("{error}"),
    };
    assert_eq!(server.as_deref(), expected);
}

#[rstest]
#[case::same_server(None, None)]
#[case::other_server(Some("//other.example.net/live"), Some("rtmp://other.example.net/live"))]
fn reconnect_request_is_reported_and_ends_nothing(
    #[case] target: Option<&str>,
    #[case] expected: Option<&str>,
) {
    let mut pair = Pair::new(1000);
    pair.go_live();
    events(&mut pair.publisher);
    pair.receiver.request_reconnect(target);
    pair.exchange().unwrap();
    let [PublisherEvent::ReconnectRequested { server }] = &events(&mut pair.publisher)[..] else { panic!() };
    assert_eq!(server.as_ref().map(RtmpServer::full_address).as_deref(), expected);
    assert_eq!(pair.publisher.step(), PushStep::Live);
}

fn sample_video() -> VideoConfig {
    let mut sets = yonder_media::h264::ParameterSets::default();
    sets.take(&Bytes::from_static(&[0x67, 0x42, 0x00, 0x1e, 0xda, 0x02, 0x80, 0xf6, 0x40]));
    sets.take(&Bytes::from_static(&[0x68, 0xce, 0x3c, 0x80]));
    VideoConfig::H264(sets.config().unwrap())
}

#[test]
fn refusal_of_the_publish_is_reported_with_step_code_and_description() {
    let mut pair = Pair::new(1000);
    pair.connect();
    pair.receiver.refuse_publish("Stream key is not known");
    let PushError::Refused { step, status } = pair.exchange().unwrap_err() else { panic!() };
    assert_eq!(step, PushStep::Publishing);
    assert_eq!(status.code, "NetStream.Publish.BadName");
    assert_eq!((status.level.as_str(), status.description.as_str()), ("error", "Stream key is not known"));
}

#[test]
fn key_repeated_by_the_platform_is_masked() {
    let mut pair = Pair::new(1000);
    pair.connect();
    pair.receiver.refuse_publish("no stream planted-secret-key here");
    let error = pair.exchange().unwrap_err();
    assert!(!format!("{error} {error:?}").contains("planted"), "{error:?}");
    assert!(error.to_string().contains("no stream … here"), "{error}");
}

#[test]
fn refusal_of_the_application_is_reported_at_its_step() {
    let mut pair = Pair::new(1000);
    pair.exchange().unwrap();
    pair.receiver.refuse_connect("no such application");
    let PushError::Refused { step, status } = pair.exchange().unwrap_err() else { panic!() };
    assert_eq!(step, PushStep::Connecting);
    assert_eq!(status.to_string(), "no such application (NetConnection.Connect.Rejected)");
}

#[test]
fn failure_of_an_optional_command_by_status_is_ignored() {
    let mut pair = Pair::new(1000);
    pair.connect();
    let information = Value::Object(vec![
        ("level".to_owned(), "error".into()),
        ("code".to_owned(), "NetConnection.Call.Failed".into()),
    ]);
    let status = Command::new("onStatus", 0.0, vec![Value::Null, information]);
    assert_eq!(pair.publisher.handle_command(&status, T0), Ok(()));
}

#[test]
fn end_of_the_broadcast_by_the_platform_is_reported() {
    let mut pair = Pair::new(1000);
    pair.go_live();
    pair.receiver.end_broadcast("twelve hours are over");
    let error = pair.exchange().unwrap_err();
    assert!(
        matches!(&error, PushError::Ended { status } if status.description.contains("twelve hours")),
        "{error:?}"
    );
}

#[test]
fn pings_are_answered_and_windows_acknowledged() {
    let mut pair = Pair::new(1000);
    pair.go_live();
    pair.receiver.ping(0x0102_0304);
    pair.exchange().unwrap();
    assert_eq!(pair.publisher.window, Some(2_500_000));
    assert_eq!(pair.receiver.acknowledged(), None);
    pair.publisher.window = Some(10);
    pair.receiver.ping(1);
    pair.receiver.ping(2);
    pair.exchange().unwrap();
    assert!(pair.receiver.acknowledged().is_some());
}

#[test]
fn the_answer_to_a_ping_repeats_its_time() {
    let mut publisher = publisher();
    publisher.handle_user_control(&[0, 6, 1, 2, 3, 4]);
    assert!(publisher.outbox.take_all().ends_with(&[0, 7, 1, 2, 3, 4]));
}

#[test]
fn refusals_of_optional_commands_are_ignored() {
    let mut pair = Pair::new(1000);
    pair.connect();
    let refusal = Command::new("_error", 2.0, vec![Value::Null]);
    assert_eq!(pair.publisher.handle_command(&refusal, T0), Ok(()));
    assert_eq!(pair.publisher.handle_command(&Command::new("onBWDone", 0.0, Vec::new()), T0), Ok(()));
}

#[test]
fn silent_platform_times_out_at_its_step() {
    let mut publisher = publisher();
    publisher.handle_timeout(Duration::from_secs(9));
    assert_eq!(publisher.end(), None);
    publisher.handle_timeout(Duration::from_secs(10));
    assert_eq!(publisher.end(), Some(&End::local(PushError::NoAnswer(PushStep::Handshake))));
}

#[test]
fn a_server_of_another_protocol_is_named() {
    let error = deliver(&mut publisher(), &mut BytesMut::from(&b"HTTP/1.1 400"[..]), T0).unwrap_err();
    assert!(matches!(error, PushError::NotRtmp(_)));
}

#[test]
fn closing_ends_the_stream_and_sends_nothing_more() {
    let mut pair = Pair::new(1000);
    pair.go_live();
    pair.publisher.close();
    pair.exchange().unwrap();
    assert!(matches!(pair.events.last(), Some(ReceiverEvent::Ended)));
    pair.publisher.send_body(&picture(10), 80);
    assert!(pair.publisher.outbox.is_empty());
}

#[test]
fn payload_slices_reach_the_outbox_without_a_copy() {
    let mut pair = Pair::new(1000);
    pair.go_live();
    let body = picture(1000);
    pair.publisher.send_body(&body, 0);
    let mut slices = [std::io::IoSlice::new(&[]); 8];
    let filled = pair.publisher.outbox.io_slices(&mut slices, usize::MAX);
    assert!(slices[..filled].iter().any(|slice| slice.as_ptr() == body.pieces[1].as_ptr()));
}

/// Returns a message on the command stream, in one chunk of kind 0.
fn message(kind: u8, payload: &[u8]) -> BytesMut {
    let length = u32::try_from(payload.len()).unwrap().to_be_bytes();
    let mut message = BytesMut::from(&[3, 0, 0, 0, length[1], length[2], length[3], kind, 0, 0, 0, 0][..]);
    message.extend_from_slice(payload);
    message
}

#[rstest]
#[case::amf3_value(&[0x11, 0x0a, 0x0b, 1])]
#[case::movie_clip(&[4])]
#[case::cut_short(&[2, 0, 200, b'x'])]
#[case::other_character_set(&[2, 0, 4, 0xc4, 0xe3, 0xba, 0xc3])]
#[case::bytes_at_the_end(&[0xff; 7])]
fn a_command_that_cannot_be_read_ends_no_broadcast(#[case] values: &[u8]) {
    let mut pair = Pair::new(1000);
    pair.go_live();
    for name in ["onBWDone", "onFCPublish", "_result", "somethingNew"] {
        let mut payload = Command::new(name, 0.0, vec![Value::Null]).encode().to_vec();
        payload.extend_from_slice(values);
        assert_eq!(deliver(&mut pair.publisher, &mut message(20, &payload), T0), Ok(()), "{name}");
    }
    // Neither does one without a name.
    assert_eq!(deliver(&mut pair.publisher, &mut message(20, values), T0), Ok(()));
    assert_eq!(pair.publisher.step(), PushStep::Live);
}

#[test]
fn publish_start_after_invalid_values_is_recognized() {
    let mut pair = Pair::new(1000);
    pair.connect();
    let mut payload = Command::new("onStatus", 0.0, vec![Value::Null]).encode().to_vec();
    let information = Value::Object(vec![
        ("level".to_owned(), "status".into()),
        ("code".to_owned(), "NetStream.Publish.Start".into()),
    ]);
    let mut object = BytesMut::new();
    information.encode(&mut object);
    // In the place of the end of the object: a member in AMF3.
    payload.extend_from_slice(&object[..object.len() - 3]);
    payload.extend_from_slice(&[0, 4, b'd', b'a', b't', b'a', 0x11, 0x0a]);
    deliver(&mut pair.publisher, &mut message(20, &payload), T0).unwrap();
    assert_eq!(pair.publisher.step(), PushStep::Live);
}

#[rstest]
#[case::usual(1.0, 1)]
#[case::large(70_000.0, 70_000)]
#[case::largest(4_294_967_295.0, u32::MAX)]
#[case::none(0.0, 1)]
#[case::fraction(1.5, 1)]
#[case::beyond(4_294_967_296.0, 1)]
#[case::no_number(f64::NAN, 1)]
fn media_goes_to_the_stream_that_was_created(#[case] number: f64, #[case] stream: u32) {
    let mut publisher = publisher();
    publisher.handle_input(&[&[3_u8][..], &[0; 3072]].concat(), T0);
    for (transaction, values) in [(1.0, vec![]), (4.0, vec![Value::Null, number.into()])] {
        let payload = Command::new("_result", transaction, values).encode();
        deliver(&mut publisher, &mut message(20, &payload), T0).unwrap();
    }
    assert_eq!(publisher.step(), PushStep::Publishing);
    assert_eq!(publisher.stream, stream);
}

#[test]
fn a_platform_cannot_make_us_hold_megabytes() {
    let mut pair = Pair::new(1000);
    pair.go_live();
    let mut announced = BytesMut::from(&[3, 0, 0, 0, 0x40, 0, 0, 20, 0, 0, 0, 0][..]);
    let refused = deliver(&mut pair.publisher, &mut announced, T0);
    assert_eq!(refused, Err(PushError::Chunk(ChunkError::TooLong { length: 0x40_0000, limit: MAX_COMMAND })));
}

#[test]
fn ended_push_stays_ended_and_writes_nothing() {
    let mut pair = Pair::new(1000);
    pair.go_live();
    pair.receiver.end_broadcast("the owner ended it");
    let error = pair.exchange().unwrap_err();
    let end = Some(End::peer(error));
    assert_eq!(pair.publisher.end(), end.as_ref());
    pair.publisher.send_body(&picture(10), 40);
    pair.publisher.close();
    assert!(take_transmit(&mut pair.publisher, T0).is_empty() && pair.publisher.poll_timeout().is_none());
    assert_eq!(pair.publisher.handle_input(&[0; 64], T0), 64, "what comes afterwards is discarded");
    pair.publisher.handle_timeout(T0);
    assert_eq!(pair.publisher.end(), end.as_ref());
}
