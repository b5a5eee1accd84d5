//! Alert rules.

use std::time::SystemTime;

use yonder_api::{AlertChange, NewAlert};
use yonder_core::alerts::Trigger;
use yonder_core::{check_name, nearest_name};
use yonder_store::{Alert as StoredAlert, RecordKind};

use super::{Records, Transaction};
use crate::error::ServiceError;
use crate::time;

/// Repetition interval of open alerts, in seconds: default and range.
pub const DEFAULT_REPEAT_S: u32 = 4 * 3_600;
const REPEATS_S: std::ops::RangeInclusive<u32> = 60..=7 * 86_400;

/// Maximum duration of a mute, in seconds: 31 days.
const MAX_MUTE_S: u32 = 31 * 86_400;

impl Records {
    /// Checks the name that an alert is limited to: that of a relay, feed, destination or uplink.
    fn read_about(&self, about: Option<String>) -> Result<Option<String>, ServiceError> {
        let Some(about) = about.map(|about| about.trim().to_owned()).filter(|about| !about.is_empty()) else {
            return Ok(None);
        };
        let mut known = Vec::new();
        for kind in [RecordKind::Relay, RecordKind::Feed, RecordKind::Destination, RecordKind::Uplink] {
            known.extend(self.store.names(kind)?);
        }
        if let Some(name) = known.iter().find(|name| name.to_lowercase() == about.to_lowercase()) {
            return Ok(Some(name.clone()));
        }
        let nearest = nearest_name(&about, known.iter().map(String::as_str));
        let nearest = nearest.map_or_else(String::new, |name| format!("; the nearest is {name:?}"));
        Err(ServiceError::Invalid {
            field: "about",
            detail: format!("no relay, feed, destination or uplink is named {about:?}{nearest}"),
            hint: "Give the name of one of them, or leave the field empty for all.",
        })
    }
}

impl Transaction<'_> {
    /// Adds an alert rule, and returns its name.
    ///
    /// # Errors
    /// [`ServiceError::Invalid`] naming the field, a contact that is unknown, a name that is taken, or when the
    /// records cannot be written.
    pub fn add_alert(&self, new: &NewAlert) -> Result<String, ServiceError> {
        let stored = StoredAlert {
            name: check_name(&new.name).map_err(|error| ServiceError::name(&error))?,
            trigger: read_trigger(&new.when)?,
            about: self.read_about(new.about.clone())?,
            repeat_s: read_repeat(new.repeat_s.unwrap_or(DEFAULT_REPEAT_S))?,
            to: new.to.clone(),
            muted_until_ms: None,
        };
        self.store.add_alert(&stored).map_err(|error| self.explain(error))?;
        Ok(stored.name)
    }

    /// Changes an alert rule, and returns its name.
    ///
    /// # Errors
    /// As [`Transaction::add_alert`], and [`ServiceError::NotFound`].
    pub fn edit_alert(&self, name: &str, change: AlertChange) -> Result<String, ServiceError> {
        let mut stored = self.store.alert(name).map_err(|error| self.explain(error))?;
        if let Some(new_name) = &change.name {
            stored.name = check_name(new_name).map_err(|error| ServiceError::name(&error))?;
        }
        if let Some(when) = &change.when {
            stored.trigger = read_trigger(when)?;
        }
        // An unchanged name is stored, even of a removed record.
        if let Some(about) = change.about.filter(|about| Some(about) != stored.about.as_ref()) {
            stored.about = self.read_about(Some(about))?;
        }
        if let Some(repeat_s) = change.repeat_s {
            stored.repeat_s = read_repeat(repeat_s)?;
        }
        stored.to = change.to.unwrap_or(stored.to);
        self.store.edit_alert(name, &stored).map_err(|error| self.explain(error))?;
        Ok(stored.name)
    }

    /// Mutes an alert rule for some time, and returns its name; 0 s ends the mute.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], [`ServiceError::Invalid`] for more than a month, or if the records cannot be written.
    pub fn mute_alert(&self, name: &str, for_s: u32) -> Result<String, ServiceError> {
        if for_s > MAX_MUTE_S {
            return Err(ServiceError::Invalid {
                field: "for_s",
                detail: format!("{for_s} s are more than 31 days"),
                hint: "Remove the alert instead.",
            });
        }
        let until_ms = time::millis(SystemTime::now()) + i64::from(for_s) * 1_000;
        let until = (for_s > 0).then_some(until_ms);
        self.store.mute_alert(name, until).map_err(|error| self.explain(error))?;
        Ok(name.to_owned())
    }

    /// Removes an alert rule.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or if the records cannot be written.
    pub fn remove_alert(&self, name: &str) -> Result<(), ServiceError> {
        self.store.remove_alert(name).map_err(|error| self.explain(error))
    }
}

fn read_trigger(text: &str) -> Result<String, ServiceError> {
    let trigger: Result<Trigger, _> = text.parse();
    trigger.map(|trigger| trigger.to_string()).map_err(|error| ServiceError::Invalid {
        field: "when",
        detail: error.to_string(),
        hint: "Times have a unit: s, m or h.",
    })
}

fn read_repeat(seconds: u32) -> Result<i64, ServiceError> {
    if !REPEATS_S.contains(&seconds) {
        let detail = format!("{seconds} s are not from a minute to a week");
        return Err(ServiceError::Invalid {
            field: "repeat_s",
            detail,
            hint: "14400 are usual: four hours.",
        });
    }
    Ok(i64::from(seconds))
}
