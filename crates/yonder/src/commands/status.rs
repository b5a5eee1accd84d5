//! `yonder status`: every relay, its feed and its pushes on one screen.

use std::collections::BTreeMap;

use yonder_api::{CauseFacts, FeedState, OnAir, PushState, Relay, RelayEvent, Status};

use crate::client::Client;
use crate::failure::Failure;
use crate::output::{Tone, grouped, has_colour, local, paint, print, print_json};

/// Clears the terminal and goes to its top.
const CLEAR: &str = "\x1b[2J\x1b[H";

pub(crate) fn run(client: &Client, follow: bool, json: bool) -> Result<(), Failure> {
    if !follow {
        let status: Status = client.get(&["status"])?;
        if json {
            return print_json(&status);
        }
        print(&screen(&status.relays, has_colour()));
        return Ok(());
    }
    let mut relays: BTreeMap<String, Relay> = BTreeMap::new();
    let mut complete = false;
    client.follow(|event| {
        if matches!(event, RelayEvent::Survey { .. } | RelayEvent::Log { .. }) {
            return Ok(true);
        }
        if json {
            let text = serde_json::to_string(&event).map_err(anyhow::Error::from)?;
            print(&(text + "\n"));
            return Ok(true);
        }
        match event {
            RelayEvent::Relay { relay } => {
                relays.insert(relay.name.clone(), *relay);
            }
            RelayEvent::Pulse { relays: pulses } => {
                for pulse in pulses {
                    if let Some(relay) = relays.get_mut(&pulse.name) {
                        pulse.apply(relay);
                    }
                }
            }
            RelayEvent::Gone { name } => {
                relays.remove(&name);
            }
            RelayEvent::Complete => complete = true,
            RelayEvent::Survey { .. } | RelayEvent::Log { .. } => {}
        }
        if complete {
            let all: Vec<Relay> = relays.values().cloned().collect();
            let clear = if has_colour() { CLEAR } else { "" };
            print(&format!("{clear}{}", screen(&all, has_colour())));
        }
        Ok(true)
    })
}

/// All relays, worst first, under one line that sums them up.
pub(crate) fn screen(relays: &[Relay], colour: bool) -> String {
    if relays.is_empty() {
        return "There are no relays yet. Add one: yonder relay add NAME --feed FEED --to DESTINATION\n"
            .to_owned();
    }
    let mut ordered: Vec<&Relay> = relays.iter().collect();
    ordered.sort_by_key(|relay| (badness(relay), relay.name.to_lowercase()));
    let mut text = paint(&summary(relays), Tone::Strong, colour) + "\n";
    for relay in ordered {
        text += "\n";
        text += &describe(relay, colour);
    }
    text
}

fn summary(relays: &[Relay]) -> String {
    let wanted: Vec<&Relay> = relays.iter().filter(|relay| relay.wanted != "off").collect();
    let well = wanted.iter().filter(|relay| badness(relay) == 3).count();
    let pushes = wanted.iter().map(|relay| relay.pushes.len()).sum::<usize>();
    let kbps: u64 = wanted.iter().flat_map(|relay| &relay.pushes).map(|push| push.kbps).sum();
    let off = relays.len() - wanted.len();
    let mut text = format!("{well} of {} relays flow as they should", wanted.len());
    if off > 0 {
        text += &format!(", {off} off");
    }
    text + &format!(". {pushes} pushes, {} going out.", rate(kbps))
}

/// What wants attention comes first: blocked, then not flowing, then on its way, then well, then off.
fn badness(relay: &Relay) -> u8 {
    let states =
        || std::iter::once(relay.feed.state.as_str()).chain(relay.pushes.iter().map(|p| p.state.as_str()));
    if relay.wanted == "off" {
        4
    } else if states().any(|state| state == "blocked") {
        0
    } else if states().any(|state| matches!(state, "stalled" | "lagging" | "waiting")) || dials_again(relay) {
        1
    } else if states()
        // What a person holds on purpose is as it should be.
        .all(|state| matches!(state, "flowing" | "live") || state == "holding" && relay.wanted == "hold")
    {
        3
    } else {
        2
    }
}

/// Something is dialled once more because it failed: that is trouble, and no way to the air.
fn dials_again(relay: &Relay) -> bool {
    let feed = (&relay.feed.state, &relay.feed.cause);
    let pushes = relay.pushes.iter().map(|push| (&push.state, &push.cause));
    std::iter::once(feed).chain(pushes).any(|(state, cause)| state == "dialing" && cause.is_some())
}

/// One relay: its feed, its pushes, and what to do about what is wrong.
pub(crate) fn describe(relay: &Relay, colour: bool) -> String {
    let mut text = paint(&relay.name, Tone::Strong, colour);
    match relay.wanted.as_str() {
        "off" => text += &paint("  off", Tone::Quiet, colour),
        "hold" => text += &paint("  held", Tone::Wait, colour),
        _ => {}
    }
    if let Some(on_air) = &relay.on_air {
        text += &paint(&on_air_text(on_air), Tone::Quiet, colour);
    }
    text += "\n";
    text += &line(&relay.feed.name, &relay.feed.state, &feed_facts(&relay.feed), colour);
    let wide = relay.pushes.iter().map(|push| push.destination.chars().count()).max().unwrap_or_default();
    for push in &relay.pushes {
        let name = format!("→ {:<wide$}", push.destination);
        text += &line(&name, &push.state, &push_facts(push), colour);
    }
    let mut told: Vec<&CauseFacts> = Vec::new();
    let causes = relay.feed.cause.iter().chain(relay.pushes.iter().filter_map(|push| push.cause.as_ref()));
    for cause in causes {
        // Pushes that wait for their feed repeat its cause.
        if !told.contains(&cause) {
            text += &format!(
                "    {} {} {}\n",
                side_words(&cause.side),
                cause.message,
                paint(&cause.hint, Tone::Quiet, colour)
            );
            told.push(cause);
        }
    }
    text
}

/// When the windows open or close.
fn on_air_text(on_air: &OnAir) -> String {
    let windows = on_air.windows.join(", ");
    let next = on_air.changes_at.as_deref().map(local);
    match (on_air.now, next) {
        (true, Some(next)) => format!("  on air until {next} ({windows} in {})", on_air.zone),
        (true, None) => format!("  on air ({windows} in {})", on_air.zone),
        (false, Some(next)) => format!("  off air until {next} ({windows} in {})", on_air.zone),
        (false, None) => format!("  off air: its windows are over ({windows} in {})", on_air.zone),
    }
}

fn line(name: &str, state: &str, facts: &str, colour: bool) -> String {
    let state = paint(&format!("{state:<8}"), Tone::of_state(state), colour);
    format!("  {name:<30} {state} {facts}").trim_end().to_owned() + "\n"
}

/// Whose side a cause is on, as a sentence.
pub(crate) fn side_words(side: &str) -> &'static str {
    match side {
        "camera" => "Camera side.",
        "network" => "Network side.",
        "platform" => "Platform side.",
        "planned" => "Planned.",
        _ => "Our side.",
    }
}

fn feed_facts(feed: &FeedState) -> String {
    let mut facts = Vec::new();
    if let (Some(video), "flowing") = (&feed.video, feed.state.as_str()) {
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

/// When the next attempt comes: in seconds, or in minutes where it is far.
fn next_try(seconds: f64) -> String {
    if seconds < 90.0 {
        format!("tries again in {seconds:.0} s")
    } else {
        format!("tries again in {:.0} min", seconds / 60.0)
    }
}

fn push_facts(push: &PushState) -> String {
    let mut facts = Vec::new();
    if matches!(push.state.as_str(), "live" | "holding" | "lagging") {
        facts.push(rate(push.kbps));
        facts.push(format!("{} pictures", grouped(push.frames_sent)));
    }
    facts.extend(push.retry_in_s.map(next_try));
    if push.server == "backup" {
        facts.push("on the backup server".to_owned());
    }
    facts.extend(push.uplink.as_ref().map(|uplink| format!("by {uplink}")));
    if let Some(link) =
        push.link.as_ref().filter(|_| matches!(push.state.as_str(), "live" | "holding" | "lagging"))
    {
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
    if push.state == "lagging" {
        facts.push(format!("{} ms behind", grouped(push.backlog_ms)));
    }
    facts.join(", ")
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

    fn relay(name: &str, feed: &str, push: &str) -> Relay {
        let cause =
            json!({"code": "feed.no-answer", "side": "camera", "message": "It happened.", "hint": "Look."});
        let cause = if feed == "flowing" { json!(null) } else { cause };
        serde_json::from_value(json!({
            "name": name, "wanted": "on",
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
        let screen = screen(&[relay("Well", "flowing", "live"), relay("Bad", "blocked", "waiting")], false);
        assert!(
            screen
                .starts_with("1 of 2 relays flow as they should. 2 pushes, 24.6 Mbit/s going out.\n\nBad\n")
        );
    }

    #[test]
    fn a_cause_that_is_shared_is_told_once() {
        let text = describe(&relay("Bad", "waiting", "waiting"), false);
        assert_eq!(text.matches("Camera side. It happened. Look.").count(), 1, "{text}");
    }
}
