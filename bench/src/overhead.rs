//! Protocol overhead: the bytes of the writers, and those added by TLS, TCP, UDP and IP.

use std::time::Duration;

use anyhow::Context as _;
use bytes::BytesMut;
use yonder_address::{RtmpServer, StreamKey};
use yonder_media::flv::Body;
use yonder_media::ts::Muxer;
use yonder_media::{AccessUnit, FrameRate, Payload, StreamHeaders, TICKS_PER_SECOND, Track};
use yonder_protocol::{Core as _, deliver, take_transmit};
use yonder_rtmp::{MeasuredRates, Publisher, PublisherConfig, Receiver};
use yonder_sim::{LoopMedia, railway_feeds};

/// TLS 1.3: header, content type and tag of a record of at most 16 kB.
const TLS_RECORD: u64 = 22;
const TLS_PAYLOAD: u64 = 16_384;
/// IP and TCP with timestamps, for a segment that fills an Ethernet frame.
const TCP: u64 = 52;
const SEGMENT: u64 = 1_448;
/// IP, UDP and SRT.
const SRT: u64 = 28 + 16;
const DATAGRAM: usize = 7;

/// Prints the overhead for all demo clips.
#[expect(clippy::print_stdout, reason = "a table is what this program is for")]
pub(crate) fn run() -> anyhow::Result<()> {
    println!("{:<18} {:>10} {:>9} {:>9} {:>9}", "clip", "media", "rtmp", "rtmps", "srt");
    for feed in railway_feeds() {
        let media = feed.main();
        let (units, headers, seconds) = unrolled(&media);
        let bytes: u64 = units.iter().map(|unit| length(unit.payload.len())).sum();
        let rtmp = rtmp_bytes(&units, &headers)?;
        let rtmps = rtmp + rtmp.div_ceil(TLS_PAYLOAD) * TLS_RECORD;
        let tcp = |bytes: u64| bytes + bytes.div_ceil(SEGMENT) * TCP;
        let srt = srt_bytes(&units, &headers);
        let kbps = bytes * 8 / 1_000 / seconds;
        #[expect(clippy::cast_precision_loss, reason = "counts here are far below the precision of a float")]
        let share = |wire: u64| format!("{:+.1} %", (wire as f64 / bytes as f64 - 1.0) * 100.0);
        let shares = [share(tcp(rtmp)), share(tcp(rtmps)), share(srt)];
        println!("{:<18} {kbps:>5} kbit/s {:>9} {:>9} {:>9}", feed.name, shares[0], shares[1], shares[2]);
    }
    Ok(())
}

fn length(count: usize) -> u64 {
    u64::try_from(count).unwrap_or_default()
}

/// Returns several rounds of a loop, sorted by time.
fn unrolled(media: &LoopMedia) -> (Vec<AccessUnit>, StreamHeaders, u64) {
    const SECONDS: i64 = 60;
    let FrameRate { frames: rate, per } = media.frame_rate;
    let step = TICKS_PER_SECOND * i64::from(per) / i64::from(rate);
    let count = SECONDS * TICKS_PER_SECOND / step;
    let mut units: Vec<AccessUnit> = (0..count)
        .zip(media.frames.iter().cycle())
        .map(|(number, frame)| AccessUnit {
            track: Track::Video,
            dts: number * step,
            pts: number * step,
            keyframe: frame.keyframe,
            payload: Payload::Nals(frame.nals.clone()),
        })
        .collect();
    let mut headers = StreamHeaders { video: Some(media.video.clone()), audio: None };
    if let Some(audio) = &media.audio {
        headers.audio = Some(audio.config.clone());
        let step = TICKS_PER_SECOND * 1_024 / i64::from(audio.config.sample_rate());
        let count = SECONDS * TICKS_PER_SECOND / step;
        units.extend((0..count).zip(audio.frames.iter().cycle()).map(|(number, frame)| AccessUnit {
            track: Track::Audio,
            dts: number * step,
            pts: number * step,
            keyframe: true,
            payload: Payload::Frame(frame.clone()),
        }));
    }
    units.sort_by_key(|unit| unit.dts);
    (units, headers, u64::try_from(SECONDS).unwrap_or_default())
}

fn rtmp_bytes(units: &[AccessUnit], headers: &StreamHeaders) -> anyhow::Result<u64> {
    let server =
        RtmpServer { tls: false, host: "localhost".into(), port: 1935, has_port: false, app: "live".into() };
    let key = StreamKey::from_stored("key".into());
    let mut publisher = Publisher::new(PublisherConfig { server, key, seed: 1 });
    let mut receiver = Receiver::new(2);
    publisher.start(Duration::ZERO);
    let (mut there, mut back) = (BytesMut::new(), BytesMut::new());
    for _ in 0..8 {
        there.extend_from_slice(&take_transmit(&mut publisher, Duration::ZERO));
        deliver(&mut receiver, &mut there, Duration::ZERO)?;
        while let Some(event) = receiver.poll_event() {
            match event {
                yonder_rtmp::ReceiverEvent::Connect { .. } => receiver.accept_connect(),
                yonder_rtmp::ReceiverEvent::Publish { .. } => receiver.accept_publish(),
                _ => {}
            }
        }
        back.extend_from_slice(&take_transmit(&mut receiver, Duration::ZERO));
        deliver(&mut publisher, &mut back, Duration::ZERO)?;
    }
    take_transmit(&mut publisher, Duration::ZERO);
    publisher.send_headers(headers, MeasuredRates::default(), 0);
    let mut bytes = 0;
    for unit in units {
        let timestamp = u32::try_from(unit.dts / 90).context("a clip is short")?;
        publisher.send_body(&Body::of_unit(unit, headers), timestamp);
        bytes += length(take_transmit(&mut publisher, Duration::ZERO).len());
    }
    Ok(bytes)
}

fn srt_bytes(units: &[AccessUnit], headers: &StreamHeaders) -> u64 {
    let mut muxer = Muxer::default();
    let mut bytes = 0;
    for unit in units {
        let chunk = muxer.write(unit, headers);
        bytes += length(chunk.bytes.len()) + length(chunk.groups(DATAGRAM).count()) * SRT;
    }
    bytes
}
