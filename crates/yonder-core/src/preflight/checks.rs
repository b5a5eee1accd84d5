//! Checks of a feed, and of a push against the rules of its platform.

use yonder_address::Protocol;

use crate::budget::BitRate;
use crate::platform::{RuleSheet, tolerance};

use super::facts::{Check, CheckStatus, FeedFacts, KeyFacts, Problem, PushFacts, Reachability};
use crate::survey::SourceKind;
use crate::{MeasuredAudio, MeasuredVideo};

/// A key that expires within this time gets a warning.
const EXPIRY_WARNING_S: i64 = 7 * 86_400;

/// Checks of one subject.
struct Checks<'a> {
    subject: &'a str,
    /// Device that the feed comes from.
    source: SourceKind,
    all: Vec<Check>,
}

impl Checks<'_> {
    fn add(
        &mut self,
        check: &'static str,
        level: CheckStatus,
        reason: impl Into<String>,
        next_step: Option<String>,
    ) {
        let (subject, reason) = (self.subject.to_owned(), reason.into());
        self.all.push(Check { subject, check, level, reason, next_step });
    }

    fn pass(&mut self, check: &'static str, reason: impl Into<String>) {
        self.add(check, CheckStatus::Pass, reason, None);
    }

    fn warn(&mut self, check: &'static str, reason: impl Into<String>, next_step: impl Into<String>) {
        self.add(check, CheckStatus::Warn, reason, Some(next_step.into()));
    }

    fn fail(&mut self, check: &'static str, reason: impl Into<String>, next_step: impl Into<String>) {
        self.add(check, CheckStatus::Fail, reason, Some(next_step.into()));
    }
}

/// Checks whether the feed can be pulled, and its media.
#[must_use]
pub fn check_feed(feed: &FeedFacts) -> Vec<Check> {
    let mut checks = Checks { subject: &feed.name, source: feed.source, all: Vec::new() };
    match (&feed.cause, &feed.video) {
        // Encoders are often started after the relay.
        (Some(cause), _) if feed.source == SourceKind::Encoder => checks.warn(
            "pull",
            without_stop(&cause.message),
            format!("{} The relay can start: the broadcast begins once the encoder publishes.", cause.hint),
        ),
        (Some(cause), _) => checks.fail(
            "pull",
            without_stop(&cause.message),
            format!(
                "{} Or start with --force: the broadcast begins once the camera can be pulled.",
                cause.hint
            ),
        ),
        (None, Some(video)) => {
            let fps = video.fps.map(|fps| format!(" at {fps:.1} frames/s")).unwrap_or_default();
            let rate = video.kbps.map(|kbps| format!(", {}", BitRate::from_kbps(kbps))).unwrap_or_default();
            checks.pass("pull", format!("{} {}×{}{fps}{rate}", video.codec, video.width, video.height));
        }
        (None, None) => {
            checks.fail("pull", "no video was measured", "Survey the feed: yonder feed survey");
        }
    }
    checks.all
}

/// Checks a destination and the rules of its platform against a feed. Without a rule sheet, only rules common to all
/// platforms are checked.
#[must_use]
pub fn check_push(feed: &FeedFacts, push: &PushFacts, sheet: Option<(&str, &RuleSheet)>) -> Vec<Check> {
    let mut checks = Checks { subject: &push.destination, source: feed.source, all: Vec::new() };
    reachable(&mut checks, push);
    key(&mut checks, push);
    match sheet {
        Some((platform, rules)) => {
            protocol(&mut checks, push, platform, rules);
            if let Some(video) = &feed.video {
                video_rules(&mut checks, video, push, platform, rules);
                audio_rules(&mut checks, feed.audio.as_ref(), platform, rules);
            }
            broadcast(&mut checks, platform, rules);
        }
        None => checks.warn(
            "rules",
            "the platform's rules are not known",
            "Name its platform: yonder destination edit NAME --platform PLATFORM (yonder platform list shows them)",
        ),
    }
    if push.protocol == Protocol::Srt && feed.audio.as_ref().is_some_and(|audio| audio.codec != "AAC") {
        checks.warn(
            "container",
            "MPEG-TS does not support this audio codec: the video is sent without audio",
            format!("Switch the {}'s audio to AAC.", feed.source),
        );
    }
    checks.all
}

fn without_stop(sentence: &str) -> String {
    sentence.trim_end_matches('.').to_owned()
}

fn reachable(checks: &mut Checks<'_>, push: &PushFacts) {
    let mut one = |reach: &Reachability, which: &'static str| match reach {
        Reachability::NotTried => {}
        Reachability::Reached(steps) => checks.pass(which, steps.clone()),
        Reachability::Failed(Problem { message, hint }) => {
            // With a backup server, an unreachable main one is a warning.
            if push.backup.is_some() {
                checks.warn(which, without_stop(message), hint.clone());
            } else {
                checks.fail(which, without_stop(message), hint.clone());
            }
        }
    };
    one(&push.main, "server");
    if let Some(backup) = &push.backup {
        one(backup, "backup-server");
        let both_fail = |reach: &Reachability| matches!(reach, Reachability::Failed(_));
        if both_fail(&push.main) && both_fail(backup) {
            checks.fail("server", "neither of its servers can be reached", "Check both server addresses.");
        }
    }
}

fn key(checks: &mut Checks<'_>, push: &PushFacts) {
    let KeyFacts { present, lost, expires_in_s, spent, same_as, used_by } = &push.key;
    let rekey = "Take a fresh key from the platform: yonder destination rekey";
    if let Some(relay) = used_by {
        let reason = format!("the relay {relay} pushes to this destination already, under the same key");
        checks.fail("key", reason, format!("Stop {relay}, or add another destination with its own key."));
    } else if let Some(other) = same_as {
        let reason = format!("the destination {other} has the same key at the same server");
        checks.fail("key", reason, "Give each its own key; platforms accept one broadcast per key.");
    } else if *lost {
        let reason = "the stored key or passphrase cannot be decrypted";
        checks.fail("key", reason, "Set it again: yonder destination rekey");
    } else if !present {
        if push.protocol == Protocol::Srt {
            checks.pass("key", "no stream ID is sent");
        } else {
            checks.fail("key", "there is no stream key", rekey);
        }
    } else if *spent {
        checks.fail("key", "the key was for one broadcast and is used up", rekey);
    } else {
        match expires_in_s {
            Some(left) if *left <= 0 => checks.fail("key", "the key has expired", rekey),
            Some(left) if *left < EXPIRY_WARNING_S => {
                checks.warn("key", format!("the key expires in {}", span(*left)), rekey);
            }
            _ => checks.pass("key", "a key is set"),
        }
    }
}

fn span(seconds: i64) -> String {
    match seconds {
        0..3_600 => format!("{} minutes", seconds / 60),
        3_600..172_800 => format!("{} hours", seconds / 3_600),
        _ => format!("{} days", seconds / 86_400),
    }
}

fn protocol(checks: &mut Checks<'_>, push: &PushFacts, platform: &str, rules: &RuleSheet) {
    let protocol = push.protocol.as_str();
    if !rules.protocols.is_empty() && !rules.protocols.iter().any(|known| known == protocol) {
        let accepted = rules.protocols.join(" or ");
        let step = format!("Take the {accepted} address from the platform: yonder destination edit --server");
        checks.fail("protocol", format!("{platform} accepts {accepted}, not {protocol}"), step);
        return;
    }
    if rules.encrypted && !push.encrypted {
        let step = if push.protocol == Protocol::Srt {
            "Set the passphrase: yonder destination rekey --passphrase-file"
        } else {
            "Take the rtmps:// address from the platform: yonder destination edit --server"
        };
        checks.fail("encryption", format!("{platform} accepts only encrypted pushes"), step);
        return;
    }
    let encrypted = if push.encrypted { ", encrypted" } else { "" };
    checks.pass("protocol", format!("{protocol}{encrypted}"));
}

fn video_rules(
    checks: &mut Checks<'_>,
    video: &MeasuredVideo,
    push: &PushFacts,
    platform: &str,
    rules: &RuleSheet,
) {
    let source = checks.source;
    let limits = &rules.video;
    let codec = &video.codec;
    if !limits.codecs.is_empty() && !limits.codecs.contains(codec) {
        let accepted = limits.codecs.join(" or ");
        let step = format!("Switch the {source} to {accepted}, or push its sub stream.");
        checks.fail("video-codec", format!("{platform} accepts {accepted}, not {codec}"), step);
    } else {
        checks.pass("video-codec", codec.clone());
    }
    if push.protocol != Protocol::Srt && codec == "H.265" {
        checks.warn(
            "container",
            "H.265 over RTMP needs a platform that supports Enhanced RTMP",
            format!("If it is refused, switch the {source} to H.264 or push by SRT."),
        );
    }
    let too_wide = limits.max_width.filter(|most| video.width > *most);
    let too_high = limits.max_lines.filter(|most| video.height > *most);
    let size = format!("{}×{}", video.width, video.height);
    if too_wide.is_some() || too_high.is_some() {
        let most = match (limits.max_width, limits.max_lines) {
            (Some(width), Some(lines)) => format!("{width}×{lines}"),
            (Some(width), None) => format!("{width} samples a line"),
            (None, lines) => format!("{} lines", lines.unwrap_or_default()),
        };
        let step = format!("Lower the {source}'s size, or push its sub stream.");
        checks.fail("size", format!("{platform} accepts up to {most}, the feed has {size}"), step);
    } else {
        checks.pass("size", size);
    }
    if let (Some(fps), Some(most)) = (video.fps, limits.max_fps) {
        if fps > most + tolerance::FPS {
            let reason = format!("{platform} accepts up to {most} frames/s, the feed has {fps:.1}");
            checks.fail("frame-rate", reason, format!("Lower the {source}'s frame rate."));
        } else {
            checks.pass("frame-rate", format!("{fps:.1} frames/s"));
        }
    }
    bit_rate(checks, video, platform, rules);
    keyframes(checks, video, platform, rules);
    if video.open_gop && push.protocol != Protocol::Srt {
        checks.warn(
            "open-gop",
            "the feed has recovery points instead of IDR frames; RTMP platforms may not start decoding at them",
            format!("Set the {source} to closed GOPs, switch intra refresh off, or push by SRT."),
        );
    }
    if limits.b_frames == Some(false) && video.b_frames == Some(true) {
        let reason = format!("{platform} accepts no B-frames, and the feed has some");
        checks.fail(
            "b-frames",
            reason,
            format!("Switch B-frames off in the {source}, or choose a baseline profile."),
        );
    }
}

fn bit_rate(checks: &mut Checks<'_>, video: &MeasuredVideo, platform: &str, rules: &RuleSheet) {
    let source = checks.source;
    let Some(kbps) = video.kbps else { return };
    let rate = BitRate::from_kbps(kbps);
    if let Some(ceiling) = rules.video.ceiling_kbps.map(u64::from) {
        let most = BitRate::from_kbps(ceiling);
        if tolerance::exceeds_ceiling(kbps, ceiling) {
            let step = format!("Set the {source}'s bit rate below {most}.");
            checks.fail("bit-rate", format!("{platform} accepts up to {most}, the feed has {rate}"), step);
            return;
        }
        if kbps * 10 > ceiling * 9 {
            let step =
                format!("Busy scenes may exceed it: set the {source} to a constant or lower bit rate.");
            checks.warn("bit-rate", format!("{rate} is close to the {most} that {platform} accepts"), step);
            return;
        }
    }
    let recommended = video.fps.and_then(|fps| rules.recommended(video.height, fps));
    match recommended {
        Some(range) if kbps < u64::from(range.from_kbps) => {
            let least = BitRate::from_kbps(range.from_kbps.into());
            let reason = format!("{rate} is less than the {least} that {platform} recommends for this size");
            checks.warn(
                "bit-rate",
                reason,
                format!("The video quality may be poor: raise the {source}'s bit rate, or lower its size."),
            );
        }
        Some(range) if kbps > u64::from(range.to_kbps) => {
            let most = BitRate::from_kbps(range.to_kbps.into());
            let reason = format!("{rate} is more than the {most} that {platform} recommends for this size");
            checks.warn(
                "bit-rate",
                reason,
                format!("It costs traffic without visible benefit: lower the {source}'s bit rate."),
            );
        }
        _ => checks.pass("bit-rate", rate.to_string()),
    }
}

fn keyframes(checks: &mut Checks<'_>, video: &MeasuredVideo, platform: &str, rules: &RuleSheet) {
    let source = checks.source;
    let (least, most) = (rules.video.min_keyframe_interval_s, rules.video.max_keyframe_interval_s);
    if least.is_none() && most.is_none() {
        return;
    }
    let Some(interval) = video.keyframe_s else {
        checks.warn(
            "keyframes",
            "the keyframe interval is not measured yet",
            "Survey the feed for longer: yonder feed survey --for 30s",
        );
        return;
    };
    let step = |wanted: f64| format!("Set the {source}'s keyframe interval to {wanted} s.");
    match (least, most) {
        (_, Some(most)) if interval > most + tolerance::KEYFRAME_INTERVAL_S => {
            let reason = format!("keyframes are {interval:.1} s apart, {platform} requires at most {most} s");
            checks.fail("keyframes", reason, step(most.min(2.0)));
        }
        (Some(least), _) if interval < least - tolerance::KEYFRAME_INTERVAL_S => {
            let reason =
                format!("keyframes are {interval:.1} s apart, {platform} requires at least {least} s");
            checks.warn("keyframes", reason, step(least.max(2.0)));
        }
        _ => checks.pass("keyframes", format!("every {interval:.1} s")),
    }
}

fn audio_rules(checks: &mut Checks<'_>, audio: Option<&MeasuredAudio>, platform: &str, rules: &RuleSheet) {
    let source = checks.source;
    let limits = &rules.audio;
    let Some(audio) = audio else {
        if limits.needed {
            let step = format!("Enable audio in the {source}.");
            checks.fail("audio", format!("{platform} requires audio, and the feed has none"), step);
        }
        return;
    };
    // "G.711" in a sheet covers both of its laws.
    let known = |codec: &String| audio.codec.starts_with(codec.as_str());
    if !limits.codecs.is_empty() && !limits.codecs.iter().any(known) {
        let accepted = limits.codecs.join(" or ");
        let reason = format!("{platform} accepts {accepted}, not {}", audio.codec);
        checks.fail(
            "audio-codec",
            reason,
            format!("Switch the {source}'s audio to {accepted}, or disable it."),
        );
        return;
    }
    if !limits.rates_hz.is_empty() && !limits.rates_hz.contains(&audio.rate_hz) {
        let accepted = limits.rates_hz.iter().map(u32::to_string).collect::<Vec<_>>().join(" or ");
        let reason = format!("{platform} requires {accepted} Hz, the feed has {}", audio.rate_hz);
        checks.warn(
            "audio-rate",
            reason,
            format!("Set the {source}'s sampling rate; many platforms accept other rates."),
        );
    } else if limits.max_channels.is_some_and(|most| audio.channels > most) {
        let reason = format!("{platform} accepts fewer than the {} channels of the feed", audio.channels);
        checks.fail("audio-channels", reason, format!("Set the {source} to fewer channels."));
    } else if let (Some(kbps), Some(ceiling)) = (audio.kbps, limits.ceiling_kbps)
        && kbps > u64::from(ceiling) + tolerance::AUDIO_KBPS
    {
        let reason = format!("{platform} accepts up to {ceiling} kbit/s of audio, the feed has {kbps}");
        checks.warn("audio-bit-rate", reason, format!("Lower the {source}'s audio bit rate."));
    } else {
        checks.pass("audio", format!("{}, {} Hz, {} channels", audio.codec, audio.rate_hz, audio.channels));
    }
}

/// Adds warnings about a platform that limits the length of a broadcast.
fn broadcast(checks: &mut Checks<'_>, platform: &str, rules: &RuleSheet) {
    if let Some(hours) = rules.broadcast.longest_h {
        let reason = format!("{platform} ends a broadcast after {hours} h; the push then reconnects");
        checks.pass("longest-broadcast", reason);
    }
}
