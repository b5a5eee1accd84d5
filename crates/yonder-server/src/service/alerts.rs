//! Alerts: who is told of what, and the look at everything that raises them.

use std::sync::Arc;
use std::time::{Duration, SystemTime};

use secrecy::SecretString;
use tokio::time::{MissedTickBehavior, interval};
use yonder_api::{
    AddedReceiver, Alert, AlertChange, AlertMessage, NewAlert, NewReceiver, OpenAlert, Receiver,
    ReceiverChange, Way, WhatIf,
};
use yonder_core::alerts::{AlertBook, Facts, Notice, NoticeKind, Rule, Sighted, Trigger};
use yonder_core::check_name;
use yonder_engine::{CauseView, RelayView};
use yonder_store::{Alert as StoredAlert, Kind, Receiver as StoredReceiver};

use super::{Service, lock};
use crate::error::ServiceError;
use crate::tell::{self, read_mailboxes};
use crate::time;

/// Everything is looked at so often.
const LOOK_EVERY: Duration = Duration::from_secs(2);
/// What changes slowly, keys and allowances, is looked at every so many looks.
const SLOW_LOOKS: u32 = 30;
/// An alert that goes on is told again after so many seconds, where nothing is said, at least and at most.
pub(super) const USUAL_REPEAT_S: u32 = 4 * 3_600;
const REPEATS_S: std::ops::RangeInclusive<u32> = 60..=7 * 86_400;

/// What the look keeps from one time to the next.
#[derive(Debug, Default)]
pub(super) struct Alarm {
    book: AlertBook,
    slow: Vec<Sighted>,
    looks: u32,
}

impl Service {
    /// Looks at everything again and again, until the task is dropped.
    pub(crate) async fn keep_alerts(self: Arc<Self>) {
        let mut ticks = interval(LOOK_EVERY);
        ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
        loop {
            ticks.tick().await;
            let service = Arc::clone(&self);
            let looked = tokio::task::spawn_blocking(move || service.look_for_alerts()).await;
            match looked {
                Ok(Ok(tellings)) => tellings.into_iter().for_each(|telling| self.send(telling)),
                Ok(Err(error)) => tracing::warn!(%error, "alerts could not be looked for"),
                Err(error) => tracing::error!(%error, "looking for alerts failed inside the service"),
            }
        }
    }

    /// Takes up the alerts that went on when the service ended.
    pub(super) fn resume_alerts(&self) -> Result<(), ServiceError> {
        lock(&self.alarm).book = AlertBook::resume(self.store.open_alerts()?);
        Ok(())
    }

    fn look_for_alerts(&self) -> Result<Vec<Telling>, ServiceError> {
        let alerts = self.store.alerts()?;
        let mut alarm = lock(&self.alarm);
        // Nothing is watched and nothing goes on: nothing is to be done.
        if alerts.is_empty() && alarm.book.open().is_empty() {
            return Ok(Vec::new());
        }
        if alarm.looks.is_multiple_of(SLOW_LOOKS) {
            alarm.slow = self.slow_facts()?;
        }
        alarm.looks = alarm.looks.wrapping_add(1);
        let mut seen = self.running_facts();
        seen.extend(alarm.slow.iter().cloned());
        let rules: Vec<Rule> = alerts.iter().filter_map(rule).collect();
        let now_ms = time::millis(SystemTime::now());
        let notices = alarm.book.look(now_ms, &rules, &seen);
        if notices.is_empty() {
            return Ok(Vec::new());
        }
        self.store.keep_open_alerts(&alarm.book.open())?;
        drop(alarm);
        let receivers = self.store.receivers()?;
        Ok(notices.iter().flat_map(|notice| self.address(notice, &alerts, &receivers, now_ms)).collect())
    }

    /// Who is told of a notice, and what; it is in the logbook in any case.
    fn address(
        &self,
        notice: &Notice,
        alerts: &[StoredAlert],
        receivers: &[StoredReceiver],
        now_ms: i64,
    ) -> Vec<Telling> {
        let what = match notice.kind {
            NoticeKind::Raised => "alert-raised",
            NoticeKind::Still => "alert-repeated",
            NoticeKind::Over => "alert-over",
        };
        self.record_own(what, Kind::Alert, &notice.rule, &notice.message);
        let to = alerts.iter().find(|alert| alert.name == notice.rule).map(|alert| &alert.to);
        let message = message(notice, now_ms);
        let is_meant =
            |receiver: &&StoredReceiver| to.is_none_or(|to| to.is_empty() || to.contains(&receiver.name));
        let telling =
            |receiver: &StoredReceiver| Telling { receiver: receiver.clone(), message: message.clone() };
        receivers.iter().filter(is_meant).map(telling).collect()
    }

    /// Tells in the background; who could not be told is in the logbook.
    fn send(self: &Arc<Self>, telling: Telling) {
        let Telling { receiver, message } = telling;
        let Ok(way) = read_way(&receiver) else { return };
        let service = Arc::clone(self);
        actix_web::rt::spawn(async move {
            let told = tell::tell_patiently(way, receiver.secret, message).await;
            if let Err(error) = told {
                let name = receiver.name;
                let detail = format!("Nobody was told: {error}.");
                let record = move || service.record_own("not-told", Kind::Receiver, &name, &detail);
                // The record is written, or its failure logged, whoever waits.
                let _recorded = tokio::task::spawn_blocking(record).await;
            }
        });
    }

    /// Feeds and pushes that should run.
    fn running_facts(&self) -> Vec<Sighted> {
        let mut seen: Vec<Sighted> = Vec::new();
        for relay in self.stored_relays().iter().filter(|relay| relay.wanted.is_running()) {
            let Some(RelayView { name, feed, pushes }) = self.engine.relay(&relay.name) else { continue };
            let subject = format!("feed {}", feed.name);
            // Relays of one feed share it.
            if seen.iter().all(|sighted| sighted.subject != subject) {
                let facts = Facts::Running {
                    state: feed.state.to_owned(),
                    up: feed.state == "flowing",
                    cause: feed.cause.as_ref().map(cause_text),
                    kbps: None,
                    reconnects: feed.reconnects,
                };
                seen.push(Sighted { subject, names: vec![feed.name, name.clone()], facts });
            }
            for push in pushes {
                let facts = Facts::Running {
                    state: push.state.to_owned(),
                    up: matches!(push.state, "live" | "holding" | "lagging"),
                    cause: push.cause.as_ref().map(cause_text),
                    kbps: Some(push.kbps).filter(|_| push.state != "holding"),
                    reconnects: push.reconnects,
                };
                let subject = format!("push {name} → {}", push.destination);
                seen.push(Sighted { subject, names: vec![name.clone(), push.destination], facts });
            }
        }
        seen
    }

    /// Keys that expire, and uplinks with an allowance.
    fn slow_facts(&self) -> Result<Vec<Sighted>, ServiceError> {
        let mut seen = Vec::new();
        for destination in self.store.destinations()? {
            let settings = destination.settings;
            if let Some(expires_s) = settings.key_expires_s {
                seen.push(Sighted {
                    subject: format!("destination {}", settings.name),
                    names: vec![settings.name],
                    facts: Facts::Key { expires_ms: expires_s.saturating_mul(1_000) },
                });
            }
        }
        for uplink in self.budget(&WhatIf::default())?.uplinks {
            if let Some(percent) = uplink.projected_percent {
                let name = uplink.uplink.name;
                seen.push(Sighted {
                    subject: format!("uplink {name}"),
                    names: vec![name],
                    facts: Facts::Month { projected_percent: u32::try_from(percent).unwrap_or(u32::MAX) },
                });
            }
        }
        Ok(seen)
    }

    /// All receivers by name.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub fn receivers(&self) -> Result<Vec<Receiver>, ServiceError> {
        self.store.receivers()?.iter().map(receiver_facts).collect()
    }

    /// One receiver.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or when the records cannot be read.
    pub fn receiver(&self, name: &str) -> Result<Receiver, ServiceError> {
        receiver_facts(&self.store.receiver(name).map_err(|error| self.explain(error))?)
    }

    /// Adds a receiver. A web receiver without a secret gets one, which is shown this once.
    ///
    /// # Errors
    /// [`ServiceError::Invalid`] naming the field, a name that is taken, or when the records cannot be written.
    pub fn add_receiver(&self, new: NewReceiver) -> Result<AddedReceiver, ServiceError> {
        let name = check_name(&new.name).map_err(|error| ServiceError::name(&error))?;
        check_way(&new.way)?;
        let given = new.secret.map(yonder_api::Secret::into_inner);
        let made = match (&given, &new.way) {
            (None, Way::Web { .. }) => Some(SecretString::from(crate::auth::random_token())),
            _ => None,
        };
        let secret = given.or_else(|| made.clone());
        self.store.add_receiver(&StoredReceiver {
            name: name.clone(),
            settings: written(&new.way)?,
            secret,
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
        if let Some(new_name) = &change.name {
            kept.name = check_name(new_name).map_err(|error| ServiceError::name(&error))?;
        }
        if let Some(way) = &change.way {
            check_way(way)?;
            kept.settings = written(way)?;
        }
        kept.secret = change.secret.map(yonder_api::Secret::into_inner);
        self.store.edit_receiver(name, &kept)?;
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
        };
        tell::tell(&read_way(&kept)?, kept.secret.as_ref(), &message)
            .map_err(|error| ServiceError::NotTold(error.to_string()))
    }

    /// All alerts by name.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub fn alerts(&self) -> Result<Vec<Alert>, ServiceError> {
        let open = lock(&self.alarm).book.open();
        let facts = |kept: StoredAlert| {
            let open = open.iter().filter(|open| open.rule == kept.name);
            let open = open.map(|open| OpenAlert {
                subject: open.subject.clone(),
                message: open.message.clone(),
                since: time::text(time::from_millis(open.raised_ms)),
            });
            Alert {
                open: open.collect(),
                name: kept.name,
                when: kept.trigger,
                about: kept.about,
                to: kept.to,
                repeat_s: u32::try_from(kept.repeat_s).unwrap_or(USUAL_REPEAT_S),
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
            about: new.about.clone().filter(|about| !about.is_empty()),
            repeat_s: read_repeat(new.repeat_s.unwrap_or(USUAL_REPEAT_S))?,
            to: new.to.clone(),
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
        if let Some(about) = change.about {
            kept.about = Some(about).filter(|about| !about.is_empty());
        }
        if let Some(repeat_s) = change.repeat_s {
            kept.repeat_s = read_repeat(repeat_s)?;
        }
        kept.to = change.to.unwrap_or(kept.to);
        self.store.edit_alert(name, &kept).map_err(|error| self.explain(error))?;
        self.alert(&kept.name)
    }

    /// Removes an alert.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or when the records cannot be written.
    pub fn remove_alert(&self, name: &str) -> Result<(), ServiceError> {
        self.store.remove_alert(name).map_err(|error| self.explain(error))
    }
}

/// Somebody to be told something.
#[derive(Debug)]
struct Telling {
    receiver: StoredReceiver,
    message: AlertMessage,
}

fn rule(kept: &StoredAlert) -> Option<Rule> {
    let trigger: Trigger = kept.trigger.parse().ok()?;
    Some(Rule {
        name: kept.name.clone(),
        trigger,
        about: kept.about.clone(),
        repeat_ms: kept.repeat_s.saturating_mul(1_000),
    })
}

fn message(notice: &Notice, now_ms: i64) -> AlertMessage {
    AlertMessage {
        kind: notice.kind.word().to_owned(),
        alert: notice.rule.clone(),
        subject: notice.subject.clone(),
        message: notice.message.clone(),
        since: time::text(time::from_millis(notice.raised_ms)),
        at: time::text(time::from_millis(now_ms)),
    }
}

fn cause_text(cause: &CauseView) -> String {
    let side = match cause.side {
        yonder_core::Side::Camera => "Camera side.",
        yonder_core::Side::Network => "Network side.",
        yonder_core::Side::Platform => "Platform side.",
        yonder_core::Side::Ours => "Our side.",
        yonder_core::Side::Planned => "Planned.",
    };
    format!("{side} {} {} ({})", cause.message, cause.hint, cause.code)
}

fn receiver_facts(kept: &StoredReceiver) -> Result<Receiver, ServiceError> {
    Ok(Receiver { name: kept.name.clone(), way: read_way(kept)?, has_secret: kept.secret.is_some() })
}

fn read_way(kept: &StoredReceiver) -> Result<Way, ServiceError> {
    serde_json::from_str(&kept.settings)
        .map_err(|_| ServiceError::Internal("a receiver's settings cannot be read"))
}

fn written(way: &Way) -> Result<String, ServiceError> {
    serde_json::to_string(way).map_err(|_| ServiceError::Internal("a receiver's settings cannot be written"))
}

fn check_way(way: &Way) -> Result<(), ServiceError> {
    match way {
        Way::Web { url } => {
            let rest = url.strip_prefix("https://").or_else(|| url.strip_prefix("http://"));
            let host = rest.and_then(|rest| rest.split(['/', '?', '#']).next()).unwrap_or_default();
            if host.is_empty() || url.contains(char::is_whitespace) || host.contains('@') {
                return Err(ServiceError::Invalid {
                    field: "url",
                    detail: format!("{url:?} is no address that a message can be posted to"),
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
