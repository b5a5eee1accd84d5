//! `yonder feed survey`: measurement of main and sub stream, with advice.

use std::fs;
use std::path::{Path, PathBuf};
use std::thread::sleep;
use std::time::Duration;

use anyhow::Context as _;
use clap::Args;
use yonder_api::{CauseFacts, MeasuredFacts, NewSurvey, Survey, SurveyStream};

use super::{AccountArguments, TransportChoice};
use crate::client::{Client, Progress};
use crate::duration::parse_duration;
use crate::failure::Failure;
use crate::output::{Tone, colorize, grouped, has_color, print, print_json, wants_json};

/// Interval of progress requests.
const ASK_EVERY: Duration = Duration::from_millis(250);
/// Width of one stream's column.
const COLUMN: usize = 40;
/// Width of the row names.
const NAMES: usize = 14;

#[derive(Debug, Args)]
pub(crate) struct SurveyArguments {
    /// Name of the feed.
    #[arg(required_unless_present = "url", conflicts_with = "url")]
    name: Option<String>,
    /// RTSP address that is not stored as a feed.
    #[arg(long, value_name = "RTSP_URL")]
    url: Option<String>,
    /// RTSP address of its sub stream.
    #[arg(long = "sub-url", value_name = "RTSP_URL", requires = "url")]
    sub_url: Option<String>,
    /// Transport of RTP packets.
    #[arg(long, value_enum, default_value = "auto", requires = "url")]
    transport: TransportChoice,
    #[command(flatten)]
    account: AccountArguments,
    /// SHA-256 fingerprint of the camera's own certificate.
    #[arg(long, value_name = "FINGERPRINT", requires = "url")]
    pin: Option<String>,
    /// Duration of the measurement, from 2s to 5m.
    #[arg(long = "for", value_parser = parse_duration, value_name = "TIME", default_value = "10s")]
    duration: Duration,
    /// Folder for the still pictures main.jpg and sub.jpg.
    #[arg(long, value_name = "DIR")]
    stills: Option<PathBuf>,
}

pub(super) fn run(arguments: SurveyArguments, client: &Client) -> Result<(), Failure> {
    let is_stored = arguments.name.is_some();
    let new = NewSurvey {
        feed: arguments.name,
        url: arguments.url.map(Into::into),
        sub_url: arguments.sub_url.map(Into::into),
        transport: (!is_stored).then(|| arguments.transport.into()),
        password: arguments.account.password()?,
        user: arguments.account.user,
        pin: arguments.pin,
        for_s: Some(u32::try_from(arguments.duration.as_secs()).unwrap_or(u32::MAX)),
    };
    let mut survey: Survey = client.post(&["surveys"], &new)?;
    let bar = Progress::new();
    bar.show_step("measuring the streams");
    while !survey.done {
        sleep(ASK_EVERY);
        survey = client.get(&["surveys", &survey.id])?;
    }
    drop(bar);
    if let Some(folder) = &arguments.stills {
        write_stills(&survey, folder, client)?;
    }
    if wants_json() {
        print_json(&survey)?;
    } else {
        print(&text(&survey, has_color()));
    }
    // A failed measurement is reported in the exit code.
    match &survey.main {
        SurveyStream { measured: None, cause: Some(cause), .. } => Err(Failure::Camera(cause.code.clone())),
        _ => Ok(()),
    }
}

fn write_stills(survey: &Survey, folder: &Path, client: &Client) -> Result<(), Failure> {
    fs::create_dir_all(folder).with_context(|| format!("{} cannot be made", folder.display()))?;
    for (name, stream) in [("main.jpg", Some(&survey.main)), ("sub.jpg", survey.sub.as_ref())] {
        if stream.is_some_and(|stream| stream.has_still) {
            let picture = client.get_bytes(&["surveys", &survey.id, name], &[])?;
            let file = folder.join(name);
            fs::write(&file, picture).with_context(|| format!("{} cannot be written", file.display()))?;
        }
    }
    Ok(())
}

fn text(survey: &Survey, color: bool) -> String {
    let title = survey.feed.clone().unwrap_or_else(|| survey.main.address.clone());
    let span = survey.main.measured.as_ref().map(|measured| format!(", {:.0} s", measured.span_s));
    let title = colorize(&format!("Survey of {title}"), Tone::Strong, color);
    let mut text = format!("{title}{}\n\n", span.unwrap_or_default());
    let streams: Vec<&SurveyStream> =
        [Some(&survey.main), survey.sub.as_ref()].into_iter().flatten().collect();
    if streams.len() > 1 {
        let heads: Vec<String> = ["main", "sub"].map(str::to_owned).to_vec();
        text += &line("", &heads);
    }
    for (name, cell) in LINES {
        let cells: Vec<String> = streams.iter().map(|stream| cell(stream)).collect();
        if cells.iter().any(|cell| !cell.is_empty()) {
            text += &line(name, &cells);
        }
    }
    for (stream, which) in streams.iter().zip(["main", "sub"]) {
        if let Some(cause) = &stream.cause {
            text += &failure(which, cause, stream, color);
        }
    }
    if !survey.advice.is_empty() {
        text += "\nAdvice\n";
    } else if streams.iter().all(|stream| stream.cause.is_none()) {
        text += &format!("\n{}\n", colorize("No findings.", Tone::Good, color));
    }
    let tunes = survey.advice.iter().any(|advice| advice.tune);
    for advice in &survey.advice {
        let about = colorize(&format!("{:<5}", advice.about), Tone::Wait, color);
        text += &format!("  {about} {}\n", wrapped(&advice.message, 90, 8));
    }
    if let Some(feed) = survey.feed.as_ref().filter(|_| tunes) {
        text += &format!("  next  Over ONVIF: yonder feed tune {feed:?}\n");
    }
    text
}

/// Formats a failed stream: completed steps, cause, and probable causes.
fn failure(which: &str, cause: &CauseFacts, stream: &SurveyStream, color: bool) -> String {
    let mut text = format!("\n{} {} ({})\n", colorize(which, Tone::Bad, color), cause.message, cause.code);
    let steps: Vec<String> =
        stream.steps.iter().map(|step| format!("{} {} ms", step.name, step.after_ms)).collect();
    if !steps.is_empty() {
        text += &format!("  so far   {}\n", wrapped(&steps.join(" → "), 90, 11));
    }
    for (at, reason) in cause.probable_causes.iter().enumerate() {
        text += &format!("  {} {}\n", if at == 0 { "causes  " } else { "        " }, wrapped(reason, 90, 11));
    }
    text + &format!("  next     {}\n", wrapped(&cause.hint, 90, 11))
}

fn line(name: &str, cells: &[String]) -> String {
    let mut text = format!("{name:<NAMES$}");
    for cell in cells {
        text += &format!("  {cell:<COLUMN$}");
    }
    text.trim_end().to_owned() + "\n"
}

type Cell = fn(&SurveyStream) -> String;

const LINES: [(&str, Cell); 15] = [
    ("address", |s| s.address.clone()),
    ("transport", |s| {
        let shared = if s.shared { ", shared with the relay" } else { "" };
        s.transport.as_ref().map_or_else(String::new, |transport| format!("{transport}{shared}"))
    }),
    ("video", picture),
    ("size", |s| {
        s.video.as_ref().map_or_else(String::new, |video| format!("{} x {}", video.width, video.height))
    }),
    ("frame rate", |s| of_measured(s, frame_rate)),
    ("bit rate", |s| of_measured(s, |m| format!("{} kbit/s", grouped(m.video_kbps + m.audio_kbps)))),
    ("peak second", |s| of_measured(s, |m| format!("{} kbit/s", grouped(m.peak_kbps)))),
    ("keyframe every", |s| of_measured(s, keyframes)),
    ("B-frames", |s| of_measured(s, |m| if m.b_frames { "yes" } else { "no" }.to_owned())),
    ("audio", audio),
    ("packets", |s| of_packets(s, packets)),
    ("not used", |s| of_measured(s, not_used)),
    ("jitter", |s| of_packets(s, |m| format!("{:.1} ms", m.jitter_ms))),
    ("clock drift", |s| of_packets(s, drift)),
    ("first frame", |s| {
        s.first_picture_ms.map_or_else(String::new, |ms| format!("after {} ms", grouped(ms)))
    }),
];

fn of_measured(stream: &SurveyStream, cell: impl Fn(&MeasuredFacts) -> String) -> String {
    stream.measured.as_ref().map(cell).unwrap_or_default()
}

/// Returns a measurement of RTP packets, which a published feed has not.
fn of_packets(stream: &SurveyStream, cell: impl Fn(&MeasuredFacts) -> String) -> String {
    stream.measured.as_ref().filter(|measured| measured.packets > 0).map(cell).unwrap_or_default()
}

fn picture(stream: &SurveyStream) -> String {
    let Some(video) = &stream.video else { return String::new() };
    let tier =
        video.tier.as_deref().filter(|tier| *tier != "Main").map_or(String::new(), |t| format!(", {t} tier"));
    format!("{} {}, level {:.1}{tier}", video.codec, video.profile, video.level)
}

fn frame_rate(measured: &MeasuredFacts) -> String {
    let Some(fps) = measured.fps else { return "not measured yet".to_owned() };
    match measured.declared_fps {
        Some(declared) => format!("{fps:.2} fps, {declared:.2} declared"),
        None => format!("{fps:.2} fps, none declared"),
    }
}

fn keyframes(measured: &MeasuredFacts) -> String {
    match (measured.keyframe_min_s, measured.keyframe_median_s, measured.keyframe_max_s) {
        (Some(min), Some(median), Some(max)) if max - min < 0.05 => format!("{median:.2} s"),
        (Some(min), Some(median), Some(max)) => format!("{median:.2} s ({min:.2} to {max:.2})"),
        _ => "only one received".to_owned(),
    }
}

fn audio(stream: &SurveyStream) -> String {
    if let Some(audio) = &stream.audio {
        let kbps = stream.measured.as_ref().map_or(0, |measured| measured.audio_kbps);
        let channels =
            if audio.channels == 1 { "mono".to_owned() } else { format!("{} channels", audio.channels) };
        return format!(
            "{}, {} Hz, {channels}, {kbps} kbit/s",
            audio.codec,
            grouped(u64::from(audio.rate_hz))
        );
    }
    let left =
        stream.offered.iter().filter(|track| track.kind == "audio").map(|track| track.encoding.as_str());
    let left: Vec<&str> = left.collect();
    match (left.is_empty(), stream.measured.is_some()) {
        (false, _) => format!("{}, not supported", left.join(" and ")),
        (true, true) => "none".to_owned(),
        (true, false) => String::new(),
    }
}

fn packets(measured: &MeasuredFacts) -> String {
    let mut text = grouped(measured.packets);
    if measured.packets_lost == 0 {
        text += ", none lost";
    } else {
        text +=
            &format!(", {} lost, {} frames dropped", grouped(measured.packets_lost), measured.units_dropped);
    }
    if measured.packets_reordered > 0 {
        text += &format!(", {} reordered", grouped(measured.packets_reordered));
    }
    text
}

fn not_used(measured: &MeasuredFacts) -> String {
    let drops = measured.drops.iter();
    let drops = drops.map(|drop| format!("{} {}", grouped(drop.count), drop.reason.replace('-', " ")));
    drops.collect::<Vec<_>>().join(", ")
}

fn drift(measured: &MeasuredFacts) -> String {
    match (measured.drift_ppm, measured.drift_error_ppm) {
        (Some(ppm), Some(error)) => format!("{ppm:+.0} ppm (±{error:.0})"),
        _ => "run a longer survey".to_owned(),
    }
}

/// Wraps a text into lines of at most `width` characters; lines after the first one are indented by `indent`.
fn wrapped(text: &str, width: usize, indent: usize) -> String {
    let mut out = String::new();
    let mut column = 0;
    for word in text.split_whitespace() {
        let length = word.chars().count();
        if column > 0 && column + 1 + length > width {
            out += &format!("\n{:indent$}", "");
            column = 0;
        } else if column > 0 {
            out.push(' ');
            column += 1;
        }
        out += word;
        column += length;
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_advice_is_wrapped_between_words() {
        assert_eq!(wrapped("one two three", 7, 2), "one two\n  three");
        assert_eq!(wrapped("", 7, 2), "");
    }
}
