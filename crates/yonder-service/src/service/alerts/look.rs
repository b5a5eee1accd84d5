//! The look at everything that raises alerts, and the telling.

use std::sync::{Arc, Mutex};
use std::time::{Duration, SystemTime};

use tokio::time::{MissedTickBehavior, interval};
use yonder_api::{AlertMessage, WhatIf};
use yonder_core::alerts::{AlertBook, Facts, Notice, NoticeKind, Rule, Sighted, Trigger};
use yonder_core::{FeedPhase, Phase, PushPhase};
use yonder_engine::{CauseView, RelayView};
use yonder_store::{Alert as StoredAlert, Kind, Receiver as StoredReceiver};

use super::read_way;
use crate::error::ServiceError;
use crate::service::{Service, lock};
use crate::tell;
use crate::time;

/// Everything is looked at so often.
const LOOK_EVERY: Duration = Duration::from_secs(2);
/// What changes slowly, keys and allowances, is looked at every so many looks.
const SLOW_LOOKS: u32 = 30;

/// What the look keeps from one time to the next.
#[derive(Debug, Default)]
pub(in crate::service) struct Alarm {
    pub(super) book: Mutex<AlertBook>,
    rounds: Mutex<Rounds>,
}

/// Of use to the look alone.
#[derive(Debug, Default)]
struct Rounds {
    slow: Vec<Sighted>,
    count: u32,
}

impl Service {
    /// Looks at everything again and again, until the task is dropped.
    pub async fn keep_alerts(self: Arc<Self>) {
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
    pub(in crate::service) fn resume_alerts(&self) -> Result<(), ServiceError> {
        *lock(&self.alarm.book) = AlertBook::resume(self.store.open_alerts()?);
        Ok(())
    }

    fn look_for_alerts(&self) -> Result<Vec<Telling>, ServiceError> {
        let alerts = self.store.alerts()?;
        // Nothing is watched and nothing goes on: nothing is to be done.
        if alerts.is_empty() && lock(&self.alarm.book).open().is_empty() {
            return Ok(Vec::new());
        }
        let mut seen = self.running_facts();
        {
            let mut rounds = lock(&self.alarm.rounds);
            if rounds.count.is_multiple_of(SLOW_LOOKS) {
                rounds.slow = self.slow_facts()?;
            }
            rounds.count = rounds.count.wrapping_add(1);
            seen.extend(rounds.slow.iter().cloned());
        }
        let rules: Vec<Rule> = alerts.iter().filter_map(rule).collect();
        let now_ms = time::millis(SystemTime::now());
        // Not held while the records are used: whoever changes those in a group looks into the book meanwhile.
        let (notices, open) = {
            let mut book = lock(&self.alarm.book);
            (book.look(now_ms, &rules, &seen), book.open())
        };
        if notices.is_empty() {
            return Ok(Vec::new());
        }
        self.store.keep_open_alerts(&open)?;
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
        tokio::spawn(async move {
            let told = match service.open_receiver_secret(&receiver) {
                Ok(secret) => {
                    tell::tell_patiently(way, secret, message).await.map_err(|error| error.to_string())
                }
                Err(error) => Err(error.to_string()),
            };
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
                    state: Phase::Feed(feed.state),
                    up: feed.state == FeedPhase::Flowing,
                    needs_attention: feed.needs_attention,
                    cause: feed.cause.as_ref().map(cause_text),
                    kbps: None,
                    reconnects: feed.reconnects,
                };
                seen.push(Sighted { subject, names: vec![feed.name, name.clone()], facts });
            }
            for push in pushes {
                let facts = Facts::Running {
                    state: Phase::Push(push.state),
                    up: push.state.is_sending(),
                    needs_attention: push.needs_attention,
                    cause: push.cause.as_ref().map(cause_text),
                    kbps: Some(push.kbps).filter(|_| push.state != PushPhase::Holding),
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
    let side = cause.side.sentence();
    format!("{side} {} {} ({})", cause.message, cause.hint, cause.code)
}
