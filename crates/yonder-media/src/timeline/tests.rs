use super::*;
use proptest::prelude::*;

const FRAME: u32 = 3_600;

fn ms(ms: u64) -> Duration {
    Duration::from_millis(ms)
}

fn video_timeline(reorder: u8) -> Timeline {
    let mut timeline = Timeline::default();
    timeline.configure(
        Track::Video,
        TrackTiming { clock_rate: 90_000, reorder_frames: Some(reorder), frame_ticks: Some(3_600) },
    );
    timeline.configure(
        Track::Audio,
        TrackTiming { clock_rate: 48_000, reorder_frames: Some(0), frame_ticks: Some(1_920) },
    );
    timeline
}

#[test]
fn the_first_unit_is_at_zero_and_time_follows_the_camera() {
    let mut timeline = video_timeline(0);
    assert_eq!(timeline.stamp(Track::Video, 5_000, true, ms(7)), Timestamps { dts: 0, pts: 0 });
    assert_eq!(
        timeline.stamp(Track::Video, 5_000 + FRAME, true, ms(60)),
        Timestamps { dts: 3_600, pts: 3_600 }
    );
}

#[test]
fn decoding_starts_before_presentation_when_pictures_are_reordered() {
    let mut timeline = video_timeline(1);
    let stamps: Vec<Timestamps> =
        [0, 2, 1].iter().map(|frame| timeline.stamp(Track::Video, frame * FRAME, true, ms(0))).collect();
    assert_eq!(
        stamps,
        vec![
            Timestamps { dts: 0, pts: 3_600 },
            Timestamps { dts: 3_600, pts: 10_800 },
            Timestamps { dts: 7_200, pts: 7_200 }
        ]
    );
}

#[test]
fn the_wrap_of_rtp_time_is_crossed_without_a_gap() {
    let mut timeline = video_timeline(0);
    let start = u32::MAX - FRAME - 10;
    let stamps: Vec<i64> = (0..5_u32)
        .map(|i| timeline.stamp(Track::Video, start.wrapping_add(i * FRAME), true, ms(u64::from(i) * 40)).dts)
        .collect();
    assert_eq!(stamps, vec![0, 3_600, 7_200, 10_800, 14_400]);
}

#[test]
fn many_wraps_over_thirty_days_leave_no_gap() {
    let mut timeline = video_timeline(0);
    let mut last = timeline.stamp(Track::Video, 0, true, Duration::ZERO).dts;
    // One unit every second; 13 hours make one wrap.
    for second in 1..=30 * 86_400_u64 {
        let rtp = u32::try_from(second * 90_000 % (1 << 32)).unwrap();
        let dts = timeline.stamp(Track::Video, rtp, true, Duration::from_secs(second)).dts;
        assert_eq!(dts - last, 90_000, "second {second}");
        last = dts;
    }
}

#[test]
fn a_new_session_joins_on_after_the_time_that_passed() {
    let mut timeline = video_timeline(0);
    timeline.stamp(Track::Video, 1_000, true, ms(0));
    timeline.stamp(Track::Video, 1_000 + FRAME, true, ms(40));
    timeline.begin_session();
    let stamp = timeline.stamp(Track::Video, 4_000_000_000, true, ms(2_040));
    assert_eq!(stamp.dts, 3_600 + 2 * TICKS_PER_SECOND);
}

#[test]
fn a_session_that_returns_at_once_still_moves_on_by_a_frame() {
    let mut timeline = video_timeline(0);
    timeline.stamp(Track::Video, 0, true, ms(0));
    timeline.begin_session();
    assert_eq!(timeline.stamp(Track::Video, 77, true, ms(0)).dts, DEFAULT_FRAME_TICKS);
}

#[test]
fn a_jump_of_the_cameras_time_is_bridged_in_both_directions() {
    for jump in [90_000_u32 * 3_600, 0_u32.wrapping_sub(90_000 * 3_600)] {
        let mut timeline = video_timeline(0);
        timeline.stamp(Track::Video, 500_000_000, true, ms(0));
        let before = timeline.stamp(Track::Video, 500_000_000 + FRAME, true, ms(40)).dts;
        let jumped = 500_000_000_u32.wrapping_add(jump);
        let after = timeline.stamp(Track::Video, jumped, true, ms(80)).dts;
        assert_eq!(after - before, 3_600, "jump of {jump}");
        assert_eq!(
            timeline.stamp(Track::Video, jumped.wrapping_add(FRAME), true, ms(120)).dts - after,
            3_600
        );
    }
}

#[test]
fn a_stalled_network_that_delivers_late_is_no_jump() {
    let mut timeline = video_timeline(0);
    timeline.stamp(Track::Video, 0, true, ms(0));
    for frame in 1..=100_u32 {
        // Everything of four seconds arrives at once, four seconds late.
        let stamp = timeline.stamp(Track::Video, frame * FRAME, true, ms(4_000));
        assert_eq!(stamp.dts, i64::from(frame * FRAME));
    }
}

/// NTP time of `seconds` after an arbitrary date.
fn ntp(seconds: u64) -> u64 {
    (3_900_000_000 + seconds) << 32
}

#[test]
fn sender_reports_align_the_tracks_whatever_their_arrival() {
    let mut timeline = video_timeline(0);
    timeline.handle_sender_report(Track::Video, ntp(10), 900_000, Duration::ZERO);
    timeline.handle_sender_report(Track::Audio, ntp(10), 480_000, Duration::ZERO);
    let video = timeline.stamp(Track::Video, 900_000, true, ms(0));
    // Captured at the same instant, delivered 300 ms later.
    let audio = timeline.stamp(Track::Audio, 480_000, true, ms(300));
    assert!((video.pts - audio.pts).abs() <= 1, "{video:?} {audio:?}");
}

#[test]
fn without_reports_the_tracks_are_aligned_by_arrival() {
    let mut timeline = video_timeline(0);
    timeline.stamp(Track::Video, 1_234, true, ms(100));
    assert_eq!(timeline.stamp(Track::Audio, 99_999, true, ms(120)).pts, 1_800);
}

#[test]
fn late_reports_move_the_audio_in_small_steps() {
    let mut timeline = video_timeline(0);
    timeline.stamp(Track::Video, 900_000, true, ms(0));
    let mut last = timeline.stamp(Track::Audio, 480_000, true, ms(300)).pts;
    timeline.handle_sender_report(Track::Video, ntp(10), 900_000, Duration::ZERO);
    timeline.handle_sender_report(Track::Audio, ntp(10), 480_000, Duration::ZERO);
    for frame in 1..=1_000_u32 {
        let pts = timeline.stamp(Track::Audio, 480_000 + frame * 1_024, true, ms(300)).pts;
        assert!((pts - last - 1_920).abs() <= MAX_CORRECTION_STEP, "frame {frame}");
        last = pts;
    }
    assert!((last - 1_920 * 1_000).abs() <= 1, "{last}");
}

#[test]
fn reports_from_unset_clocks_are_not_believed() {
    let mut timeline = video_timeline(0);
    timeline.handle_sender_report(Track::Video, ntp(10), 900_000, Duration::ZERO);
    timeline.handle_sender_report(Track::Audio, 0, 480_000, Duration::ZERO);
    timeline.stamp(Track::Video, 900_000, true, ms(0));
    assert_eq!(timeline.stamp(Track::Audio, 480_000, true, ms(20)).pts, 1_800);
}

#[test]
fn ntp_zero_in_reports_of_both_tracks_is_ignored() {
    let mut timeline = video_timeline(0);
    timeline.stamp(Track::Video, 900_000, true, ms(0));
    let first = timeline.stamp(Track::Audio, 480_000, true, ms(20)).pts;
    // The reports of a camera without a clock are sent three seconds apart.
    timeline.handle_sender_report(Track::Video, 0, 900_000, ms(0));
    timeline.handle_sender_report(Track::Audio, 0, 480_000 + 3 * 48_000, ms(3_000));
    for frame in 1..=200_u32 {
        let at = ms(20 + u64::from(frame) * 1_024 * 1_000 / 48_000);
        let pts = timeline.stamp(Track::Audio, 480_000 + frame * 1_024, true, at).pts;
        assert_eq!(pts, first + i64::from(frame) * 1_920, "frame {frame}");
    }
}

#[test]
fn old_reports_are_ignored() {
    let mut timeline = video_timeline(0);
    timeline.handle_sender_report(Track::Video, ntp(10), 900_000, ms(0));
    timeline.handle_sender_report(Track::Audio, ntp(10), 480_000, ms(11_000));
    timeline.stamp(Track::Video, 900_000, true, ms(11_000));
    assert_eq!(timeline.stamp(Track::Audio, 480_000, true, ms(11_300)).pts, 27_000);
}

#[test]
fn reports_far_from_arrival_need_to_be_consistent() {
    for (reports, expected) in [(1, 180_000), (3, 0)] {
        let mut timeline = video_timeline(0);
        for report in 0..reports {
            let (seconds, at) = (u64::from(report) * 3, ms(u64::from(report) * 3_000));
            timeline.handle_sender_report(Track::Video, ntp(10 + seconds), 900_000 + report * 270_000, at);
            timeline.handle_sender_report(Track::Audio, ntp(10 + seconds), 480_000 + report * 144_000, at);
            timeline.stamp(Track::Video, 900_000 + report * 270_000, true, at);
        }
        // The audio comes two seconds late.
        let begun = u64::from(reports - 1) * 3_000;
        let video = i64::from(reports - 1) * 270_000;
        let audio =
            timeline.stamp(Track::Audio, 480_000 + (reports - 1) * 144_000, true, ms(begun + 2_000)).pts;
        assert!((audio - video - expected).abs() <= 2, "{reports} reports: {audio} against {video}");
    }
}

#[rstest::rstest]
#[case::back_by_a_second_and_a_half(-135_000)]
#[case::ahead_by_two_seconds_and_back(180_000)]
fn steps_of_the_cameras_clock_do_not_collapse_time(#[case] step: i64) {
    let mut timeline = video_timeline(0);
    let (mut clock, mut last) = (1_000_000_i64, None::<i64>);
    for frame in 0..500_u64 {
        clock += 3_600;
        if frame == 100 {
            clock += step;
        } else if frame == 200 {
            clock -= step;
        }
        let dts = timeline.stamp(Track::Video, u32::try_from(clock).unwrap(), true, ms(frame * 40)).dts;
        if let Some(last) = last {
            assert!((1_800..=7_200).contains(&(dts - last)), "frame {frame}: {}", dts - last);
        }
        last = Some(dts);
    }
    assert!(matches!(timeline.poll_event(), Some(TimelineEvent::Jumped { track: Track::Video, .. })));
    assert_eq!(timeline.poll_event(), None);
}

#[test]
fn both_tracks_stay_in_step_over_a_jump() {
    let mut timeline = video_timeline(0);
    let (mut video, mut audio) = (0, 0);
    for frame in 0..200_u32 {
        let jump = if frame >= 100 { 40_000 } else { 0 };
        let at = ms(u64::from(frame) * 40);
        video = timeline.stamp(Track::Video, frame * 3_600 + jump * 90, true, at).pts;
        audio = timeline.stamp(Track::Audio, frame * 1_920 + jump * 48, true, at + ms(5)).pts;
    }
    assert!((audio - video).abs() <= 900, "{} ticks apart", audio - video);
}

#[test]
fn source_far_behind_is_reanchored_at_a_keyframe() {
    let mut timeline = video_timeline(0);
    let (mut last, mut jumps) = (timeline.stamp(Track::Video, 0, true, ms(0)).dts, Vec::new());
    for frame in 1..5_000_u32 {
        // A camera that left out 1.6 s of its clock by small steps, each within its reordering.
        let lost = u64::from(frame.min(200)) * 8;
        let at = ms(u64::from(frame) * 40 + lost);
        let dts = timeline.stamp(Track::Video, frame * FRAME, frame % 50 == 0, at).dts;
        if dts - last > 2 * i64::from(FRAME) {
            jumps.push((frame, dts - last));
        }
        last = dts;
    }
    assert_eq!(jumps.len(), 1, "{jumps:?}");
    assert_eq!(jumps[0].0 % 50, 0, "not at a keyframe: {jumps:?}");
    assert!(matches!(timeline.poll_event(), Some(TimelineEvent::Reanchored { ticks }) if ticks > 90_000));
    let now = 4_999 * 3_600 + 144_000;
    assert!((last - now).abs() < 9_000, "{} ms behind", (now - last) / 90);
}

proptest! {
    #[test]
    fn decoding_times_always_rise_and_never_pass_presentation(
        steps in prop::collection::vec((any::<u32>(), 0_u64..10_000, any::<bool>(), 0_u8..20), 1..200),
        reorder in 0_u8..5,
    ) {
        let mut timeline = video_timeline(reorder);
        let mut now = Duration::ZERO;
        let mut last = [None::<i64>, None];
        for (rtp, wait, is_video, event) in steps {
            now += Duration::from_millis(wait);
            if event == 0 {
                timeline.begin_session();
            }
            let track = if is_video { Track::Video } else { Track::Audio };
            let stamp = timeline.stamp(track, rtp, true, now);
            prop_assert!(stamp.pts >= stamp.dts);
            let last = &mut last[usize::from(is_video)];
            prop_assert!(last.is_none_or(|last| stamp.dts > last));
            *last = Some(stamp.dts);
        }
    }
}

/// A camera whose clocks are wrong by some parts per million, behind a network that delays.
struct DriftingCamera {
    timeline: Timeline,
    video_ppm: i64,
    audio_ppm: i64,
    reports: bool,
    noise: u64,
    session_began: Duration,
}

impl DriftingCamera {
    const FRAME: Duration = Duration::from_millis(500);

    fn new(video_ppm: i64, audio_ppm: i64, reports: bool) -> Self {
        let mut timeline = Timeline::default();
        for track in [Track::Video, Track::Audio] {
            let timing =
                TrackTiming { clock_rate: 90_000, reorder_frames: Some(0), frame_ticks: Some(45_000) };
            timeline.configure(track, timing);
        }
        Self { timeline, video_ppm, audio_ppm, reports, noise: 1, session_began: Duration::ZERO }
    }

    /// Returns up to 40 ms, often less.
    fn delay(&mut self) -> Duration {
        self.noise =
            self.noise.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        let percent = self.noise >> 33;
        ms(percent % 11 * (percent % 5))
    }

    fn rtp(&self, at: Duration, ppm: i64, start: u32) -> u32 {
        let micros = i64::try_from((at - self.session_began).as_micros()).unwrap();
        let ticks = (micros + micros / 1_000_000 * ppm) * 9 / 100;
        start.wrapping_add(u32::try_from(ticks.rem_euclid(1 << 32)).unwrap())
    }

    fn reboot(&mut self, now: Duration) {
        self.session_began = now;
        self.timeline.begin_session();
    }

    /// Returns the times on the timeline of a video and an audio frame that were captured at one instant.
    fn capture(&mut self, at: Duration) -> (i64, i64) {
        let (video, audio) = (self.rtp(at, self.video_ppm, 7), self.rtp(at, self.audio_ppm, 4_000_000_000));
        if self.reports && at.as_secs().is_multiple_of(5) {
            let ntp = (u64::try_from(at.as_micros()).unwrap() << 32) / 1_000_000;
            self.timeline.handle_sender_report(Track::Video, ntp, video, at);
            self.timeline.handle_sender_report(Track::Audio, ntp, audio, at);
        }
        let (video_at, audio_at) = (at + self.delay(), at + self.delay());
        let video = self.timeline.stamp(Track::Video, video, true, video_at).pts;
        (video, self.timeline.stamp(Track::Audio, audio, true, audio_at).pts)
    }
}

#[rstest::rstest]
#[case::a_fast_camera(80, 80, false)]
#[case::a_slow_camera(-150, -150, false)]
#[case::sound_and_picture_apart(60, 20, false)]
#[case::sound_and_picture_apart_but_reported(60, 20, true)]
#[case::stamps_by_nominal_rate(1_200, 1_200, false)]
#[case::nominal_video_and_true_audio(-1_200, 0, false)]
#[case::very_fast(5_000, 5_000, false)]
#[case::very_slow(-5_000, -5_000, false)]
#[case::very_slow_video_but_reported(-5_000, 3_000, true)]
fn tracks_are_aligned_after_thirty_days_of_drift_and_reboots(
    #[case] video_ppm: i64,
    #[case] audio_ppm: i64,
    #[case] reports: bool,
) {
    let mut camera = DriftingCamera::new(video_ppm, audio_ppm, reports);
    let mut now = Duration::from_secs(3);
    let begin = now;
    let mut next_reboot = now + Duration::from_secs(25_117);
    camera.reboot(now);
    let (mut worst_time, mut worst_skew) = (0, 0);
    let mut last = (i64::MIN, i64::MIN);
    while now < begin + Duration::from_secs(30 * 86_400) {
        if now >= next_reboot {
            // Every seven hours the camera is away for some seconds.
            now += Duration::from_secs(17);
            camera.reboot(now);
            next_reboot = now + Duration::from_secs(25_117);
        }
        let (video, audio) = camera.capture(now);
        assert!(video > last.0 && audio > last.1, "{now:?}");
        last = (video, audio);
        worst_time = worst_time.max((video - ticks_between(begin, now)).abs());
        worst_skew = worst_skew.max((video - audio).abs());
        now += DriftingCamera::FRAME;
    }
    // The rate is known after a minute.
    let max = TICKS_PER_SECOND / 4 + 60 * TICKS_PER_SECOND * video_ppm.abs() / 1_000_000 / 2;
    assert!(worst_time < max, "{} ms off", worst_time / 90);
    let max =
        TICKS_PER_SECOND * 40 / 1_000 + 60 * TICKS_PER_SECOND * (video_ppm - audio_ppm).abs() / 1_000_000;
    assert!(worst_skew < max, "{} ms apart", worst_skew / 90);
}

#[test]
fn drift_is_corrected_in_imperceptible_steps() {
    let mut camera = DriftingCamera::new(400, 400, false);
    let mut last: Option<i64> = None;
    for step in 0..100_000_u32 {
        let (video, _) = camera.capture(DriftingCamera::FRAME * step);
        let frame = i64::try_from(DriftingCamera::FRAME.as_millis()).unwrap() * 90;
        if let Some(last) = last {
            // The camera's own error, and as much again for the correction.
            assert!((video - last - frame).abs() <= frame / 1_000, "{}", video - last);
        }
        last = Some(video);
    }
}
