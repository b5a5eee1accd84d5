//! Rehearsal: a push to an own grading receiver instead of a platform, with the same stream and the same checks.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use tokio::time::{Instant, sleep, sleep_until};
use yonder_address::{KeyLength, Passphrase, Protocol, StreamKey, read_pasted};
use yonder_api::{Graded, NewRehearsal, Rehearsal};
use yonder_core::SourceKind;
use yonder_core::grade::ChannelReport;
use yonder_core::platform::NamedSheet;
use yonder_core::preflight::{
    Check, CheckStatus, FeedFacts, KeyFacts, PushFacts, Reachability, check_push, worst,
};
use yonder_core::{FeedPhase, MeasuredAudio, MeasuredVideo};
use yonder_engine::{Adaptation, FeedSpec, HoldSpec, PushSpec, RelaySpec};
use yonder_ingest::{GradingReceiver, ReceiverConfig};

use super::Planner;
use super::preflight::check;
use yonder_records::JobContext;
use yonder_records::ServiceError;
use yonder_records::run_blocking;
use yonder_records::views::{millis, to_hundredths};
use yonder_records::{is_encrypted, stored_server};

/// Default, minimum and maximum duration, in seconds.
const DEFAULT_S: u32 = 15;
const RANGE_S: std::ops::RangeInclusive<u32> = 3..=300;
/// Timeout of the first frame.
const FIRST_PICTURE: Duration = Duration::from_secs(25);
/// Number of the last rehearsal, so that their relays have different names.
static NUMBER: AtomicU64 = AtomicU64::new(0);

struct Plan {
    relay: String,
    feed: FeedSpec,
    push: PushSpec,
    protocol: Protocol,
    encrypted: bool,
    over: Protocol,
    sheet: Option<NamedSheet>,
    duration: Duration,
}

impl Planner {
    /// Rehearses one push of a relay, and grades the received stream.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`] for the relay, its destination or the platform, [`ServiceError::Invalid`], or if the
    /// receiver cannot be started.
    ///
    /// # Cancel safety
    /// When dropped, the rehearsal ends by itself.
    pub async fn rehearse(
        self: &Arc<Self>,
        name: &str,
        new: NewRehearsal,
        context: &JobContext,
    ) -> Result<Rehearsal, ServiceError> {
        let (planner, name) = (Arc::clone(self), name.to_owned());
        let plan = run_blocking(move || planner.plan_rehearsal(&name, &new)).await?;
        let planner = Arc::clone(self);
        let running = context.clone();
        // Sockets belong to the engine's runtime.
        let held = self.engine.runtime().spawn(async move { planner.hold(plan, &running).await });
        held.await.map_err(|_| ServiceError::Internal("a rehearsal was lost"))?
    }

    fn plan_rehearsal(&self, name: &str, new: &NewRehearsal) -> Result<Plan, ServiceError> {
        let relay = self.records.store.relay(name).map_err(|error| self.records.explain(error))?;
        let wanted = match &new.to {
            Some(to) => {
                relay.destinations.iter().find(|name| name.eq_ignore_ascii_case(to)).ok_or_else(|| {
                    ServiceError::Invalid {
                        field: "to",
                        detail: format!("{} does not push to {to:?}", relay.name),
                        hint: "Name one of the relay's destinations.",
                    }
                })?
            }
            None => {
                relay.destinations.first().ok_or(ServiceError::Internal("a relay without destinations"))?
            }
        };
        let destination = self.records.store.destination(wanted)?;
        let server = stored_server(&destination.settings.server)?;
        let over = match new.over.as_deref() {
            None | Some("") => server.protocol(),
            Some("rtmp") => Protocol::Rtmp,
            Some("srt") => Protocol::Srt,
            Some(other) => {
                return Err(ServiceError::Invalid {
                    field: "over",
                    detail: format!("{other:?} is not rehearsed"),
                    hint: "Choose rtmp or srt.",
                });
            }
        };
        let seconds = new.for_s.unwrap_or(DEFAULT_S);
        if !RANGE_S.contains(&seconds) {
            return Err(ServiceError::Invalid {
                field: "for_s",
                detail: format!("{seconds} s is not from 3 to 300 s"),
                hint: "Fifteen seconds are usually enough.",
            });
        }
        let platform = match &new.platform {
            Some(platform) => self.records.known_platform(Some(platform))?,
            None => destination.settings.platform.clone(),
        };
        let sheet = platform.map(|platform| self.records.sheet(&platform)).transpose()?.flatten();
        let adaptation = self.records.adaptation(&relay, &destination)?;
        // The rules that are rehearsed may be those of another platform.
        let rules = sheet.as_ref().map(|sheet| Arc::new(sheet.rules.clone()));
        let adaptation = Adaptation { rules, ..adaptation };
        Ok(Plan {
            feed: self.records.dialable_feed_spec(&self.records.store.feed(&relay.feed)?)?,
            push: PushSpec { adaptation, ..self.records.push_spec(&destination)? },
            protocol: server.protocol(),
            encrypted: is_encrypted(&server, &destination),
            over,
            sheet,
            duration: Duration::from_secs(seconds.into()),
            relay: relay.name,
        })
    }

    async fn hold(self: Arc<Self>, plan: Plan, context: &JobContext) -> Result<Rehearsal, ServiceError> {
        let (receiver, push) = receiver(&plan)?;
        // A control character, so that no stored relay can have this name.
        let hidden = format!("rehearsal\u{1}{}", NUMBER.fetch_add(1, Ordering::Relaxed));
        let hold = HoldSpec::default();
        let spec =
            RelaySpec { name: hidden.clone(), feed: plan.feed.clone(), pushes: vec![push], hold, hls: false };
        self.engine.apply(spec);
        context.set_step("waiting for the first frame");
        let begun = self.wait_for_picture(&hidden, &receiver, context).await;
        let seconds = usize::try_from(plan.duration.as_secs()).unwrap_or(usize::MAX);
        for second in 0..if begun { seconds } else { 0 } {
            context.set_progress(format!("receiving for {seconds} s"), second, seconds);
            if context.check_canceled().is_err() {
                break;
            }
            sleep(Duration::from_secs(1)).await;
        }
        let report = receiver.report();
        let trouble = if begun { None } else { Some(self.failure_text(&hidden)) };
        self.engine.withdraw(&hidden);
        context.check_canceled()?;
        Ok(to_rehearsal(&plan, report, trouble))
    }

    async fn wait_for_picture(&self, relay: &str, receiver: &GradingReceiver, context: &JobContext) -> bool {
        let mut changes = self.engine.changes();
        let deadline = Instant::now() + FIRST_PICTURE;
        loop {
            if receiver.report().is_some_and(|report| report.pictures > 0) {
                return true;
            }
            let blocked = self.engine.relay(relay).is_some_and(|view| view.feed.state == FeedPhase::Blocked);
            if blocked || Instant::now() >= deadline || context.check_canceled().is_err() {
                return false;
            }
            let next = Instant::now() + Duration::from_millis(100);
            tokio::select! {
                _ = changes.changed() => sleep_until(next).await,
                () = sleep_until(next) => {}
            }
        }
    }

    fn failure_text(&self, relay: &str) -> String {
        let view = self.engine.relay(relay);
        let cause = view.and_then(|view| {
            let push = view.pushes.into_iter().next().and_then(|push| push.cause);
            view.feed.cause.or(push)
        });
        cause.map_or_else(|| "No frame was received within 25 s.".to_owned(), |cause| cause.message)
    }
}

/// Starts a receiver on loopback, and returns it with its push.
fn receiver(plan: &Plan) -> Result<(GradingReceiver, PushSpec), ServiceError> {
    let failed = |_| ServiceError::Internal("the grading receiver cannot be started");
    let key = yonder_records::secrets::random_token();
    let encrypted = plan.over == Protocol::Srt && plan.push.encryption.is_some();
    let phrase = encrypted.then(|| Passphrase::from_stored(yonder_records::secrets::random_token().into()));
    let receiver = GradingReceiver::start(ReceiverConfig {
        app: "rehearsal".to_owned(),
        key: key.clone().into(),
        srt: (plan.over == Protocol::Srt).then(|| phrase.clone()),
    })
    .map_err(failed)?;
    let pasted = read_pasted(Some(receiver.server()), Some(&key));
    let pasted = pasted.map_err(|_| ServiceError::Internal("the grading receiver has no address"))?;
    let length = plan.push.encryption.as_ref().map_or_else(KeyLength::default, |(_, length)| *length);
    let push = PushSpec {
        secret_lost: false,
        server: pasted.server,
        backup: None,
        key: Some(StreamKey::from_stored(key.into())),
        encryption: phrase.map(|phrase| (phrase, length)),
        authority: None,
        uplinks: Vec::new(),
        ..plan.push.clone()
    };
    Ok((receiver, push))
}

fn to_rehearsal(plan: &Plan, report: Option<ChannelReport>, trouble: Option<String>) -> Rehearsal {
    let destination = plan.push.destination.clone();
    let mut checks = report.as_ref().map(|report| check_report(plan, report)).unwrap_or_default();
    if let Some(trouble) = &trouble {
        checks = vec![Check {
            subject: destination.clone(),
            check: "stream",
            level: CheckStatus::Fail,
            reason: trouble.trim_end_matches('.').to_owned(),
            next_step: Some("Survey the feed: yonder feed survey".to_owned()),
        }];
    }
    Rehearsal {
        relay: plan.relay.clone(),
        destination,
        over: plan.over.as_str().to_owned(),
        platform: plan.sheet.as_ref().map(|sheet| sheet.name.clone()),
        level: worst(&checks),
        trouble,
        graded: graded(report),
        checks: checks.into_iter().map(check).collect(),
    }
}

/// Checks the received stream against the rules, and adds findings that no rule covers.
fn check_report(plan: &Plan, report: &ChannelReport) -> Vec<Check> {
    let video = report.video.as_ref().map(|video| MeasuredVideo {
        kbps: Some(report.video_kbps),
        keyframe_s: (report.keyframe_ms > 0)
            .then(|| f64::from(u32::try_from(report.keyframe_ms).unwrap_or(u32::MAX)) / 1_000.0),
        b_frames: Some(report.b_frames),
        // An open GOP is checked by the preflight.
        ..MeasuredVideo::declared(video.codec, video.width, video.height, report.fps)
    });
    let audio = report.audio.as_ref().map(|audio| MeasuredAudio {
        codec: audio.codec.to_owned(),
        rate_hz: audio.rate_hz,
        channels: audio.channels.into(),
        kbps: Some(report.audio_kbps),
        is_decodable: true,
    });
    let feed =
        FeedFacts { name: plan.relay.clone(), source: SourceKind::default(), cause: None, video, audio };
    let push = PushFacts {
        destination: plan.push.destination.clone(),
        protocol: plan.protocol,
        encrypted: plan.encrypted,
        key: KeyFacts { present: true, ..KeyFacts::default() },
        main: Reachability::NotTried,
        backup: None,
    };
    let sheet = plan.sheet.as_ref().map(|sheet| (sheet.name.as_str(), &sheet.rules));
    let mut checks = check_push(&feed, &push, sheet);
    // Keys and servers are checked by the preflight; a rehearsal has its own.
    checks.retain(|check| check.check != "key");
    let subject = plan.push.destination.clone();
    if report.findings.is_empty() {
        let stall = report.longest_stall.as_millis();
        let reason = format!("no gap, no backward step; the longest pause was {stall} ms");
        checks.push(Check { subject, check: "stability", level: CheckStatus::Pass, reason, next_step: None });
    } else {
        checks.extend(report.findings.iter().map(|finding| Check {
            subject: subject.clone(),
            check: "stability",
            level: CheckStatus::Fail,
            reason: finding.sentence(),
            next_step: Some("Survey the feed for longer: yonder feed survey --for 60s".to_owned()),
        }));
    }
    checks
}

fn graded(report: Option<ChannelReport>) -> Graded {
    let video = report.as_ref().and_then(|report| report.video.clone());
    let audio = report.as_ref().and_then(|report| report.audio.clone());
    Graded {
        video_codec: video.as_ref().map(|video| video.codec.to_owned()),
        profile: video.as_ref().map(|video| video.profile.to_owned()),
        width: video.as_ref().map(|video| video.width),
        height: video.as_ref().map(|video| video.height),
        fps: report.as_ref().and_then(|report| report.fps).map(to_hundredths),
        video_kbps: report.as_ref().map_or(0, |report| report.video_kbps),
        peak_kbps: report.as_ref().map_or(0, |report| report.peak_kbps),
        keyframe_ms: report.as_ref().map_or(0, |report| report.keyframe_ms),
        b_frames: report.as_ref().is_some_and(|report| report.b_frames),
        audio_codec: audio.as_ref().map(|audio| audio.codec.to_owned()),
        audio_rate_hz: audio.as_ref().map(|audio| audio.rate_hz),
        audio_kbps: report.as_ref().map_or(0, |report| report.audio_kbps),
        skew_ms: report.as_ref().map_or(0, |report| report.skew_ms),
        longest_stall_ms: report.as_ref().map_or(0, |report| millis(report.longest_stall)),
        pictures: report.as_ref().map_or(0, |report| report.pictures),
        findings: report
            .map(|report| report.findings.iter().map(|f| f.sentence()).collect())
            .unwrap_or_default(),
    }
}
