//! Alerts: who is told, and of what.

mod delivery;
mod look;

use std::time::SystemTime;

use secrecy::{ExposeSecret as _, SecretString};
use yonder_api::{
    AddedReceiver, Alert, AlertChange, AlertMessage, NewAlert, NewReceiver, OpenAlert, Receiver,
    ReceiverChange, Way,
};
use yonder_core::alerts::Trigger;
use yonder_core::{check_name, nearest_name};
use yonder_store::{
    Alert as StoredAlert, Kind, NewReceiver as ReceiverValues, Receiver as StoredReceiver, ReceiverSettings,
    SecretChange, shortened_web_address,
};

pub(super) use look::Alarm;

use super::{Service, lock};
use crate::error::ServiceError;
use crate::tell::{self, read_mailboxes};
use crate::time;

/// An alert that goes on is told again after so many seconds, where nothing is said, at least and at most.
pub(super) const USUAL_REPEAT_S: u32 = 4 * 3_600;
const REPEATS_S: std::ops::RangeInclusive<u32> = 60..=7 * 86_400;

/// Longest time for which an alert can be muted, in seconds: 31 days.
const MAX_MUTE_S: u32 = 31 * 86_400;
/// Hours from one sign of life to the next, at most.
const MAX_SIGN_OF_LIFE_H: u32 = 7 * 24;

impl Service {
    /// All receivers by name.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub fn receivers(&self) -> Result<Vec<Receiver>, ServiceError> {
        self.store.receivers()?.iter().map(|receiver| self.receiver_facts(receiver)).collect()
    }

    /// One receiver.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or when the records cannot be read.
    pub fn receiver(&self, name: &str) -> Result<Receiver, ServiceError> {
        self.receiver_facts(&self.store.receiver(name).map_err(|error| self.explain(error))?)
    }

    /// Adds a receiver. A web receiver without a secret gets one, which is shown this once.
    ///
    /// # Errors
    /// [`ServiceError::Invalid`] naming the field, a name that is taken, or when the records cannot be written.
    pub fn add_receiver(&self, new: NewReceiver) -> Result<AddedReceiver, ServiceError> {
        let name = check_name(&new.name).map_err(|error| ServiceError::name(&error))?;
        let (way, address) = read_new_way(&new.way, None)?;
        let given = new.secret.map(yonder_api::Secret::into_inner);
        let made = match (&given, &new.way) {
            (None, Way::Web { .. }) => Some(SecretString::from(crate::auth::random_token())),
            _ => None,
        };
        let secret = given.or_else(|| made.clone());
        self.store.add_receiver(&ReceiverValues {
            name: name.clone(),
            settings: written(&way)?,
            secret,
            address,
            sign_of_life_h: read_sign_of_life(new.sign_of_life_h)?,
        })?;
        Ok(AddedReceiver { receiver: self.receiver(&name)?, secret: made.map(Into::into) })
    }

    /// Changes a receiver.
    ///
    /// # Errors
    /// As [`Service::add_receiver`], and [`ServiceError::NotFound`].
    pub fn edit_receiver(&self, name: &str, change: ReceiverChange) -> Result<Receiver, ServiceError> {
        let _changing = self.change();
        let mut kept = self.store.receiver(name).map_err(|error| self.explain(error))?;
        let before = kept.name.clone();
        if let Some(new_name) = &change.name {
            kept.name = check_name(new_name).map_err(|error| ServiceError::name(&error))?;
        }
        let mut address = SecretChange::Keep;
        if let Some(way) = &change.way {
            let (way, new_address) = read_new_way(way, Some(&read_way(&kept)?))?;
            address = match (&way, new_address) {
                (_, Some(new)) if self.is_address_of(&kept, &new) => SecretChange::Keep,
                (_, Some(new)) => SecretChange::Set(new),
                // The shortened form stands for the stored address.
                (Way::Web { url }, None) if is_shortened(url) => SecretChange::Keep,
                (Way::Web { .. } | Way::Mail { .. }, None) => SecretChange::Remove,
            };
            kept.settings = written(&way)?;
        }
        if let Some(hours) = change.sign_of_life_h {
            kept.sign_of_life_h = read_sign_of_life(Some(hours))?;
        }
        let secret = change.secret.map_or(SecretChange::Keep, |new| SecretChange::Set(new.into_inner()));
        let new = ReceiverSettings {
            name: &kept.name,
            settings: &kept.settings,
            sign_of_life_h: kept.sign_of_life_h,
        };
        self.store.edit_receiver(name, &new, &secret, &address)?;
        lock(&self.alarm.outbox).rename_receiver(&before, &kept.name);
        self.receiver(&kept.name)
    }

    /// Removes a receiver.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or when the records cannot be written.
    pub fn remove_receiver(&self, name: &str) -> Result<(), ServiceError> {
        self.store.remove_receiver(name).map_err(|error| self.explain(error))
    }

    /// Tells a receiver that this is a test. Blocks until it is told.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], [`ServiceError::NotTold`] with the reason, or when the records cannot be read.
    pub fn test_receiver(&self, name: &str, who: &str) -> Result<(), ServiceError> {
        let kept = self.store.receiver(name).map_err(|error| self.explain(error))?;
        let now = time::text(SystemTime::now());
        let message = AlertMessage {
            kind: "test".to_owned(),
            alert: "test".to_owned(),
            subject: "this service".to_owned(),
            message: format!("This is a test, asked for by {who}. Nothing is wrong."),
            since: now.clone(),
            at: now,
            messages: Vec::new(),
        };
        let secret = self.open_receiver_secret(&kept)?;
        tell::tell(&self.full_way(&kept)?, secret.as_ref(), &message)
            .map_err(|error| ServiceError::NotTold(error.to_string()))
    }

    /// Opens the secret of a receiver.
    ///
    /// # Errors
    /// [`ServiceError::SecretLost`] when it cannot be opened.
    fn open_receiver_secret(&self, kept: &StoredReceiver) -> Result<Option<SecretString>, ServiceError> {
        let opened = kept.secret.as_ref().map(|secret| self.store.unseal(secret)).transpose();
        let name = || kept.name.clone();
        opened.map_err(|_| ServiceError::SecretLost { kind: Kind::Receiver, name: name(), secret: "secret" })
    }

    /// Returns where and how a receiver is notified, with the whole address.
    ///
    /// # Errors
    /// [`ServiceError::SecretLost`] when the address cannot be opened.
    fn full_way(&self, kept: &StoredReceiver) -> Result<Way, ServiceError> {
        let way = read_way(kept)?;
        let Some(address) = &kept.address else { return Ok(way) };
        let lost =
            |_| ServiceError::SecretLost { kind: Kind::Receiver, name: kept.name.clone(), secret: "address" };
        let address = self.store.unseal(address).map_err(lost)?;
        Ok(match way {
            Way::Web { .. } => Way::Web { url: address.expose_secret().to_owned() },
            way @ Way::Mail { .. } => way,
        })
    }

    fn is_address_of(&self, kept: &StoredReceiver, address: &SecretString) -> bool {
        let known = kept.address.as_ref().and_then(|known| self.store.unseal(known).ok());
        known.is_some_and(|known| known.expose_secret() == address.expose_secret())
    }

    /// Number of notifications that wait for a receiver.
    fn undelivered_to(&self, name: &str) -> usize {
        let outbox = lock(&self.alarm.outbox);
        outbox.pending().iter().filter(|pending| pending.receiver == name).count()
    }

    fn receiver_facts(&self, kept: &StoredReceiver) -> Result<Receiver, ServiceError> {
        Ok(Receiver {
            name: kept.name.clone(),
            way: read_way(kept)?,
            has_secret: kept.secret.is_some(),
            sign_of_life_h: kept.sign_of_life_h,
            undelivered: self.undelivered_to(&kept.name),
            secret_lost: kept.secret.iter().chain(&kept.address).any(|secret| self.store.is_lost(secret)),
        })
    }

    /// All alerts by name.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub fn alerts(&self) -> Result<Vec<Alert>, ServiceError> {
        let open = lock(&self.alarm.book).open();
        let facts = |kept: StoredAlert| {
            let open = open.iter().filter(|open| open.rule == kept.name);
            let open = open.map(|open| OpenAlert {
                subject: open.subject.clone(),
                message: open.message.clone(),
                since: time::text(time::from_millis(open.raised_ms)),
                acknowledged: open.is_acknowledged,
            });
            Alert {
                open: open.collect(),
                name: kept.name,
                when: kept.trigger,
                about: kept.about,
                to: kept.to,
                repeat_s: u32::try_from(kept.repeat_s).unwrap_or(USUAL_REPEAT_S),
                muted_until: kept
                    .muted_until_ms
                    .filter(|until_ms| *until_ms > time::millis(SystemTime::now()))
                    .map(|until_ms| time::text(time::from_millis(until_ms))),
            }
        };
        Ok(self.store.alerts()?.into_iter().map(facts).collect())
    }

    /// One alert.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or when the records cannot be read.
    pub fn alert(&self, name: &str) -> Result<Alert, ServiceError> {
        let kept = self.store.alert(name).map_err(|error| self.explain(error))?;
        let mut all = self.alerts()?.into_iter();
        all.find(|alert| alert.name == kept.name).ok_or(ServiceError::Internal("an alert has gone"))
    }

    /// Adds an alert.
    ///
    /// # Errors
    /// [`ServiceError::Invalid`] naming the field, a receiver that is unknown, a name that is taken, or when the
    /// records cannot be written.
    pub fn add_alert(&self, new: &NewAlert) -> Result<Alert, ServiceError> {
        let kept = StoredAlert {
            name: check_name(&new.name).map_err(|error| ServiceError::name(&error))?,
            trigger: read_trigger(&new.when)?,
            about: self.read_about(new.about.clone())?,
            repeat_s: read_repeat(new.repeat_s.unwrap_or(USUAL_REPEAT_S))?,
            to: new.to.clone(),
            muted_until_ms: None,
        };
        self.store.add_alert(&kept).map_err(|error| self.explain(error))?;
        self.alert(&kept.name)
    }

    /// Changes an alert.
    ///
    /// # Errors
    /// As [`Service::add_alert`], and [`ServiceError::NotFound`].
    pub fn edit_alert(&self, name: &str, change: AlertChange) -> Result<Alert, ServiceError> {
        let _changing = self.change();
        let mut kept = self.store.alert(name).map_err(|error| self.explain(error))?;
        if let Some(new_name) = &change.name {
            kept.name = check_name(new_name).map_err(|error| ServiceError::name(&error))?;
        }
        if let Some(when) = &change.when {
            kept.trigger = read_trigger(when)?;
        }
        // The name of a record that was removed stays.
        if let Some(about) = change.about.filter(|about| Some(about) != kept.about.as_ref()) {
            kept.about = self.read_about(Some(about))?;
        }
        if let Some(repeat_s) = change.repeat_s {
            kept.repeat_s = read_repeat(repeat_s)?;
        }
        kept.to = change.to.unwrap_or(kept.to);
        self.store.edit_alert(name, &kept).map_err(|error| self.explain(error))?;
        self.alert(&kept.name)
    }

    /// Reads the name that an alert is limited to: that of a relay, feed, destination or uplink.
    fn read_about(&self, about: Option<String>) -> Result<Option<String>, ServiceError> {
        let Some(about) = about.map(|about| about.trim().to_owned()).filter(|about| !about.is_empty()) else {
            return Ok(None);
        };
        let mut known = Vec::new();
        for kind in [Kind::Relay, Kind::Feed, Kind::Destination, Kind::Uplink] {
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

    /// Acknowledges an open alert, which is then not repeated. Without a subject, all open subjects of it.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], [`ServiceError::Invalid`] if it does not go on, or when the records cannot be written.
    pub fn acknowledge_alert(&self, name: &str, subject: Option<&str>) -> Result<Alert, ServiceError> {
        let alert = self.store.alert(name).map_err(|error| self.explain(error))?;
        let open = {
            let mut book = lock(&self.alarm.book);
            if book.acknowledge(&alert.name, subject) == 0 {
                return Err(ServiceError::Invalid {
                    field: "subject",
                    detail: "the alert does not go on about that".to_owned(),
                    hint: "`yonder alert show` lists what it goes on about.",
                });
            }
            book.open()
        };
        self.store.keep_open_alerts(&open)?;
        self.alert(&alert.name)
    }

    /// Mutes an alert for some time; 0 s ends the mute.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], [`ServiceError::Invalid`] for more than a month, or when the records cannot be written.
    pub fn mute_alert(&self, name: &str, for_s: u32) -> Result<Alert, ServiceError> {
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
        self.alert(name)
    }

    /// Removes an alert.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or when the records cannot be written.
    pub fn remove_alert(&self, name: &str) -> Result<(), ServiceError> {
        self.store.remove_alert(name).map_err(|error| self.explain(error))
    }
}

fn read_way(kept: &StoredReceiver) -> Result<Way, ServiceError> {
    serde_json::from_str(&kept.settings)
        .map_err(|_| ServiceError::Internal("a receiver's settings cannot be read"))
}

fn written(way: &Way) -> Result<String, ServiceError> {
    serde_json::to_string(way).map_err(|_| ServiceError::Internal("a receiver's settings cannot be written"))
}

/// Mark in a web address that is shortened.
const SHORTENED: &str = "/…";

fn is_shortened(url: &str) -> bool {
    url.contains(SHORTENED)
}

/// Checks where and how a receiver is to be notified. Returns it as it is shown, and the whole address where that is shortened;
/// `None` too for the form that is shown of `before`, which keeps the stored address.
fn read_new_way(way: &Way, before: Option<&Way>) -> Result<(Way, Option<SecretString>), ServiceError> {
    if before == Some(way) {
        return Ok((way.clone(), None));
    }
    check_way(way)?;
    let Way::Web { url } = way else { return Ok((way.clone(), None)) };
    if is_shortened(url) {
        return Err(ServiceError::Invalid {
            field: "url",
            detail: "the address is shortened".to_owned(),
            hint: "Write the whole address: it is stored sealed, and shown without its end.",
        });
    }
    let shown = shortened_web_address(url);
    let address = (shown != *url).then(|| url.as_str().into());
    Ok((Way::Web { url: shown }, address))
}

fn check_way(way: &Way) -> Result<(), ServiceError> {
    match way {
        Way::Web { url } => {
            let rest = url.strip_prefix("https://").or_else(|| url.strip_prefix("http://"));
            let host = rest.and_then(|rest| rest.split(['/', '?', '#']).next()).unwrap_or_default();
            if host.is_empty() || url.contains(char::is_whitespace) || host.contains('@') {
                return Err(ServiceError::Invalid {
                    field: "url",
                    detail: "this is not an address that a message can be posted to".to_owned(),
                    hint: "Write an address like https://hooks.example.net/relay, without a password in it.",
                });
            }
            Ok(())
        }
        Way::Mail { server, security, from, to, .. } => {
            read_mailboxes(server, *security, from, to).map_err(|(field, detail)| ServiceError::Invalid {
                field,
                detail,
                hint: "Write a server like mail.example.net:587 and addresses like desk@example.net.",
            })
        }
    }
}

/// Reads the interval of the signs of life; 0 sends none.
fn read_sign_of_life(hours: Option<u32>) -> Result<Option<u32>, ServiceError> {
    let hours = hours.filter(|hours| *hours > 0);
    if hours.is_some_and(|hours| hours > MAX_SIGN_OF_LIFE_H) {
        return Err(ServiceError::Invalid {
            field: "sign_of_life_h",
            detail: "the interval of signs of life is longer than a week".to_owned(),
            hint: "24 hours are usual; 0 sends none.",
        });
    }
    Ok(hours)
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
