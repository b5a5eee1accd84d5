//! Conversions from the types of the engine and the store to those of the API.

use std::time::Duration;

use yonder_api::{
    CauseFacts, Condition, DialStep, FeedState, LinkFacts, LogEntry, PublisherFacts, PushRendition,
    PushState, Relay, RenditionAudio, RenditionVideo, Role as RoleFacts, VideoInfo,
};
use yonder_core::rendition::Rendition;
use yonder_core::{
    ConditionLevel, DesiredState, FaultDomain, FeedPhase, Part, PartCause, Phase, PushPhase, Role, ServerRole,
};
use yonder_engine::{
    CauseView, FeedView, LinkView, PublisherView, PushView, RelayView, RenditionView, StepView,
};
use yonder_store::{LogLine, Relay as StoredRelay};

use crate::time;
use crate::window_facts;

/// A kept relay, with how it is if it runs.
pub fn relay(kept: &StoredRelay, running: Option<RelayView>) -> Relay {
    let condition = condition(kept.wanted, running.as_ref());
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
        id: kept.uid.clone(),
        revision: kept.revision,
        wanted: kept.wanted,
        wanted_unsaved: kept.is_unsaved,
        condition,
        site: kept.site.clone(),
        hold_after_s,
        holding_picture: kept.has_picture,
        on_air: window_facts(kept),
        quiet_minute: kept.quiet_minute.clone(),
        adapt: kept.adapt,
        limits: kept.limits.iter().map(|(name, limit)| (name.clone(), limit.to_string())).collect(),
        feed,
        pushes: ordered,
    }
}

/// An age below this is that of any snapshot.
const SHOWN_AGE: Duration = Duration::from_secs(3);

/// Condition of a relay; a push that does not run is left out.
fn condition(wanted: DesiredState, running: Option<&RelayView>) -> Condition {
    let Some(RelayView { feed, pushes, .. }) = running else {
        let level = if wanted.is_running() { ConditionLevel::Starting } else { ConditionLevel::Off };
        return Condition { level, ..Condition::default() };
    };
    let feed_part = Part {
        name: feed.name.clone(),
        phase: Phase::Feed(feed.state),
        since_ms: Some(time::millis(feed.since)),
        down_since_ms: feed.down_since.map(time::millis),
        attempts: feed.attempts,
        cause: feed.cause.as_ref().map(|cause| PartCause { code: cause.kind, side: cause.side }),
    };
    let push_part = |push: &PushView| Part {
        name: push.destination.clone(),
        phase: Phase::Push(push.state),
        since_ms: Some(time::millis(push.since)),
        down_since_ms: push.down_since.map(time::millis),
        attempts: push.attempts,
        cause: push.cause.as_ref().map(|cause| PartCause { code: cause.kind, side: cause.side }),
    };
    let parts: Vec<Part> = pushes.iter().map(push_part).collect();
    let found = yonder_core::Condition::of(wanted, &feed_part, &parts);
    let mut causes = feed.cause.iter().chain(pushes.iter().filter_map(|push| push.cause.as_ref()));
    Condition {
        level: found.level,
        since: found.since_ms.map(|ms| time::text(time::from_millis(ms))),
        attempts: found.attempts,
        side: found.side,
        cause: causes.find(|shown| Some(shown.kind) == found.code).cloned().map(cause),
        about: found.about,
        actions: found.actions,
    }
}

/// Returns a cause for the API.
pub fn cause(view: CauseView) -> CauseFacts {
    let CauseView { code, side, message, hint, probable_causes, .. } = view;
    CauseFacts { code: code.to_owned(), side, message, hint, probable_causes }
}

/// Seconds to one decimal, so that they do not change with every snapshot.
fn seconds(duration: Duration) -> f64 {
    (duration.as_secs_f64() * 10.0).round() / 10.0
}

/// Rounds to two decimal places.
pub fn to_hundredths(value: f64) -> f64 {
    (value * 100.0).round() / 100.0
}

/// Returns the whole milliseconds of a duration.
pub fn millis(duration: Duration) -> u64 {
    u64::try_from(duration.as_millis()).unwrap_or(u64::MAX)
}

fn feed(view: FeedView) -> FeedState {
    FeedState {
        name: view.name,
        state: view.state,
        since: (view.state != FeedPhase::Off).then(|| time::text(view.since)),
        down_since: view.down_since.map(time::text),
        attempts: view.attempts,
        age_s: if view.age < SHOWN_AGE { 0 } else { view.age.as_secs() },
        cause: view.cause.map(cause),
        retry_in_s: view.retry_in.map(seconds),
        transport: view.transport.map(|carrier| carrier.as_str().to_owned()),
        video: view.video.map(VideoInfo::rounded),
        audio: view.audio,
        bytes: view.bytes,
        packets_lost: view.packets_lost,
        units_dropped: view.units_dropped,
        reconnects: view.reconnects,
        steps: view.steps.iter().map(step).collect(),
        publisher: view.publisher.as_ref().map(publisher),
    }
}

/// Returns an encoder that publishes.
pub(crate) fn publisher(view: &PublisherView) -> PublisherFacts {
    PublisherFacts {
        protocol: view.info.protocol.as_str().to_owned(),
        address: view.info.from.to_string(),
        software: view.info.software.clone(),
        encrypted: view.info.is_encrypted,
        since: time::text(view.since),
        rtt_ms: view.rtt.map(millis),
    }
}

fn feed_off(name: &str) -> FeedState {
    FeedState {
        name: name.to_owned(),
        state: FeedPhase::Off,
        since: None,
        down_since: None,
        attempts: 0,
        age_s: 0,
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
        publisher: None,
    }
}

/// Returns a completed step of connecting.
pub fn step(step: &StepView) -> DialStep {
    DialStep { name: step.step, after_ms: millis(step.after) }
}

fn push(view: PushView) -> PushState {
    PushState {
        destination: view.destination,
        state: view.state,
        since: (view.state != PushPhase::Off).then(|| time::text(view.since)),
        down_since: view.down_since.map(time::text),
        attempts: view.attempts,
        cause: view.cause.map(cause),
        retry_in_s: view.retry_in.map(seconds),
        kbps: view.kbps,
        bytes: view.bytes,
        frames_sent: view.frames_sent,
        frames_dropped: view.frames_dropped,
        reconnects: view.reconnects,
        backlog_ms: millis(view.backlog),
        steps: view.steps.iter().map(step).collect(),
        server: view.server,
        uplink: view.uplink,
        link: view.link.map(link),
        warning: view.warning.map(str::to_owned),
        rendition: view.rendition.map(rendition),
    }
}

fn rendition(view: RenditionView) -> PushRendition {
    let Rendition { video, audio } = view.rendition;
    PushRendition {
        video: video.map(|video| RenditionVideo {
            codec: "H.264".to_owned(),
            width: video.width,
            height: video.height,
            fps: to_hundredths(video.fps),
            kbps: view.video_kbps.unwrap_or(video.kbps),
            keyframe_interval_s: to_hundredths(video.keyframe_interval_s),
        }),
        audio: audio.map(|audio| RenditionAudio {
            codec: "AAC".to_owned(),
            rate_hz: audio.rate_hz,
            channels: audio.channels,
            kbps: audio.kbps,
            source: view.audio_source,
        }),
        shared_by: view.shared_by,
        // Thousandths, since audio needs little.
        cpu_cores: (view.cpu_cores * 1_000.0).round() / 1_000.0,
        frames_in: view.frames_in,
        frames_out: view.frames_out,
        frames_skipped: view.skipped,
        restarts: view.restarts,
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
        estimated_bandwidth_kbps: link.estimated_bandwidth_kbps,
        encrypted: link.encrypted,
    }
}

fn push_off(name: &str) -> PushState {
    PushState {
        destination: name.to_owned(),
        state: PushPhase::Off,
        since: None,
        down_since: None,
        attempts: 0,
        cause: None,
        retry_in_s: None,
        kbps: 0,
        bytes: 0,
        frames_sent: 0,
        frames_dropped: 0,
        reconnects: 0,
        backlog_ms: 0,
        steps: Vec::new(),
        server: ServerRole::Main,
        uplink: None,
        link: None,
        warning: None,
        rendition: None,
    }
}

/// Returns a role for the API.
pub fn role_facts(role: Role) -> RoleFacts {
    match role {
        Role::Viewer => RoleFacts::Viewer,
        Role::Operator => RoleFacts::Operator,
        Role::Admin => RoleFacts::Admin,
    }
}

/// Reads a role of the API.
pub fn role_of(role: RoleFacts) -> Role {
    match role {
        RoleFacts::Viewer => Role::Viewer,
        RoleFacts::Operator => Role::Operator,
        RoleFacts::Admin => Role::Admin,
    }
}

/// Returns a line of the logbook for the API.
pub fn log_entry(line: LogLine) -> LogEntry {
    let LogLine { id, at_ms, kind, name, part, what, code, side, message, who, uid, part_uid } = line;
    LogEntry {
        id,
        at: time::text(time::from_millis(at_ms)),
        kind,
        name,
        part,
        what,
        code,
        side: side.as_deref().and_then(FaultDomain::from_name),
        message,
        who,
        record_id: uid,
        part_id: part_uid,
    }
}
