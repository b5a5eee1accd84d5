//! Advice on a surveyed feed, for platforms and uplinks.

use std::fmt;

use super::meter::Measured;

/// Longest keyframe interval that platforms accept, in seconds.
const LONGEST_KEYFRAME_S: f64 = 4.1;
/// Shortest useful keyframe interval: below it, keyframes use most of the bit rate.
const SHORTEST_KEYFRAME_S: f64 = 0.45;
/// Measured rate below this fraction of the declared one is a shortfall.
const SHORTFALL: f64 = 0.9;
/// Packet loss in per mille from which there is advice.
const LOSS_PER_MILLE: f64 = 1.0;
/// Clock drift from which there is advice, in parts per million: 40 ms in two minutes.
const DRIFT_PPM: f64 = 300.0;
/// Ratio of peak to mean rate that strains an uplink.
const PEAK_RATIO: f64 = 2.5;

/// Kind of the device that a stream comes from, as named in advice.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum SourceKind {
    /// Camera, which is pulled.
    #[default]
    Camera,
    /// Encoder, which publishes.
    Encoder,
}

impl fmt::Display for SourceKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Camera => "camera",
            Self::Encoder => "encoder",
        })
    }
}

/// Survey of one stream.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct SurveyedStream {
    /// Device that it comes from.
    pub source: SourceKind,
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
    /// Codec of the audio that is relayed.
    pub audio: Option<String>,
    /// Audio that is offered but not relayed.
    pub audio_left: Vec<String>,
    /// `tcp` or `udp`.
    pub transport: String,
    /// Packets received and lost.
    pub packets: (u64, u64),
    /// Parts of packets that were dropped, by reason.
    pub drops: Vec<(&'static str, u64)>,
    /// Clock drift of the camera against ours in parts per million, with its standard error.
    pub drift_ppm: Option<(f64, f64)>,
}

/// Advice.
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
            evaluate(about, stream, sub.is_some() && about == "main", &mut advice);
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
                "Main and sub seem swapped: the sub stream has the larger frame size ({}x{} against {}x{}).",
                sub.width, sub.height, main.width, main.height
            ),
        });
    } else if area(sub) == area(main) && sub.measured.video_kbps * 10 > main.measured.video_kbps * 9 {
        advice.push(Advice {
            code: "survey.same",
            about: "both",
            message:
                "Main and sub have the same frame size and rate: one of the two addresses is probably wrong."
                    .to_owned(),
        });
    }
}

fn evaluate(about: &'static str, stream: &SurveyedStream, has_sub: bool, advice: &mut Vec<Advice>) {
    let mut say = |code: &'static str, message: String| advice.push(Advice { code, about, message });
    if stream.codec == "H.265" {
        say(
            "survey.h265",
            format!(
                "H.265: most platforms require H.264. Switch the {} to H.264, unless the platform accepts H.265.",
                stream.source
            ),
        );
    }
    judge_keyframes(stream, &mut say);
    judge_rate(stream, &mut say);
    check_audio(stream, &mut say);
    let (received, lost) = stream.packets;
    let per_mille = per_mille(lost, received + lost);
    if per_mille >= LOSS_PER_MILLE {
        let percent = per_mille / 10.0;
        let remedy = match (stream.transport.as_str(), has_sub) {
            ("udp", true) => "use TCP or the sub stream",
            ("udp", false) => "use TCP, or lower the camera's bit rate",
            _ => "the camera drops packets itself: lower its bit rate, or its number of viewers",
        };
        say(
            "survey.loss",
            format!(
                "{percent:.1} % of the packets are lost on {}: {remedy}.",
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
        let direction = if ppm > 0.0 { "fast" } else { "slow" };
        say(
            "survey.drift",
            format!("The camera's clock is {direction} by {:.0} ppm: configure a time server.", ppm.abs()),
        );
    }
}

/// Returns the advice on dropped parts of packets; `None` for harmless ones.
fn drop_advice(reason: &str, count: u64) -> Option<(&'static str, String)> {
    let advice = match reason {
        _ if count == 0 => return None,
        "reserved-type" => (
            "survey.reserved-types",
            format!(
                "The camera sends {count} payloads of reserved or vendor types, which are ignored. If the video stutters, disable its smart coding."
            ),
        ),
        "cut-short" => (
            "survey.cut-short",
            format!(
                "{count} payloads are truncated, which costs frames. Update the camera's firmware, or choose another codec or profile."
            ),
        ),
        "interleaved-mode" => (
            "survey.interleaved-mode",
            format!(
                "The camera sends {count} packets in the interleaved mode, which is not supported. Set its packetization mode to 0 or 1."
            ),
        ),
        "headless-fragment" => (
            "survey.headless-fragments",
            format!(
                "The first fragment of {count} NAL units is missing, which costs frames: the camera drops packets itself. Lower its bit rate, or its number of viewers."
            ),
        ),
        "too-large" => (
            "survey.too-large",
            format!("{count} frames are larger than 8 MB. Lower the camera's bit rate or frame size."),
        ),
        "other-payload-type" => (
            "survey.payload-type",
            format!(
                "{count} packets have another payload type than the session description names. They are used if the described type is absent; update the camera's firmware if frames are missing."
            ),
        ),
        "stray-bytes" => (
            "survey.stray-bytes",
            format!(
                "{count} bytes between the camera's messages and packets are invalid, and are skipped. If the video breaks up, update the camera's firmware or use UDP."
            ),
        ),
        "no-audio-configuration" => (
            "survey.no-audio-configuration",
            format!(
                "{count} audio frames have no readable configuration. Switch the camera's audio to AAC-LC, or disable and enable it."
            ),
        ),
        _ => return None,
    };
    Some(advice)
}

fn judge_keyframes(stream: &SurveyedStream, say: &mut impl FnMut(&'static str, String)) {
    let SurveyedStream { source, measured, .. } = stream;
    if measured.recovery_points > 0 {
        say(
            "survey.open-gop",
            format!(
                "Keyframes are recovery points of an open GOP, without IDR frames. SRT receivers and most players accept them; RTMP platforms that segment at IDR frames do not. Set the {source} to closed GOPs, or switch intra refresh off."
            ),
        );
    }
    match measured.keyframes {
        None if measured.pictures > 0 => say(
            "survey.keyframe-unknown",
            format!(
                "Only one keyframe was received in {:.0} s: platforms require one every 2 to 4 s. Run a longer survey to measure the interval.",
                measured.span.as_secs_f64()
            ),
        ),
        Some(interval) if interval.max_s > LONGEST_KEYFRAME_S => say(
            "survey.keyframe-far",
            format!(
                "Keyframe every {}: platforms require 2 to 4 s. Set the {source}'s keyframe interval to 2 s.",
                in_seconds(interval.max_s)
            ),
        ),
        Some(interval) if interval.median_s < SHORTEST_KEYFRAME_S => say(
            "survey.keyframe-near",
            format!(
                "Keyframe every {}: such a short interval wastes bit rate. Set the {source}'s keyframe interval to 2 s.",
                in_seconds(interval.median_s)
            ),
        ),
        Some(interval) if interval.max_s > interval.min_s * 1.5 + 0.2 => say(
            "survey.keyframe-uneven",
            format!(
                "The keyframe interval varies from {} to {}: platforms that segment at keyframes require a constant one. Disable scene detection or smart coding in the {source}.",
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
                "The frame rate is below the declared one: {fps:.1} instead of {declared:.1} frames/s. The scene may be dark, or the {} overloaded.",
                stream.source
            ),
        );
    }
    let average = stream.measured.video_kbps + stream.measured.audio_kbps;
    if per_mille(stream.measured.peak_kbps, average) > PEAK_RATIO * 1000.0 {
        say(
            "survey.peak",
            format!(
                "The peak second has {} kbit/s, the average is {average} kbit/s: reserve capacity for that in the uplink, or set the {} to a constant bit rate (CBR).",
                stream.measured.peak_kbps, stream.source
            ),
        );
    }
}

fn check_audio(stream: &SurveyedStream, say: &mut impl FnMut(&'static str, String)) {
    match &stream.audio {
        None if !stream.audio_left.is_empty() => say(
            "survey.sound-left",
            format!(
                "The audio is {}, which is not supported. Switch the {}'s audio to AAC.",
                stream.audio_left.join(" and "),
                stream.source
            ),
        ),
        None => {
            say(
                "survey.no-sound",
                "No audio: some platforms require an audio track, even a silent one.".to_owned(),
            );
        }
        Some(codec) if codec.starts_with("G.711") => say(
            "survey.g711",
            format!(
                "The audio is {codec}: most platforms require AAC. Switch the {}'s audio to AAC.",
                stream.source
            ),
        ),
        Some(_) if stream.measured.audio_frames == 0 => say(
            "survey.mute",
            format!(
                "An audio track is offered, but no audio is received. Check the {}'s microphone setting.",
                stream.source
            ),
        ),
        Some(_) => {}
    }
}

/// Formats seconds: `2 s`, `0.4 s`.
fn in_seconds(seconds: f64) -> String {
    if (seconds - seconds.round()).abs() < 0.05 {
        format!("{seconds:.0} s")
    } else {
        format!("{seconds:.1} s")
    }
}

/// Returns a ratio in per mille; the counts of a survey are far below 2^32.
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
                audio_frames: 400,
                fps: Some(25.0),
                video_kbps: 2_000,
                audio_kbps: 96,
                peak_kbps: 2_600,
                keyframes: Some(Intervals { min_s: 2.0, median_s: 2.0, max_s: 2.0 }),
                reordered: false,
                recovery_points: 0,
            },
            source: SourceKind::Camera,
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
            measured: Measured { audio_frames: 1, recovery_points: 3, ..Measured::default() },
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
    fn good_feed_has_no_advice() {
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
    #[case::no_audio(with(|s| s.audio = None), "survey.no-sound")]
    #[case::opus(with(|s| (s.audio, s.audio_left) = (None, vec!["OPUS".into()])), "survey.sound-left")]
    #[case::telephone(with(|s| s.audio = Some("G.711 A-law".into())), "survey.g711")]
    #[case::mute(with(|s| s.measured.audio_frames = 0), "survey.mute")]
    #[case::lossy(with(|s| (s.transport, s.packets) = ("udp".into(), (950, 50))), "survey.loss")]
    #[case::fast_clock(with(|s| s.drift_ppm = Some((900.0, 20.0))), "survey.drift")]
    fn each_shortcoming_has_one_advice(#[case] stream: SurveyedStream, #[case] code: &str) {
        assert_eq!(codes(&stream, None), [code]);
    }

    #[test]
    fn advice_names_the_encoder_of_a_published_feed() {
        let far = with(|s| {
            s.source = SourceKind::Encoder;
            s.measured.keyframes = Some(Intervals { min_s: 10.0, median_s: 10.0, max_s: 10.0 });
            s.measured.peak_kbps = 6_000;
            s.audio = Some("G.711 A-law".into());
        });
        let advice = advise(Some(&far), None);
        assert_eq!(advice.len(), 3);
        for Advice { message, .. } in advice {
            assert!(message.contains("the encoder") && !message.contains("camera"), "{message}");
        }
    }

    #[test]
    fn drift_within_its_uncertainty_has_no_advice() {
        assert_eq!(codes(&with(|s| s.drift_ppm = Some((900.0, 400.0))), None), [""; 0]);
    }

    #[test]
    fn swapped_and_equal_streams_are_detected() {
        let small = with(|s| (s.width, s.height, s.measured.video_kbps) = (640, 360, 1_900));
        assert_eq!(codes(&small, Some(&good())), ["survey.swapped"]);
        assert_eq!(codes(&good(), Some(&good())), ["survey.same"]);
    }

    #[test]
    fn loss_advice_suggests_an_available_transport() {
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
