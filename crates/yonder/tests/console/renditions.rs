//! Renditions as a decoder of another make plays them: Chromium decodes what a platform has received.

use std::sync::Arc;
use std::time::Duration;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use serde_json::{Value, json};
use yonder_core::platform::RuleSheet;
use yonder_core::rendition::Adapt;
use yonder_engine::{
    Adaptation, Engine, FeedSpec, HoldSpec, PushSpec, RelaySpec, RtspSpec, SourceSpec, TransportChoice,
};
use yonder_media::h264::{NalKind, kind_of};
use yonder_sim::{
    Camera, CameraConfig, CameraStream, LoopMedia, Platform, PlatformConfig, Recording, SrtConfig,
    railway_feeds, tunnel_media,
};

use crate::browser::Browser;
use crate::support::Service;

const KEY: &str = "planted-stream-key-9Z";
/// Frequency of the tone of cameras with G.711, in hertz: a square wave of 80 samples at 8 kHz.
const TONE_HZ: f64 = 100.0;

/// Returns what a platform has received of a camera, once that is so many pictures.
async fn received(media: LoopMedia, adapt: Adapt, limit: &str, pictures: usize) -> Recording {
    let streams = vec![CameraStream { path: "/stream".into(), media: Arc::new(media) }];
    let camera = Camera::start(CameraConfig { streams, ..CameraConfig::default() }).unwrap();
    let channels = vec![("one".to_owned(), KEY.into())];
    // A transport stream carries the parameter sets along.
    let srt = Some(SrtConfig::default());
    let config =
        PlatformConfig { app: "live".into(), channels, record: true, srt, ..PlatformConfig::default() };
    let platform = Platform::start(config).unwrap();
    let mut rules = RuleSheet::default();
    rules.video.codecs = vec!["H.264".into()];
    rules.audio.codecs = vec!["AAC".into()];
    let pasted = yonder_address::read_pasted(platform.srt_server().as_deref(), Some(KEY)).unwrap();
    let push = PushSpec {
        destination: "one".into(),
        server: pasted.server,
        backup: None,
        failback_delay: Duration::from_secs(60),
        key: pasted.key,
        encryption: None,
        secret_lost: false,
        authority: None,
        uplinks: Vec::new(),
        refusals: Arc::default(),
        history: yonder_core::History::default(),
        adaptation: Adaptation {
            adapt,
            limit: limit.parse().unwrap(),
            rules: Some(Arc::new(rules)),
            available_kbps: None,
        },
    };
    let feed = FeedSpec {
        name: "feed".into(),
        source: SourceSpec::Rtsp(RtspSpec {
            url: yonder_rtsp::CameraUrl::parse(&camera.url("/stream")).unwrap().0,
            credentials: None,
            secret_lost: false,
            transport: TransportChoice::Auto,
            pin: None,
        }),
        history: yonder_core::History::default(),
        measured: None,
    };
    let engine = Engine::new(tokio::runtime::Handle::current());
    engine.apply(RelaySpec {
        name: "relay".into(),
        feed,
        pushes: vec![push],
        hold: HoldSpec::default(),
        hls: false,
    });
    while platform.recording("one").pictures.len() < pictures {
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    engine.shutdown().await;
    platform.recording("one")
}

/// Returns AAC-LC frames of 48 kHz, mono, with ADTS headers (ISO/IEC 13818-7, 6.2).
fn adts(frames: &[bytes::Bytes]) -> Vec<u8> {
    let mut stream = Vec::new();
    for frame in frames {
        let length = u32::try_from(frame.len() + 7).unwrap();
        let header = [
            0xff,
            0xf1,
            0x40 | (3 << 2),
            0x40 | u8::try_from(length >> 11).unwrap(),
            u8::try_from((length >> 3) & 0xff).unwrap(),
            u8::try_from((length & 7) << 5).unwrap() | 0x1f,
            0xfc,
        ];
        stream.extend_from_slice(&header);
        stream.extend_from_slice(frame);
    }
    stream
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn chromium_hears_the_tone_of_a_g711_camera() {
    let media = railway_feeds().into_iter().find(|feed| feed.name == "Signal Box").unwrap().main();
    let recording = received(media, Adapt::Audio, "", 160).await;
    assert!(recording.audio.len() > 200, "{} frames", recording.audio.len());
    let browser = Browser::start(640, 480).await;
    let script = format!(
        "const bytes = Uint8Array.from(atob('{}'), (char) => char.charCodeAt(0));
         const context = new OfflineAudioContext(1, 48000, 48000);
         const audio = await context.decodeAudioData(bytes.buffer);
         const samples = audio.getChannelData(0).subarray(48000, 48000 * 4);
         let crossings = 0;
         let squares = 0;
         let sign = 0;
         for (const sample of samples) {{
             squares += sample * sample;
             const now = sample > 0.002 ? 1 : sample < -0.002 ? -1 : sign;
             crossings += now > sign && sign !== 0 ? 1 : 0;
             sign = now;
         }}
         return {{ rate: audio.sampleRate, seconds: audio.duration, hz: crossings / (samples.length / 48000),
                   level: Math.sqrt(squares / samples.length) }};",
        STANDARD.encode(adts(&recording.audio))
    );
    let heard = browser.run(&script).await;
    browser.close().await;
    let number = |name: &str| heard[name].as_f64().unwrap();
    assert!((number("hz") - TONE_HZ).abs() < 2.0, "{heard}");
    let seconds = recording.audio.len() as f64 * 1_024.0 / 48_000.0;
    assert!((number("seconds") - seconds).abs() < 0.1, "{heard}, not {seconds} s");
    // A square wave of constant samples: its level is that of each sample.
    let loud = f64::from(yonder_media::g711::Law::A.decode(yonder_media::g711::Law::A.silence() ^ 0x10))
        .abs()
        / 32_768.0;
    assert!((number("level") / loud - 1.0).abs() < 0.15, "{heard}, not {loud}");
}

/// Silence with a burst of 20 ms at the start of each loop, when its first picture is shown.
fn with_bursts(mut media: LoopMedia) -> LoopMedia {
    let audio = media.audio.as_mut().unwrap();
    let silence = yonder_media::g711::Law::A.silence();
    for (at, frame) in audio.frames.iter_mut().enumerate() {
        let sample = |n: usize| {
            if at > 0 { silence } else { silence ^ if (n / 4).is_multiple_of(2) { 0x50 } else { 0xd0 } }
        };
        *frame = (0..frame.len()).map(sample).collect();
    }
    media
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn audio_of_a_rendition_is_in_step_with_the_video() {
    let media = railway_feeds().into_iter().find(|feed| feed.name == "Signal Box").unwrap().main();
    let media = with_bursts(media);
    let first = media.frames[0].nals.iter().max_by_key(|nal| nal.len()).unwrap().clone();
    // A longer time measures a drift as well.
    let seconds: usize = std::env::var("YONDER_SYNC_SECONDS").map_or(20, |text| text.parse().unwrap());
    let recording = received(media, Adapt::Audio, "", seconds * 20).await;
    let browser = Browser::start(640, 480).await;
    let script = format!(
        "const bytes = Uint8Array.from(atob('{}'), (char) => char.charCodeAt(0));
         const context = new OfflineAudioContext(1, 48000, 48000);
         const audio = await context.decodeAudioData(bytes.buffer);
         const samples = audio.getChannelData(0);
         const centers = [];
         for (let at = 0; at < samples.length; at += 1) {{
             if (Math.abs(samples[at]) < 0.02) continue;
             let energy = 0;
             let moment = 0;
             for (let n = Math.max(0, at - 1440); n < Math.min(samples.length, at + 2880); n += 1) {{
                 const square = samples[n] * samples[n];
                 energy += square;
                 moment += square * n;
             }}
             centers.push(moment / energy);
             at += 48000;
         }}
         return centers;",
        STANDARD.encode(adts(&recording.audio))
    );
    let centers = browser.run(&script).await;
    browser.close().await;
    let shown: Vec<i64> = recording
        .pictures
        .iter()
        .zip(&recording.shown)
        .filter(|(nals, _)| nals.contains(&first))
        .map(|(_, shown)| *shown)
        .collect();
    // The center of the burst is 10 ms after its beginning.
    let offset_ms = |center: f64| {
        let heard = recording.heard[0] as f64 + center * 90_000.0 / 48_000.0;
        let offsets = shown.iter().map(|shown| (heard - *shown as f64) / 90.0 - 10.0);
        offsets.min_by(|a, b| a.abs().total_cmp(&b.abs())).unwrap()
    };
    let offsets: Vec<f64> =
        centers.as_array().unwrap().iter().map(|center| offset_ms(center.as_f64().unwrap())).collect();
    crate::support::say(&format!("offsets of audio and video in ms: {offsets:.1?}"));
    assert!(offsets.len() >= seconds / 8 - 1, "{offsets:?}");
    assert!(offsets.iter().all(|offset| offset.abs() < 20.0), "{offsets:?}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn chromium_sees_the_video_of_a_rendition() {
    let browser = Browser::start(640, 480).await;
    // Video decoders are for pages from a trustworthy origin.
    let service = Service::start();
    browser.client.goto(&service.url()).await.unwrap();
    for (media, limit, size) in [
        (
            railway_feeds().into_iter().find(|feed| feed.name == "Level Crossing").unwrap().main(),
            "480p",
            (852, 480),
        ),
        (tunnel_media(), "360p,600kbit/s", (640, 360)),
    ] {
        let recording = received(media, Adapt::All, limit, 40).await;
        let decoded = decode(&browser, &recording).await;
        assert_eq!(decoded["problem"], Value::Null, "{decoded}");
        assert_eq!((&decoded["width"], &decoded["height"]), (&json!(size.0), &json!(size.1)));
        assert_eq!(decoded["frames"], json!(recording.pictures.len()), "{decoded}");
    }
    browser.close().await;
}

/// Decodes the pictures of a recording by the browser's `VideoDecoder`.
async fn decode(browser: &Browser, recording: &Recording) -> Value {
    let chunks: Vec<Value> = recording
        .pictures
        .iter()
        .zip(&recording.shown)
        .map(|(nals, shown)| {
            let stream: Vec<u8> =
                nals.iter().flat_map(|nal| [0, 0, 0, 1].into_iter().chain(nal.to_vec())).collect();
            let is_key = nals.iter().any(|nal| kind_of(nal) == NalKind::IdrSlice);
            json!({"key": is_key, "at": shown * 100 / 9, "data": STANDARD.encode(stream)})
        })
        .collect();
    let script = format!(
        "const chunks = {};
         const seen = {{ frames: 0, width: 0, height: 0, problem: null }};
         const decoder = new VideoDecoder({{
             output: (frame) => {{
                 seen.frames += 1;
                 seen.width = frame.displayWidth;
                 seen.height = frame.displayHeight;
                 frame.close();
             }},
             error: (error) => {{ seen.problem = String(error); }},
         }});
         decoder.configure({{ codec: 'avc1.640028' }});
         for (const {{ key, at, data }} of chunks) {{
             const bytes = Uint8Array.from(atob(data), (char) => char.charCodeAt(0));
             decoder.decode(new EncodedVideoChunk({{ type: key ? 'key' : 'delta', timestamp: at, data: bytes }}));
         }}
         await decoder.flush();
         return seen;",
        Value::Array(chunks)
    );
    browser.run(&script).await
}
