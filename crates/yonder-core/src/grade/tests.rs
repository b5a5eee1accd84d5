use super::*;
use rstest::rstest;

enum Came {
    Headers,
    /// Milliseconds, keyframe.
    Picture(i64, bool),
    Sound(i64),
}

use Came::{Headers, Picture, Sound};

fn graded(came: &[Came]) -> ChannelReport {
    let mut grader = Grader::default();
    grader.begin(Duration::ZERO);
    let mut now = Duration::ZERO;
    for came in came {
        match *came {
            Headers => grader.add_video_headers(None),
            Picture(ms, keyframe) => {
                now = Duration::from_millis(u64::try_from(ms).unwrap());
                let picture = FrameInfo { dts: ms * 90, pts: ms * 90, keyframe, bytes: 5_000 };
                grader.add_frame(picture, now);
            }
            Sound(ms) => grader.add_audio(ms * 90, 100, now),
        }
    }
    grader.report(true, 1, now)
}

#[test]
fn conforming_stream_has_no_findings() {
    let came: Vec<Came> =
        std::iter::once(Headers).chain((0..=250).map(|i| Picture(i * 40, i % 50 == 0))).collect();
    let report = graded(&came);
    assert_eq!(report.findings, Vec::new());
    assert_eq!((report.keyframe_ms, report.fps, report.b_frames), (2_000, Some(25.0), false));
    assert!((990..=1_010).contains(&report.video_kbps) && report.peak_kbps >= 1_000, "{report:?}");
}

#[rstest]
#[case::nothing(&[], Finding::Empty)]
#[case::no_headers(&[Picture(0, true)], Finding::NoHeaders)]
#[case::no_keyframe(&[Headers, Picture(0, false)], Finding::FirstNotKeyframe)]
#[case::step_back(&[Headers, Picture(40, true), Picture(0, false)], Finding::TimeStepsBack(MediaKind::Video))]
#[case::hole(&[Headers, Picture(0, true), Picture(2_000, false)], Finding::Gap(MediaKind::Video, 2_000))]
#[case::skew(&[Headers, Picture(900, true), Sound(0)], Finding::Skew(900))]
fn faults_are_found(#[case] came: &[Came], #[case] finding: Finding) {
    assert_eq!(graded(came).findings, vec![finding]);
}

#[test]
fn gap_in_both_tracks_is_no_skew() {
    let holes = [[Picture(3_000, true), Sound(3_000)], [Sound(3_000), Picture(3_000, true)]];
    for hole in holes {
        let before = [Headers, Picture(0, true), Sound(0), Picture(40, false)];
        let after = [Picture(3_040, false), Sound(3_040)];
        let came: Vec<Came> = before.into_iter().chain(hole).chain(after).collect();
        let findings = graded(&came).findings;
        assert!(!findings.iter().any(|finding| matches!(finding, Finding::Skew(_))), "{findings:?}");
    }
}

#[test]
fn keyframes_far_apart_are_found() {
    let came: Vec<Came> =
        std::iter::once(Headers).chain((0..=10).map(|i| Picture(i * 1_000, i % 5 == 0))).collect();
    assert_eq!(graded(&came).findings, vec![Finding::KeyframesFarApart(5_000)]);
}

#[test]
fn real_time_stall_is_found_although_media_time_advances() {
    let mut grader = Grader::default();
    grader.begin(Duration::ZERO);
    grader.add_video_headers(None);
    for (dts, seconds) in [(0, 0), (3_600, 4)] {
        let picture = FrameInfo { dts, pts: dts, keyframe: dts == 0, bytes: 1 };
        grader.add_frame(picture, Duration::from_secs(seconds));
    }
    let report = grader.report(true, 1, Duration::from_secs(4));
    assert_eq!(report.findings, vec![Finding::Stalled(Duration::from_secs(4))]);
}

#[test]
fn reordered_pictures_do_not_count_as_skew() {
    let mut grader = Grader::default();
    grader.begin(Duration::ZERO);
    grader.add_video_headers(None);
    grader.add_frame(FrameInfo { dts: 0, pts: 60_000, keyframe: true, bytes: 1 }, Duration::ZERO);
    grader.add_audio(60_000, 1, Duration::ZERO);
    let report = grader.report(true, 1, Duration::ZERO);
    assert!(report.b_frames);
    assert!(report.skew_ms > 0);
}
