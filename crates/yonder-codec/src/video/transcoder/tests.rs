use std::collections::BTreeMap;

use rstest::rstest;
use yonder_media::{Track, VideoCodec};
use yonder_sim::{LoopMedia, railway_feeds, tunnel_media};

use super::*;

/// Rendition of 720 lines at 2.5 Mbit/s.
fn target() -> VideoTarget {
    VideoTarget {
        width: 1_280,
        height: 720,
        frame_divisor: 1,
        fps: 25.0,
        kbps: 2_500,
        keyframe_interval_s: 2.0,
    }
}

fn scene(name: &str) -> LoopMedia {
    if name == "Tunnel" {
        return tunnel_media();
    }
    railway_feeds().into_iter().find(|feed| feed.name == name).unwrap().main()
}

/// Returns the access units of `loops` repetitions of a scene, in decoding order.
fn units(media: &LoopMedia, loops: i64) -> Vec<AccessUnit> {
    let length = i64::try_from(media.frames.len()).unwrap();
    // Room for reordering, so that no frame is presented before it is decoded.
    let delay = media.frames.iter().zip(0..).map(|(frame, at): (_, i64)| at - frame.shown).max().unwrap();
    let mut units = Vec::new();
    for turn in 0..loops {
        for (frame, at) in media.frames.iter().zip(0..) {
            units.push(AccessUnit {
                track: Track::Video,
                dts: media.picture_time(turn * length + at),
                pts: media.picture_time(turn * length + frame.shown + delay),
                keyframe: frame.keyframe,
                payload: Payload::Nals(frame.nals.clone()),
            });
        }
    }
    units
}

fn transcode(
    config: &VideoConfig,
    units: &[AccessUnit],
    target: VideoTarget,
) -> (VideoConfig, Vec<EncodedPicture>) {
    let mut transcoder = VideoTranscoder::new(target);
    transcoder.set_source(config).unwrap();
    let mut pictures = Vec::new();
    for unit in units {
        transcoder.push(unit).unwrap();
        pictures.extend(std::iter::from_fn(|| transcoder.next_picture()));
    }
    (transcoder.config().unwrap().clone(), pictures)
}

/// Decodes a stream, scales its pictures, and returns their luma by presentation time.
fn luma(config: &VideoConfig, units: &[AccessUnit], target: VideoTarget) -> BTreeMap<i64, Vec<u8>> {
    let mut decoder = decoder_of(config.codec()).unwrap();
    let mut scaler = Scaler::new(target.width as usize, target.height as usize);
    let mut pictures = BTreeMap::new();
    for unit in units {
        let Payload::Nals(nals) = &unit.payload else { unreachable!() };
        let sets = config.parameter_sets().filter(|_| unit.keyframe);
        let stream: Vec<u8> =
            sets.chain(nals).flat_map(|nal| START_CODE.into_iter().chain(nal.to_vec())).collect();
        let keep = &mut |pts, picture: PictureRef<'_>| {
            pictures.insert(pts, scaler.scale(&picture)?.planes[0].clone());
            Ok(())
        };
        decoder.decode(&stream, unit.pts, keep).unwrap();
    }
    pictures
}

fn as_units(pictures: &[EncodedPicture]) -> Vec<AccessUnit> {
    let unit = |picture: &EncodedPicture| AccessUnit {
        track: Track::Video,
        dts: picture.pts,
        pts: picture.pts,
        keyframe: picture.is_keyframe,
        payload: Payload::Nals(picture.nals.clone()),
    };
    pictures.iter().map(unit).collect()
}

/// Returns the peak signal-to-noise ratio in decibels.
fn psnr(one: &[u8], other: &[u8]) -> f64 {
    assert_eq!(one.len(), other.len());
    let squares: f64 = one.iter().zip(other).map(|(a, b)| (f64::from(*a) - f64::from(*b)).powi(2)).sum();
    10.0 * (255.0_f64.powi(2) / (squares / one.len() as f64).max(1e-9)).log10()
}

fn bytes(picture: &EncodedPicture) -> usize {
    picture.nals.iter().map(|nal| nal.len() + 4).sum()
}

#[rstest]
#[case::h264("Summit Station")]
#[case::h264_with_b_frames("Bandstand")]
#[case::h265_with_reordering("Tunnel")]
fn result_looks_like_its_source(#[case] name: &str) {
    let media = scene(name);
    let source = units(&media, 1);
    let (config, pictures) = transcode(&media.video, &source, target());
    let facts = config.facts();
    assert_eq!((facts.codec, facts.width, facts.height), (VideoCodec::H264, 1_280, 720));
    assert!(pictures.len() + 4 >= source.len(), "{} of {}", pictures.len(), source.len());
    assert!(pictures.windows(2).all(|pair| pair[1].pts > pair[0].pts));
    let expected = luma(&media.video, &source, target());
    let made = luma(&config, &as_units(&pictures), target());
    let ratios: Vec<f64> = made.iter().map(|(pts, made)| psnr(made, &expected[pts])).collect();
    let mean = ratios.iter().sum::<f64>() / ratios.len() as f64;
    assert!(made.len() + 1 >= pictures.len() && mean >= 34.0, "{mean:.1} dB on average, {ratios:.1?}");
}

#[test]
fn keyframes_and_bit_rate_are_as_requested() {
    let media = scene("Summit Station");
    let source = units(&media, 4);
    let (_, pictures) = transcode(&media.video, &source, target());
    let keyframes: Vec<i64> =
        pictures.iter().filter(|picture| picture.is_keyframe).map(|picture| picture.pts).collect();
    assert!(keyframes.windows(2).all(|pair| (pair[1] - pair[0] - 180_000).abs() < 3_600), "{keyframes:?}");
    for begin in (0..pictures.len().saturating_sub(250)).step_by(25) {
        let window = &pictures[begin..begin + 250];
        let kbps = window.iter().map(bytes).sum::<usize>() * 8 / 10_000;
        assert!(kbps <= 2_500, "{kbps} kbit/s from picture {begin} on");
    }
    let all = pictures.iter().map(bytes).sum::<usize>() * 8 / (pictures.len() * 40);
    assert!(all > 1_500, "{all} kbit/s on average");
}

#[test]
fn frame_rate_is_reduced_evenly() {
    let media = scene("Viaduct");
    let source = units(&media, 1);
    let half = VideoTarget { width: 640, height: 360, frame_divisor: 2, fps: 12.5, kbps: 600, ..target() };
    let (_, pictures) = transcode(&media.video, &source, half);
    let frame = media.picture_time(1);
    assert!(pictures.len() >= source.len() / 2 - 2);
    assert!(pictures.windows(2).all(|pair| pair[1].pts - pair[0].pts == 2 * frame));
}

#[test]
fn stream_continues_over_a_joint_with_another_codec_and_size() {
    let (first, second) = (scene("Tunnel"), scene("Summit Station"));
    let mut transcoder = VideoTranscoder::new(VideoTarget { width: 640, height: 360, kbps: 800, ..target() });
    let mut pictures = Vec::new();
    let joint = 60 * TICKS_PER_SECOND;
    for (media, begin) in [(&first, 0), (&second, joint)] {
        transcoder.set_source(&media.video).unwrap();
        for mut unit in units(media, 1) {
            (unit.dts, unit.pts) = (unit.dts + begin, unit.pts + begin);
            transcoder.push(&unit).unwrap();
            pictures.extend(std::iter::from_fn(|| transcoder.next_picture()));
        }
    }
    let before = pictures.iter().filter(|picture| picture.pts < joint).count();
    assert_eq!(before, first.frames.len(), "pictures that waited for others are encoded at the joint");
    assert!(pictures[before].is_keyframe);
    assert!(pictures.windows(2).all(|pair| pair[1].pts > pair[0].pts));
}

#[test]
fn damaged_frames_are_dropped_up_to_the_next_keyframe() {
    let media = scene("Viaduct");
    let mut source = units(&media, 2);
    let keyframes: Vec<usize> = (0..source.len()).filter(|at| source[*at].keyframe).collect();
    let damaged = keyframes[0] + 5;
    let Payload::Nals(nals) = &mut source[damaged].payload else { unreachable!() };
    *nals = nals.iter().map(|nal| nal.iter().map(|byte| byte ^ 0x5a).collect::<Vec<u8>>().into()).collect();
    let small = VideoTarget { width: 640, height: 360, kbps: 800, ..target() };
    let (_, pictures) = transcode(&media.video, &source, small);
    let next = source[keyframes[1]].pts;
    assert!(pictures.iter().any(|picture| picture.pts == next), "it recovers at the next keyframe");
}

#[test]
fn stream_that_cannot_be_decoded_is_an_error() {
    let media = scene("Viaduct");
    let mut transcoder = VideoTranscoder::new(target());
    transcoder.set_source(&media.video).unwrap();
    let payload = Payload::Nals(vec![Bytes::from_static(&[0x65, 0xff, 0xff, 0xff, 0x00, 0x12])]);
    let mut results = (0..10).map(|at| {
        let pts = at * 3_600;
        transcoder.push(&AccessUnit {
            track: Track::Video,
            dts: pts,
            pts,
            keyframe: true,
            payload: payload.clone(),
        })
    });
    assert!(results.any(|result| matches!(result, Err(CodecError::Decoder(_)))));
}

#[test]
fn random_data_never_panics() {
    let media = scene("Viaduct");
    let mut random = fastrand::Rng::with_seed(7);
    let mut transcoder = VideoTranscoder::new(VideoTarget { width: 320, height: 180, kbps: 300, ..target() });
    transcoder.set_source(&media.video).unwrap();
    for mut unit in units(&media, 1) {
        let Payload::Nals(nals) = &mut unit.payload else { unreachable!() };
        for nal in nals {
            let mut changed = nal.to_vec();
            for _ in 0..3 {
                let at = random.usize(..changed.len());
                changed[at] = random.u8(..);
            }
            *nal = changed.into();
        }
        if transcoder.push(&unit).is_err() {
            transcoder = VideoTranscoder::new(VideoTarget { width: 320, height: 180, kbps: 300, ..target() });
            transcoder.set_source(&media.video).unwrap();
        }
        while transcoder.next_picture().is_some() {}
    }
}

#[test]
fn bit_rate_follows_a_change() {
    let media = scene("Summit Station");
    let source = units(&media, 6);
    let mut transcoder = VideoTranscoder::new(target());
    transcoder.set_source(&media.video).unwrap();
    let mut pictures = Vec::new();
    for (number, unit) in source.iter().enumerate() {
        if number == source.len() / 2 {
            transcoder.set_kbps(800).unwrap();
        }
        transcoder.push(unit).unwrap();
        pictures.extend(std::iter::from_fn(|| transcoder.next_picture()));
    }
    let kbps =
        |pictures: &[EncodedPicture]| pictures.iter().map(bytes).sum::<usize>() * 8 / (pictures.len() * 40);
    let (before, after) = pictures.split_at(pictures.len() / 2);
    // The first two seconds after the change are a transition.
    let (before, after) = (kbps(before), kbps(&after[50..]));
    assert!(before > 1_500 && (500..=850).contains(&after), "{before} and {after} kbit/s");
}
