//! Transport streams against the standard, by a reader of its own that shares nothing with the product's: ten
//! minutes with B-frames and sound, counted packet by packet (ISO/IEC 13818-1).

#![expect(clippy::unwrap_used, clippy::panic, reason = "a test ends where something unexpected happens")]

use std::collections::HashMap;

use bytes::{Bytes, BytesMut};
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

fn headers(with_sound: bool) -> StreamHeaders {
    let mut sets = ParameterSets::new(VideoCodec::H264);
    sets.take(&Bytes::from_static(SPS));
    sets.take(&Bytes::from_static(PPS));
    let audio = with_sound.then(|| AudioConfig::aac(Bytes::from_static(&[0x11, 0x90])).unwrap());
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

fn sound(number: i64, base: i64) -> AccessUnit {
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
    let mut sounds =
        (0..seconds * TICKS_PER_SECOND / SOUND).map(move |number| sound(number, base)).peekable();
    std::iter::from_fn(move || match (pictures.peek(), sounds.peek()) {
        (Some(p), Some(s)) if s.dts < p.dts => sounds.next(),
        (Some(_), _) => pictures.next(),
        (None, _) => sounds.next(),
    })
}

/// The check value of annex A, written out a second time.
fn check_value(data: &[u8]) -> u32 {
    let mut register = u32::MAX;
    for byte in data {
        for bit in (0..8).rev() {
            let out = register >> 31 ^ u32::from(byte >> bit & 1);
            register <<= 1;
            if out == 1 {
                register ^= 0x04c1_1db7;
            }
        }
    }
    register
}

/// What the standard demands of a stream, checked packet by packet.
#[derive(Default)]
struct Inspector {
    counters: HashMap<u16, u8>,
    packets: u64,
    tables: HashMap<u16, i64>,
    /// Last clock reference, and the number of its packet.
    clock: Option<(i64, u64)>,
    /// Tables since then: their times are known once the next reference is.
    waiting: Vec<(u16, u64)>,
    longest_clock: i64,
    longest_tables: i64,
    units: HashMap<u16, i64>,
    starts: i64,
}

impl Inspector {
    fn take(&mut self, chunk: &Chunk) {
        assert_eq!(chunk.bytes.len() % 188, 0);
        assert_eq!(chunk.runs.iter().map(|run| run.packets).sum::<usize>() * 188, chunk.bytes.len());
        for packet in chunk.bytes.chunks(188) {
            self.take_packet(packet);
        }
    }

    fn take_packet(&mut self, packet: &[u8]) {
        self.packets += 1;
        assert_eq!(packet[0], 0x47, "packet {}", self.packets);
        assert_eq!(packet[1] & 0xa0, 0, "neither damaged nor of priority");
        let pid = u16::from_be_bytes([packet[1] & 0x1f, packet[2]]);
        assert!([0, 0x1000, 0x100, 0x101].contains(&pid), "PID {pid:#x}");
        assert_eq!(packet[3] & 0xc0, 0, "not scrambled");
        let (has_field, has_payload) = (packet[3] & 0x20 != 0, packet[3] & 0x10 != 0);
        assert!(has_field || has_payload, "adaptation_field_control 00 is reserved");
        let counter = packet[3] & 0x0f;
        if let Some(last) = self.counters.insert(pid, counter) {
            let expected = if has_payload { (last + 1) & 0x0f } else { last };
            assert_eq!(counter, expected, "packet {} of PID {pid:#x}", self.packets);
        }
        let mut payload_at = 4;
        let mut random_access = false;
        if has_field {
            let length = usize::from(packet[4]);
            assert!(if has_payload { length <= 182 } else { length == 183 }, "length {length}");
            payload_at = 5 + length;
            if length > 0 {
                assert_eq!(packet[5] & !0x50, 0, "only random access and PCR are in use");
                random_access = packet[5] & 0x40 != 0;
                let mut at = 6;
                if packet[5] & 0x10 != 0 {
                    assert_eq!(pid, 0x100);
                    self.take_clock(&packet[6..12]);
                    at = 12;
                }
                assert!(packet[at..payload_at].iter().all(|byte| *byte == 0xff), "stuffing");
            }
        }
        if has_payload {
            self.take_payload(pid, packet[1] & 0x40 != 0, random_access, &packet[payload_at..]);
        }
    }

    fn take_clock(&mut self, field: &[u8]) {
        let base = field[..5].iter().fold(0_i64, |sum, byte| sum << 8 | i64::from(*byte)) >> 7;
        assert_eq!(field[4] & 0x7e, 0x7e, "reserved bits are ones");
        if let Some((last, at)) = self.clock {
            let step = (base - last).rem_euclid(1 << 33);
            assert!(step > 0 && step < 1 << 32, "clock reference after {step} ticks: it must rise");
            self.longest_clock = self.longest_clock.max(step);
            for (pid, packet) in std::mem::take(&mut self.waiting) {
                // Packets between two references come evenly.
                let number = |packet: u64| i64::try_from(packet).unwrap();
                let share = step * (number(packet) - number(at)) / (number(self.packets) - number(at));
                let now = last + share;
                if let Some(before) = self.tables.insert(pid, now) {
                    self.longest_tables = self.longest_tables.max((now - before).rem_euclid(1 << 33));
                }
            }
        }
        self.clock = Some((base, self.packets));
    }

    fn take_payload(&mut self, pid: u16, starts: bool, random_access: bool, payload: &[u8]) {
        if pid == 0 || pid == 0x1000 {
            assert!(starts && payload[0] == 0, "a section begins with its packet");
            let length = usize::from(u16::from_be_bytes([payload[2] & 0x0f, payload[3]]));
            assert_eq!(check_value(&payload[1..4 + length]), 0, "CRC of the table on PID {pid}");
            assert!(payload[4 + length..].iter().all(|byte| *byte == 0xff));
            self.waiting.push((pid, self.packets));
            return;
        }
        assert!(self.packets > 2, "tables stand before the first unit");
        if starts {
            *self.units.entry(pid).or_default() += 1;
            self.take_unit(pid, random_access, payload);
        }
    }

    fn take_unit(&mut self, pid: u16, random_access: bool, payload: &[u8]) {
        assert_eq!(payload[..3], [0, 0, 1]);
        assert_eq!(payload[3], if pid == 0x100 { 0xe0 } else { 0xc0 });
        assert_eq!(payload[6] & 0xc0, 0x80);
        let time = |at: usize, prefix: u8| {
            let field = &payload[at..at + 5];
            assert_eq!(field[0] >> 4, prefix, "prefix of a time");
            assert!(field[0] & field[2] & field[4] & 1 == 1, "marker bits");
            i64::from(field[0] >> 1 & 7) << 30
                | i64::from(field[1]) << 22
                | i64::from(field[2] >> 1) << 15
                | i64::from(field[3]) << 7
                | i64::from(field[4] >> 1)
        };
        let (pts, dts) = match payload[7] >> 6 {
            2 => (time(9, 2), time(9, 2)),
            3 => (time(9, 3), time(14, 1)),
            other => panic!("PTS_DTS_flags {other}"),
        };
        let ahead = (dts - self.clock.unwrap().0).rem_euclid(1 << 33);
        assert!(ahead < TICKS_PER_SECOND, "a unit comes {ahead} ticks before its time");
        assert!((pts - dts).rem_euclid(1 << 33) < TICKS_PER_SECOND, "PTS before DTS");
        if pid == 0x100 {
            let data = &payload[9 + usize::from(payload[8])..];
            assert_eq!(data[..6], [0, 0, 0, 1, 9, 0xf0], "a delimiter comes first (2.14.1)");
            assert_eq!(data[6..11] == [0, 0, 0, 1, 0x67], random_access, "sets where decoding may start");
            self.starts += i64::from(random_access);
        }
    }
}

fn inspected(units: impl Iterator<Item = AccessUnit>, headers: &StreamHeaders) -> Inspector {
    let (mut muxer, mut inspector) = (Muxer::default(), Inspector::default());
    for unit in units {
        inspector.take(&muxer.write(&unit, headers));
    }
    assert!(inspector.longest_clock <= 3_600, "clock references {} ticks apart", inspector.longest_clock);
    assert!(inspector.longest_tables <= 9_000, "tables {} ticks apart", inspector.longest_tables);
    inspector
}

#[test]
fn ten_minutes_with_b_frames_and_sound_keep_to_the_standard() {
    let inspector = inspected(stream(600, 7_000), &headers(true));
    assert_eq!(inspector.units[&0x100], 600 * 25);
    // Three frames of sound travel together.
    assert_eq!(inspector.units[&0x101], 600 * TICKS_PER_SECOND / SOUND / 3);
    assert_eq!(inspector.starts, (600 * 25 + 47) / 48);
}

#[test]
fn a_slow_silent_picture_keeps_its_clock_references_and_tables() {
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
        units.extend((0..20 * TICKS_PER_SECOND / SOUND).map(|number| (number * SOUND, sound(number, 0))));
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

/// What a demuxer says of packets, with its last unit.
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
            TsEvent::Picture { dts, .. } => times.entry(Track::Video).or_default().push(dts),
            TsEvent::Sound { pts, .. } => times.entry(Track::Audio).or_default().push(pts),
            TsEvent::Problem(problem) => panic!("{problem}"),
            TsEvent::Program { .. } | TsEvent::Clock(_) => {}
        }
    }
    for (track, step) in [(Track::Video, FRAME), (Track::Audio, 3 * SOUND)] {
        assert!(times[&track].windows(2).all(|pair| pair[1] - pair[0] == step), "{track:?}");
    }
}

#[test]
fn what_was_written_comes_out_again_bit_for_bit() {
    let (headers, mut muxer) = (headers(true), Muxer::default());
    let units: Vec<AccessUnit> = stream(10, 0).collect();
    let bytes: Vec<u8> = units.iter().flat_map(|unit| muxer.write(unit, &headers).bytes.to_vec()).collect();
    let (mut pictures, mut sounds) = (Vec::new(), Vec::new());
    // In pieces that fit no packet.
    for event in demuxed(bytes.chunks(1_000).map(Bytes::copy_from_slice)) {
        match event {
            TsEvent::Picture { nals, random_access, pts, dts } => {
                pictures.push((nals.last().cloned(), random_access, pts - dts));
            }
            TsEvent::Sound { frames, config, .. } => {
                assert_eq!(Some(config), headers.audio);
                sounds.extend(frames);
            }
            TsEvent::Program { video, audio } => assert_eq!((video, audio), (Some(VideoCodec::H264), true)),
            TsEvent::Clock(_) => {}
            TsEvent::Problem(problem) => panic!("{problem}"),
        }
    }
    let mut sent_pictures = Vec::new();
    let mut sent_sounds = Vec::new();
    for unit in &units {
        match &unit.payload {
            Payload::Nals(nals) => {
                sent_pictures.push((nals.last().cloned(), unit.keyframe, unit.pts - unit.dts));
            }
            Payload::Frame(frame) => sent_sounds.push(frame.clone()),
        }
    }
    // The last frames of sound wait for more to travel with.
    assert!(sent_sounds.len() - sounds.len() < 3);
    sent_sounds.truncate(sounds.len());
    assert!(pictures == sent_pictures && sounds == sent_sounds);
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
fn sound_after_a_hole_is_told_its_own_time() {
    let (headers, mut muxer) = (headers(true), Muxer::default());
    let mut units: Vec<AccessUnit> = vec![picture(0, 0)];
    units.extend((0..8).map(|number| sound(if number < 4 { number } else { number + 20 }, 0)));
    units.push(picture(20, 0));
    let mut told = Vec::new();
    for event in demuxed(units.iter().map(|unit| muxer.write(unit, &headers).bytes)) {
        if let TsEvent::Sound { pts, frames, .. } = event {
            told.push((pts / SOUND, frames.len()));
        }
    }
    let first = told[0].0;
    assert_eq!(
        told.iter().map(|(at, count)| (at - first, *count)).collect::<Vec<_>>(),
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
fn lost_packets_are_told_and_the_unit_is_dropped() {
    let (headers, mut muxer) = (headers(false), Muxer::default());
    let packets = (0..3).map(|number| {
        let bytes = muxer.write(&picture(number, 0), &headers).bytes;
        // The tenth packet of the keyframe never comes.
        let gone = if number == 0 { 9..10 } else { 0..0 };
        Bytes::from([&bytes[..gone.start * PACKET], &bytes[gone.end * PACKET..]].concat())
    });
    let events = demuxed(packets);
    let pictures = events.iter().filter(|event| matches!(event, TsEvent::Picture { .. })).count();
    let problems = events.iter().filter(|event| matches!(event, TsEvent::Problem(_))).count();
    assert_eq!((pictures, problems), (2, 1));
}
