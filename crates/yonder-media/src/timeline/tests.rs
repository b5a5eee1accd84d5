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
    assert_eq!(timeline.stamp(Track::Video, 5_000, ms(7)), Stamp { dts: 0, pts: 0 });
    assert_eq!(timeline.stamp(Track::Video, 5_000 + FRAME, ms(60)), Stamp { dts: 3_600, pts: 3_600 });
}

#[test]
fn decoding_starts_before_presentation_when_pictures_are_reordered() {
    let mut timeline = video_timeline(1);
    let stamps: Vec<Stamp> =
        [0, 2, 1].iter().map(|frame| timeline.stamp(Track::Video, frame * FRAME, ms(0))).collect();
    assert_eq!(
        stamps,
        vec![
            Stamp { dts: 0, pts: 3_600 },
            Stamp { dts: 3_600, pts: 10_800 },
            Stamp { dts: 7_200, pts: 7_200 }
        ]
    );
}

#[test]
fn the_wrap_of_rtp_time_is_crossed_without_a_gap() {
    let mut timeline = video_timeline(0);
    let start = u32::MAX - FRAME - 10;
    let stamps: Vec<i64> = (0..5_u32)
        .map(|i| timeline.stamp(Track::Video, start.wrapping_add(i * FRAME), ms(u64::from(i) * 40)).dts)
        .collect();
    assert_eq!(stamps, vec![0, 3_600, 7_200, 10_800, 14_400]);
}

#[test]
fn many_wraps_over_thirty_days_leave_no_gap() {
    let mut timeline = video_timeline(0);
    let mut last = timeline.stamp(Track::Video, 0, Duration::ZERO).dts;
    // One unit every second; 13 hours make one wrap.
    for second in 1..=30 * 86_400_u64 {
        let rtp = u32::try_from(second * 90_000 % (1 << 32)).unwrap();
        let dts = timeline.stamp(Track::Video, rtp, Duration::from_secs(second)).dts;
        assert_eq!(dts - last, 90_000, "second {second}");
        last = dts;
    }
}

#[test]
fn a_new_session_joins_on_after_the_time_that_passed() {
    let mut timeline = video_timeline(0);
    timeline.stamp(Track::Video, 1_000, ms(0));
    timeline.stamp(Track::Video, 1_000 + FRAME, ms(40));
    timeline.begin_session();
    let stamp = timeline.stamp(Track::Video, 4_000_000_000, ms(2_040));
    assert_eq!(stamp.dts, 3_600 + 2 * TICKS_PER_SECOND);
}

#[test]
fn a_session_that_returns_at_once_still_moves_on_by_a_frame() {
    let mut timeline = video_timeline(0);
    timeline.stamp(Track::Video, 0, ms(0));
    timeline.begin_session();
    assert_eq!(timeline.stamp(Track::Video, 77, ms(0)).dts, DEFAULT_FRAME_TICKS);
}

#[test]
fn a_jump_of_the_cameras_time_is_bridged_in_both_directions() {
    for jump in [90_000_u32 * 3_600, 0_u32.wrapping_sub(90_000 * 3_600)] {
        let mut timeline = video_timeline(0);
        timeline.stamp(Track::Video, 500_000_000, ms(0));
        let before = timeline.stamp(Track::Video, 500_000_000 + FRAME, ms(40)).dts;
        let jumped = 500_000_000_u32.wrapping_add(jump);
        let after = timeline.stamp(Track::Video, jumped, ms(80)).dts;
        assert_eq!(after - before, 3_600, "jump of {jump}");
        assert_eq!(timeline.stamp(Track::Video, jumped.wrapping_add(FRAME), ms(120)).dts - after, 3_600);
    }
}

#[test]
fn a_stalled_network_that_delivers_late_is_no_jump() {
    let mut timeline = video_timeline(0);
    timeline.stamp(Track::Video, 0, ms(0));
    for frame in 1..=100_u32 {
        // Everything of four seconds arrives at once, four seconds late.
        let stamp = timeline.stamp(Track::Video, frame * FRAME, ms(4_000));
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
    timeline.handle_sender_report(Track::Video, ntp(10), 900_000);
    timeline.handle_sender_report(Track::Audio, ntp(10), 480_000);
    let video = timeline.stamp(Track::Video, 900_000, ms(0));
    // Captured at the same instant, delivered 300 ms later.
    let audio = timeline.stamp(Track::Audio, 480_000, ms(300));
    assert!((video.pts - audio.pts).abs() <= 1, "{video:?} {audio:?}");
}

#[test]
fn without_reports_the_tracks_are_aligned_by_arrival() {
    let mut timeline = video_timeline(0);
    timeline.stamp(Track::Video, 1_234, ms(100));
    assert_eq!(timeline.stamp(Track::Audio, 99_999, ms(120)).pts, 1_800);
}

#[test]
fn late_reports_move_the_sound_in_small_steps_until_it_fits() {
    let mut timeline = video_timeline(0);
    timeline.stamp(Track::Video, 900_000, ms(0));
    let mut last = timeline.stamp(Track::Audio, 480_000, ms(300)).pts;
    timeline.handle_sender_report(Track::Video, ntp(10), 900_000);
    timeline.handle_sender_report(Track::Audio, ntp(10), 480_000);
    for frame in 1..=1_000_u32 {
        let pts = timeline.stamp(Track::Audio, 480_000 + frame * 1_024, ms(300)).pts;
        assert!((pts - last - 1_920).abs() <= MAX_CORRECTION_STEP, "frame {frame}");
        last = pts;
    }
    assert!((last - 1_920 * 1_000).abs() <= 1, "{last}");
}

#[test]
fn reports_from_unset_clocks_are_not_believed() {
    let mut timeline = video_timeline(0);
    timeline.handle_sender_report(Track::Video, ntp(10), 900_000);
    timeline.handle_sender_report(Track::Audio, 0, 480_000);
    timeline.stamp(Track::Video, 900_000, ms(0));
    assert_eq!(timeline.stamp(Track::Audio, 480_000, ms(20)).pts, 1_800);
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
            let stamp = timeline.stamp(track, rtp, now);
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

    /// Up to 40 ms, often less.
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

    /// What was captured at one instant: where picture and sound come to lie.
    fn capture(&mut self, at: Duration) -> (i64, i64) {
        let (video, audio) = (self.rtp(at, self.video_ppm, 7), self.rtp(at, self.audio_ppm, 4_000_000_000));
        if self.reports && at.as_secs().is_multiple_of(5) {
            let ntp = (u64::try_from(at.as_micros()).unwrap() << 32) / 1_000_000;
            self.timeline.handle_sender_report(Track::Video, ntp, video);
            self.timeline.handle_sender_report(Track::Audio, ntp, audio);
        }
        let (video_at, audio_at) = (at + self.delay(), at + self.delay());
        let video = self.timeline.stamp(Track::Video, video, video_at).pts;
        (video, self.timeline.stamp(Track::Audio, audio, audio_at).pts)
    }
}

#[rstest::rstest]
#[case::a_fast_camera(80, 80, false)]
#[case::a_slow_camera(-150, -150, false)]
#[case::sound_and_picture_apart(60, 20, false)]
#[case::sound_and_picture_apart_but_reported(60, 20, true)]
fn after_thirty_days_of_drift_and_reboots_time_is_ours_and_lips_fit(
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
    assert!(worst_time < TICKS_PER_SECOND / 4, "{} ms off", worst_time / 90);
    assert!(worst_skew < TICKS_PER_SECOND * 40 / 1_000, "{} ms apart", worst_skew / 90);
}

#[test]
fn drift_is_corrected_in_steps_that_nobody_notices() {
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
