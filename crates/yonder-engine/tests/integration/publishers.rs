//! Feeds that an encoder publishes.

use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use rstest::rstest;
use tokio::sync::mpsc;
use yonder_address::{StreamKey, read_server};
use yonder_core::{FeedPhase, PushPhase};
use yonder_engine::{FeedSpec, HoldSpec, RelaySpec, SourceSpec};
use yonder_ingest::{
    FeedAccess, IngestConfig, IngestProtocol, IngestRegistry, IngestServer, PublishedUnit, Publisher,
    PublisherEnd, PublisherInfo, PublisherMessage, UnitEvent,
};
use yonder_media::{AudioConfig, ParameterSets, Payload, StreamHeaders, Track, VideoCodec};
use yonder_sim::{Encoder, EncoderConfig};

use crate::support::{KEY, World, feed_code, push_to};

/// H.264, 640×360, and AAC-LC, 48 kHz, stereo.
const SPS: &[u8] = &[0x67, 0x42, 0xc0, 0x1e, 0xd9, 0x00, 0xa0, 0x47, 0xfe, 0x88];
const PPS: &[u8] = &[0x68, 0xce, 0x3c, 0x80];
const AAC: &[u8] = &[0x11, 0x90];

fn headers() -> StreamHeaders {
    let mut sets = ParameterSets::new(VideoCodec::H264);
    for nal in [SPS, PPS] {
        sets.take(&Bytes::from_static(nal));
    }
    StreamHeaders { video: sets.config(), audio: AudioConfig::aac(Bytes::from_static(AAC)) }
}

fn publisher() -> (mpsc::Sender<PublisherMessage>, Publisher) {
    let (messages, receiver) = mpsc::channel(1_024);
    let info = PublisherInfo {
        protocol: IngestProtocol::Rtmp,
        from: "192.0.2.7:4000".parse().unwrap(),
        software: None,
        is_encrypted: false,
    };
    (messages, Publisher { info, messages: receiver })
}

/// Sends seconds of 25 frames with audio, in real time.
async fn send(messages: &mpsc::Sender<PublisherMessage>, seconds: i64, base: i64) {
    let _open = messages.send(PublisherMessage::Media(UnitEvent::Headers(headers()))).await;
    for at in 0..seconds * 25 {
        let (dts, keyframe) = (base + at * 3_600, at % 25 == 0);
        let nal = Bytes::from(vec![if keyframe { 0x65 } else { 0x41 }; 2_000]);
        let video = (Track::Video, keyframe, Payload::Nals(vec![nal]));
        let audio = (Track::Audio, true, Payload::Frame(Bytes::from(vec![1; 200])));
        for (track, keyframe, payload) in [video, audio] {
            let unit = PublishedUnit { track, dts, pts: dts, keyframe, payload };
            let _open = messages.send(PublisherMessage::Media(UnitEvent::Unit(unit))).await;
        }
        tokio::time::sleep(Duration::from_millis(40)).await;
    }
}

#[tokio::test(start_paused = true)]
async fn published_feed_waits_flows_and_waits_again() {
    let world = World::start();
    let feed = FeedSpec {
        name: "feed".into(),
        source: SourceSpec::Publisher,
        history: yonder_core::History::default(),
        measured: None,
    };
    world.engine.listen(feed.clone());
    let pushes = vec![push_to("to-0", &world.platform.server(), KEY)];
    world.engine.apply(RelaySpec {
        name: "relay".into(),
        feed,
        pushes,
        hold: HoldSpec::default(),
        hls: false,
    });
    let view = world.wait("waiting", 5, |view| feed_code(view) == "feed.no-publisher").await;
    assert_eq!((view.feed.state, view.feed.retry_in), (FeedPhase::Waiting, None));
    for (round, base) in [(1_u64, 0), (2, 1 << 40)] {
        let (messages, publisher) = publisher();
        world.engine.publish("feed", publisher);
        let sending = tokio::spawn(async move {
            send(&messages, 4, base).await;
            let _open = messages.send(PublisherMessage::End(PublisherEnd::Ended)).await;
        });
        let view = world
            .wait("live", 5, |view| {
                view.pushes[0].state == PushPhase::Live && view.feed.state == FeedPhase::Flowing
            })
            .await;
        assert_eq!(view.feed.video.unwrap().width, 640, "round {round}");
        sending.await.unwrap();
        let view = world.wait("ended", 5, |view| feed_code(view) == "feed.publisher-ended").await;
        assert_eq!((view.feed.state, view.feed.reconnects), (FeedPhase::Waiting, round - 1));
    }
}

/// Encoder → listener → feed → push → platform: every picture and every audio frame arrives as it was encoded.
#[rstest]
#[case::rtmp_with_reordered_frames("rtmp", "/bandstand")]
#[case::srt_with_reordered_frames("srt", "/bandstand")]
#[case::rtmp_with_h265("rtmp", "/tunnel")]
#[case::srt_with_h265("srt", "/tunnel")]
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn published_media_reaches_the_platform_bit_exact(#[case] protocol: &str, #[case] path: &str) {
    let world = World::start();
    let any = Some("127.0.0.1:0".parse().unwrap());
    // A busy machine must not lose packets.
    let latency = Duration::from_secs(1);
    let config = IngestConfig { rtmp: any, srt: any, latency, ..IngestConfig::default() };
    let registry = IngestRegistry::default();
    let server = IngestServer::start(config, None, &registry).unwrap();
    let key = StreamKey::from_stored("bandstand-key".into());
    let (publishers, mut accepted) = mpsc::unbounded_channel();
    registry.set("feed", FeedAccess { keys: vec![key.clone()], passphrase: None, publishers });
    let feed = FeedSpec {
        name: "feed".into(),
        source: SourceSpec::Publisher,
        history: yonder_core::History::default(),
        measured: None,
    };
    world.engine.listen(feed.clone());
    let pushes = vec![push_to("to-0", &world.platform.server(), KEY)];
    world.engine.apply(RelaySpec {
        name: "relay".into(),
        feed,
        pushes,
        hold: HoldSpec::default(),
        hls: false,
    });
    let mut media = world.media(path);
    if path == "/tunnel" {
        // Neither container carries its G.711 to the platform.
        media.audio = None;
    }
    let address = match protocol {
        "rtmp" => format!("rtmp://{}/live", server.addresses().rtmp.unwrap()),
        _ => format!("srt://{}", server.addresses().srt.unwrap()),
    };
    let server_address = read_server(&address).unwrap().0;
    let config = EncoderConfig { server: server_address, key, encryption: None, media: Arc::new(media) };
    let _encoder = Encoder::start(config);
    world.engine.publish("feed", accepted.recv().await.unwrap());
    world.wait("sending for a while", 30, |view| view.pushes[0].frames_sent > 150).await;
    world.engine.shutdown().await;
    world.assert_exact("one", path);
    let recording = world.platform.recording("one");
    let expected_audio = if path == "/tunnel" { 0 } else { 200 };
    assert!(recording.audio.len() >= expected_audio, "{} audio frames", recording.audio.len());
    let report = world.platform.report("one").unwrap();
    assert_eq!(report.b_frames, path == "/bandstand" || path == "/tunnel", "{report:?}");
}
