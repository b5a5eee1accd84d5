//! Transport streams of whole pushes over a lossy network, packet by packet.

use std::sync::Arc;
use std::time::Duration;

use crate::inspector::Inspector;
use crate::support::{feed_spec, push_to};
use yonder_core::PushPhase;
use yonder_engine::{Engine, HoldSpec, RelaySpec};
use yonder_media::FrameRate;
use yonder_sim::{
    Camera, CameraConfig, CameraStream, Impairment, LoopMedia, Platform, PlatformConfig, PlatformFaults,
    SrtConfig, railway_feeds, tunnel_media,
};

fn main_of(path: &str) -> LoopMedia {
    railway_feeds().into_iter().find(|feed| feed.path == path).unwrap().main()
}

/// Returns the frames of one group, again and again, as a loop of ten seconds with a single keyframe.
fn one_keyframe_in_ten_seconds() -> LoopMedia {
    let mut media = LoopMedia { audio: None, ..main_of("/viaduct/main") };
    let group: Vec<_> = media.frames.iter().skip(1).take_while(|frame| !frame.keyframe).cloned().collect();
    media.frames.truncate(1);
    media.frames.extend(group.into_iter().cycle().take(249));
    for (frame, shown) in media.frames.iter_mut().zip(0..) {
        frame.shown = shown;
    }
    media.frame_rate = FrameRate { frames: 25, per: 1 };
    media
}

fn clips() -> Vec<(&'static str, LoopMedia)> {
    vec![
        ("h264-and-aac", main_of("/summit/main")),
        ("no-audio", LoopMedia { audio: None, ..main_of("/summit/main") }),
        (
            "ten-fps",
            LoopMedia {
                frame_rate: FrameRate { frames: 10, per: 1 },
                audio: None,
                ..main_of("/viaduct/main")
            },
        ),
        (
            "sixty-fps",
            LoopMedia {
                frame_rate: FrameRate { frames: 60, per: 1 },
                audio: None,
                ..main_of("/viaduct/main")
            },
        ),
        ("one-keyframe", one_keyframe_in_ten_seconds()),
        ("b-frames", tunnel_media()),
        ("b-frames-and-aac", LoopMedia { audio: main_of("/summit/main").audio, ..tunnel_media() }),
    ]
}

#[tokio::test(start_paused = true)]
async fn streams_over_a_lossy_network_keep_to_the_standard_from_the_first_packet_to_the_last() {
    let clips = clips();
    let path = |name: &str| format!("/{name}");
    let stream =
        |(name, media): &(&str, LoopMedia)| CameraStream { path: path(name), media: Arc::new(media.clone()) };
    let camera = Camera::start(CameraConfig {
        streams: clips.iter().map(stream).collect(),
        ..CameraConfig::default()
    });
    let camera = camera.unwrap();
    let channels = clips.iter().map(|(name, _)| ((*name).to_owned(), format!("planted-{name}").into()));
    let impairment = Impairment { loss_permille: 30, reorder_permille: 20, duplicate_permille: 10 };
    let platform = Platform::start(PlatformConfig {
        channels: channels.collect(),
        srt: Some(SrtConfig { latency: Duration::from_millis(800), ..SrtConfig::default() }),
        record: true,
        faults: PlatformFaults { impairment, ..PlatformFaults::default() },
        ..PlatformConfig::default()
    })
    .unwrap();
    let engine = Engine::new(tokio::runtime::Handle::current());
    for (name, _) in &clips {
        let feed = feed_spec(name, &camera.url(&path(name)));
        let push = push_to(name, &platform.srt_server().unwrap(), &format!("planted-{name}"));
        engine.apply(RelaySpec {
            name: (*name).into(),
            feed,
            pushes: vec![push],
            hold: HoldSpec::default(),
            hls: false,
        });
    }
    let deadline = tokio::time::Instant::now() + Duration::from_secs(40);
    let has_frames =
        |name: &str| platform.recording(name).pictures.len() >= if name == "ten-fps" { 90 } else { 270 };
    while !clips.iter().all(|(name, _)| has_frames(name)) {
        assert!(tokio::time::Instant::now() < deadline);
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    for (name, _) in &clips {
        let push = engine.relay(name).unwrap().pushes.remove(0);
        assert_eq!((push.state, push.reconnects, push.frames_dropped), (PushPhase::Live, 0, 0), "{name}");
        assert!(push.link.unwrap().retransmitted > 0, "{name}: nothing was lost");
    }
    engine.shutdown().await;
    for (name, _) in &clips {
        let report = platform.report(name).unwrap();
        assert!(!report.live && report.broadcasts == 1, "{name}: the shutdown arrived: {report:?}");
        let mut inspector = Inspector::default();
        for payload in platform.recording(name).payloads {
            inspector.take(&payload);
        }
        inspector.assert_intervals();
        assert!(inspector.units[&0x100] >= 90, "{name}");
        if *name == "one-keyframe" {
            assert!(inspector.starts <= 3, "{name}: {}", inspector.starts);
        }
    }
}
