//! Periodic evaluation of the alert rules.

use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::{Duration, SystemTime};

use tokio::time::{MissedTickBehavior, interval};
use yonder_api::{UplinkBudget, WhatIf};
use yonder_core::alerts::{
    Facts, Notice, NoticeKind, Notification, Observation, Rule, ServiceFacts, Trigger,
};
use yonder_core::{ConditionLevel, FeedPhase, Phase, PushPhase};
use yonder_engine::{CauseView, RelayView};
use yonder_store::{Alert as StoredAlert, Contact as StoredContact, RecordKind};

use crate::notifications::Notifications;
use crate::stats::{AlertStats, DiskStats};
use yonder_records::Alerting;
use yonder_records::ServiceError;
use yonder_records::time;

/// Interval of the evaluation.
const EVALUATION_INTERVAL: Duration = Duration::from_secs(2);
/// Interval of checks of disk and backup; keys and allowances are checked every twelfth time.
const DISK_INTERVAL: Duration = Duration::from_secs(5);
const KEYS_EVERY: u32 = 12;
/// How long a start after a crash counts as an alert condition.
const RESTART_SHOWN_MS: i64 = 10 * 60_000;
/// Duration of a blocked write after which it counts as a failure, in seconds.
const RECORD_BLOCKED_S: i64 = 15;
const HOUR_MS: i64 = 3_600_000;
const DAY_MS: i64 = 24 * HOUR_MS;

/// State of the evaluation loop.
#[derive(Debug, Default)]
pub(super) struct Rounds {
    /// Time of the last sign of life to each contact.
    signs: HashMap<String, i64>,
    /// Since when a write has been blocked, in milliseconds since 1970.
    record_blocked_ms: Option<i64>,
}

/// Facts read from the disk by a separate loop, so that a blocked disk delays no evaluation.
#[derive(Debug, Default)]
pub(super) struct DiskFacts {
    /// Keys that expire, and uplinks with an allowance.
    seen: Vec<Observation>,
    disk_low: Option<String>,
    stats: DiskStats,
}

impl Notifications {
    /// Evaluates the alert rules periodically, until the task is dropped.
    pub(crate) async fn run_evaluation(self: Arc<Self>) {
        let mut ticks = interval(EVALUATION_INTERVAL);
        ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
        loop {
            ticks.tick().await;
            let notifications = Arc::clone(&self);
            // On a blocking thread: with a thousand relays it takes a moment.
            let evaluated = tokio::task::spawn_blocking(move || notifications.evaluate()).await;
            if let Err(error) = evaluated {
                tracing::error!(%error, "the evaluation of alerts panicked");
            }
        }
    }

    /// Reads facts from the disk, until the task is dropped.
    pub(crate) async fn run_disk_checks(self: Arc<Self>) {
        let mut ticks = interval(DISK_INTERVAL);
        ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
        let mut count = 0_u32;
        loop {
            ticks.tick().await;
            let (notifications, with_keys) = (Arc::clone(&self), count.is_multiple_of(KEYS_EVERY));
            count = count.wrapping_add(1);
            let checked = tokio::task::spawn_blocking(move || notifications.check_disk(with_keys)).await;
            if let Ok(Err(error)) = checked {
                tracing::warn!(%error, "keys, allowances and the last backup could not be read");
            }
        }
    }

    fn check_disk(&self, with_keys: bool) -> Result<(), ServiceError> {
        let (disk_low, free_bytes) = (self.records.disk_low(), self.records.free_bytes());
        let records_bytes = self.records.bytes();
        {
            let mut facts = self.disk_facts.lock();
            facts.disk_low = disk_low;
            facts.stats.free_bytes = free_bytes;
            facts.stats.records_bytes = records_bytes;
        }
        let last_backup_ms = self.records.store.last_audit_ms("backed-up")?;
        self.disk_facts.lock().stats.last_backup_ms = last_backup_ms;
        if with_keys {
            let uplinks = self.planner.budget(&WhatIf::default())?.uplinks;
            let mut seen = self.key_facts()?;
            seen.extend(uplinks.iter().filter_map(month_facts));
            let mut facts = self.disk_facts.lock();
            facts.seen = seen;
            facts.stats.uplinks = uplinks;
        }
        Ok(())
    }

    /// Returns statistics of open alerts and undelivered notifications.
    pub(crate) fn alert_stats(&self) -> AlertStats {
        let open =
            self.book.lock().open().into_iter().map(|open| (open.rule, open.is_acknowledged)).collect();
        let outbox = self.outbox.lock();
        AlertStats {
            open,
            undelivered: outbox.pending().iter().map(|pending| pending.contact.clone()).collect(),
            unreachable: outbox.unreachable().map(str::to_owned).collect(),
        }
    }

    /// Returns the last facts read from the disk.
    pub(crate) fn disk_stats(&self) -> DiskStats {
        self.disk_facts.lock().stats.clone()
    }

    /// Evaluates all rules, without blocking on the disk.
    fn evaluate(&self) {
        let alerting = self.records.alerting();
        let Alerting { alerts, contacts } = &*alerting;
        let now_ms = time::millis(SystemTime::now());
        self.send_signs_of_life(contacts, now_ms);
        // Without rules and open alerts there is nothing to evaluate.
        if !alerts.is_empty() || !self.book.lock().open().is_empty() {
            self.evaluate_rules(alerts, contacts, now_ms);
        }
        let is_known = |name: &str| contacts.iter().any(|contact| contact.name == name);
        self.outbox.lock().retain_contacts(is_known);
        self.store_later();
    }

    fn evaluate_rules(&self, alerts: &[StoredAlert], contacts: &[StoredContact], now_ms: i64) {
        let mut seen = self.running_facts();
        seen.push(self.service_facts(now_ms));
        seen.extend(self.disk_facts.lock().seen.iter().cloned());
        let rules: Vec<Rule> = alerts.iter().filter_map(rule).collect();
        // Unlocked before the records are used: a transaction locks the records first, and the alert state after them.
        let notices = {
            let _evaluation = self.evaluation.lock();
            let notices = self.book.lock().evaluate(now_ms, &rules, &seen);
            for notice in &notices {
                self.notify(notice, alerts, contacts, now_ms);
            }
            self.has_changed_alerts.fetch_or(!notices.is_empty(), Ordering::Relaxed);
            notices
        };
        for notice in &notices {
            let what = match notice.kind {
                NoticeKind::Raised | NoticeKind::Alive => "alert-raised",
                NoticeKind::Still => "alert-repeated",
                NoticeKind::Resolved => "alert-over",
            };
            self.journal.log_own(what, RecordKind::Alert, &notice.rule, &notice.message);
        }
    }

    /// Adds a notice to the outbox of its contacts.
    fn notify(&self, notice: &Notice, alerts: &[StoredAlert], contacts: &[StoredContact], now_ms: i64) {
        let alert = alerts.iter().find(|alert| alert.name == notice.rule);
        if alert.and_then(|alert| alert.muted_until_ms).is_some_and(|until_ms| now_ms < until_ms) {
            return;
        }
        let to = alert.map(|alert| &alert.to);
        let is_meant =
            |contact: &&StoredContact| to.is_none_or(|to| to.is_empty() || to.contains(&contact.name));
        let mut outbox = self.outbox.lock();
        for contact in contacts.iter().filter(is_meant) {
            outbox.push(Notification {
                contact: contact.name.clone(),
                kind: notice.kind,
                alert: notice.rule.clone(),
                subject: notice.subject.clone(),
                message: notice.message.clone(),
                raised_ms: notice.raised_ms,
                at_ms: now_ms,
            });
        }
    }

    /// Sends periodic signs of life to the contacts that want them, beginning at the start: their absence shows that
    /// the service, its machine or its uplink is down.
    fn send_signs_of_life(&self, contacts: &[StoredContact], now_ms: i64) {
        let mut rounds = self.rounds.lock();
        rounds.signs.retain(|name, _| contacts.iter().any(|contact| contact.name == *name));
        for contact in contacts {
            let Some(hours) = contact.sign_of_life_h else { continue };
            let last = rounds.signs.get(&contact.name);
            if last.is_some_and(|last| now_ms - last < i64::from(hours) * HOUR_MS) {
                continue;
            }
            rounds.signs.insert(contact.name.clone(), now_ms);
            self.outbox.lock().push(Notification {
                contact: contact.name.clone(),
                kind: NoticeKind::Alive,
                alert: "sign of life".to_owned(),
                subject: "service".to_owned(),
                message: self.sign_of_life(hours),
                raised_ms: now_ms,
                at_ms: now_ms,
            });
        }
    }

    fn sign_of_life(&self, hours: u32) -> String {
        let relays = self.records.relays();
        let running = relays.iter().filter(|relay| relay.wanted.is_running());
        let (mut wanted, mut good) = (0, 0);
        for relay in running {
            wanted += 1;
            good += u32::from(relay.condition.level == ConditionLevel::Good);
        }
        format!("The service runs; {good} of {wanted} relays are up. Next heartbeat in {hours} h.")
    }

    /// Returns a message if the records cannot be written, without waiting for a blocked write.
    fn records_failing(&self, now_ms: i64) -> Option<String> {
        let mut rounds = self.rounds.lock();
        let Some(notes) = self.history.unwritten() else {
            let since_ms = *rounds.record_blocked_ms.get_or_insert(now_ms);
            let blocked_s = (now_ms - since_ms) / 1_000;
            let is_long = blocked_s >= RECORD_BLOCKED_S;
            return is_long.then(|| format!("The records have not been written for {blocked_s} s."));
        };
        rounds.record_blocked_ms = None;
        drop(rounds);
        let unwritten = notes + self.journal.waiting();
        (unwritten > 0).then(|| format!("The records cannot be written; {unwritten} entries are queued."))
    }

    /// Returns the faults of the service itself.
    fn service_facts(&self, now_ms: i64) -> Observation {
        let records_failing = self.records_failing(now_ms);
        let restarted_ms = *self.restarted_ms.lock();
        let is_recent = restarted_ms.is_some_and(|at_ms| now_ms - at_ms < RESTART_SHOWN_MS);
        let restarted = is_recent.then(|| "The service has started after a crash or a power cut.".to_owned());
        let undelivered = {
            let outbox = self.outbox.lock();
            let names: Vec<&str> = outbox.unreachable().collect();
            (!names.is_empty()).then(|| format!("Notifications cannot be delivered to {}.", names.join(", ")))
        };
        let (disk_low, last_backup_ms) = {
            let facts = self.disk_facts.lock();
            (facts.disk_low.clone(), facts.stats.last_backup_ms)
        };
        let backup_age_days =
            last_backup_ms.map(|at_ms| u32::try_from((now_ms - at_ms) / DAY_MS).unwrap_or_default());
        let wrong_keys = self.ingest.wrong_keys(now_ms);
        let facts =
            ServiceFacts { disk_low, records_failing, restarted, undelivered, wrong_keys, backup_age_days };
        let subject = "service".to_owned();
        Observation { names: vec![subject.clone()], subject, facts: Facts::Service(facts) }
    }

    /// Returns the status of all feeds and pushes that should run.
    fn running_facts(&self) -> Vec<Observation> {
        let mut seen: Vec<Observation> = Vec::new();
        for relay in self.records.stored_relays().iter().filter(|relay| relay.wanted.is_running()) {
            let Some(RelayView { name, feed, pushes }) = self.engine.relay(&relay.name) else { continue };
            let subject = format!("feed {}", feed.name);
            // A feed may be shared by several relays.
            if seen.iter().all(|observation| observation.subject != subject) {
                let facts = Facts::Running {
                    state: Phase::Feed(feed.state),
                    up: feed.state == FeedPhase::Flowing,
                    needs_attention: feed.needs_attention,
                    cause: feed.cause.as_ref().map(cause_text),
                    kbps: None,
                    reconnects: feed.reconnects,
                };
                seen.push(Observation { subject, names: vec![feed.name, name.clone()], facts });
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
                seen.push(Observation { subject, names: vec![name.clone(), push.destination], facts });
            }
        }
        seen
    }

    /// Returns keys that expire, and uplinks with an allowance.
    fn key_facts(&self) -> Result<Vec<Observation>, ServiceError> {
        let mut seen = Vec::new();
        for destination in self.records.store.destinations()? {
            let settings = destination.settings;
            if let Some(expires_s) = settings.key_expires_s {
                seen.push(Observation {
                    subject: format!("destination {}", settings.name),
                    names: vec![settings.name],
                    facts: Facts::Key { expires_ms: expires_s.saturating_mul(1_000) },
                });
            }
        }
        Ok(seen)
    }
}

/// Returns the projected traffic of an uplink with an allowance.
fn month_facts(uplink: &UplinkBudget) -> Option<Observation> {
    let percent = uplink.projected_percent?;
    let name = uplink.uplink.name.clone();
    Some(Observation {
        subject: format!("uplink {name}"),
        names: vec![name],
        facts: Facts::Month { projected_percent: u32::try_from(percent).unwrap_or(u32::MAX) },
    })
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

fn cause_text(cause: &CauseView) -> String {
    let side = cause.side.sentence();
    format!("{side} {} {} ({})", cause.message, cause.hint, cause.code)
}
