//! Preflight of a push whose feed may be adapted.

use crate::preflight::{Check, CheckStatus, FeedFacts, PushFacts, check_push};

use super::{Adapt, Choice, CodecSpeed, Rendition, Requirements, choose, estimate_cores};

/// Processor of this machine.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Machine {
    /// Speed of the codecs.
    pub speed: CodecSpeed,
    /// Cores that no running rendition occupies.
    pub free_cores: f64,
    /// The library that decodes H.265 is installed.
    pub decodes_h265: bool,
}

/// Checks a push with the rendition that it will get: rules are checked against what the platform receives, and what is
/// adapted is a check of its own. `platform` is the name of the rule sheet.
#[must_use]
pub fn check_adapted_push(
    feed: &FeedFacts,
    push: &PushFacts,
    platform: Option<&str>,
    requirements: Requirements<'_>,
    adapt: Adapt,
    machine: Machine,
) -> Vec<Check> {
    let choice = choose(feed, requirements, adapt);
    let sheet = platform.zip(requirements.rules);
    let mut checks = check_push(&choice.rendition.applied_to(feed), push, sheet);
    for check in &mut checks {
        if let Some(wider) = adaptation_for(check, feed, requirements, adapt) {
            let before = check.next_step.take().unwrap_or_default();
            let step = format!(
                "Let the service adapt it: yonder relay edit --adapt {}. Or: {before}",
                wider.as_str()
            );
            check.next_step = Some(step);
        }
    }
    if !choice.rendition.is_original() {
        checks.push(made(&push.destination, &choice, feed, machine));
    }
    checks
}

/// Returns the adaptation that would solve a failed check; `None` if it is allowed already, or none would.
#[must_use]
pub fn adaptation_for(
    check: &Check,
    feed: &FeedFacts,
    requirements: Requirements<'_>,
    adapt: Adapt,
) -> Option<Adapt> {
    if check.level != CheckStatus::Fail || adapt == Adapt::All {
        return None;
    }
    let solves =
        |wider| choose(feed, requirements, wider).solved.iter().any(|need| need.check == check.check);
    [Adapt::Audio, Adapt::All].into_iter().find(|wider| *wider != adapt && solves(*wider))
}

/// Returns the check of the rendition: what is made, why, and what it costs.
fn made(destination: &str, choice: &Choice, feed: &FeedFacts, machine: Machine) -> Check {
    let is_h265 = feed.video.as_ref().is_some_and(|video| video.codec == "H.265");
    if is_h265 && choice.rendition.video.is_some() && !machine.decodes_h265 {
        return Check {
            subject: destination.to_owned(),
            check: "rendition",
            level: CheckStatus::Fail,
            reason: "the video has to be adapted, and this machine has no decoder for H.265".to_owned(),
            next_step: Some("Install the package libde265-0, or switch the camera to H.264.".to_owned()),
        };
    }
    let reasons: Vec<&str> = choice.solved.iter().map(|need| need.reason.as_str()).collect();
    let cores =
        feed.video.as_ref().map_or(0.0, |video| estimate_cores(&choice.rendition, video, machine.speed));
    let percent = (cores * 100.0).ceil().max(1.0);
    let reason =
        format!("sent as {}: {}; takes about {percent} % of one core", choice.rendition, reasons.join(", "));
    let is_affordable = cores <= machine.free_cores;
    let step = "This machine has less than that free: ask for less with yonder relay edit --limit, stop other relays with \
                adapted video, or change the camera's settings.";
    Check {
        subject: destination.to_owned(),
        check: "rendition",
        level: if is_affordable { CheckStatus::Pass } else { CheckStatus::Warn },
        reason,
        next_step: (!is_affordable).then(|| step.to_owned()),
    }
}

impl Rendition {
    /// Returns the media bit rate of the stream that is made from a feed, in kilobits per second; `None` if the feed was not
    /// measured.
    #[must_use]
    pub fn kbps(&self, feed: &FeedFacts) -> Option<u64> {
        let FeedFacts { video, audio, .. } = self.applied_to(feed);
        Some(video?.kbps? + audio.map_or(Some(0), |audio| audio.kbps)?)
    }

    /// Returns the facts of the stream that is made from a feed.
    #[must_use]
    pub fn applied_to(&self, feed: &FeedFacts) -> FeedFacts {
        let mut made = feed.clone();
        if let (Some(video), Some(rendition)) = (&mut made.video, self.video) {
            *video = rendition.facts();
        }
        if let Some(rendition) = self.audio {
            made.audio = Some(rendition.facts());
        }
        made
    }
}

#[cfg(test)]
mod tests {
    use yonder_address::Protocol;

    use crate::platform::RuleSheet;
    use crate::preflight::{KeyFacts, Reachability, worst};
    use crate::rendition::Limit;
    use crate::{MeasuredAudio, MeasuredVideo};

    use super::*;

    const MACHINE: Machine = Machine {
        speed: CodecSpeed { decoded_per_s: 1e8, encoded_per_s: 2e7, cores_per_channel: 0.015 },
        free_cores: 2.0,
        decodes_h265: true,
    };

    fn feed() -> FeedFacts {
        FeedFacts {
            name: "Signal Box".into(),
            source: crate::SourceKind::Camera,
            cause: None,
            video: Some(MeasuredVideo {
                codec: "H.264".into(),
                width: 1_920,
                height: 1_080,
                fps: Some(25.0),
                kbps: Some(4_000),
                keyframe_s: Some(2.0),
                b_frames: Some(false),
                open_gop: false,
            }),
            audio: Some(MeasuredAudio {
                codec: "G.711 A-law".into(),
                rate_hz: 8_000,
                channels: 1,
                kbps: Some(64),
                is_decodable: true,
            }),
        }
    }

    fn checks(rules: &RuleSheet, adapt: Adapt, machine: Machine) -> Vec<Check> {
        checks_of(&feed(), rules, adapt, machine)
    }

    fn checks_of(feed: &FeedFacts, rules: &RuleSheet, adapt: Adapt, machine: Machine) -> Vec<Check> {
        let push = PushFacts {
            destination: "Thistle Stage".into(),
            protocol: Protocol::Rtmps,
            encrypted: true,
            key: KeyFacts { present: true, ..KeyFacts::default() },
            main: Reachability::NotTried,
            backup: None,
        };
        let requirements = Requirements {
            protocol: Protocol::Rtmps,
            rules: Some(rules),
            limit: Limit::default(),
            available_kbps: None,
        };
        check_adapted_push(feed, &push, Some("Thistle Stage"), requirements, adapt, machine)
    }

    fn rules(lines: Option<u32>) -> RuleSheet {
        let mut rules = RuleSheet::default();
        rules.audio.codecs = vec!["AAC".into()];
        rules.video.max_lines = lines;
        rules
    }

    fn step(checks: &[Check], name: &str) -> String {
        checks.iter().find(|check| check.check == name).unwrap().next_step.clone().unwrap()
    }

    #[test]
    fn adapted_audio_passes_with_its_cost() {
        let checks = checks(&rules(None), Adapt::Audio, MACHINE);
        assert_eq!(worst(&checks), CheckStatus::Pass);
        let rendition = checks.iter().find(|check| check.check == "rendition").unwrap();
        let expected = "sent as AAC, 48000 Hz, 1 channel, 64 kbit/s: the platform accepts AAC, not G.711 A-law; takes about 2 \
                        % of one core";
        assert_eq!(rendition.reason, expected);
    }

    #[test]
    fn failure_that_an_adaptation_solves_names_it() {
        let none = checks(&rules(Some(720)), Adapt::None, MACHINE);
        assert!(
            step(&none, "audio-codec")
                .starts_with("Let the service adapt it: yonder relay edit --adapt audio. Or: ")
        );
        assert!(
            step(&none, "size").starts_with("Let the service adapt it: yonder relay edit --adapt all. Or: ")
        );
        let audio = checks(&rules(Some(720)), Adapt::Audio, MACHINE);
        assert_eq!(worst(&audio), CheckStatus::Fail);
        assert!(step(&audio, "size").contains("--adapt all"));
        assert_eq!(worst(&checks(&rules(Some(720)), Adapt::All, MACHINE)), CheckStatus::Pass);
    }

    #[test]
    fn missing_decoder_names_its_package() {
        let mut h265 = feed();
        if let Some(video) = &mut h265.video {
            video.codec = "H.265".into();
        }
        let mut rules = rules(None);
        rules.video.codecs = vec!["H.264".into()];
        let without = Machine { decodes_h265: false, ..MACHINE };
        let checks = checks_of(&h265, &rules, Adapt::All, without);
        assert!(step(&checks, "rendition").contains("libde265-0"));
        assert_eq!(worst(&checks), CheckStatus::Fail);
        assert_ne!(worst(&checks_of(&h265, &rules, Adapt::All, MACHINE)), CheckStatus::Fail);
    }

    #[test]
    fn machine_without_free_cores_is_a_warning() {
        let busy = Machine { free_cores: 0.1, ..MACHINE };
        let checks = checks(&rules(Some(720)), Adapt::All, busy);
        assert_eq!(worst(&checks), CheckStatus::Warn);
        assert!(step(&checks, "rendition").contains("--limit"));
    }
}
