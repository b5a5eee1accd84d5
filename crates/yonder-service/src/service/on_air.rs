//! On-air windows and rollovers: what the clock starts, stops and reconnects.

use std::sync::Arc;
use std::time::{Duration, SystemTime};

use jiff::tz::TimeZone;
use tokio::time::sleep;
use yonder_api::{FieldChange, OnAir};
use yonder_core::Role;
use yonder_core::on_air::{QuietMinute, Schedule, ScheduleError, rollover_at};
use yonder_engine::PushView;
use yonder_store::{KeyKind, Kind, Relay as StoredRelay};

use super::{Actor, Change, Service};
use crate::error::ServiceError;
use crate::time;

/// The clock is looked at at least so often: somebody may set it.
const LOOK_EVERY: Duration = Duration::from_secs(20);
/// Windows of one relay at most.
const MOST_WINDOWS: usize = 50;

impl Service {
    /// Starts, stops and rolls over what the clock says, until the task is dropped.
    pub async fn keep_schedules(self: Arc<Self>) {
        loop {
            let service = Arc::clone(&self);
            let next = tokio::task::spawn_blocking(move || service.follow_clock()).await;
            let pause = next.ok().flatten().unwrap_or(LOOK_EVERY);
            sleep(pause.clamp(Duration::from_millis(50), LOOK_EVERY)).await;
        }
    }

    /// Brings every relay to what its windows say. Returns the time until the next window opens or closes.
    fn follow_clock(&self) -> Option<Duration> {
        let now_ms = time::millis(SystemTime::now());
        let mut next: Option<Duration> = None;
        for relay in self.stored_relays().iter().filter(|relay| relay.wanted.is_running()) {
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
        let _changing = self.change();
        let relay = self.store.relay(name)?;
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
        self.keep_audit_of_fields(&change, &fields);
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
                self.record_own("rolled-over", Kind::Relay, &relay.name, &detail);
            }
        }
    }

    fn is_due_for_rollover(&self, relay: &StoredRelay, push: &PushView, now_ms: i64) -> bool {
        let Some(connected) = push.connected_since else { return false };
        let due_ms = || {
            let destination = self.store.destination(&push.destination).ok()?;
            // A key for one broadcast does not open a second one.
            if destination.settings.key_kind == KeyKind::OneBroadcast {
                return None;
            }
            let hours = self.sheet(&destination.settings.platform?).ok()??.rules.broadcast.longest_h?;
            let longest = Duration::try_from_secs_f64(hours * 3_600.0).ok()?;
            let quiet: Option<QuietMinute> = relay.quiet_minute.as_ref().and_then(|quiet| quiet.parse().ok());
            rollover_at(time::millis(connected), longest, quiet, &relay.zone).ok()
        };
        due_ms().is_some_and(|due_ms| due_ms <= now_ms)
    }

    /// The relay should run now.
    pub(super) fn is_on_air(relay: &StoredRelay) -> bool {
        schedule(relay).is_ok_and(|schedule| schedule.is_on_air(time::millis(SystemTime::now())))
    }
}

fn schedule(relay: &StoredRelay) -> Result<Schedule, ScheduleError> {
    Schedule::read(&relay.on_air, &relay.zone)
}

fn schedule_of(relay: &StoredRelay) -> Result<Schedule, ServiceError> {
    schedule(relay).map_err(|error| refused(&error))
}

/// How a relay's windows look now; `None` where it has none.
pub(super) fn facts(relay: &StoredRelay) -> Option<OnAir> {
    if relay.on_air.is_empty() {
        return None;
    }
    let now_ms = time::millis(SystemTime::now());
    let schedule = schedule(relay).ok()?;
    Some(OnAir {
        windows: schedule.windows(),
        zone: relay.zone.clone(),
        now: schedule.is_on_air(now_ms),
        changes_at: schedule.next_change(now_ms).map(|at| time::text(time::from_millis(at))),
    })
}

/// What of a relay's times is to be changed.
#[derive(Debug, Default)]
pub(super) struct Times {
    pub(super) on_air: Option<Vec<String>>,
    pub(super) zone: Option<String>,
    pub(super) quiet_minute: Option<String>,
}

/// Checks times and puts them into a relay, as they are written out.
pub(super) fn set_times(relay: &mut StoredRelay, times: Times) -> Result<(), ServiceError> {
    let Times { on_air, zone, quiet_minute } = times;
    if let Some(zone) = zone {
        relay.zone = zone;
    } else if relay.on_air.is_empty() && relay.quiet_minute.is_none() {
        relay.zone = own_zone();
    }
    if let Some(on_air) = on_air {
        relay.on_air = on_air;
    }
    if relay.on_air.len() > MOST_WINDOWS {
        let detail = format!("{} windows are more than {MOST_WINDOWS}", relay.on_air.len());
        return Err(ServiceError::Invalid {
            field: "on_air",
            detail,
            hint: "Join days: mon-fri 08:00-18:00.",
        });
    }
    relay.on_air = schedule_of(relay)?.windows();
    if let Some(quiet) = quiet_minute {
        let read = |quiet: &str| -> Result<QuietMinute, ServiceError> {
            quiet.parse().map_err(|error: yonder_core::on_air::WindowError| ServiceError::Invalid {
                field: "quiet_minute",
                detail: error.to_string(),
                hint: "Write hours and minutes, like 04:00.",
            })
        };
        relay.quiet_minute = if quiet.is_empty() { None } else { Some(read(&quiet)?.to_string()) };
    }
    Ok(())
}

/// The zone of this machine.
pub(super) fn own_zone() -> String {
    TimeZone::system().iana_name().unwrap_or("UTC").to_owned()
}

fn refused(error: &ScheduleError) -> ServiceError {
    match error {
        ScheduleError::Zone(_) => ServiceError::Invalid {
            field: "zone",
            detail: error.to_string(),
            hint: "Write the name of the zone in the time zone database.",
        },
        ScheduleError::Window(_) => ServiceError::Invalid {
            field: "on_air",
            detail: error.to_string(),
            hint: "Write windows like daily 06:00-22:00 or sat,sun 20:00-02:00.",
        },
    }
}
