//! On-air windows of relays.

use std::time::SystemTime;

use jiff::tz::TimeZone;
use yonder_api::OnAir;
use yonder_core::on_air::{QuietMinute, Schedule, ScheduleError};
use yonder_store::Relay as StoredRelay;

use crate::error::ServiceError;
use crate::time;

/// Maximum windows of a relay.
const MAX_WINDOWS: usize = 50;

/// Returns true if the windows of a relay are open now.
pub fn is_on_air(relay: &StoredRelay) -> bool {
    schedule(relay).is_ok_and(|schedule| schedule.is_on_air(time::millis(SystemTime::now())))
}

/// Parses the windows of a relay.
///
/// # Errors
/// [`ScheduleError`] of the first invalid window or time zone.
pub fn schedule(relay: &StoredRelay) -> Result<Schedule, ScheduleError> {
    Schedule::read(&relay.on_air, &relay.zone)
}

/// As [`schedule`], with an error for the API.
///
/// # Errors
/// [`ServiceError::Invalid`] naming the field.
pub fn schedule_of(relay: &StoredRelay) -> Result<Schedule, ServiceError> {
    schedule(relay).map_err(|error| refused(&error))
}

/// Returns the windows of a relay for the API; `None` without any.
pub fn facts(relay: &StoredRelay) -> Option<OnAir> {
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

/// Changes of a relay's windows, time zone and quiet minute.
#[derive(Debug, Default)]
pub(super) struct Times {
    pub(super) on_air: Option<Vec<String>>,
    pub(super) zone: Option<String>,
    pub(super) quiet_minute: Option<String>,
}

/// Checks times and sets them in a relay, normalized.
pub(crate) fn set_times(relay: &mut StoredRelay, times: Times) -> Result<(), ServiceError> {
    let Times { on_air, zone, quiet_minute } = times;
    if let Some(zone) = zone {
        relay.zone = zone;
    } else if relay.on_air.is_empty() && relay.quiet_minute.is_none() {
        relay.zone = own_zone();
    }
    if let Some(on_air) = on_air {
        relay.on_air = on_air;
    }
    if relay.on_air.len() > MAX_WINDOWS {
        let detail = format!("{} windows are more than {MAX_WINDOWS}", relay.on_air.len());
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

/// Returns the system's time zone.
pub(crate) fn own_zone() -> String {
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
