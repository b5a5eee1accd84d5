//! On-air windows and rollovers by the clock.

use std::sync::Arc;
use std::time::{Duration, SystemTime};

use tokio::time::sleep;
use yonder_api::FieldChange;
use yonder_core::Role;
use yonder_core::on_air::{QuietMinute, rollover_at};
use yonder_engine::PushView;
use yonder_store::{KeyKind, RecordKind, Relay as StoredRelay};

use super::Reconciler;
use yonder_records::ServiceError;
use yonder_records::time;
use yonder_records::{Actor, Change};
use yonder_records::{schedule, schedule_of};

/// Maximum interval of checks, since the system clock may be set.
const MAX_PAUSE: Duration = Duration::from_secs(20);

impl Reconciler {
    /// Opens and closes on-air windows, until the task is dropped.
    pub(crate) async fn run_schedules(self: Arc<Self>) {
        loop {
            let next = self.follow_windows();
            let pause = next.unwrap_or(MAX_PAUSE);
            sleep(pause.clamp(Duration::from_millis(50), MAX_PAUSE)).await;
        }
    }

    /// Rolls over long broadcasts, until the task is dropped.
    pub(crate) async fn run_rollovers(self: Arc<Self>) {
        loop {
            let reconciler = Arc::clone(&self);
            // A panic is logged by the runtime.
            let _done = tokio::task::spawn_blocking(move || reconciler.roll_over_all()).await;
            sleep(MAX_PAUSE).await;
        }
    }

    /// Begins to apply the windows of all relays. Returns the time until the next change.
    fn follow_windows(self: &Arc<Self>) -> Option<Duration> {
        let now_ms = time::millis(SystemTime::now());
        let mut next: Option<Duration> = None;
        for relay in self.records.stored_relays().iter().filter(|relay| relay.wanted.is_running()) {
            let Ok(schedule) = schedule(relay) else { continue };
            next = next.into_iter().chain(schedule.until_next(now_ms)).min();
            let is_due = self.engine.relay(&relay.name).is_some() != schedule.is_on_air(now_ms);
            if is_due && self.switching.lock().insert(relay.name.clone()) {
                let switching = Switching { reconciler: Arc::clone(self), relay: relay.name.clone() };
                // On separate threads, so that a relay that waits for the disk delays no other.
                tokio::task::spawn_blocking(move || {
                    let Switching { reconciler, relay } = &switching;
                    if let Err(error) = reconciler.open_or_close(relay) {
                        tracing::error!(relay, %error, "a window could not be followed");
                    }
                });
            }
        }
        next
    }

    /// Opens or closes a window, unless the relay has been stopped since. Waits at most a second for a change in
    /// progress; closing does not wait for the disk.
    fn open_or_close(&self, name: &str) -> Result<(), ServiceError> {
        let changing = self.records.try_lock_changes();
        let wanted = || {
            let relays = self.records.stored_relays();
            relays.iter().find(|relay| relay.name == name && relay.wanted.is_running()).cloned()
        };
        let Some(relay) = wanted() else { return Ok(()) };
        let on_air = schedule_of(&relay)?.is_on_air(time::millis(SystemTime::now()));
        if on_air != self.engine.relay(name).is_some() {
            self.bring_up(&relay)?;
            // The change in progress may have stopped or removed the relay.
            if changing.is_none() && wanted().is_none() {
                self.engine.withdraw(name);
                return Ok(());
            }
            self.audit_window(&relay, on_air);
        }
        Ok(())
    }

    /// Records the opening or closing of a window.
    fn audit_window(&self, relay: &StoredRelay, on_air: bool) {
        let change = Change {
            actor: Actor::schedule(),
            needs: Role::Admin,
            action: if on_air { "on-air" } else { "off-air" },
            kind: RecordKind::Relay,
            name: relay.name.clone(),
            expected_revision: None,
        };
        let field = |is_on: bool| Some(if is_on { "on air" } else { "off air" }.to_owned());
        let fields =
            [FieldChange { field: "window".to_owned(), before: field(!on_air), after: field(on_air) }];
        self.journal.keep_audit_of_fields(&change, &fields);
    }

    fn roll_over_all(&self) {
        let now_ms = time::millis(SystemTime::now());
        for relay in self.records.stored_relays().iter().filter(|relay| relay.wanted.is_running()) {
            self.roll_over(relay, now_ms);
        }
    }

    /// Rolls over pushes whose broadcasts approach the limit of their platform.
    fn roll_over(&self, relay: &StoredRelay, now_ms: i64) {
        let Some(view) = self.engine.relay(&relay.name) else { return };
        for push in &view.pushes {
            if self.is_due_for_rollover(relay, push, now_ms) {
                self.engine.roll_over(&relay.name, &push.destination);
                let detail = format!(
                    "A planned reconnect to {}: the platform ends long broadcasts.",
                    push.destination
                );
                self.journal.log_own("rolled-over", RecordKind::Relay, &relay.name, &detail);
            }
        }
    }

    fn is_due_for_rollover(&self, relay: &StoredRelay, push: &PushView, now_ms: i64) -> bool {
        let Some(connected) = push.connected_since else { return false };
        let due_ms = || {
            let destination = self.records.store.destination(&push.destination).ok()?;
            // A key for one broadcast is not valid for a second one.
            if destination.settings.key_kind == KeyKind::OneBroadcast {
                return None;
            }
            let hours =
                self.records.sheet(&destination.settings.platform?).ok()??.rules.broadcast.longest_h?;
            let longest = Duration::try_from_secs_f64(hours * 3_600.0).ok()?;
            let quiet: Option<QuietMinute> = relay.quiet_minute.as_ref().and_then(|quiet| quiet.parse().ok());
            rollover_at(time::millis(connected), longest, quiet, &relay.zone).ok()
        };
        due_ms().is_some_and(|due_ms| due_ms <= now_ms)
    }
}

/// Guard of a relay whose window is being opened or closed.
struct Switching {
    reconciler: Arc<Reconciler>,
    relay: String,
}

impl Drop for Switching {
    fn drop(&mut self) {
        self.reconciler.switching.lock().remove(&self.relay);
    }
}
