//! Preflight: measures the feed, probes the servers, and checks the platforms' rules.

use std::num::NonZero;
use std::sync::Arc;
use std::time::Duration;

use tokio::task::JoinSet;
use yonder_api::{Check, Preflight};
use yonder_core::budget::WhatIf;
use yonder_core::platform::NamedSheet;
use yonder_core::preflight::{
    Check as CoreCheck, CheckStatus, FeedFacts, KeyFacts, Problem, PushFacts, Reachability, check_feed,
    check_uplinks,
};
use yonder_core::rendition::{Machine, Requirements, adaptation_for, check_adapted_push};
use yonder_core::tuning::Setting;
use yonder_core::{MeasuredAudio, MeasuredVideo, SourceKind};
use yonder_engine::{
    CauseView, FeedSpec, ProbeReport, PushSpec, SourceSpec, StreamView, SurveyRequest, codec_speed,
    is_h265_available,
};
use yonder_store::{Destination as StoredDestination, KeyKind, Relay as StoredRelay};

use super::Planner;
use yonder_records::JobContext;
use yonder_records::ServiceError;
use yonder_records::is_encrypted;
use yonder_records::run_blocking;
use yonder_records::time;

/// Duration of the measurement: two keyframe intervals of most cameras.
const MEASURE: Duration = Duration::from_secs(4);

/// Input of a preflight from the records.
struct Plan {
    relay: StoredRelay,
    feed: FeedSpec,
    pushes: Vec<PlannedPush>,
}

struct PlannedPush {
    spec: PushSpec,
    encrypted: bool,
    key: KeyFacts,
    sheet: Option<NamedSheet>,
}

impl Planner {
    /// Runs all checks of a relay. It takes some seconds, during which the camera is pulled; no key is sent.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or if the records cannot be read.
    ///
    /// # Cancel safety
    /// When dropped, pending work ends within seconds.
    pub async fn preflight(
        self: &Arc<Self>,
        name: &str,
        context: &JobContext,
    ) -> Result<Preflight, ServiceError> {
        context.set_step("measuring the feed, and probing the servers");
        let (planner, wanted) = (Arc::clone(self), name.to_owned());
        let plan = run_blocking(move || planner.plan_preflight(&wanted)).await?;
        let planner = Arc::clone(self);
        // Sockets belong to the engine's runtime.
        let looked = self.engine.runtime().spawn(async move {
            let request = SurveyRequest { main: plan.feed.clone(), sub: None, duration: MEASURE };
            let (survey, reached) =
                tokio::join!(planner.engine.survey(request, |_| {}), planner.probe_servers(&plan.pushes));
            (plan, survey, reached)
        });
        let looked = async { looked.await.map_err(|_| ServiceError::Internal("a preflight was lost")) };
        let (plan, survey, reached) = context.unless_canceled(looked).await?;
        let mut feed = feed_facts(&plan.relay.feed, &survey.main);
        if matches!(plan.feed.source, SourceSpec::Publisher) {
            // Known before one publishes, too.
            feed.source = SourceKind::Encoder;
        }
        let planner = Arc::clone(self);
        run_blocking(move || planner.conclude(&plan, &feed, reached)).await
    }

    fn plan_preflight(&self, name: &str) -> Result<Plan, ServiceError> {
        let relay = self.records.store.relay(name).map_err(|error| self.records.explain(error))?;
        let feed = self.records.dialable_feed_spec(&self.records.store.feed(&relay.feed)?)?;
        let conflicting = self.records.conflicting_relay(&relay);
        let pushes = relay
            .destinations
            .iter()
            .map(|name| {
                let destination = self.records.store.destination(name)?;
                let spec = self.records.push_spec(&destination)?;
                let used_by = conflicting.as_ref().filter(|(shared, _)| shared == name);
                let sheet = match &destination.settings.platform {
                    Some(platform) => self.records.sheet(platform)?,
                    None => None,
                };
                Ok(PlannedPush {
                    encrypted: is_encrypted(&spec.server, &destination),
                    key: self.key_facts(&destination, used_by.map(|(_, relay)| relay.clone()))?,
                    sheet,
                    spec,
                })
            })
            .collect::<Result<Vec<_>, ServiceError>>()?;
        Ok(Plan { relay, feed, pushes })
    }

    fn key_facts(
        &self,
        destination: &StoredDestination,
        used_by: Option<String>,
    ) -> Result<KeyFacts, ServiceError> {
        let settings = &destination.settings;
        let secret_lost = self.records.has_lost_secret(destination);
        let one_broadcast = settings.key_kind == KeyKind::OneBroadcast;
        // A key for one broadcast may be that of the running one.
        let runs = self
            .records
            .stored_relays()
            .iter()
            .any(|relay| relay.wanted.is_running() && relay.destinations.contains(&settings.name));
        Ok(KeyFacts {
            present: destination.key.is_some(),
            lost: secret_lost,
            expires_in_s: settings.key_expires_s.map(|at| at.saturating_sub(time::now_s())),
            spent: one_broadcast && destination.key_used_s.is_some() && !runs,
            same_as: self.records.destination_with_same_key(destination)?,
            used_by,
        })
    }

    /// Probes all servers concurrently.
    async fn probe_servers(&self, pushes: &[PlannedPush]) -> Vec<(Reachability, Option<Reachability>)> {
        let mut probes = JoinSet::new();
        for (at, push) in pushes.iter().enumerate() {
            let (engine, spec) = (self.engine.clone(), push.spec.clone());
            probes.spawn(async move {
                let (authority, uplink) = (spec.authority.as_ref(), spec.uplinks.first());
                let main = reachability(engine.probe_server(&spec.server, authority, uplink).await);
                let backup = match &spec.backup {
                    Some(backup) => Some(reachability(engine.probe_server(backup, authority, uplink).await)),
                    None => None,
                };
                (at, main, backup)
            });
        }
        let mut found: Vec<_> = pushes.iter().map(|_| (Reachability::NotTried, None)).collect();
        while let Some(probed) = probes.join_next().await {
            if let Ok((at, main, backup)) = probed
                && let Some(slot) = found.get_mut(at)
            {
                *slot = (main, backup);
            }
        }
        found
    }

    fn conclude(
        &self,
        plan: &Plan,
        feed: &FeedFacts,
        reached: Vec<(Reachability, Option<Reachability>)>,
    ) -> Result<Preflight, ServiceError> {
        if feed.cause.is_none() && feed.video.is_some() {
            self.records.store.set_measured(&feed.name, feed)?;
        }
        // A running relay keeps its renditions: other rates would make its pushes reconnect at the next change.
        let available = if plan.relay.wanted.is_running() {
            plan.relay.available_kbps.clone()
        } else {
            self.available_kbps(&plan.relay)?
        };
        let machine = self.machine();
        let mut checks: Vec<Check> = check_feed(feed).into_iter().map(check).collect();
        for (push, (main, backup)) in plan.pushes.iter().zip(reached) {
            let facts = PushFacts {
                destination: push.spec.destination.clone(),
                protocol: push.spec.server.protocol(),
                encrypted: push.encrypted,
                key: push.key.clone(),
                main,
                backup,
            };
            let platform = push.sheet.as_ref().map(|sheet| sheet.name.as_str());
            let requirements = Requirements {
                protocol: facts.protocol,
                rules: push.sheet.as_ref().map(|sheet| &sheet.rules),
                limit: plan.relay.limits.get(&facts.destination).copied().unwrap_or_default(),
                available_kbps: available.get(&push.spec.destination).copied(),
            };
            let adapt = plan.relay.adapt;
            for checked in check_adapted_push(feed, &facts, platform, requirements, adapt, machine) {
                let adapt = adaptation_for(&checked, feed, requirements, adapt);
                let is_tunable = feed.source == SourceKind::Camera && checked.level != CheckStatus::Pass;
                let tune = Setting::of_check(checked.check).filter(|_| is_tunable);
                let mut checked = Check { adapt, tune: tune.is_some(), ..check(checked) };
                if let Some(step) = checked.next_step.as_mut().filter(|_| checked.tune) {
                    *step += &format!(" Over ONVIF: yonder feed tune {:?}", feed.name);
                }
                checks.push(checked);
            }
        }
        if let Some(kbps) = feed.video.as_ref().and_then(|video| video.kbps) {
            let audio = feed.audio.as_ref().and_then(|audio| audio.kbps).unwrap_or_default();
            self.note_rate(&feed.name, kbps + audio);
        }
        if available != plan.relay.available_kbps {
            self.records.write(|transaction| transaction.set_available_kbps(&plan.relay.name, &available))?;
        }
        // Budget with this relay in addition to the running ones.
        let relays = self.records.stored_relays();
        let counted: Vec<&StoredRelay> = relays
            .iter()
            .map(Arc::as_ref)
            .filter(|relay| relay.wanted.is_running() || relay.name == plan.relay.name)
            .collect();
        let month = time::Calendar::now().month();
        let uplinks = check_uplinks(&self.sum_of(&counted, WhatIf::default(), month)?);
        checks.extend(uplinks.into_iter().map(check));
        let level = checks.iter().map(|check| check.level).max().unwrap_or(CheckStatus::Pass);
        if level != CheckStatus::Fail {
            self.records.write(|transaction| transaction.mark_preflight_passed(&plan.relay))?;
        }
        Ok(Preflight {
            relay: plan.relay.name.clone(),
            level,
            at: time::text(std::time::SystemTime::now()),
            checks,
        })
    }
}

impl Planner {
    /// Returns the processor of this machine.
    fn machine(&self) -> Machine {
        let cores = std::thread::available_parallelism().map_or(1, NonZero::get);
        let cores = f64::from(u32::try_from(cores).unwrap_or(u32::MAX));
        let used: f64 =
            self.engine.running().1.iter().flat_map(|feed| &feed.renditions).map(|made| made.cpu_cores).sum();
        let decodes_h265 = is_h265_available();
        Machine { speed: codec_speed(), free_cores: (cores - used).max(0.0), decodes_h265 }
    }
}

fn reachability(probed: Result<ProbeReport, CauseView>) -> Reachability {
    match probed {
        Ok(reached) => {
            let steps: Vec<&str> = reached.steps.iter().map(|step| step.step.as_str()).collect();
            let took = reached.steps.last().map_or(0, |step| step.after.as_millis());
            Reachability::Reached(format!("{} ({took} ms)", steps.join(", ")))
        }
        Err(cause) => Reachability::Failed(Problem { message: cause.message, hint: cause.hint }),
    }
}

pub(super) fn check(check: CoreCheck) -> Check {
    Check {
        subject: check.subject,
        check: check.check.to_owned(),
        level: check.level,
        reason: check.reason,
        next_step: check.next_step,
        adapt: None,
        tune: false,
    }
}

/// Returns the measurements of a survey for the checks.
pub(super) fn feed_facts(name: &str, stream: &StreamView) -> FeedFacts {
    let measured = stream.measured;
    let video = stream.video.as_ref().map(|video| {
        let video = MeasuredVideo::from(video);
        let Some(measured) = measured else { return video };
        MeasuredVideo {
            fps: measured.fps.or(video.fps),
            kbps: Some(measured.video_kbps),
            keyframe_s: measured.keyframes.map(|interval| interval.max_s).or(video.keyframe_s),
            b_frames: Some(measured.reordered),
            open_gop: measured.recovery_points > 0,
            ..video
        }
    });
    let audio = stream.audio.as_ref().map(|audio| MeasuredAudio {
        kbps: measured.map(|measured| measured.audio_kbps),
        ..MeasuredAudio::from(audio)
    });
    let cause = stream.cause.as_ref();
    let cause = cause.map(|cause| Problem { message: cause.message.clone(), hint: cause.hint.clone() });
    let source = if stream.publisher.is_some() { SourceKind::Encoder } else { SourceKind::Camera };
    FeedFacts { name: name.to_owned(), source, cause, video, audio }
}
