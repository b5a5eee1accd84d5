//! From the engine's views to the API's.

use std::time::Duration;

use yonder_api::{AudioFacts, CauseFacts, DialStep, FeedState, LinkFacts, PushState, Relay, VideoFacts};
use yonder_engine::{AudioView, CauseView, FeedView, LinkView, PushView, RelayView, StepView, VideoView};
use yonder_store::Relay as StoredRelay;

use super::{Service, on_air};
use crate::time;

/// A kept relay, with how it is if it runs.
pub(super) fn relay(kept: &StoredRelay, running: Option<RelayView>) -> Relay {
    let (feed, mut pushes) = match running {
        Some(view) => (feed(view.feed), view.pushes.into_iter().map(push).collect()),
        None => (feed_off(&kept.feed), Vec::new()),
    };
    // Pushes that do not run are listed all the same, in the relay's order.
    let mut ordered = Vec::with_capacity(kept.destinations.len());
    for name in &kept.destinations {
        let at = pushes.iter().position(|push: &PushState| push.destination == *name);
        ordered.push(at.map_or_else(|| push_off(name), |at| pushes.swap_remove(at)));
    }
    let hold_after_s = kept.hold_after_ms.map_or(0, |ms| u32::try_from(ms / 1_000).unwrap_or_default());
    Relay {
        name: kept.name.clone(),
        wanted: kept.wanted.word().to_owned(),
        site: kept.site.clone(),
        hold_after_s,
        holding_picture: kept.has_picture,
        on_air: on_air::facts(kept),
        quiet_minute: kept.quiet_minute.clone(),
        feed,
        pushes: ordered,
    }
}

impl Service {
    /// A cause as the API shows it.
    pub(crate) fn cause_facts(view: CauseView) -> CauseFacts {
        cause(view)
    }
}

pub(super) fn cause(view: CauseView) -> CauseFacts {
    let CauseView { code, side, message, hint, likely } = view;
    CauseFacts { code: code.to_owned(), side: side.word().to_owned(), message, hint, likely }
}

/// Seconds to one decimal: what people read, and what does not change with every look.
fn seconds(duration: Duration) -> f64 {
    (duration.as_secs_f64() * 10.0).round() / 10.0
}

pub(super) fn to_hundredths(value: f64) -> f64 {
    (value * 100.0).round() / 100.0
}

pub(super) fn millis(duration: Duration) -> u64 {
    u64::try_from(duration.as_millis()).unwrap_or(u64::MAX)
}

fn feed(view: FeedView) -> FeedState {
    FeedState {
        name: view.name,
        state: view.state.to_owned(),
        since: (view.state != "off").then(|| time::text(view.since)),
        cause: view.cause.map(cause),
        retry_in_s: view.retry_in.map(seconds),
        transport: view.transport.map(str::to_owned),
        video: view.video.map(video),
        audio: view.audio.map(audio),
        bytes: view.bytes,
        packets_lost: view.packets_lost,
        units_dropped: view.units_dropped,
        reconnects: view.reconnects,
        steps: view.steps.iter().map(step).collect(),
    }
}

pub(super) fn video(video: VideoView) -> VideoFacts {
    VideoFacts {
        codec: video.codec.to_owned(),
        profile: video.profile.to_owned(),
        tier: video.tier.map(str::to_owned),
        level: to_hundredths(video.level),
        width: video.width,
        height: video.height,
        declared_fps: video.declared_fps.map(to_hundredths),
        fps: video.fps.map(to_hundredths),
        kbps: video.kbps,
        keyframe_interval_s: video.keyframe_interval_s.map(to_hundredths),
    }
}

pub(super) fn audio(audio: AudioView) -> AudioFacts {
    AudioFacts { codec: audio.codec.to_owned(), rate_hz: audio.rate_hz, channels: audio.channels }
}

fn feed_off(name: &str) -> FeedState {
    FeedState {
        name: name.to_owned(),
        state: "off".to_owned(),
        since: None,
        cause: None,
        retry_in_s: None,
        transport: None,
        video: None,
        audio: None,
        bytes: 0,
        packets_lost: 0,
        units_dropped: 0,
        reconnects: 0,
        steps: Vec::new(),
    }
}

pub(super) fn step(step: &StepView) -> DialStep {
    DialStep { name: step.name.to_owned(), after_ms: millis(step.after) }
}

fn push(view: PushView) -> PushState {
    PushState {
        destination: view.destination,
        state: view.state.to_owned(),
        since: (view.state != "off").then(|| time::text(view.since)),
        cause: view.cause.map(cause),
        retry_in_s: view.retry_in.map(seconds),
        kbps: view.kbps,
        bytes: view.bytes,
        frames_sent: view.frames_sent,
        frames_dropped: view.frames_dropped,
        reconnects: view.reconnects,
        backlog_ms: millis(view.backlog),
        steps: view.steps.iter().map(step).collect(),
        server: view.server.word().to_owned(),
        uplink: view.uplink,
        link: view.link.map(link),
    }
}

fn link(link: LinkView) -> LinkFacts {
    LinkFacts {
        latency_ms: millis(link.latency),
        rtt_ms: millis(link.rtt),
        sent: link.sent,
        lost: link.lost,
        retransmitted: link.retransmitted,
        dropped: link.dropped,
        room_kbps: link.room_kbps,
        encrypted: link.encrypted,
    }
}

fn push_off(name: &str) -> PushState {
    PushState {
        destination: name.to_owned(),
        state: "off".to_owned(),
        since: None,
        cause: None,
        retry_in_s: None,
        kbps: 0,
        bytes: 0,
        frames_sent: 0,
        frames_dropped: 0,
        reconnects: 0,
        backlog_ms: 0,
        steps: Vec::new(),
        server: "main".to_owned(),
        uplink: None,
        link: None,
    }
}
