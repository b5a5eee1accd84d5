//! `yonder relay preflight` and `yonder relay rehearse`.

use yonder_api::{Check, Graded, NewRehearsal, Preflight, Rehearsal, Relay};
use yonder_core::preflight::CheckStatus;

use crate::checks::checks_text;
use crate::client::Client;
use crate::failure::Failure;
use crate::output::{Tone, colorize, grouped, has_color, print, print_json, wants_json};

/// Runs a preflight. Returns true if no check failed.
pub(super) fn preflight(client: &Client, name: &str) -> Result<bool, Failure> {
    let preflight: Preflight = client.run_job(&["relays", name, "preflight"], &serde_json::json!({}))?;
    if wants_json() {
        print_json(&preflight)?;
    } else {
        let head = format!("Preflight of {}", preflight.relay);
        print(&format!(
            "{}\n{}\n{}\n",
            colorize(&head, Tone::Strong, has_color()),
            checks_text(&preflight.checks, has_color()),
            verdict(&preflight.checks, has_color())
        ));
    }
    Ok(preflight.level != CheckStatus::Fail)
}

/// Rehearses pushes of a relay: the named one, or all in turn. Returns true if no check failed.
pub(super) fn rehearse(client: &Client, name: &str, request: &NewRehearsal) -> Result<bool, Failure> {
    let destinations = match &request.to {
        Some(to) => vec![to.clone()],
        None => {
            let relay: Relay = client.get(&["relays", name])?;
            relay.pushes.into_iter().map(|push| push.destination).collect()
        }
    };
    let mut held = Vec::new();
    for to in destinations {
        let request = NewRehearsal { to: Some(to), ..request.clone() };
        let rehearsal: Rehearsal = client.run_job(&["relays", name, "rehearse"], &request)?;
        if !wants_json() {
            print(&rehearsal_text(&rehearsal, has_color()));
        }
        held.push(rehearsal);
    }
    if wants_json() {
        print_json(&held)?;
    }
    Ok(held.iter().all(|rehearsal| rehearsal.level != CheckStatus::Fail))
}

fn verdict(checks: &[Check], color: bool) -> String {
    let count = |level: CheckStatus| checks.iter().filter(|check| check.level == level).count();
    let (fails, warns) = (count(CheckStatus::Fail), count(CheckStatus::Warn));
    let (words, tone) = match (fails, warns) {
        (0, 0) => ("All checks passed.".to_owned(), Tone::Good),
        (0, warns) => (
            format!("It can start; {warns} {}.", if warns == 1 { "warning" } else { "warnings" }),
            Tone::Wait,
        ),
        (fails, _) => (format!("It cannot work: {fails} failed. `--force` starts it anyway."), Tone::Bad),
    };
    colorize(&words, tone, color)
}

fn rehearsal_text(rehearsal: &Rehearsal, color: bool) -> String {
    let rules =
        rehearsal.platform.as_ref().map(|name| format!(", by the rules of {name}")).unwrap_or_default();
    let head = format!(
        "Rehearsal of {} → {} over {}{rules}",
        rehearsal.relay, rehearsal.destination, rehearsal.over
    );
    let mut text = colorize(&head, Tone::Strong, color) + "\n";
    if rehearsal.trouble.is_none() {
        text += &graded_text(&rehearsal.graded);
    }
    text + &checks_text(&rehearsal.checks, color) + "\n"
}

fn graded_text(graded: &Graded) -> String {
    let mut text = String::new();
    if let (Some(codec), Some(width), Some(height)) = (&graded.video_codec, graded.width, graded.height) {
        let profile = graded.profile.as_deref().unwrap_or_default();
        let fps = graded.fps.map(|fps| format!(", {fps:.1} frames/s")).unwrap_or_default();
        let order = if graded.b_frames { ", with B-frames" } else { "" };
        text += &format!("  video      {codec} {profile} {width}×{height}{fps}{order}\n");
    }
    text += &format!(
        "  rates      {} kbit/s video, {} in the peak second, {} audio\n",
        grouped(graded.video_kbps),
        grouped(graded.peak_kbps),
        grouped(graded.audio_kbps)
    );
    if let (Some(codec), Some(rate)) = (&graded.audio_codec, graded.audio_rate_hz) {
        text += &format!("  audio      {codec}, {} Hz\n", grouped(rate.into()));
    }
    let skew = match &graded.audio_codec {
        Some(_) => format!("video and audio at most {} ms apart, ", grouped(graded.skew_ms)),
        None => String::new(),
    };
    text += &format!(
        "  pace       keyframe every {} ms at most, {skew}longest pause {} ms\n",
        grouped(graded.keyframe_ms),
        grouped(graded.longest_stall_ms)
    );
    text
}
