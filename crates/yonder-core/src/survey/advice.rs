//! Plain advice on a surveyed feed: what a platform, or the way there, will make of it.

use super::meter::Measured;

/// Keyframe intervals that platforms ask for, in seconds.
const LONGEST_KEYFRAME_S: f64 = 4.1;
/// Below this, keyframes eat the bit rate.
const SHORTEST_KEYFRAME_S: f64 = 0.45;
/// A measured rate this far below the declared one falls short.
const SHORTFALL: f64 = 0.9;
/// Packets lost in a thousand that are worth a word.
const LOSS_PER_MILLE: f64 = 1.0;
/// Drift worth a word, in parts per million: 40 ms in three hours.
const DRIFT_PPM: f64 = 300.0;
/// A second so much fuller than the average strains an uplink.
const PEAK_RATIO: f64 = 2.5;

/// Survey of one stream.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct SurveyedStream {
    /// Codec name.
    pub codec: String,
    /// Width in samples.
    pub width: u32,
    /// Height in samples.
    pub height: u32,
    /// Frames per second that the stream or the description declares.
    pub declared_fps: Option<f64>,
    /// Measurements.
    pub measured: Measured,
    /// The sound that is carried.
    pub audio: Option<String>,
    /// Sound that is offered but not carried.
    pub audio_left: Vec<String>,
    /// `tcp` or `udp`.
    pub transport: String,
    /// Packets received and lost.
    pub packets: (u64, u64),
    /// Parts of packets that were not used, by reason.
    pub drops: Vec<(&'static str, u64)>,
    /// The camera's clock against ours in parts per million, with the standard error.
    pub drift_ppm: Option<(f64, f64)>,
}

/// One piece of advice.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Advice {
    /// Stable code.
    pub code: &'static str,
    /// `main`, `sub` or `both`.
    pub about: &'static str,
    /// One or two sentences.
    pub message: String,
}

/// Returns advice about a feed's main stream and, where there is one, its sub stream.
#[must_use]
pub fn advise(main: Option<&SurveyedStream>, sub: Option<&SurveyedStream>) -> Vec<Advice> {
    let mut advice = Vec::new();
    if let (Some(main), Some(sub)) = (main, sub) {
        compare(main, sub, &mut advice);
    }
    for (about, stream) in [("main", main), ("sub", sub)] {
        if let Some(stream) = stream {
            judge(about, stream, sub.is_some() && about == "main", &mut advice);
        }
    }
    advice
}

fn compare(main: &SurveyedStream, sub: &SurveyedStream, advice: &mut Vec<Advice>) {
    let area = |stream: &SurveyedStream| u64::from(stream.width) * u64::from(stream.height);
    if area(sub) > area(main) {
        advice.push(Advice {
            code: "survey.swapped",
            about: "both",
            message: format!(
                "These two look swapped: the sub address carries the larger picture ({}x{} against {}x{}).",
                sub.width, sub.height, main.width, main.height
            ),
        });
    } else if area(sub) == area(main) && sub.measured.video_kbps * 10 > main.measured.video_kbps * 9 {
        advice.push(Advice {
            code: "survey.same",
            about: "both",
            message: "Main and sub carry the same picture at the same rate: one of the two addresses is probably wrong."
                .to_owned(),
        });
    }
}

fn judge(about: &'static str, stream: &SurveyedStream, has_sub: bool, advice: &mut Vec<Advice>) {
    let mut say = |code: &'static str, message: String| advice.push(Advice { code, about, message });
    if stream.codec == "H.265" {
        say("survey.h265", "H.265: most platforms want H.264. Switch the camera's stream over, unless the platform says that it takes H.265.".to_owned());
    }
    judge_keyframes(&stream.measured, &mut say);
    judge_rate(stream, &mut say);
    judge_sound(stream, &mut say);
    let (received, lost) = stream.packets;
    let per_mille = per_mille(lost, received + lost);
    if per_mille >= LOSS_PER_MILLE {
        let percent = per_mille / 10.0;
        let way_out = match (stream.transport.as_str(), has_sub) {
            ("udp", true) => "use TCP or the sub stream",
            ("udp", false) => "use TCP, or lower the camera's bit rate",
            _ => "the camera drops packets itself: lower its bit rate, or its number of viewers",
        };
        say(
            "survey.loss",
            format!(
                "{percent:.1} % of the packets are lost on {}: {way_out}.",
                stream.transport.to_uppercase()
            ),
        );
    }
    for (reason, count) in &stream.drops {
        if let Some((code, message)) = drop_advice(reason, *count) {
            say(code, message);
        }
    }
    if let Some((ppm, error)) = stream.drift_ppm
        && ppm.abs() > DRIFT_PPM + 3.0 * error
    {
        let way = if ppm > 0.0 { "fast" } else { "slow" };
        say(
            "survey.drift",
            format!(
                "The camera's clock runs {way} by {:.0} parts per million: set it to a time server.",
                ppm.abs()
            ),
        );
    }
}

/// Returns the advice on parts of packets that were not used; `None` for those that cost nothing.
fn drop_advice(reason: &str, count: u64) -> Option<(&'static str, String)> {
    let advice = match reason {
        _ if count == 0 => return None,
        "reserved-type" => (
            "survey.reserved-types",
            format!(
                "The camera sends payloads of its maker's own types ({count}), which are ignored. Nothing is missing; if the picture stutters, switch off its smart coding."
            ),
        ),
        "cut-short" => (
            "survey.cut-short",
            format!(
                "{count} payloads end before the lengths in them do, which costs pictures. Update the camera's firmware, or choose another codec or profile."
            ),
        ),
        "interleaved-mode" => (
            "survey.interleaved-mode",
            format!(
                "The camera sends {count} packets in the interleaved mode, which is not carried. Set its packetization mode to 0 or 1."
            ),
        ),
        "headless-fragment" => (
            "survey.headless-fragments",
            format!(
                "The beginning of {count} pieces never came, which costs pictures: the camera drops packets itself. Lower its bit rate, or its number of viewers."
            ),
        ),
        "too-large" => (
            "survey.too-large",
            format!("{count} pictures are larger than 8 MB. Lower the camera's bit rate or picture size."),
        ),
        "other-payload-type" => (
            "survey.payload-type",
            format!(
                "{count} packets have another payload type than the session description names. They are used where the described one does not come; update the camera's firmware if pictures are missing."
            ),
        ),
        "stray-bytes" => (
            "survey.stray-bytes",
            format!(
                "{count} bytes between the camera's messages and packets belong to neither, and are skipped. Nothing is missing; if the picture breaks up, update the camera's firmware or use UDP."
            ),
        ),
        "no-audio-configuration" => (
            "survey.no-audio-configuration",
            format!(
                "{count} audio frames have no configuration that can be read. Switch the camera's audio to AAC-LC, or off and on again."
            ),
        ),
        _ => return None,
    };
    Some(advice)
}

fn judge_keyframes(measured: &Measured, say: &mut impl FnMut(&'static str, String)) {
    if measured.recovery_points > 0 {
        say(
            "survey.open-gop",
            "Keyframes are recovery points of an open GOP, without IDR pictures. SRT and most players take them; RTMP platforms that cut the stream at IDR pictures do not. Set the camera to closed GOPs, or switch intra refresh off."
                .to_owned(),
        );
    }
    match measured.keyframes {
        None if measured.pictures > 0 => say(
            "survey.keyframe-unknown",
            format!(
                "Only one keyframe came in {:.0} s: platforms want one every 2 to 4 s. Survey for longer to see the interval.",
                measured.span.as_secs_f64()
            ),
        ),
        Some(interval) if interval.max_s > LONGEST_KEYFRAME_S => say(
            "survey.keyframe-far",
            format!(
                "Keyframe every {}: platforms want 2 to 4 s. Set the camera's keyframe interval to 2 s.",
                in_seconds(interval.max_s)
            ),
        ),
        Some(interval) if interval.median_s < SHORTEST_KEYFRAME_S => say(
            "survey.keyframe-near",
            format!(
                "Keyframe every {}: so many eat the bit rate. Set the camera's keyframe interval to 2 s.",
                in_seconds(interval.median_s)
            ),
        ),
        Some(interval) if interval.max_s > interval.min_s * 1.5 + 0.2 => say(
            "survey.keyframe-uneven",
            format!(
                "The keyframe interval varies from {} to {}: platforms that cut the stream at keyframes want it even. Switch scene detection or smart coding off in the camera.",
                in_seconds(interval.min_s),
                in_seconds(interval.max_s)
            ),
        ),
        _ => {}
    }
}

fn judge_rate(stream: &SurveyedStream, say: &mut impl FnMut(&'static str, String)) {
    if let (Some(declared), Some(fps)) = (stream.declared_fps, stream.measured.fps)
        && fps < declared * SHORTFALL
    {
        say(
            "survey.frame-rate",
            format!(
                "The frame rate falls short of what the camera declares: {fps:.1} of {declared:.1} frames a second. It may be dark, or the camera overloaded."
            ),
        );
    }
    let average = stream.measured.video_kbps + stream.measured.audio_kbps;
    if per_mille(stream.measured.peak_kbps, average) > PEAK_RATIO * 1000.0 {
        say(
            "survey.peak",
            format!(
                "The fullest second needs {} kbit/s, the average {average} kbit/s: leave room for that in the uplink, or set the camera to a constant bit rate.",
                stream.measured.peak_kbps
            ),
        );
    }
}

fn judge_sound(stream: &SurveyedStream, say: &mut impl FnMut(&'static str, String)) {
    match &stream.audio {
        None if !stream.audio_left.is_empty() => say(
            "survey.sound-left",
            format!(
                "The audio is {}, which is not carried. Switch the camera's audio to AAC.",
                stream.audio_left.join(" and ")
            ),
        ),
        None => {
            say("survey.no-sound", "No sound: some platforms want a sound track, be it silent.".to_owned());
        }
        Some(codec) if codec.starts_with("G.711") => say(
            "survey.g711",
            format!("The audio is {codec}: most platforms want AAC. Switch the camera's audio to AAC."),
        ),
        Some(_) if stream.measured.sounds == 0 => say(
            "survey.mute",
            "A sound track is offered, but nothing comes on it. Check the camera's microphone setting."
                .to_owned(),
        ),
        Some(_) => {}
    }
}

/// `2 s`, `0.4 s`
fn in_seconds(seconds: f64) -> String {
    if (seconds - seconds.round()).abs() < 0.05 {
        format!("{seconds:.0} s")
    } else {
        format!("{seconds:.1} s")
    }
}

/// How many in a thousand; the counts of a survey are far below 2^32.
fn per_mille(part: u64, whole: u64) -> f64 {
    let float = |count: u64| f64::from(u32::try_from(count).unwrap_or(u32::MAX));
    if whole == 0 { 0.0 } else { float(part) / float(whole) * 1000.0 }
}

#[cfg(test)]
mod tests {
    use super::super::meter::Intervals;
    use super::*;
    use rstest::rstest;
    use std::time::Duration;

    fn good() -> SurveyedStream {
        SurveyedStream {
            codec: "H.264".into(),
            width: 1280,
            height: 720,
            declared_fps: Some(25.0),
            measured: Measured {
                span: Duration::from_secs(10),
                pictures: 250,
                sounds: 400,
                fps: Some(25.0),
                video_kbps: 2_000,
                audio_kbps: 96,
                peak_kbps: 2_600,
                keyframes: Some(Intervals { min_s: 2.0, median_s: 2.0, max_s: 2.0 }),
                reordered: false,
                recovery_points: 0,
            },
            audio: Some("AAC".into()),
            audio_left: Vec::new(),
            transport: "tcp".into(),
            packets: (2_000, 0),
            drift_ppm: Some((20.0, 5.0)),
            drops: Vec::new(),
        }
    }

    fn with(change: impl FnOnce(&mut SurveyedStream)) -> SurveyedStream {
        let mut stream = good();
        change(&mut stream);
        stream
    }

    fn codes(main: &SurveyedStream, sub: Option<&SurveyedStream>) -> Vec<&'static str> {
        advise(Some(main), sub).into_iter().map(|advice| advice.code).collect()
    }

    #[test]
    fn drops_have_advice_by_reason_and_those_that_cost_nothing_have_none() {
        let stream = SurveyedStream {
            codec: "H.264".into(),
            audio: Some("AAC".into()),
            measured: Measured { sounds: 1, recovery_points: 3, ..Measured::default() },
            drops: vec![
                ("reserved-type", 4),
                ("cut-short", 0),
                ("interleaved-mode", 7),
                ("unterminated-fragment", 9),
                ("stray-bytes", 26),
            ],
            ..SurveyedStream::default()
        };
        let codes: Vec<&str> = advise(Some(&stream), None).iter().map(|advice| advice.code).collect();
        let expected = ["survey.reserved-types", "survey.interleaved-mode", "survey.stray-bytes"];
        assert_eq!(codes, [["survey.open-gop"].as_slice(), &expected].concat());
    }

    #[test]
    fn nothing_is_said_of_a_good_feed() {
        let sub =
            with(|s| (s.width, s.height, s.measured.video_kbps, s.measured.peak_kbps) = (640, 360, 300, 500));
        assert_eq!(advise(Some(&good()), Some(&sub)), []);
    }

    fn keyframes(min_s: f64, median_s: f64, max_s: f64) -> SurveyedStream {
        with(|s| s.measured.keyframes = Some(Intervals { min_s, median_s, max_s }))
    }

    #[rstest]
    #[case::h265(with(|s| s.codec = "H.265".into()), "survey.h265")]
    #[case::far(keyframes(10.0, 10.0, 10.0), "survey.keyframe-far")]
    #[case::near(keyframes(0.2, 0.2, 0.4), "survey.keyframe-near")]
    #[case::uneven(keyframes(1.0, 2.0, 4.0), "survey.keyframe-uneven")]
    #[case::only_one(with(|s| s.measured.keyframes = None), "survey.keyframe-unknown")]
    #[case::slow(with(|s| s.measured.fps = Some(12.4)), "survey.frame-rate")]
    #[case::peaks(with(|s| s.measured.peak_kbps = 6_000), "survey.peak")]
    #[case::no_sound(with(|s| s.audio = None), "survey.no-sound")]
    #[case::opus(with(|s| (s.audio, s.audio_left) = (None, vec!["OPUS".into()])), "survey.sound-left")]
    #[case::telephone(with(|s| s.audio = Some("G.711 A-law".into())), "survey.g711")]
    #[case::mute(with(|s| s.measured.sounds = 0), "survey.mute")]
    #[case::lossy(with(|s| (s.transport, s.packets) = ("udp".into(), (950, 50))), "survey.loss")]
    #[case::fast_clock(with(|s| s.drift_ppm = Some((900.0, 20.0))), "survey.drift")]
    fn each_shortcoming_is_told_once(#[case] stream: SurveyedStream, #[case] code: &str) {
        assert_eq!(codes(&stream, None), [code]);
    }

    #[test]
    fn a_drift_within_its_uncertainty_is_not_told() {
        assert_eq!(codes(&with(|s| s.drift_ppm = Some((900.0, 400.0))), None), [""; 0]);
    }

    #[test]
    fn swapped_and_equal_streams_are_noticed() {
        let small = with(|s| (s.width, s.height, s.measured.video_kbps) = (640, 360, 1_900));
        assert_eq!(codes(&small, Some(&good())), ["survey.swapped"]);
        assert_eq!(codes(&good(), Some(&good())), ["survey.same"]);
    }

    #[test]
    fn loss_names_the_way_out_that_there_is() {
        let lossy = with(|s| (s.transport, s.packets) = ("udp".into(), (950, 50)));
        let sub =
            with(|s| (s.width, s.height, s.measured.video_kbps, s.measured.peak_kbps) = (640, 360, 300, 500));
        let advice = advise(Some(&lossy), Some(&sub));
        assert_eq!(advice[0].message, "5.0 % of the packets are lost on UDP: use TCP or the sub stream.");
        assert!(
            advise(Some(&with(|s| s.packets = (950, 50))), None)[0].message.contains("drops packets itself")
        );
    }
}
