use std::sync::Arc;

use bytes::Bytes;
use rstest::rstest;
use yonder_media::hls::{LiveWindow, Packager, PackagerConfig, Segment, media_playlist};
use yonder_media::timeline::Timestamps;
use yonder_media::{AccessUnit, Payload, StreamHeaders, Track};

use super::{HlsChecker, Wanted};
use crate::railway_feeds;

/// Ticks of a frame at 25 frames per second.
const FRAME: i64 = 3_600;

/// Returns a stream of video without faults.
fn segments() -> Vec<Segment> {
    let media = railway_feeds()[0].main();
    let headers = Arc::new(StreamHeaders { video: Some(media.video), audio: None });
    let config = PackagerConfig { first_number: 10, min_ticks: 135_000, max_bytes: 1 << 20 };
    let mut packager = Packager::new(config);
    let unit = |at: i64| {
        let keyframe = at % 50 == 0;
        let payload = Payload::Nals(vec![Bytes::from(vec![if keyframe { 0x65 } else { 0x41 }; 100])]);
        AccessUnit { track: Track::Video, dts: at * FRAME, pts: at * FRAME, keyframe, payload }
    };
    let handle = |at: i64| {
        let (unit, times) = (unit(at), Timestamps { dts: at * FRAME, pts: at * FRAME });
        packager.handle_unit(&unit, times, &headers, |ticks| 1_800_000_000_000 + ticks / 90)
    };
    (0..501).filter_map(handle).collect()
}

/// Passes a stream through a checker; `change` changes the text of each playlist, and the data of each segment.
fn faults(change: impl Fn(usize, String) -> String, spoil: impl Fn(u64, Vec<u8>) -> Vec<u8>) -> Vec<String> {
    let (mut checker, mut window) = (HlsChecker::default(), LiveWindow::new(1));
    for (at, segment) in segments().into_iter().enumerate() {
        window.push(segment, 1 << 24);
        let Some(playlist) = media_playlist(&window) else { continue };
        for wanted in checker.playlist(&change(at, playlist)) {
            match wanted {
                Wanted::Init(uri) => checker.init(&uri, &window.newest().unwrap().init.bytes),
                Wanted::Segment(number, _) => {
                    let data = window.segment(number).map(|segment| segment.pieces.concat());
                    checker.segment(number, &spoil(number, data.unwrap_or_default()).into());
                }
            }
        }
    }
    checker.faults().to_vec()
}

#[test]
fn a_stream_without_faults_has_none() {
    assert_eq!(faults(|_, text| text, |_, data| data), [""; 0]);
}

#[rstest]
#[case::no_header("#EXTM3U\n", "", "#EXTM3U")]
#[case::old_version("VERSION:6", "VERSION:5", "version 6")]
#[case::target_changes("TARGETDURATION:2", "TARGETDURATION:3", "target duration changed")]
#[case::too_long("#EXTINF:2.0", "#EXTINF:3.0", "lasts 3")]
#[case::changed_segment("08:00:02.000Z", "08:00:02.500Z", "changed")]
#[case::date_jumps("08:00:10.000Z", "08:00:11.000Z", "date is off")]
#[case::section_without_discontinuity(
    "08:00:10.000Z\n",
    "08:00:10.000Z\n#EXT-X-MAP:URI=\"init-11.mp4\"\n",
    "without a discontinuity"
)]
#[case::sequence_steps_back("MEDIA-SEQUENCE:1", "MEDIA-SEQUENCE:0", "media sequence number")]
#[case::no_duration("#EXTINF:2.000000,\n", "", "no EXTINF")]
fn faults_of_a_playlist_are_found(#[case] from: &str, #[case] to: &str, #[case] expected: &str) {
    // The first playlists are right.
    let found = faults(|at, text| if at < 5 { text } else { text.replace(from, to) }, |_, data| data);
    assert!(found.iter().any(|fault| fault.contains(expected)), "{found:?}");
}

/// Replaces the bytes at an offset from a marker.
fn replaced(mut data: Vec<u8>, marker: &[u8], offset: usize, bytes: &[u8]) -> Vec<u8> {
    let at = data.windows(marker.len()).position(|window| window == marker).unwrap() + offset;
    data.splice(at..at + bytes.len(), bytes.iter().copied());
    data
}

#[rstest]
// The decoding time of a track.
#[case::time_steps(b"tfdt", 8, &[0, 0, 1, 0], "steps from")]
// The flags of the first sample.
#[case::no_keyframe(b"trun", 24, &[1, 1, 0, 0], "does not begin with a keyframe")]
// The duration of the first sample.
#[case::duration(b"trun", 16, &[0, 1, 0, 0], "s of video")]
// The size of the first sample.
#[case::size(b"trun", 20, &[0, 0, 0, 1], "bytes of the mdat")]
#[case::no_fragment(b"moof", 0, b"free", "where a moof is expected")]
#[case::no_data(b"mdat", 0, b"free", "no mdat")]
fn faults_of_a_segment_are_found(
    #[case] marker: &[u8],
    #[case] offset: usize,
    #[case] bytes: &[u8],
    #[case] expected: &str,
) {
    let spoil = |number, data| if number == 12 { replaced(data, marker, offset, bytes) } else { data };
    let found = faults(|_, text| text, spoil);
    assert!(found.iter().any(|fault| fault.contains(expected)), "{found:?}");
}

#[test]
fn an_initialization_section_without_tracks_is_a_fault() {
    let mut checker = HlsChecker::default();
    checker.init("init-1.mp4", b"\0\0\0\x08free");
    assert!(checker.faults()[0].contains("ftyp"), "{:?}", checker.faults());
}
