//! Observation of feeds and pushes: their states and outages, written as they change.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::{Duration, SystemTime};

use tokio::time::{MissedTickBehavior, interval, sleep};
use yonder_core::record::{Blame, Note, Sight, Silence, Subject, relay_sight};
use yonder_core::{Phase, PushPhase};
use yonder_engine::{CauseView, PushView, RelayView};
use yonder_store::Kind;

use super::History;
use crate::error::ServiceError;
use crate::sync::lock;
use crate::time;

/// Changes within this time are observed together.
const GATHER: Duration = Duration::from_millis(50);
/// Interval at which the time is stored, to which a crash is dated.
const ALIVE_INTERVAL: Duration = Duration::from_secs(5);
/// Number of these intervals from one pruning to the next: an hour.
const PRUNE_EVERY: u32 = 720;
/// Retention: thirteen months, so that a year can be compared with the last.
const KEPT_MS: i64 = 400 * 86_400_000;
/// Lines of the logbook that are kept.
const KEPT_LINES: i64 = 500_000;
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
                    sleep(GATHER).await;
                    changes.mark_unchanged();
                    false
                }
                _ = alive.tick() => {
                    looks = looks.wrapping_add(1);
                    looks.is_multiple_of(PRUNE_EVERY)
                }
            };
            let history = Arc::clone(&self);
            let kept = tokio::task::spawn_blocking(move || history.observe_and_prune(prunes)).await;
            if let Ok(Err(error)) = kept {
                tracing::warn!(%error, "states could not be recorded");
            }
        }
    }

    /// Records what has changed since the last observation, which otherwise happens in the background.
    ///
    /// # Errors
    /// When the records cannot be written. What was not written is tried again with the next observation.
    pub fn observe(&self) -> Result<(), ServiceError> {
        let changing = self.records.try_lock_changes();
        let (now_ms, sights) = (time::millis(SystemTime::now()), self.sights());
        let notes = lock(&self.recorder).look(now_ms, &sights);
        drop(changing);
        self.write_notes(notes, now_ms, false)
    }

    /// As [`History::observe`], for a caller that holds the lock of changes.
    ///
    /// # Errors
    /// As [`History::observe`].
    pub(crate) fn observe_locked(&self) -> Result<(), ServiceError> {
        let now_ms = time::millis(SystemTime::now());
        let notes = lock(&self.recorder).look(now_ms, &self.sights());
        self.write_notes(notes, now_ms, false)
    }

    /// Records the last observation and the orderly end of the service.
    ///
    /// # Errors
    /// When the records cannot be written.
    pub(crate) fn finish(&self) -> Result<(), ServiceError> {
        let now_ms = time::millis(SystemTime::now());
        let notes = lock(&self.recorder).look(now_ms, &self.sights());
        self.write_notes(notes, now_ms, true)?;
        self.journal.log_own("stopped", Kind::Service, "yonder", "");
        Ok(())
    }

    /// Continues the record where the service left it. Returns true after a crash or a power cut.
    ///
    /// # Errors
    /// When the records cannot be read or written.
    pub(crate) fn resume(&self) -> Result<bool, ServiceError> {
        let last = self.records.store.last_alive()?;
        let is_crash = last.is_some_and(|(_, in_order)| !in_order);
        let detail =
            if is_crash { "It had ended without an orderly stop: a crash, or a power cut." } else { "" };
        self.journal.log_own("started", Kind::Service, "yonder", detail);
        if let Some((ended_ms, in_order)) = last {
            let open = self.records.store.open_runs()?;
            let notes = lock(&self.recorder).resume(open, ended_ms, in_order);
            self.records.store.keep_notes(&notes, ended_ms, in_order)?;
        }
        Ok(is_crash)
    }

    fn observe_and_prune(&self, prunes: bool) -> Result<(), ServiceError> {
        self.observe()?;
        if prunes {
            let now_ms = time::millis(SystemTime::now());
            self.records.store.prune_record(now_ms - KEPT_MS, KEPT_LINES)?;
        }
        Ok(())
    }

    /// Writes notes, and those that the disk did not take before.
    fn write_notes(&self, notes: Vec<Note>, now_ms: i64, in_order: bool) -> Result<(), ServiceError> {
        let mut unwritten = lock(&self.unwritten_notes);
        unwritten.extend(notes);
        self.records.store.keep_notes(&unwritten, now_ms, in_order)?;
        let is_news = !unwritten.is_empty();
        unwritten.clear();
        drop(unwritten);
        if is_news {
            self.events.publish_log_lines();
        }
        Ok(())
    }

    /// Number of notes that wait for the disk; `None` while a write does not return.
    pub(crate) fn unwritten(&self) -> Option<usize> {
        self.unwritten_notes.try_lock().ok().map(|notes| notes.len())
    }

    /// Everything that should run. Two relays of one feed share it; it is seen once.
    fn sights(&self) -> Vec<Sight> {
        let mut sights: BTreeMap<Subject, Sight> = BTreeMap::new();
        for relay in self.records.stored_relays().iter().filter(|relay| relay.wanted.is_running()) {
            let Some(RelayView { name, feed, pushes }) = self.engine.relay(&relay.name) else { continue };
            let feed = sight(Subject::Feed(feed.name), Phase::Feed(feed.state), feed.since, feed.cause, None);
            let pushes: Vec<Sight> = pushes
                .into_iter()
                .map(|push| {
                    let silence = self.silence(&push);
                    let subject = Subject::Push(name.clone(), push.destination);
                    sight(subject, Phase::Push(push.state), push.since, push.cause, silence)
                })
                .collect();
            let whole = relay_sight(&name, &feed, &pushes);
            for sight in pushes.into_iter().chain([feed, whole]) {
                sights.insert(sight.subject.clone(), sight);
            }
        }
        sights.into_values().collect()
    }

    /// Returns the time for which the platform of a holding push accepts silence.
    fn silence(&self, push: &PushView) -> Option<Silence> {
        if push.state != PushPhase::Holding {
            return None;
        }
        let platform = self.records.store.destination(&push.destination).ok()?.settings.platform?;
        let survives_s = self.records.sheet(&platform).ok()??.rules.broadcast.survives_silence_s?;
        Some(Silence { platform, survives_s })
    }
}

fn sight(
    subject: Subject,
    state: Phase,
    since: SystemTime,
    cause: Option<CauseView>,
    silence: Option<Silence>,
) -> Sight {
    let blame =
        cause.map(|cause| Blame { code: cause.code.to_owned(), side: cause.side, message: cause.message });
    Sight { subject, state, since_ms: time::millis(since), blame, silence }
}
