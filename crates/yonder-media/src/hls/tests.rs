use std::sync::Arc;

use bytes::Bytes;
use proptest::prelude::*;
use rstest::rstest;

use super::*;
use crate::h264;
use crate::stream::{AudioConfig, StreamHeaders, VideoConfig};
use crate::timeline::Timestamps;
use crate::unit::{AccessUnit, Payload, Track};

const FRAME: i64 = 3_600;
const SECOND: i64 = 90_000;
const MAX_BYTES: usize = 1 << 20;
const CONFIG: PackagerConfig =
    PackagerConfig { first_number: 100, min_ticks: 3 * SECOND / 2, max_bytes: MAX_BYTES };

fn headers(pps: u8, has_audio: bool) -> Arc<StreamHeaders> {
    let mut sets = h264::ParameterSets::default();
    sets.take(&Bytes::from_static(h264::sps::tests::SAMPLE_HIGH_1080P));
    sets.take(&Bytes::copy_from_slice(&[0x68, 0xce, 0x3c, pps]));
    Arc::new(StreamHeaders {
        video: sets.config().map(VideoConfig::H264),
        audio: AudioConfig::aac(Bytes::from_static(&[0x11, 0x90])).filter(|_| has_audio),
    })
}

/// A packager, what it has made, and the window of it.
struct Bench {
    packager: Packager,
    segments: Vec<Segment>,
    window: LiveWindow,
    headers: Arc<StreamHeaders>,
    /// Time of the next frame.
    dts: i64,
    audio_dts: i64,
    has_audio: bool,
    wall_offset_ms: i64,
}

impl Default for Bench {
    fn default() -> Self {
        Self {
            packager: Packager::new(CONFIG),
            segments: Vec::new(),
            window: LiveWindow::new(7),
            headers: headers(0x80, true),
            dts: 0,
            audio_dts: 0,
            has_audio: true,
            wall_offset_ms: 0,
        }
    }
}

impl Bench {
    fn unit(&mut self, unit: &AccessUnit) {
        let times = Timestamps { dts: unit.dts, pts: unit.pts };
        let offset = self.wall_offset_ms;
        let wall = |ticks: i64| 1_800_000_000_000 + offset + ticks / 90;
        let made = self.packager.handle_unit(unit, times, &self.headers, wall);
        self.keep(made);
    }

    fn keep(&mut self, segment: Option<Segment>) {
        if let Some(segment) = segment {
            self.window.push(segment.clone(), 64 * MAX_BYTES);
            self.segments.push(segment);
        }
    }

    fn video(&mut self, keyframe: bool, bytes: usize) {
        let (dts, nal) = (self.dts, if keyframe { 0x65 } else { 0x41 });
        let payload = Payload::Nals(vec![Bytes::from(vec![nal; bytes])]);
        self.unit(&AccessUnit { track: Track::Video, dts, pts: dts + 2 * FRAME, keyframe, payload });
        self.dts += FRAME;
        while self.has_audio && self.audio_dts < self.dts {
            let payload = Payload::Frame(Bytes::from_static(&[1; 100]));
            let dts = self.audio_dts;
            self.unit(&AccessUnit { track: Track::Audio, dts, pts: dts, keyframe: true, payload });
            self.audio_dts += 1_920;
        }
    }

    /// Sends groups of pictures of `frames` frames.
    fn gops(&mut self, count: usize, frames: usize) {
        for at in 0..count * frames {
            self.video(at % frames == 0, 1_000);
        }
    }

    fn playlist(&self) -> String {
        media_playlist(&self.window).unwrap()
    }
}

#[test]
fn segments_are_cut_at_keyframes_and_continue_each_other() {
    let mut bench = Bench::default();
    bench.gops(10, 25);
    // Keyframes every second: two of them in a segment.
    let facts: Vec<_> =
        bench.segments.iter().map(|s| (s.number, s.ticks, s.frames, s.is_discontinuous)).collect();
    let expected: Vec<_> = (100..104).map(|number| (number, 2 * SECOND, 50, false)).collect();
    assert_eq!(facts, expected);
    let begins: Vec<_> = bench.segments.iter().map(|s| s.begins_ms - 1_800_000_000_000).collect();
    assert_eq!(begins, [80, 2_080, 4_080, 6_080], "times of presentation");
    let (pieces, init) = (&bench.segments[0].pieces, &bench.segments[0].init);
    assert_eq!(pieces[1].len(), 50 * 1_004, "video with length prefixes");
    assert_eq!(pieces[2].len() % 100, 0);
    assert_eq!((init.codecs.as_str(), init.width, init.height), ("avc1.640028,mp4a.40.2", 1_920, 1_080));
    assert!(bench.segments.iter().all(|segment| Arc::ptr_eq(&segment.init, init)));
}

#[test]
fn playlists_are_written_as_the_standard_says() {
    let mut bench = Bench::default();
    assert_eq!((master_playlist(&bench.window), media_playlist(&bench.window)), (None, None));
    bench.gops(4, 50);
    assert_eq!(
        bench.playlist(),
        "#EXTM3U\n#EXT-X-VERSION:6\n#EXT-X-TARGETDURATION:2\n#EXT-X-MEDIA-SEQUENCE:100\n\
         #EXT-X-DISCONTINUITY-SEQUENCE:0\n#EXT-X-INDEPENDENT-SEGMENTS\n\
         #EXT-X-MAP:URI=\"init-100.mp4\"\n\
         #EXT-X-PROGRAM-DATE-TIME:2027-01-15T08:00:00.080Z\n#EXTINF:2.000000,\nsegment-100.m4s\n\
         #EXT-X-PROGRAM-DATE-TIME:2027-01-15T08:00:02.080Z\n#EXTINF:2.000000,\nsegment-101.m4s\n\
         #EXT-X-PROGRAM-DATE-TIME:2027-01-15T08:00:04.080Z\n#EXTINF:2.000000,\nsegment-102.m4s\n"
    );
    let rate = bench.window.peak_rate();
    assert_eq!(
        master_playlist(&bench.window).unwrap(),
        format!(
            "#EXTM3U\n#EXT-X-VERSION:6\n#EXT-X-INDEPENDENT-SEGMENTS\n\
             #EXT-X-STREAM-INF:BANDWIDTH={rate},AVERAGE-BANDWIDTH={},CODECS=\"avc1.640028,mp4a.40.2\",\
             RESOLUTION=1920x1080,FRAME-RATE=25.000\nmedia-7-2.m3u8\n",
            bench.window.average_rate()
        )
    );
    bench.window.end();
    assert!(bench.playlist().ends_with("#EXT-X-ENDLIST\n"));
}

#[test]
fn a_gap_of_the_video_is_a_discontinuity_and_counts_when_it_leaves_the_playlist() {
    let mut bench = Bench::default();
    bench.gops(2, 50);
    bench.dts += 10 * SECOND;
    bench.audio_dts += 10 * SECOND;
    // Frames before the keyframe cannot be decoded.
    bench.video(false, 500);
    bench.gops(3, 50);
    let kinds: Vec<_> = bench.segments.iter().map(|s| (s.ticks, s.is_discontinuous)).collect();
    assert_eq!(kinds, [(180_000, false), (180_000, false), (180_000, true), (180_000, false)]);
    assert!(bench.playlist().contains("segment-101.m4s\n#EXT-X-DISCONTINUITY\n#EXT-X-PROGRAM"));
    assert_eq!(bench.window.discontinuity_sequence(), 0);
    bench.gops(10, 50);
    let playlist = bench.playlist();
    assert!(playlist.contains("#EXT-X-DISCONTINUITY-SEQUENCE:1\n"), "{playlist}");
    assert!(!playlist.contains("#EXT-X-DISCONTINUITY\n"), "{playlist}");
}

#[test]
fn dates_continue_each_other_unless_the_wall_clock_is_stepped() {
    let mut bench = Bench::default();
    // A jitter of the wall clock, and then a step.
    for (at, off) in [0, 300, -200, 3_600_000, 3_600_100].into_iter().enumerate() {
        bench.wall_offset_ms = off;
        bench.gops(1, 50);
        assert_eq!(bench.segments.len(), at);
    }
    let begins: Vec<_> = bench.segments.iter().map(|s| s.begins_ms - 1_800_000_000_080).collect();
    assert_eq!(begins, [0, 2_000, 4_000, 3_606_000]);
}

#[test]
fn other_headers_begin_a_segment_and_former_ones_name_their_section_again() {
    let mut bench = Bench::default();
    let (feed, slate) = (headers(0x80, true), headers(0xc0, true));
    for headers in [&feed, &slate, &feed] {
        bench.headers = Arc::clone(headers);
        bench.gops(1, 25);
    }
    // The same content in another object is no change.
    bench.headers = headers(0x80, true);
    bench.gops(2, 50);
    let made: Vec<_> = bench.segments.iter().map(|s| (s.init.number, s.frames, s.is_discontinuous)).collect();
    assert_eq!(made, [(100, 25, false), (101, 25, true), (100, 75, true)]);
}

#[test]
fn segments_without_audio_do_not_announce_any() {
    let mut bench = Bench::default();
    bench.gops(1, 50);
    bench.has_audio = false;
    bench.gops(2, 50);
    bench.has_audio = true;
    bench.audio_dts = bench.dts;
    bench.gops(3, 50);
    bench.headers = headers(0x80, false);
    bench.has_audio = false;
    bench.gops(2, 50);
    let codecs: Vec<_> = bench.segments.iter().map(|s| s.init.codecs.contains("mp4a")).collect();
    let is_discontinuous: Vec<_> = bench.segments.iter().map(|s| s.is_discontinuous).collect();
    assert_eq!(codecs, [true, false, false, true, true, true, false]);
    assert_eq!(is_discontinuous, [false, true, false, true, false, false, true]);
}

#[test]
fn audio_whose_headers_come_in_mid_segment_waits_for_the_keyframe() {
    let mut bench = Bench { headers: headers(0x80, false), ..Bench::default() };
    bench.has_audio = false;
    bench.gops(1, 25);
    bench.headers = headers(0x80, true);
    bench.has_audio = true;
    bench.audio_dts = bench.dts;
    for _ in 0..25 {
        bench.video(false, 1_000);
    }
    bench.gops(2, 50);
    let codecs: Vec<_> = bench.segments.iter().map(|s| s.init.codecs.contains("mp4a")).collect();
    assert_eq!(codecs, [false, true]);
}

#[test]
fn a_longer_keyframe_interval_begins_another_playlist() {
    let mut bench = Bench::default();
    bench.gops(4, 50);
    bench.gops(2, 250);
    let playlist = bench.playlist();
    assert!(
        playlist.contains("TARGETDURATION:10\n") && playlist.matches("#EXTINF").count() == 1,
        "{playlist}"
    );
    assert!(master_playlist(&bench.window).unwrap().ends_with("media-7-10.m3u8\n"));
    // A return to short ones does not change it again.
    bench.gops(10, 50);
    assert!(bench.playlist().contains("TARGETDURATION:10\n"));
}

#[test]
fn segments_stay_available_for_the_duration_of_the_playlist_after_they_have_left_it() {
    let mut bench = Bench::default();
    bench.gops(40, 50);
    let listed: Vec<u64> = bench.window.listed().map(|segment| segment.number).collect();
    assert_eq!(listed, [133, 134, 135, 136, 137, 138]);
    assert!(bench.window.segment(126).is_some() && bench.window.segment(125).is_none());
    assert!(bench.window.init(100).is_some() && bench.window.init(99).is_none());
}

#[test]
fn size_of_the_window_and_of_a_segment_is_bounded() {
    let mut bench = Bench::default();
    bench.video(true, 1_000);
    for _ in 0..40 {
        bench.video(false, 100_000);
    }
    assert!(bench.segments.is_empty() && bench.packager.discarded() > 0);
    bench.gops(3, 50);
    assert!(bench.segments[0].is_discontinuous);
    let mut window = LiveWindow::new(0);
    for segment in bench.segments.iter().cycle().take(20) {
        window.push(segment.clone(), 130_000);
    }
    assert!(window.bytes() <= 130_000 && window.listed().count() == 2, "{}", window.bytes());
}

#[test]
fn a_cut_ends_the_segment_with_what_it_has() {
    let mut bench = Bench::default();
    bench.gops(1, 10);
    let made = bench.packager.cut();
    bench.keep(made);
    assert_eq!((bench.segments[0].ticks, bench.segments[0].frames), (10 * FRAME, 10));
    assert_eq!(bench.packager.cut(), None);
    // The other output's clock is behind.
    bench.dts = 0;
    bench.audio_dts = 0;
    bench.gops(2, 50);
    assert!(bench.segments[1].is_discontinuous);
}

/// Event on an output.
#[derive(Debug, Clone)]
enum Step {
    Gops(usize, usize),
    Gap(i64),
    Headers(u8, bool),
    Audio(bool),
    Cut,
}

fn steps() -> impl Strategy<Value = Vec<Step>> {
    let step = prop_oneof![
        4 => (1..6_usize, 1..120_usize).prop_map(|(count, frames)| Step::Gops(count, frames)),
        1 => (1..20_i64).prop_map(|seconds| Step::Gap(seconds * SECOND)),
        1 => (any::<bool>(), any::<bool>()).prop_map(|(slate, audio)| Step::Headers(if slate { 0xc0 } else { 0x80 }, audio)),
        1 => any::<bool>().prop_map(Step::Audio),
        1 => Just(Step::Cut),
    ];
    prop::collection::vec(step, 1..40)
}

/// Numbers of the tags of a playlist.
fn number(playlist: &str, tag: &str) -> u64 {
    playlist.lines().find_map(|line| line.strip_prefix(tag)).unwrap().parse().unwrap()
}

proptest! {
    /// Successive playlists follow 4.3 and 6.2: durations fit the target, numbers rise by one, and the discontinuity number of
    /// a segment is the same in every playlist.
    #[test]
    fn playlists_of_any_output_are_consistent(steps in steps()) {
        let mut bench = Bench::default();
        let mut known: std::collections::BTreeMap<u64, (u64, String)> = std::collections::BTreeMap::new();
        let mut seen = 0;
        for step in steps {
            match step {
                Step::Gops(count, frames) => bench.gops(count, frames),
                Step::Gap(ticks) => {
                    bench.dts += ticks;
                    bench.audio_dts = bench.dts;
                }
                Step::Headers(pps, audio) => bench.headers = headers(pps, audio),
                Step::Audio(has_audio) => {
                    bench.has_audio = has_audio;
                    bench.audio_dts = bench.dts;
                }
                Step::Cut => {
                    let made = bench.packager.cut();
                    bench.keep(made);
                }
            }
            let Some(playlist) = media_playlist(&bench.window) else { continue };
            let target = number(&playlist, "#EXT-X-TARGETDURATION:");
            let first = number(&playlist, "#EXT-X-MEDIA-SEQUENCE:");
            prop_assert!(first >= seen);
            seen = first;
            let mut discontinuity = number(&playlist, "#EXT-X-DISCONTINUITY-SEQUENCE:");
            let (mut expected, mut duration) = (first, 0.0);
            for (at, line) in playlist.lines().enumerate() {
                if line == "#EXT-X-DISCONTINUITY" {
                    discontinuity += 1;
                } else if let Some(text) = line.strip_prefix("#EXTINF:") {
                    duration = text.trim_end_matches(',').parse::<f64>().unwrap();
                    prop_assert!(duration.round() <= target as f64, "{duration} over {target}");
                } else if !line.starts_with('#') {
                    prop_assert_eq!(line, format!("segment-{expected}.m4s"), "line {}", at);
                    let entry = (discontinuity, format!("{duration}"));
                    let before = known.entry(expected).or_insert_with(|| entry.clone());
                    prop_assert_eq!(&*before, &entry, "segment {}", expected);
                    expected += 1;
                }
            }
            for segment in bench.window.listed() {
                let parts = segment.pieces.iter().map(Bytes::len).sum::<usize>();
                prop_assert!(parts > 0 && segment.ticks > 0 && segment.frames > 0);
                prop_assert!(bench.window.init(segment.init.number).is_some());
            }
        }
    }
}

#[rstest]
#[case::exact(180_000, 2)]
#[case::below_a_half(224_999, 2)]
#[case::half(225_000, 3)]
fn durations_are_rounded_for_the_target(#[case] ticks: i64, #[case] seconds: u64) {
    let mut bench = Bench::default();
    bench.gops(2, 50);
    let segment = Segment { ticks, ..bench.segments.remove(0) };
    assert_eq!(segment.rounded_s(), seconds);
}
