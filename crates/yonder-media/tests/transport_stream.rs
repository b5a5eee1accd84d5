//! Transport streams against the standard, by a reader of its own that shares nothing with the product's: ten
//! minutes with B-frames and sound, counted packet by packet (ISO/IEC 13818-1).

#![expect(clippy::unwrap_used, clippy::panic, reason = "a test ends where something unexpected happens")]

mod inspector;

use std::collections::HashMap;

use bytes::{Bytes, BytesMut};
use inspector::Inspector;
use rstest::rstest;
use yonder_media::ts::{Chunk, Demuxer, Muxer, PACKET, TsEvent};
use yonder_media::{
    AccessUnit, AudioConfig, ParameterSets, Payload, StreamHeaders, TICKS_PER_SECOND, Track, VideoCodec,
};

/// VGA, Baseline, with a picture parameter set.
const SPS: &[u8] = &[0x67, 0x42, 0x00, 0x1e, 0xda, 0x02, 0x80, 0xf6, 0x40];
const PPS: &[u8] = &[0x68, 0xce, 0x38, 0x80];
const FRAME: i64 = 3_600;
const SOUND: i64 = 1_920;

fn headers(with_audio: bool) -> StreamHeaders {
    let mut sets = ParameterSets::new(VideoCodec::H264);
    sets.take(&Bytes::from_static(SPS));
    sets.take(&Bytes::from_static(PPS));
    let audio = with_audio.then(|| AudioConfig::aac(Bytes::from_static(&[0x11, 0x90])).unwrap());
    StreamHeaders { video: sets.config(), audio }
}

/// A stream in which every third picture is shown after the two that hang between, with a keyframe every 48.
fn picture(number: i64, base: i64) -> AccessUnit {
    let keyframe = number % 48 == 0;
    let size = if keyframe { 41_000 } else { 900 + usize::try_from(number * 7_919 % 6_000).unwrap() };
    let later = if number % 3 == 0 { 3 } else { 0 };
    let mut nal = vec![0xb5; size];
    nal[0] = if keyframe { 0x65 } else { 0x41 };
    AccessUnit {
        track: Track::Video,
        dts: base + number * FRAME,
        pts: base + (number + later) * FRAME,
        keyframe,
        payload: Payload::Nals(vec![Bytes::from(nal)]),
    }
}

fn audio(number: i64, base: i64) -> AccessUnit {
    let at = base + number * SOUND;
    let frame = vec![0x21; 180 + usize::try_from(number % 90).unwrap()];
    AccessUnit {
        track: Track::Audio,
        dts: at,
        pts: at,
        keyframe: true,
        payload: Payload::Frame(frame.into()),
    }
}

/// Pictures and sound in the order of their times.
fn stream(seconds: i64, base: i64) -> impl Iterator<Item = AccessUnit> {
    let mut pictures = (0..seconds * 25).map(move |number| picture(number, base)).peekable();
    let mut audio_frames =
        (0..seconds * TICKS_PER_SECOND / SOUND).map(move |number| audio(number, base)).peekable();
    std::iter::from_fn(move || match (pictures.peek(), audio_frames.peek()) {
        (Some(p), Some(s)) if s.dts < p.dts => audio_frames.next(),
        (Some(_), _) => pictures.next(),
        (None, _) => audio_frames.next(),
    })
}

fn inspected(units: impl Iterator<Item = AccessUnit>, headers: &StreamHeaders) -> Inspector {
    let (mut muxer, mut inspector) = (Muxer::default(), Inspector::default());
    for unit in units {
        let chunk = muxer.write(&unit, headers);
        assert_eq!(chunk.runs.iter().map(|run| run.packets).sum::<usize>() * 188, chunk.bytes.len());
        inspector.take(&chunk.bytes);
    }
    inspector.assert_intervals();
    inspector
}

#[test]
fn ten_minutes_with_b_frames_and_audio_conform_to_the_standard() {
    let inspector = inspected(stream(600, 7_000), &headers(true));
    assert_eq!(inspector.units[&0x100], 600 * 25);
    // Three frames of sound travel together.
    assert_eq!(inspector.units[&0x101], 600 * TICKS_PER_SECOND / SOUND / 3);
    assert_eq!(inspector.starts, (600 * 25 + 47) / 48);
}

#[test]
fn slow_video_without_audio_has_regular_clock_references_and_tables() {
    let slow = (0..120).map(|number| {
        let at = number * 18_000;
        AccessUnit { dts: at, pts: at, ..picture(number * 48, 0) }
    });
    assert_eq!(inspected(slow, &headers(false)).starts, 120);
}

/// Frames at `fps` with a keyframe every `gop`, whose decoding times are `behind` ticks behind those of the audio; `jitter`
/// moves them by up to as many ticks.
fn clip(fps: i64, gop: i64, behind: i64, jitter: i64, has_audio: bool) -> Vec<AccessUnit> {
    let step = TICKS_PER_SECOND / fps;
    let mut units: Vec<(i64, AccessUnit)> = (0..20 * fps)
        .map(|number| {
            let arrival = number * step + (number * 7_919) % (2 * jitter + 1) - jitter;
            let unit = picture(if number % gop == 0 { 0 } else { number % 47 + 1 }, 0);
            (arrival, AccessUnit { dts: arrival - behind, pts: arrival, keyframe: number % gop == 0, ..unit })
        })
        .collect();
    if has_audio {
        units.extend((0..20 * TICKS_PER_SECOND / SOUND).map(|number| (number * SOUND, audio(number, 0))));
    }
    units.sort_by_key(|(arrival, _)| *arrival);
    units.into_iter().map(|(_, unit)| unit).collect()
}

#[rstest]
#[case::b_frames(clip(25, 50, 3 * FRAME, 0, true))]
#[case::deep_reordering(clip(25, 50, 6 * FRAME, 0, true))]
#[case::audio_far_ahead(clip(25, 50, 40_000, 0, true))]
#[case::irregular_b_frames(clip(25, 50, 2 * FRAME, 1_700, true))]
#[case::irregular_without_audio(clip(25, 50, 0, 1_700, false))]
#[case::no_audio(clip(25, 50, 0, 0, false))]
#[case::ten_frames_a_second(clip(10, 20, 0, 0, true))]
#[case::ten_frames_a_second_without_audio(clip(10, 20, 0, 0, false))]
#[case::three_frames_a_second(clip(3, 6, 0, 0, false))]
#[case::sixty_frames_a_second(clip(60, 120, 0, 0, true))]
#[case::one_keyframe_in_ten_seconds(clip(25, 250, 0, 400, true))]
fn clock_references_rise_every_40_ms_and_tables_come_every_100_ms(#[case] units: Vec<AccessUnit>) {
    let has_audio = units.iter().any(|unit| unit.track == Track::Audio);
    let frames = units.iter().filter(|unit| unit.track == Track::Video).count();
    let inspector = inspected(units.into_iter(), &headers(has_audio));
    assert_eq!(inspector.units[&0x100], i64::try_from(frames).unwrap());
}

/// Returns the events of packets, with the last unit.
fn demuxed(packets: impl Iterator<Item = Bytes>) -> Vec<TsEvent> {
    let mut demuxer = Demuxer::default();
    let mut input = BytesMut::new();
    let mut events = Vec::new();
    for bytes in packets {
        input.extend_from_slice(&bytes);
        demuxer.handle_input(&mut input);
        events.extend(std::iter::from_fn(|| demuxer.poll_event()));
    }
    demuxer.finish();
    events.extend(std::iter::from_fn(|| demuxer.poll_event()));
    events
}

#[test]
fn the_33_bit_wrap_is_crossed_without_a_gap() {
    let base = (1 << 33) - 5 * TICKS_PER_SECOND;
    inspected(stream(20, base), &headers(true));
    let (headers, mut muxer) = (headers(true), Muxer::default());
    let mut times: HashMap<Track, Vec<i64>> = HashMap::new();
    for event in demuxed(stream(20, base).map(|unit| muxer.write(&unit, &headers).bytes)) {
        match event {
            TsEvent::VideoFrame { dts, .. } => times.entry(Track::Video).or_default().push(dts),
            TsEvent::AudioFrames { pts, .. } => times.entry(Track::Audio).or_default().push(pts),
            TsEvent::Problem(problem) => panic!("{problem}"),
            TsEvent::Program { .. } | TsEvent::Clock(_) => {}
        }
    }
    for (track, step) in [(Track::Video, FRAME), (Track::Audio, 3 * SOUND)] {
        assert!(times[&track].windows(2).all(|pair| pair[1] - pair[0] == step), "{track:?}");
    }
}

#[test]
fn demuxed_stream_equals_the_muxed_one() {
    let (headers, mut muxer) = (headers(true), Muxer::default());
    let units: Vec<AccessUnit> = stream(10, 0).collect();
    let bytes: Vec<u8> = units.iter().flat_map(|unit| muxer.write(unit, &headers).bytes.to_vec()).collect();
    let (mut pictures, mut audio_frames) = (Vec::new(), Vec::new());
    // In pieces that fit no packet.
    for event in demuxed(bytes.chunks(1_000).map(Bytes::copy_from_slice)) {
        match event {
            TsEvent::VideoFrame { nals, random_access, pts, dts } => {
                pictures.push((nals.last().cloned(), random_access, pts - dts));
            }
            TsEvent::AudioFrames { frames, config, .. } => {
                assert_eq!(Some(config), headers.audio);
                audio_frames.extend(frames);
            }
            TsEvent::Program { video, audio } => assert_eq!((video, audio), (Some(VideoCodec::H264), true)),
            TsEvent::Clock(_) => {}
            TsEvent::Problem(problem) => panic!("{problem}"),
        }
    }
    let mut sent_pictures = Vec::new();
    let mut sent_audio = Vec::new();
    for unit in &units {
        match &unit.payload {
            Payload::Nals(nals) => {
                sent_pictures.push((nals.last().cloned(), unit.keyframe, unit.pts - unit.dts));
            }
            Payload::Frame(frame) => sent_audio.push(frame.clone()),
        }
    }
    // The last frames of sound wait for more to travel with.
    assert!(sent_audio.len() - audio_frames.len() < 3);
    sent_audio.truncate(audio_frames.len());
    assert!(pictures == sent_pictures && audio_frames == sent_audio);
}

#[test]
fn packets_are_spread_over_the_picture_and_never_step_back() {
    let (headers, mut muxer) = (headers(true), Muxer::default());
    let mut last = i64::MIN;
    for unit in stream(20, 0) {
        let chunk = muxer.write(&unit, &headers);
        let groups: Vec<(i64, Bytes)> = chunk.groups(7).collect();
        assert_eq!(groups.iter().map(|(_, bytes)| bytes.len()).sum::<usize>(), chunk.bytes.len());
        for (clock, bytes) in &groups {
            assert!(*clock >= last, "{clock} after {last}");
            assert!(bytes.len() <= 7 * PACKET);
            assert!((clock - unit.dts).abs() <= 7_200, "{} ticks from the unit's time", clock - unit.dts);
            last = *clock;
        }
        if unit.keyframe && unit.track == Track::Video {
            let span = groups.last().unwrap().0 - groups[0].0;
            assert!(span > FRAME / 3, "a keyframe is spread over {span} ticks only");
        }
    }
}

#[test]
fn audio_after_a_gap_has_its_own_timestamp() {
    let (headers, mut muxer) = (headers(true), Muxer::default());
    let mut units: Vec<AccessUnit> = vec![picture(0, 0)];
    units.extend((0..8).map(|number| audio(if number < 4 { number } else { number + 20 }, 0)));
    units.push(picture(20, 0));
    let mut received = Vec::new();
    for event in demuxed(units.iter().map(|unit| muxer.write(unit, &headers).bytes)) {
        if let TsEvent::AudioFrames { pts, frames, .. } = event {
            received.push((pts / SOUND, frames.len()));
        }
    }
    let first = received[0].0;
    assert_eq!(
        received.iter().map(|(at, count)| (at - first, *count)).collect::<Vec<_>>(),
        [(0, 3), (3, 1), (24, 3)]
    );
}

#[test]
fn other_streams_are_a_new_version_of_the_map() {
    let mut muxer = Muxer::default();
    let version = |chunk: &Chunk| {
        let map = chunk.bytes.chunks(PACKET).find(|packet| packet[1] & 0x1f == 0x10 && packet[2] == 0);
        map.map(|packet| packet[10] >> 1 & 0x1f)
    };
    assert_eq!(version(&muxer.write(&picture(0, 0), &headers(false))), Some(0));
    assert_eq!(version(&muxer.write(&picture(1, 0), &headers(true))), Some(1));
}

#[test]
fn lost_packets_are_reported_and_the_unit_is_dropped() {
    let (headers, mut muxer) = (headers(false), Muxer::default());
    let packets = (0..3).map(|number| {
        let bytes = muxer.write(&picture(number, 0), &headers).bytes;
        // The tenth packet of the keyframe never comes.
        let gone = if number == 0 { 9..10 } else { 0..0 };
        Bytes::from([&bytes[..gone.start * PACKET], &bytes[gone.end * PACKET..]].concat())
    });
    let events = demuxed(packets);
    let pictures = events.iter().filter(|event| matches!(event, TsEvent::VideoFrame { .. })).count();
    let problems = events.iter().filter(|event| matches!(event, TsEvent::Problem(_))).count();
    assert_eq!((pictures, problems), (2, 1));
}
