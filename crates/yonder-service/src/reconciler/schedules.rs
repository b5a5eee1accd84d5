//! On-air windows and rollovers: starts, stops and reconnects by the clock.

use std::sync::Arc;
use std::time::{Duration, SystemTime};

use tokio::time::sleep;
use yonder_api::FieldChange;
use yonder_core::Role;
use yonder_core::on_air::{QuietMinute, rollover_at};
use yonder_engine::PushView;
use yonder_store::{KeyKind, Kind, Relay as StoredRelay};

use super::Reconciler;
use crate::change::{Actor, Change};
use crate::error::ServiceError;
use crate::records::{schedule, schedule_of};
use crate::time;

/// Longest pause between two checks: somebody may set the clock.
const MAX_PAUSE: Duration = Duration::from_secs(20);

impl Reconciler {
    /// Starts, stops and rolls over what the clock says, until the task is dropped.
    pub(crate) async fn run_schedules(self: Arc<Self>) {
        loop {
            let reconciler = Arc::clone(&self);
            let next = tokio::task::spawn_blocking(move || reconciler.follow_clock()).await;
            let pause = next.ok().flatten().unwrap_or(MAX_PAUSE);
            sleep(pause.clamp(Duration::from_millis(50), MAX_PAUSE)).await;
        }
    }

    /// Brings every relay to what its windows say. Returns the time until the next window opens or closes.
    fn follow_clock(&self) -> Option<Duration> {
        let now_ms = time::millis(SystemTime::now());
        let mut next: Option<Duration> = None;
        for relay in self.records.stored_relays().iter().filter(|relay| relay.wanted.is_running()) {
            let Ok(schedule) = schedule(relay) else { continue };
            next = next.into_iter().chain(schedule.until_next(now_ms)).min();
            let runs = self.engine.relay(&relay.name).is_some();
            if runs != schedule.is_on_air(now_ms)
                && let Err(error) = self.open_or_close(&relay.name)
            {
                tracing::error!(relay = relay.name, %error, "a window could not be followed");
            }
            self.roll_over(relay, now_ms);
        }
        next
    }

    /// Looks again under the lock of changes, since a person may have stopped it meanwhile.
    fn open_or_close(&self, name: &str) -> Result<(), ServiceError> {
        let _changing = self.records.lock_changes();
        let relay = self.records.store.relay(name)?;
        if !relay.wanted.is_running() {
            return Ok(());
        }
        let on_air = schedule_of(&relay)?.is_on_air(time::millis(SystemTime::now()));
        if on_air != self.engine.relay(name).is_some() {
            self.bring_up(&relay)?;
            self.audit_window(&relay, on_air);
        }
        Ok(())
    }

    /// Records that a window has opened or closed.
    fn audit_window(&self, relay: &StoredRelay, on_air: bool) {
        let change = Change {
            actor: Actor::schedule(),
            needs: Role::Keeper,
            action: if on_air { "on-air" } else { "off-air" },
            kind: Kind::Relay,
            name: relay.name.clone(),
            expected_revision: None,
        };
        let field = |is_on: bool| Some(if is_on { "on air" } else { "off air" }.to_owned());
        let fields =
            [FieldChange { field: "window".to_owned(), before: field(!on_air), after: field(on_air) }];
        self.journal.keep_audit_of_fields(&change, &fields);
    }

    /// Reconnects pushes whose broadcast would soon be too long for their platform.
    fn roll_over(&self, relay: &StoredRelay, now_ms: i64) {
        let Some(view) = self.engine.relay(&relay.name) else { return };
        for push in &view.pushes {
            if self.is_due_for_rollover(relay, push, now_ms) {
                self.engine.roll_over(&relay.name, &push.destination);
                let detail = format!(
                    "A planned reconnect to {}: the platform ends long broadcasts.",
                    push.destination
                );
                self.journal.log_own("rolled-over", Kind::Relay, &relay.name, &detail);
            }
        }
    }

    fn is_due_for_rollover(&self, relay: &StoredRelay, push: &PushView, now_ms: i64) -> bool {
        let Some(connected) = push.connected_since else { return false };
        let due_ms = || {
            let destination = self.records.store.destination(&push.destination).ok()?;
            // A key for one broadcast does not open a second one.
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
