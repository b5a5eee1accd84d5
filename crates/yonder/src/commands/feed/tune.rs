//! `yonder feed tune`: encoder settings of a feed's camera.

use std::io::{self, BufRead as _, IsTerminal as _, Write as _};
use std::time::Duration;

use clap::Args;
use yonder_api::{NewTuning, Tuning, TuningResult};
use yonder_core::budget::BitRate;
use yonder_core::tuning::{
    EncoderFormat, EncoderSettings, FrameSize, Setting, SettingOutcome, TuningReason, VerifiedSetting,
    VideoOptions,
};

use crate::client::Client;
use crate::duration::parse_duration;
use crate::failure::Failure;
use crate::output::{Tone, colorize, has_color, local, print, print_json, table, wants_json};

#[derive(Debug, Args)]
pub(crate) struct TuneArguments {
    /// Name of the feed.
    name: String,
    /// Only show what the camera has, what it offers, and what suits the relays best.
    #[arg(long, conflicts_with_all = ["codec", "size", "fps", "rate", "keyframe", "audio", "undo", "yes"])]
    show: bool,
    /// Video codec, such as H.264.
    #[arg(long, value_parser = parse_codec, value_name = "CODEC")]
    codec: Option<String>,
    /// Frame size, such as 1280x720.
    #[arg(long, value_parser = parse_size, value_name = "SIZE")]
    size: Option<FrameSize>,
    /// Frames per second.
    #[arg(long, value_name = "NUMBER")]
    fps: Option<f64>,
    /// Maximum bit rate of the video, such as 3Mbit/s.
    #[arg(long, value_parser = parse_rate, value_name = "RATE")]
    rate: Option<u32>,
    /// Keyframe interval, such as 2s.
    #[arg(long, value_parser = parse_duration, value_name = "TIME")]
    keyframe: Option<Duration>,
    /// Audio codec, such as AAC.
    #[arg(long, value_parser = parse_audio, value_name = "CODEC")]
    audio: Option<String>,
    /// Restore the settings before the last change.
    #[arg(long, conflicts_with_all = ["codec", "size", "fps", "rate", "keyframe", "audio"])]
    undo: bool,
    /// Address of the camera's ONVIF device service: a host, with its port unless it is 80, or a URL. It is stored with the
    /// feed once a change has worked.
    #[arg(long, value_name = "HOST")]
    device: Option<String>,
    /// Also change an encoder that other profiles of the camera use.
    #[arg(long)]
    shared: bool,
    /// Do not ask; without settings, apply those that suit the relays best.
    #[arg(long)]
    yes: bool,
}

pub(super) fn run(arguments: TuneArguments, client: &Client) -> Result<(), Failure> {
    let settings = EncoderSettings {
        codec: arguments.codec,
        size: arguments.size,
        fps: arguments.fps,
        kbps: arguments.rate,
        keyframe_interval_s: arguments.keyframe.map(|interval| interval.as_secs_f64()),
        audio: arguments.audio,
    };
    let is_explicit = arguments.undo || !settings.is_empty();
    let is_terminal = io::stdin().is_terminal() && io::stderr().is_terminal() && !wants_json();
    let mut new = NewTuning {
        device: arguments.device.clone(),
        settings,
        undo: arguments.undo,
        shared: arguments.shared,
    };
    // Scripts state what they want; everything else is decided on what the camera has.
    if !arguments.yes && (is_terminal || !is_explicit) {
        let query: Vec<(&str, &str)> =
            arguments.device.as_deref().map(|device| ("device", device)).into_iter().collect();
        let tuning: Tuning = client.get_slowly(&["feeds", &arguments.name, "tuning"], &query)?;
        if !is_explicit {
            if wants_json() {
                return print_json(&tuning);
            }
            print(&text(&tuning, has_color()));
            if arguments.show || !is_terminal || tuning.changes.is_empty() {
                return Ok(());
            }
            // Exactly what was shown.
            new.settings = tuning.proposed.clone();
        }
        let restored =
            tuning.undo.as_ref().filter(|_| new.undo).map(|undo| EncoderSettings::of(&undo.before));
        let settings = restored.unwrap_or_else(|| new.settings.clone()).without_unchanged(&tuning.configured);
        let affected = settings.affected(&tuning.shared_with, &tuning.audio_shared_with);
        let affects_others = !affected.is_empty() || !tuning.on_air.is_empty();
        if (!is_explicit || affects_others) && !confirm(&tuning, &affected)? {
            print("Nothing was changed.\n");
            return Ok(());
        }
        new.shared = true;
    }
    let result: TuningResult = client.run_job(&["feeds", &arguments.name, "tuning"], &new)?;
    if wants_json() {
        print_json(&result)?;
    } else {
        print(&result_text(&result, has_color()));
    }
    if result.verified { Ok(()) } else { Err(Failure::AlreadyReported) }
}

/// Asks whether a change is to be made, after a note about others that it affects.
#[expect(clippy::print_stderr, reason = "a question is not part of the output")]
fn confirm(tuning: &Tuning, affected: &[String]) -> Result<bool, Failure> {
    if !affected.is_empty() {
        eprintln!("The streams of these profiles change, too: {}.", affected.join(", "));
    }
    if !tuning.on_air.is_empty() {
        eprintln!(
            "On air from this camera: {}. Its picture may pause for some seconds.",
            tuning.on_air.join(", ")
        );
    }
    eprint!("Change the camera's settings? [y/N] ");
    let unread = |error: io::Error| Failure::Usage(format!("the answer cannot be read: {error}"));
    io::stderr().flush().map_err(unread)?;
    let mut answer = String::new();
    io::stdin().lock().read_line(&mut answer).map_err(unread)?;
    Ok(matches!(answer.trim().to_ascii_lowercase().as_str(), "y" | "yes"))
}

fn text(tuning: &Tuning, color: bool) -> String {
    let model = [tuning.model.as_str(), tuning.firmware.as_str()].join(" ");
    let mut text = format!(
        "{}\n  device     {}{}\n  profile    {}\n\n",
        colorize(&format!("Camera of {}", tuning.feed), Tone::Strong, color),
        tuning.device,
        if model.trim().is_empty() { String::new() } else { format!(" ({})", model.trim()) },
        tuning.profile
    );
    let after = tuning.configured.with(&tuning.proposed);
    let video = tuning.offered.video_of(&after.codec);
    let rows = Setting::ALL.into_iter().map(|setting| {
        let is_changed = tuning.changes.iter().any(|change| change.setting == setting);
        let proposed = if is_changed { after.text_of(setting) } else { String::new() };
        vec![
            setting.to_string(),
            tuning.configured.text_of(setting),
            proposed,
            offered(setting, tuning, video, &after),
        ]
    });
    text += &table(&["SETTING", "CONFIGURED", "PROPOSED", "OFFERED"], &rows.collect::<Vec<_>>());
    if tuning.changes.is_empty() && tuning.missing.is_empty() {
        text += &format!("\n{}\n", colorize("The settings suit all relays of this feed.", Tone::Good, color));
    }
    text += &reasons("Reasons", &tuning.reasons);
    text += &reasons("The camera does not offer", &tuning.missing);
    for (encoder, profiles) in [("video", &tuning.shared_with), ("audio", &tuning.audio_shared_with)] {
        if !profiles.is_empty() {
            text += &format!(
                "\nThe {encoder} encoder is used by other profiles, too: {}.\n",
                profiles.join(", ")
            );
        }
    }
    if let Some(undo) = &tuning.undo {
        let before = Setting::ALL.map(|setting| undo.before.text_of(setting));
        let differs = before
            .into_iter()
            .zip(Setting::ALL)
            .filter(|(before, setting)| !before.is_empty() && *before != tuning.configured.text_of(*setting));
        let before: Vec<String> = differs.map(|(before, setting)| format!("{setting} {before}")).collect();
        if !before.is_empty() {
            text += &format!("\n--undo restores {} (change of {}).\n", before.join(", "), local(&undo.at));
        }
    }
    if !tuning.changes.is_empty() {
        text += &format!("\nApply the proposal: yonder feed tune {:?} --yes\n", tuning.feed);
    }
    text
}

fn reasons(title: &str, reasons: &[TuningReason]) -> String {
    if reasons.is_empty() {
        return String::new();
    }
    let line = |reason: &TuningReason| {
        let about = reason.destination.as_deref().map(|name| format!("{name}: ")).unwrap_or_default();
        format!("  {:<11} {about}{}.\n", reason.setting.to_string(), reason.reason)
    };
    format!("\n{title}\n{}", reasons.iter().map(line).collect::<String>())
}

/// Returns what the camera offers for a setting; empty if it does not say.
fn offered(setting: Setting, tuning: &Tuning, video: Option<&VideoOptions>, after: &EncoderFormat) -> String {
    let two_digits = |fps: &f64| ((fps * 100.0).round() / 100.0).to_string();
    let range = |fps: &[f64]| fps.iter().map(two_digits).collect::<Vec<_>>();
    match (setting, video) {
        (Setting::Codec, _) => {
            tuning.offered.video.iter().map(|video| video.codec.as_str()).collect::<Vec<_>>().join(", ")
        }
        (Setting::Audio, _) => tuning.offered.audio.join(", "),
        (_, None) => String::new(),
        (Setting::Size, Some(video)) => {
            video.sizes.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
        }
        (Setting::FrameRate, Some(video)) => {
            range(&video.fps).join(if video.fps.len() == 2 { " to " } else { ", " })
        }
        (Setting::BitRate, Some(video)) => {
            video.kbps.map_or_else(String::new, |kbps| format!("{} to {} kbit/s", kbps.min, kbps.max))
        }
        (Setting::Keyframes, Some(video)) => {
            let frames = video.keyframe_frames.zip(after.fps).map(|(frames, fps)| {
                let seconds = |frames: u32| (f64::from(frames) / fps * 100.0).round() / 100.0;
                format!("every {} to {} s", seconds(frames.min), seconds(frames.max))
            });
            frames.unwrap_or_default()
        }
    }
}

fn result_text(result: &TuningResult, color: bool) -> String {
    let mut text = String::new();
    if !result.settings.is_empty() {
        let row = |setting: &VerifiedSetting| {
            vec![
                setting.setting.to_string(),
                setting.before.clone(),
                setting.wanted.clone(),
                setting.reported.clone(),
                setting.measured.clone(),
                outcome(setting.outcome).to_owned(),
            ]
        };
        let rows: Vec<Vec<String>> = result.settings.iter().map(row).collect();
        text += &table(&["SETTING", "BEFORE", "REQUESTED", "REPORTED", "MEASURED", "RESULT"], &rows);
        text.push('\n');
    }
    let tone = if result.verified { Tone::Good } else { Tone::Wait };
    text += &format!("{}\n", colorize(&result.message, tone, color));
    if let Some(step) = &result.next_step {
        text += &format!("  next     {step}\n");
    }
    text
}

fn outcome(outcome: SettingOutcome) -> &'static str {
    match outcome {
        SettingOutcome::Applied => "applied",
        SettingOutcome::Adjusted => "adjusted by the camera",
        SettingOutcome::Pending => "stored, not sent yet",
        SettingOutcome::Ignored => "ignored",
        SettingOutcome::Unmeasured => "stored, not measured",
    }
}

fn parse_codec(text: &str) -> Result<String, String> {
    Ok(match text.to_ascii_uppercase().replace('.', "").as_str() {
        "H264" => "H.264".to_owned(),
        "H265" => "H.265".to_owned(),
        _ if text.trim().is_empty() => return Err("give a codec like H.264".to_owned()),
        _ => text.trim().to_owned(),
    })
}

fn parse_audio(text: &str) -> Result<String, String> {
    Ok(match text.to_ascii_uppercase().replace('.', "").as_str() {
        "G711" => "G.711".to_owned(),
        "AAC" => "AAC".to_owned(),
        _ if text.trim().is_empty() => return Err("give a codec like AAC".to_owned()),
        _ => text.trim().to_owned(),
    })
}

fn parse_size(text: &str) -> Result<FrameSize, String> {
    let sides = text.split_once(['x', 'X', '×']);
    let parsed =
        sides.and_then(|(width, height)| Some((width.trim().parse().ok()?, height.trim().parse().ok()?)));
    let size = parsed.map(|(width, height)| FrameSize { width, height });
    size.filter(|size| size.width > 0 && size.height > 0)
        .ok_or_else(|| "give a size like 1280x720".to_owned())
}

fn parse_rate(text: &str) -> Result<u32, String> {
    let rate: BitRate = text.parse().map_err(|error: yonder_core::budget::UnitError| error.to_string())?;
    u32::try_from(rate.kbps()).map_err(|_| format!("{text:?} is out of range"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn settings_are_parsed() {
        assert_eq!(parse_size("1280x720"), Ok(FrameSize { width: 1_280, height: 720 }));
        assert_eq!(parse_size("1280×720"), Ok(FrameSize { width: 1_280, height: 720 }));
        assert!(parse_size("720p").is_err() && parse_size("0x0").is_err());
        assert_eq!(parse_rate("3Mbit/s"), Ok(3_000));
        assert!(parse_rate("3000").unwrap_err().contains("unit"));
        assert_eq!(parse_codec("h264").as_deref(), Ok("H.264"));
        assert_eq!(parse_audio("g711").as_deref(), Ok("G.711"));
    }
}
