//! Tuning of cameras: proposal, change with its verification, and undo.

use std::sync::Arc;
use std::time::Duration;

use yonder_api::{FieldChange, NewTuning, TunedElsewhere, Tuning, TuningRequest, TuningResult, TuningUndo};
use yonder_core::preflight::FeedFacts;
use yonder_core::rendition::Requirements;
use yonder_core::tuning::{
    EncoderFormat, EncoderSettings, Proposal, SettingOutcome, VerifiedSetting, propose, verify,
};
use yonder_engine::{
    Adaptation, CameraTarget, ChangedElsewhere, EncoderReport, FeedSpec, SetReport, SourceSpec,
    SurveyRequest, TuneError,
};
use yonder_store::{Feed as StoredFeed, Tuning as StoredTuning};

use super::Planner;
use super::preflight::feed_facts;
use yonder_records::JobContext;
use yonder_records::read_device;
use yonder_records::run_blocking;
use yonder_records::time;
use yonder_records::{DeviceProblem, ServiceError};

/// Wait between a change and its verification: cameras restart their streams.
const SETTLE: Duration = Duration::from_secs(3);
/// Maximum number of surveys until a change is in the stream.
const MAX_SURVEYS: u32 = 3;
/// Range of a survey's duration.
const SURVEY_RANGE: (Duration, Duration) = (Duration::from_secs(6), Duration::from_secs(60));

/// Change of a camera's encoder that is about to be made.
#[derive(Debug)]
pub struct PlannedTuning {
    feed: String,
    target: CameraTarget,
    before: EncoderFormat,
    settings: EncoderSettings,
    /// Change that is undone.
    undone: Option<StoredTuning>,
    /// Device service given with the request, which is stored once it has worked.
    device: Option<String>,
    _lock: TuningLock,
}

/// Right to change the camera of a feed; released on drop.
#[derive(Debug)]
struct TuningLock {
    planner: Arc<Planner>,
    feed: String,
}

impl Drop for TuningLock {
    fn drop(&mut self) {
        self.planner.tuned_feeds.lock().remove(&self.feed);
    }
}

impl PlannedTuning {
    /// Returns the changes, for the audit log.
    #[must_use]
    pub fn fields(&self) -> Vec<FieldChange> {
        let changes = self.settings.changes(&self.before).into_iter();
        let field = |change: yonder_core::tuning::SettingChange| FieldChange {
            field: change.setting.as_str().to_owned(),
            before: Some(change.before).filter(|before| !before.is_empty()),
            after: Some(change.after),
        };
        changes.map(field).collect()
    }
}

impl Planner {
    /// Returns the encoder settings of a feed's camera, with a proposal. Takes some seconds.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], [`ServiceError::Device`], or if the records cannot be read.
    pub async fn tuning(
        self: &Arc<Self>,
        name: &str,
        request: TuningRequest,
    ) -> Result<Tuning, ServiceError> {
        let (planner, wanted) = (Arc::clone(self), name.to_owned());
        let (feed, target) =
            run_blocking(move || planner.camera_target(&wanted, request.device.as_deref())).await?;
        let report = self.read_encoder(target).await?;
        let planner = Arc::clone(self);
        run_blocking(move || planner.describe(&feed, report)).await
    }

    /// Plans a change: reads the camera's settings, and checks the new ones.
    ///
    /// # Errors
    /// As [`Planner::tuning`], and [`ServiceError::Device`] for a shared encoder, a change that runs already, or nothing to
    /// undo.
    pub async fn plan_tuning(
        self: &Arc<Self>,
        name: &str,
        new: NewTuning,
        context: &JobContext,
    ) -> Result<PlannedTuning, ServiceError> {
        context.set_step("reading the camera's settings");
        if new.undo && !new.settings.is_empty() {
            return Err(ServiceError::Invalid {
                field: "undo",
                detail: "new settings are given with undo".to_owned(),
                hint: "Undo the last change first, then make another one.",
            });
        }
        let (planner, wanted, device) = (Arc::clone(self), name.to_owned(), new.device.clone());
        let (feed, target) = run_blocking(move || planner.camera_target(&wanted, device.as_deref())).await?;
        let lock = self.lock_camera(&feed.settings.name)?;
        let report = context.unless_canceled(self.read_encoder(target.clone())).await?;
        let planner = Arc::clone(self);
        run_blocking(move || {
            let name = feed.settings.name.clone();
            let undone = if new.undo { planner.records.store.last_tuning(&name)? } else { None };
            if new.undo && undone.is_none() {
                return Err(DeviceProblem::NothingToUndo(name).into());
            }
            let settings = match &undone {
                Some(tuning) => EncoderSettings::of(&tuning.before),
                None if new.settings.is_empty() => planner.proposal(&name, &report)?.settings,
                None => new.settings,
            };
            let settings = settings.without_unchanged(&report.format);
            let affected = settings.affected(&report.shared_with, &report.audio_shared_with);
            if !affected.is_empty() && !new.shared {
                return Err(DeviceProblem::Shared(affected).into());
            }
            let before = report.format;
            if undone.is_none() {
                settings.check(&before, &report.options).map_err(|error| not_offered(&error))?;
            }
            let device = target.device.clone().filter(|device| feed.settings.device.as_ref() != Some(device));
            Ok(PlannedTuning { feed: name, target, before, settings, undone, device, _lock: lock })
        })
        .await
    }

    /// Makes a planned change, and verifies it by a survey.
    ///
    /// # Errors
    /// [`ServiceError::Device`] if the camera refuses, or if the records cannot be written.
    ///
    /// # Cancel safety
    /// A change that was sent is completed; its former settings are stored before.
    pub async fn tune(
        self: &Arc<Self>,
        planned: PlannedTuning,
        context: &JobContext,
    ) -> Result<TuningResult, ServiceError> {
        if planned.settings.is_empty() {
            self.finish(&planned).await?;
            return Ok(unchanged(&planned));
        }
        context.set_step("changing the camera's settings");
        // Stored before the change: a power cut between both must not lose the former settings.
        let (planner, feed, before) = (Arc::clone(self), planned.feed.clone(), planned.before.clone());
        let must_be_stored = planned.undone.is_none();
        let stored = run_blocking(move || {
            let id = must_be_stored.then(|| planner.records.store.add_tuning(&feed, &before, time::now_s()));
            Ok(id.transpose()?)
        })
        .await?;
        let (engine, target, settings) =
            (self.engine.clone(), planned.target.clone(), planned.settings.clone());
        let must_be_offered = planned.undone.is_none();
        let set = self
            .engine
            .runtime()
            .spawn(async move { engine.set_encoder(target, settings, must_be_offered).await });
        let set = set.await.map_err(|_| ServiceError::Internal("a change of a camera was interrupted"))?;
        let report = match set {
            Ok(report) => report,
            Err(error) => {
                // Without an answer the change may have been made.
                if matches!(error, TuneError::Refused(_) | TuneError::NotPermitted | TuneError::NotOffered(_))
                {
                    self.forget(stored).await?;
                }
                return Err(device_error(error));
            }
        };
        let verified = self.verify_by_survey(&planned, &report, context).await?;
        let is_ignored = verified.iter().all(|setting| setting.outcome == SettingOutcome::Ignored);
        if is_ignored {
            self.forget(stored).await?;
        } else {
            self.finish(&planned).await?;
        }
        Ok(result(&planned.feed, verified, &report))
    }

    /// Surveys the feed until the stream has what the camera reports.
    async fn verify_by_survey(
        self: &Arc<Self>,
        planned: &PlannedTuning,
        report: &SetReport,
        context: &JobContext,
    ) -> Result<Vec<VerifiedSetting>, ServiceError> {
        let after = &report.after.format;
        let mut verified = verify(&planned.settings, &planned.before, after, None);
        for round in 1..=MAX_SURVEYS {
            context.set_progress(
                "verifying the stream by a survey",
                usize::try_from(round - 1).unwrap_or_default(),
                usize::try_from(MAX_SURVEYS).unwrap_or_default(),
            );
            tokio::time::sleep(SETTLE).await;
            let source = SourceSpec::Rtsp(planned.target.feed.clone());
            let main = FeedSpec {
                name: planned.feed.clone(),
                source,
                history: yonder_core::History::default(),
                measured: None,
            };
            let engine = self.engine.clone();
            let request = SurveyRequest { main, sub: None, duration: survey_duration(after) };
            let survey = self.engine.runtime().spawn(async move { engine.survey(request, |_| {}).await });
            let survey = survey.await.map_err(|_| ServiceError::Internal("a survey was interrupted"))?;
            let facts = feed_facts(&planned.feed, &survey.main);
            let is_received = facts.cause.is_none() && facts.video.is_some();
            if is_received {
                self.store_measurement(&facts).await?;
                verified = verify(&planned.settings, &planned.before, after, Some(&facts));
            }
            let is_settled = |setting: &VerifiedSetting| {
                !matches!(setting.outcome, SettingOutcome::Pending | SettingOutcome::Unmeasured)
            };
            if verified.iter().all(is_settled) {
                break;
            }
        }
        Ok(verified)
    }

    async fn store_measurement(self: &Arc<Self>, facts: &FeedFacts) -> Result<(), ServiceError> {
        let (planner, facts) = (Arc::clone(self), facts.clone());
        run_blocking(move || Ok(planner.records.store.set_measured(&facts.name, &facts)?)).await
    }

    /// Removes the stored settings of a change that was not made.
    async fn forget(self: &Arc<Self>, stored: Option<i64>) -> Result<(), ServiceError> {
        let Some(id) = stored else { return Ok(()) };
        let planner = Arc::clone(self);
        run_blocking(move || Ok(planner.records.store.remove_tuning(id)?)).await
    }

    /// Removes the change that was undone, and stores the address of the device if it is new.
    async fn finish(self: &Arc<Self>, planned: &PlannedTuning) -> Result<(), ServiceError> {
        self.forget(planned.undone.as_ref().map(|tuning| tuning.id)).await?;
        let Some(device) = planned.device.clone() else { return Ok(()) };
        let (planner, feed) = (Arc::clone(self), planned.feed.clone());
        run_blocking(move || Ok(planner.records.store.set_device(&feed, &device)?)).await
    }

    fn lock_camera(self: &Arc<Self>, feed: &str) -> Result<TuningLock, ServiceError> {
        if !self.tuned_feeds.lock().insert(feed.to_owned()) {
            return Err(DeviceProblem::Busy(feed.to_owned()).into());
        }
        Ok(TuningLock { planner: Arc::clone(self), feed: feed.to_owned() })
    }

    async fn read_encoder(&self, target: CameraTarget) -> Result<EncoderReport, ServiceError> {
        let engine = self.engine.clone();
        let read = self.engine.runtime().spawn(async move { engine.read_encoder(target).await });
        let read = read.await.map_err(|_| ServiceError::Internal("a camera could not be read"))?;
        read.map_err(device_error)
    }

    /// Returns a feed, and its camera.
    fn camera_target(
        &self,
        name: &str,
        device: Option<&str>,
    ) -> Result<(StoredFeed, CameraTarget), ServiceError> {
        let feed = self.records.store.feed(name).map_err(|error| self.records.explain(error))?;
        let device = device.map(read_device).transpose()?.flatten().or_else(|| feed.settings.device.clone());
        let SourceSpec::Rtsp(stream) = self.records.dialable_feed_spec(&feed)?.source else {
            return Err(ServiceError::Invalid {
                field: "name",
                detail: "an encoder publishes this feed; only cameras are changed over ONVIF".to_owned(),
                hint: "Change the settings in the encoder. `yonder feed survey` measures its stream.",
            });
        };
        let target = CameraTarget { device, feed: stream };
        Ok((feed, target))
    }

    fn describe(&self, feed: &StoredFeed, report: EncoderReport) -> Result<Tuning, ServiceError> {
        let name = feed.settings.name.clone();
        let Proposal { settings, reasons, missing } = self.proposal(&name, &report)?;
        let relays = self.records.stored_relays();
        let runs = relays.iter().filter(|relay| relay.feed == name && relay.wanted.is_running());
        let undo = self.records.store.last_tuning(&name)?;
        Ok(Tuning {
            feed: name.clone(),
            device: report.device,
            model: report.facts.model,
            firmware: report.facts.firmware,
            profile: report.profile,
            changes: settings.changes(&report.format),
            configured: report.format,
            offered: report.options,
            proposed: settings,
            reasons,
            missing,
            shared_with: report.shared_with,
            audio_shared_with: report.audio_shared_with,
            on_air: runs.map(|relay| relay.name.clone()).collect(),
            undo: undo.map(|tuning| TuningUndo {
                at: time::text(time::from_s(tuning.at_s)),
                before: tuning.before,
            }),
        })
    }

    /// Returns the settings that suit the destinations of all relays of a feed.
    fn proposal(&self, feed: &str, report: &EncoderReport) -> Result<Proposal, ServiceError> {
        let mut needs = Vec::new();
        for relay in self.records.stored_relays().iter().filter(|relay| relay.feed == feed) {
            for name in &relay.destinations {
                let destination = self.records.store.destination(name)?;
                let protocol = self.records.push_spec(&destination)?.server.protocol();
                needs.push((name.clone(), protocol, self.records.adaptation(relay, &destination)?));
            }
        }
        let requirements: Vec<(&str, Requirements<'_>)> = needs
            .iter()
            .map(|(name, protocol, adaptation)| {
                let Adaptation { limit, rules, available_kbps, .. } = adaptation;
                let requirements = Requirements {
                    protocol: *protocol,
                    rules: rules.as_deref(),
                    limit: *limit,
                    available_kbps: *available_kbps,
                };
                (name.as_str(), requirements)
            })
            .collect();
        Ok(propose(&report.format, &report.options, &requirements))
    }
}

/// Returns a duration in which two keyframes are received.
fn survey_duration(format: &EncoderFormat) -> Duration {
    let two = Duration::try_from_secs_f64(format.keyframe_interval_s.unwrap_or(2.0) * 2.0);
    (two.unwrap_or(SURVEY_RANGE.1) + Duration::from_secs(2)).clamp(SURVEY_RANGE.0, SURVEY_RANGE.1)
}

/// Returns the result of a change of nothing.
fn unchanged(planned: &PlannedTuning) -> TuningResult {
    TuningResult {
        feed: planned.feed.clone(),
        settings: Vec::new(),
        verified: true,
        elsewhere: Vec::new(),
        message: "The camera has these settings already; nothing was changed.".to_owned(),
        next_step: None,
    }
}

fn result(feed: &str, verified: Vec<VerifiedSetting>, report: &SetReport) -> TuningResult {
    let has = |outcome| verified.iter().any(|setting| setting.outcome == outcome);
    let is_verified = verified.iter().all(|setting| setting.outcome.is_verified());
    let (mut message, next_step) = if let Some(ChangedElsewhere { profile, is_restored }) =
        report.elsewhere.first()
    {
        let restored = if *is_restored {
            "Its former settings were restored."
        } else {
            "Its former settings could not be restored."
        };
        let message =
            format!("The camera has changed the profile {profile:?} in place of this one. {restored}");
        (message, Some("Change the settings in the camera's own web page."))
    } else if has(SettingOutcome::Ignored) {
        let ignored = names(&verified, SettingOutcome::Ignored);
        let message = format!("The camera has confirmed the change, and kept the former {ignored}.");
        (message, Some("Change this in the camera's own web page, or let the service adapt the stream."))
    } else if has(SettingOutcome::Pending) {
        let pending = names(&verified, SettingOutcome::Pending);
        let message = format!("The camera has stored the change, but still sends the former {pending}.");
        (message, Some("Restart the camera, then survey the feed again. Or undo the change."))
    } else if has(SettingOutcome::Unmeasured) {
        let unmeasured = names(&verified, SettingOutcome::Unmeasured);
        let message = format!("The camera has stored the change; its {unmeasured} could not be measured.");
        (message, Some("Survey the feed again: yonder feed survey"))
    } else if has(SettingOutcome::Adjusted) {
        ("The camera has chosen the nearest values that it supports, and sends them.".to_owned(), None)
    } else {
        ("The camera sends the new settings.".to_owned(), None)
    };
    if let Some(refused) = &report.audio_refused {
        message += &format!(" The audio was not changed: {refused}.");
    }
    TuningResult {
        feed: feed.to_owned(),
        settings: verified,
        verified: is_verified,
        elsewhere: report
            .elsewhere
            .iter()
            .map(|found| TunedElsewhere { profile: found.profile.clone(), restored: found.is_restored })
            .collect(),
        message,
        next_step: next_step.map(str::to_owned),
    }
}

/// Lists the settings with an outcome.
fn names(verified: &[VerifiedSetting], outcome: SettingOutcome) -> String {
    let of = verified.iter().filter(|setting| setting.outcome == outcome);
    let names: Vec<String> = of.map(|setting| setting.setting.to_string()).collect();
    names.join(" and ")
}

fn not_offered(error: &yonder_core::tuning::TuningError) -> ServiceError {
    ServiceError::Invalid {
        field: "settings",
        detail: error.to_string(),
        hint: "See what the camera offers with `yonder feed tune --show`.",
    }
}

fn device_error(error: TuneError) -> ServiceError {
    match error {
        error @ TuneError::Host(_) => ServiceError::Invalid {
            field: "device",
            detail: error.to_string(),
            hint: "Give the host of the camera's web service, with its port unless it is 80.",
        },
        TuneError::Device { message, needs_sign_in } => {
            DeviceProblem::NotUsable { message, needs_sign_in }.into()
        }
        error @ (TuneError::NoProfile(_) | TuneError::NoEncoder(_)) => {
            DeviceProblem::NoProfile(error.to_string()).into()
        }
        TuneError::NotOffered(error) => not_offered(&error),
        TuneError::Refused(reason) => DeviceProblem::Refused(reason).into(),
        TuneError::NotPermitted => DeviceProblem::NotPermitted.into(),
        error @ TuneError::Timeout => {
            DeviceProblem::NotUsable { message: error.to_string(), needs_sign_in: false }.into()
        }
    }
}
