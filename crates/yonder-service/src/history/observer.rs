//! Observation of feeds and pushes: records their states and outages.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::{Duration, SystemTime};

use tokio::time::{MissedTickBehavior, interval, sleep};
use yonder_core::record::{HistoryEvent, OutageCause, Silence, StatusSample, Subject, relay_sample};
use yonder_core::{Phase, PushPhase};
use yonder_engine::{CauseView, PushView, RelayView};
use yonder_store::RecordKind;

use super::History;
use yonder_records::ServiceError;
use yonder_records::time;

/// Delay within which changes are observed together.
const DEBOUNCE: Duration = Duration::from_millis(50);
/// Interval of the alive timestamp, by which the time of a crash is known.
const ALIVE_INTERVAL: Duration = Duration::from_secs(5);
/// Alive timestamps between two prunings: an hour.
const PRUNE_EVERY: u32 = 720;
/// Retention: thirteen months, for comparison with the last year.
const RETENTION_MS: i64 = 400 * 86_400_000;
/// Maximum lines of the logbook.
const MAX_LOGBOOK_LINES: i64 = 500_000;
impl History {
    /// Observes until the task is dropped.
    pub(crate) async fn run_observer(self: Arc<Self>) {
        let mut changes = self.engine.changes();
        let mut alive = interval(ALIVE_INTERVAL);
        alive.set_missed_tick_behavior(MissedTickBehavior::Delay);
        let mut looks = 0_u32;
        loop {
            let prunes = tokio::select! {
                changed = changes.changed() => {
                    if changed.is_err() {
                        return;
                    }
                    sleep(DEBOUNCE).await;
                    changes.mark_unchanged();
                    false
                }
                _ = alive.tick() => {
                    looks = looks.wrapping_add(1);
                    looks.is_multiple_of(PRUNE_EVERY)
                }
            };
            let history = Arc::clone(&self);
            let stored = tokio::task::spawn_blocking(move || history.observe_and_prune(prunes)).await;
            if let Ok(Err(error)) = stored {
                tracing::warn!(%error, "states could not be recorded");
            }
        }
    }

    /// Records all changes since the last observation.
    ///
    /// # Errors
    /// If the records cannot be written; the next observation retries.
    pub fn observe(&self) -> Result<(), ServiceError> {
        let changing = self.records.try_lock_changes();
        let (now_ms, samples) = (time::millis(SystemTime::now()), self.samples());
        let events = self.tracker.lock().evaluate(now_ms, &samples);
        drop(changing);
        self.write_events(events, now_ms, false)
    }

    /// As [`History::observe`], for a caller that holds the write lock.
    ///
    /// # Errors
    /// As [`History::observe`].
    pub(crate) fn observe_locked(&self) -> Result<(), ServiceError> {
        let now_ms = time::millis(SystemTime::now());
        let events = self.tracker.lock().evaluate(now_ms, &self.samples());
        self.write_events(events, now_ms, false)
    }

    /// Records the last observation and the orderly end of the service.
    ///
    /// # Errors
    /// If the records cannot be written.
    pub(crate) fn finish(&self) -> Result<(), ServiceError> {
        let now_ms = time::millis(SystemTime::now());
        let events = self.tracker.lock().evaluate(now_ms, &self.samples());
        self.write_events(events, now_ms, true)?;
        self.journal.log_own("stopped", RecordKind::Service, "yonder", "");
        Ok(())
    }

    /// Continues the history after a restart. Returns true after a crash or a power failure.
    ///
    /// # Errors
    /// If the records cannot be read or written.
    pub(crate) fn resume(&self) -> Result<bool, ServiceError> {
        let last = self.records.store.last_alive()?;
        let is_crash = last.is_some_and(|(_, dedup_and_order)| !dedup_and_order);
        let detail =
            if is_crash { "It had ended without an orderly stop: a crash, or a power cut." } else { "" };
        self.journal.log_own("started", RecordKind::Service, "yonder", detail);
        if let Some((ended_ms, dedup_and_order)) = last {
            let open = self.records.store.open_runs()?;
            let events = self.tracker.lock().resume(open, ended_ms, dedup_and_order);
            self.records.store.save_events(&events, ended_ms, dedup_and_order)?;
        }
        Ok(is_crash)
    }

    fn observe_and_prune(&self, prunes: bool) -> Result<(), ServiceError> {
        self.observe()?;
        self.note_streams()?;
        self.note_path_rates();
        if prunes {
            let now_ms = time::millis(SystemTime::now());
            self.records.store.prune_record(now_ms - RETENTION_MS, MAX_LOGBOOK_LINES)?;
        }
        Ok(())
    }

    /// Writes events, after those that could not be written before.
    fn write_events(
        &self,
        events: Vec<HistoryEvent>,
        now_ms: i64,
        dedup_and_order: bool,
    ) -> Result<(), ServiceError> {
        let mut unwritten = self.unwritten_notes.lock();
        unwritten.extend(events);
        self.records.store.save_events(&unwritten, now_ms, dedup_and_order)?;
        let is_news = !unwritten.is_empty();
        unwritten.clear();
        drop(unwritten);
        if is_news {
            self.events.publish_log_lines();
        }
        Ok(())
    }

    /// Returns the number of events that could not be written; `None` while a write blocks.
    pub(crate) fn unwritten(&self) -> Option<usize> {
        self.unwritten_notes.try_lock().map(|events| events.len())
    }

    /// Returns the status of everything that should run; a feed of several relays once.
    fn samples(&self) -> Vec<StatusSample> {
        let mut samples: BTreeMap<Subject, StatusSample> = BTreeMap::new();
        for relay in self.records.stored_relays().iter().filter(|relay| relay.wanted.is_running()) {
            let Some(RelayView { name, feed, pushes }) = self.engine.relay(&relay.name) else { continue };
            let feed =
                sample(Subject::Feed(feed.name), Phase::Feed(feed.state), feed.since, feed.cause, None);
            let pushes: Vec<StatusSample> = pushes
                .into_iter()
                .map(|push| {
                    let silence = self.silence(&push);
                    let subject = Subject::Push(name.clone(), push.destination);
                    sample(subject, Phase::Push(push.state), push.since, push.cause, silence)
                })
                .collect();
            let whole = relay_sample(&name, &feed, &pushes);
            for sample in pushes.into_iter().chain([feed, whole]) {
                samples.insert(sample.subject.clone(), sample);
            }
        }
        samples.into_values().collect()
    }

    /// Returns the silence limit of the platform of a holding push.
    fn silence(&self, push: &PushView) -> Option<Silence> {
        if push.state != PushPhase::Holding {
            return None;
        }
        let platform = self.records.store.destination(&push.destination).ok()?.settings.platform?;
        let survives_s = self.records.sheet(&platform).ok()??.rules.broadcast.survives_silence_s?;
        Some(Silence { platform, survives_s })
    }
}

fn sample(
    subject: Subject,
    state: Phase,
    since: SystemTime,
    cause: Option<CauseView>,
    silence: Option<Silence>,
) -> StatusSample {
    let cause = cause.map(|cause| OutageCause {
        code: cause.code.to_owned(),
        side: cause.side,
        message: cause.message,
    });
    StatusSample { subject, state, since_ms: time::millis(since), cause, silence }
}
