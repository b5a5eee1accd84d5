//! `yonder status`: all relays with their feeds and pushes.

use std::cmp::Reverse;
use std::collections::BTreeMap;

use yonder_api::{
    CauseFacts, FeedState, OnAir, PushRendition, PushState, Relay, RelayEvent, RenditionVideo, Status,
};
use yonder_core::rendition::AudioSource;
use yonder_core::{Action, ConditionLevel, DesiredState, FeedPhase, PushPhase, ServerRole};

use crate::client::Client;
use crate::failure::Failure;
use crate::output::{Tone, colorize, grouped, has_color, local, print, print_json, print_raw, wants_json};

/// Clears the terminal.
const CLEAR: &str = "\x1b[2J\x1b[H";

pub(crate) fn run(client: &Client, follow: bool) -> Result<(), Failure> {
    if !follow {
        let status: Status = client.get(&["status"])?;
        if wants_json() {
            return print_json(&status);
        }
        print(&screen(&status.relays, has_color()));
        return Ok(());
    }
    let mut relays: BTreeMap<String, Relay> = BTreeMap::new();
    let mut complete = false;
    client.follow(|event| {
        if matches!(event, RelayEvent::Survey { .. } | RelayEvent::Log { .. } | RelayEvent::Alive { .. }) {
            return Ok(true);
        }
        if wants_json() {
            let text = serde_json::to_string(&event).map_err(anyhow::Error::from)?;
            print_raw(&(text + "\n"));
            return Ok(true);
        }
        match event {
            RelayEvent::Relay { relay } => {
                relays.insert(relay.name.clone(), *relay);
            }
            RelayEvent::Stats { relays: stats } => {
                for stats in stats {
                    if let Some(relay) = relays.get_mut(&stats.name) {
                        stats.apply(relay);
                    }
                }
            }
            RelayEvent::Removed { name } => {
                relays.remove(&name);
            }
            RelayEvent::Complete => complete = true,
            RelayEvent::Survey { .. } | RelayEvent::Log { .. } | RelayEvent::Alive { .. } => {}
        }
        if complete {
            let all: Vec<Relay> = relays.values().cloned().collect();
            let clear = if has_color() { CLEAR } else { "" };
            print(&format!("{clear}{}", screen(&all, has_color())));
        }
        Ok(true)
    })
}

/// Formats all relays, the worst first, after a summary line.
pub(crate) fn screen(relays: &[Relay], color: bool) -> String {
    if relays.is_empty() {
        return "There are no relays yet. Add one: yonder relay add NAME --feed FEED --to DESTINATION\n"
            .to_owned();
    }
    let mut ordered: Vec<&Relay> = relays.iter().collect();
    ordered.sort_by_key(|relay| (Reverse(relay.condition.level), relay.name.to_lowercase()));
    let mut text = colorize(&summary(relays), Tone::Strong, color) + "\n";
    for relay in ordered {
        text += "\n";
        text += &describe(relay, color);
    }
    text
}

fn summary(relays: &[Relay]) -> String {
    let count =
        |is: fn(ConditionLevel) -> bool| relays.iter().filter(|relay| is(relay.condition.level)).count();
    let off = count(|level| level == ConditionLevel::Off);
    let good = count(|level| level == ConditionLevel::Good);
    let holding = count(|level| level == ConditionLevel::Holding);
    let wanted: Vec<&Relay> = relays.iter().filter(|relay| relay.wanted.is_running()).collect();
    let pushes = wanted.iter().map(|relay| relay.pushes.len()).sum::<usize>();
    let kbps: u64 = wanted.iter().flat_map(|relay| &relay.pushes).map(|push| push.kbps).sum();
    let mut text = format!("{good} of {} relays are up", wanted.len());
    if holding > 0 {
        text += &format!(", {holding} held");
    }
    if off > 0 {
        text += &format!(", {off} off");
    }
    text + &format!(". {pushes} pushes, {} going out.", rate(kbps))
}

/// Formats the condition of a relay, with its time and the number of attempts.
fn condition_text(relay: &Relay) -> String {
    let mut text = level_text(relay);
    if relay.wanted_unsaved {
        text += ", not saved: the disk rejects writes, and a restart would restore the previous state";
    }
    text
}

fn level_text(relay: &Relay) -> String {
    let condition = &relay.condition;
    if relay.wanted == DesiredState::Hold && condition.level == ConditionLevel::Starting {
        return "hold requested, the feed is still sent".to_owned();
    }
    let mut text = condition.level.as_str().to_owned();
    if let Some(since) = condition.since.as_deref().filter(|_| condition.level.needs_attention()) {
        text += &format!(" since {}", local(since));
    }
    match condition.attempts {
        0 => {}
        1 => text += ", 1 try",
        tries => text += &format!(", {} tries", grouped(u64::from(tries))),
    }
    text
}

/// Returns the command for an action.
fn command(action: Action, relay: &Relay) -> Option<String> {
    let destination = || relay.condition.about.iter().find(|name| **name != relay.feed.name);
    Some(match action {
        Action::EditFeed => format!("yonder feed edit {:?}", relay.feed.name),
        Action::Rekey => format!("yonder destination rekey {:?}", destination()?),
        Action::EditDestination => format!("yonder destination edit {:?}", destination()?),
        Action::EditUplink => "yonder uplink list".to_owned(),
        Action::Retry => format!("yonder relay start {:?}", relay.name),
        Action::Resume => format!("yonder relay resume {:?}", relay.name),
    })
}

/// Formats a relay with its feed, its pushes, and next steps.
pub(crate) fn describe(relay: &Relay, color: bool) -> String {
    let mut text = colorize(&relay.name, Tone::Strong, color);
    let condition = &relay.condition;
    let tone = Tone::of_condition(condition.level);
    text += &format!("  {}", colorize(&condition_text(relay), tone, color));
    if let Some(on_air) = &relay.on_air {
        text += &colorize(&on_air_text(on_air), Tone::Quiet, color);
    }
    text += "\n";
    let (state, tone) = (relay.feed.state.as_str(), Tone::of_feed(relay.feed.state));
    text += &line(&relay.feed.name, state, tone, &feed_facts(&relay.feed), color);
    let wide = relay.pushes.iter().map(|push| push.destination.chars().count()).max().unwrap_or_default();
    for push in &relay.pushes {
        let name = format!("→ {:<wide$}", push.destination);
        text += &line(&name, push.state.as_str(), Tone::of_push(push.state), &push_facts(push), color);
    }
    for push in &relay.pushes {
        if let Some(warning) = &push.warning {
            text += &format!("    {}: {}\n", push.destination, colorize(warning, Tone::Wait, color));
        }
    }
    for push in &relay.pushes {
        if let Some(rendition) = &push.rendition {
            let adapted = rendition_text(rendition);
            text += &format!("    {}: {}\n", push.destination, colorize(&adapted, Tone::Quiet, color));
        }
    }
    let mut shown: Vec<&CauseFacts> = Vec::new();
    let causes = relay.feed.cause.iter().chain(relay.pushes.iter().filter_map(|push| push.cause.as_ref()));
    for cause in causes {
        // Pushes that wait for their feed have the same cause.
        if !shown.contains(&cause) {
            text += &format!(
                "    {} {} {}\n",
                cause.side.sentence(),
                cause.message,
                colorize(&cause.hint, Tone::Quiet, color)
            );
            shown.push(cause);
        }
    }
    for command in condition.actions.iter().filter_map(|action| command(*action, relay)) {
        text += &format!("    {}\n", colorize(&command, Tone::Quiet, color));
    }
    text
}

/// Formats when the windows open or close.
fn on_air_text(on_air: &OnAir) -> String {
    let windows = on_air.windows.join(", ");
    let next = on_air.changes_at.as_deref().map(local);
    match (on_air.now, next) {
        (true, Some(next)) => format!("  on air until {next} ({windows} in {})", on_air.zone),
        (true, None) => format!("  on air ({windows} in {})", on_air.zone),
        (false, Some(next)) => format!("  off air until {next} ({windows} in {})", on_air.zone),
        (false, None) => format!("  off air: no further windows ({windows} in {})", on_air.zone),
    }
}

fn line(name: &str, state: &str, tone: Tone, facts: &str, color: bool) -> String {
    let state = colorize(&format!("{state:<8}"), tone, color);
    format!("  {name:<30} {state} {facts}").trim_end().to_owned() + "\n"
}

fn feed_facts(feed: &FeedState) -> String {
    let mut facts = Vec::new();
    if let Some(video) = feed.video.as_ref().filter(|_| feed.state == FeedPhase::Flowing) {
        facts.push(rate(video.kbps));
        facts.push(format!("{} {}×{}", video.codec, video.width, video.height));
        facts.extend(video.fps.map(|fps| format!("{} fps", (fps * 10.0).round() / 10.0)));
        facts.extend(video.keyframe_interval_s.map(|s| format!("keyframe every {s} s")));
        facts.extend(feed.audio.as_ref().map(|audio| audio.codec.clone()));
    }
    facts.extend(feed.retry_in_s.map(next_try));
    if feed.packets_lost > 0 {
        facts.push(format!("{} packets lost", grouped(feed.packets_lost)));
    }
    facts.join(", ")
}

/// Formats the time until the next attempt, in seconds or minutes.
fn next_try(seconds: f64) -> String {
    if seconds < 90.0 {
        format!("next attempt in {seconds:.0} s")
    } else {
        format!("next attempt in {:.0} min", seconds / 60.0)
    }
}

fn push_facts(push: &PushState) -> String {
    let mut facts = Vec::new();
    if push.state.is_sending() {
        facts.push(rate(push.kbps));
        facts.push(format!("{} frames", grouped(push.frames_sent)));
    }
    facts.extend(push.retry_in_s.map(next_try));
    if push.server == ServerRole::Backup {
        facts.push("on the backup server".to_owned());
    }
    facts.extend(push.uplink.as_ref().map(|uplink| format!("by {uplink}")));
    if let Some(link) = push.link.as_ref().filter(|_| push.state.is_sending()) {
        facts.push(format!("round trip {} ms", link.rtt_ms));
        if link.lost > 0 {
            facts.push(format!("{} of {} packets lost", grouped(link.lost), grouped(link.sent)));
        }
        if link.dropped > 0 {
            facts.push(format!("{} too late", grouped(link.dropped)));
        }
    }
    if push.frames_dropped > 0 {
        facts.push(format!("{} skipped", grouped(push.frames_dropped)));
    }
    if push.state == PushPhase::Lagging {
        facts.push(format!("{} ms behind", grouped(push.backlog_ms)));
    }
    facts.join(", ")
}

/// Formats the version of the feed that a push sends.
fn rendition_text(rendition: &PushRendition) -> String {
    let mut parts = Vec::new();
    if let Some(video) = &rendition.video {
        let RenditionVideo { codec, width, height, fps, kbps, .. } = video;
        parts.push(format!("{codec} {width}×{height}, {fps} fps, {}", rate(u64::from(*kbps))));
    }
    if let Some(audio) = &rendition.audio {
        let source = if audio.source == AudioSource::Silence { " of silence" } else { "" };
        parts.push(format!(
            "{}{source}, {} Hz, {} kbit/s",
            audio.codec,
            grouped(u64::from(audio.rate_hz)),
            audio.kbps
        ));
    }
    let mut text = format!("adapted: {}; {:.1} % of one core", parts.join("; "), rendition.cpu_cores * 100.0);
    if rendition.shared_by > 1 {
        text += &format!(", shared by {} pushes", rendition.shared_by);
    }
    if rendition.frames_skipped > 0 {
        text += &format!(", {} frames skipped", grouped(rendition.frames_skipped));
    }
    text
}

fn rate(kbps: u64) -> String {
    if kbps >= 10_000 {
        format!("{}.{} Mbit/s", kbps / 1000, kbps % 1000 / 100)
    } else {
        format!("{} kbit/s", grouped(kbps))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn relay(name: &str, level: &str, feed: &str, push: &str) -> Relay {
        let cause =
            json!({"code": "feed.no-answer", "side": "camera", "message": "It happened.", "hint": "Look."});
        let cause = if feed == "flowing" { json!(null) } else { cause };
        serde_json::from_value(json!({
            "name": name, "wanted": "on",
            "condition": {"level": level, "since": "2026-11-29T01:12:00.000Z", "attempts": 540, "side": "camera",
                "cause": cause, "about": ["Cam", "One"], "actions": ["edit-feed", "rekey"]},
            "feed": {"name": "Cam", "state": feed, "since": null, "cause": cause, "retry_in_s": null,
                "transport": null, "video": null, "audio": null, "packets_lost": 0, "reconnects": 0},
            "pushes": [{"destination": "One", "state": push, "since": null, "cause": cause, "retry_in_s": null,
                "kbps": 12_345, "bytes": 0, "frames_sent": 1234, "frames_dropped": 0, "reconnects": 0,
                "backlog_ms": 0, "steps": []}],
        }))
        .unwrap()
    }

    #[test]
    fn the_worst_comes_first_and_the_summary_counts() {
        let screen = screen(
            &[relay("Well", "good", "flowing", "live"), relay("Bad", "blocked", "blocked", "waiting")],
            false,
        );
        assert!(
            screen
                .starts_with("1 of 2 relays are up. 2 pushes, 24.6 Mbit/s going out.\n\nBad  blocked since ")
        );
    }

    #[test]
    fn shared_cause_is_printed_once() {
        let text = describe(&relay("Bad", "down", "waiting", "waiting"), false);
        assert_eq!(text.matches("Camera side. It happened. Look.").count(), 1, "{text}");
    }

    #[test]
    fn condition_has_its_begin_and_next_step() {
        let text = describe(&relay("Bad", "down", "waiting", "waiting"), false);
        let first = text.lines().next().unwrap();
        assert!(first.starts_with("Bad  down since ") && first.ends_with(", 540 tries"), "{text}");
        assert!(text.contains("    yonder feed edit \"Cam\"\n"), "{text}");
        assert!(text.contains("    yonder destination rekey \"One\"\n"), "{text}");
    }
}
