//! The record: written as things change, and read for the logbook and the report.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::{Duration, SystemTime};

use tokio::time::{MissedTickBehavior, interval, sleep};
use yonder_api::{LogEntry, Outage as OutageFacts, Report, ReportLine, SideShare};
use yonder_core::record::{Blame, Line, Sight, Silence, SpanOutage, Subject, relay_sight, report};
use yonder_core::{Phase, PushPhase, Side};
use yonder_engine::{CauseView, PushView, RelayView};
use yonder_store::{Kind, LogFilter, LogLine, Relay as StoredRelay};

use super::{Service, lock};
use crate::error::ServiceError;
use crate::time;

/// Changes that come together are looked at together.
const GATHER: Duration = Duration::from_millis(50);
/// The service's own life is noted so often: a crash is dated to that.
const ALIVE_EVERY: Duration = Duration::from_secs(5);
/// Looks between two prunings: an hour.
const PRUNE_EVERY: u32 = 720;
/// What is older is forgotten: thirteen months, so that a year can be compared with the last.
const KEPT_MS: i64 = 400 * 86_400_000;
/// Lines of the logbook that are kept.
const KEPT_LINES: i64 = 500_000;
/// Lines given at once, unless asked otherwise, and at most.
const USUAL_LINES: u32 = 200;
const MOST_LINES: u32 = 10_000;

impl Service {
    /// Keeps the record until the task is dropped.
    pub async fn keep_record(self: Arc<Self>) {
        let mut changes = self.engine().changes();
        let mut alive = interval(ALIVE_EVERY);
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
            let service = Arc::clone(&self);
            let kept = tokio::task::spawn_blocking(move || service.look_into_record(false, prunes)).await;
            if let Ok(Err(error)) = kept {
                tracing::warn!(%error, "the record could not be kept");
            }
        }
    }

    /// Records what has changed since the last observation, which otherwise happens in the background.
    ///
    /// # Errors
    /// When the records cannot be written. What was not written is tried again with the next observation.
    pub fn observe(&self) -> Result<(), ServiceError> {
        self.look_into_record(false, false)
    }

    /// Takes up the record where the service left it.
    ///
    /// # Errors
    /// When the records cannot be read or written.
    pub(super) fn resume_record(&self) -> Result<(), ServiceError> {
        let last = self.store.last_alive()?;
        let crashed = last.is_some_and(|(_, in_order)| !in_order);
        let detail =
            if crashed { "It had ended without being told to: a crash, or a power cut." } else { "" };
        self.record_own("started", Kind::Service, "yonder", detail);
        if crashed {
            self.note_restart(time::millis(SystemTime::now()));
        }
        let Some((ended_ms, in_order)) = last else { return Ok(()) };
        let open = self.store.open_runs()?;
        let notes = lock(&self.recorder).resume(open, ended_ms, in_order);
        self.store.keep_notes(&notes, ended_ms, in_order)?;
        Ok(())
    }

    /// Writes down what changed since the last look. `in_order` when the service ends after it.
    ///
    /// # Errors
    /// When the records cannot be written. What was not written is tried again with the next look.
    pub(super) fn look_into_record(&self, in_order: bool, prunes: bool) -> Result<(), ServiceError> {
        let now_ms = time::millis(SystemTime::now());
        let notes = {
            let _between = self.between_changes();
            let sights = self.sights();
            lock(&self.recorder).look(now_ms, &sights)
        };
        let mut unwritten = lock(&self.unwritten_notes);
        unwritten.extend(notes);
        self.store.keep_notes(&unwritten, now_ms, in_order)?;
        let is_news = !unwritten.is_empty();
        unwritten.clear();
        if is_news {
            self.tell_lines();
        }
        if in_order {
            self.record_own("stopped", Kind::Service, "yonder", "");
        }
        if prunes {
            self.store.prune_record(now_ms - KEPT_MS, KEPT_LINES)?;
        }
        Ok(())
    }

    /// Everything that should run. Two relays of one feed share it; it is seen once.
    fn sights(&self) -> Vec<Sight> {
        let mut sights: BTreeMap<Subject, Sight> = BTreeMap::new();
        for relay in self.stored_relays().iter().filter(|relay| relay.wanted.is_running()) {
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

    /// What the platform of a push that holds does about silence.
    fn silence(&self, push: &PushView) -> Option<Silence> {
        if push.state != PushPhase::Holding {
            return None;
        }
        let platform = self.store.destination(&push.destination).ok()?.settings.platform?;
        let survives_s = self.sheet(&platform).ok()??.rules.broadcast.survives_silence_s?;
        Some(Silence { platform, survives_s })
    }

    /// Lines of the logbook, oldest first.
    ///
    /// # Errors
    /// [`ServiceError::Invalid`] naming the field, or when the records cannot be read.
    pub fn logbook(&self, request: &yonder_api::LogbookRequest) -> Result<Vec<LogEntry>, ServiceError> {
        let most = request.most.unwrap_or(USUAL_LINES);
        if most == 0 || most > MOST_LINES {
            let detail = format!("{most} lines are not from 1 to {MOST_LINES}");
            let hint = "Ask for fewer lines, or for a later time.";
            return Err(ServiceError::Invalid { field: "most", detail, hint });
        }
        let from_ms = request.from.as_deref().map(|text| read_ms("from", text)).transpose()?;
        if let Some(kind) =
            request.kind.as_deref().filter(|kind| *kind != "push" && Kind::from_word(kind).is_none())
        {
            return Err(ServiceError::Invalid {
                field: "kind",
                detail: format!("the logbook has no lines about the kind {kind:?}"),
                hint: "Ask for feed, push, relay, destination, platform, uplink, pattern, alert, person or service.",
            });
        }
        if let Some(side) = request.side.as_deref().filter(|side| Side::from_name(side).is_none()) {
            return Err(ServiceError::Invalid {
                field: "side",
                detail: format!("{side:?} is no side"),
                hint: "Ask for camera, network, platform, ours or planned.",
            });
        }
        let filter = LogFilter {
            after: request.after,
            before: request.before,
            from_ms,
            about: request.about.clone(),
            kind: request.kind.clone(),
            side: request.side.clone(),
            deeds: request.deeds,
            most,
        };
        self.log_entries(&filter)
    }

    /// Lines of the logbook as the API shows them.
    pub(super) fn log_entries(&self, filter: &LogFilter) -> Result<Vec<LogEntry>, ServiceError> {
        Ok(self.store.logbook(filter)?.into_iter().map(entry).collect())
    }

    /// What was up, what was down and whose side it was, over a month.
    ///
    /// # Errors
    /// [`ServiceError::Invalid`] for a month that is none, or when the records cannot be read.
    pub fn report(&self, month: Option<&str>) -> Result<Report, ServiceError> {
        let this = time::Calendar::now().month_text();
        let month = month.unwrap_or(&this);
        let (from_ms, to_ms) = time::month_ms(month).ok_or_else(|| ServiceError::Invalid {
            field: "month",
            detail: format!("{month:?} is no month"),
            hint: "Write a month like 2026-11.",
        })?;
        let now_ms = time::millis(SystemTime::now());
        let until_ms = to_ms.min(now_ms).max(from_ms);
        let outages = self.store.outages(from_ms, until_ms)?;
        let lines = report(from_ms, until_ms, &self.store.runs(from_ms, until_ms)?, &outages);
        Ok(Report {
            month: month.to_owned(),
            from: time::text(time::from_millis(from_ms)),
            to: time::text(time::from_millis(until_ms)),
            sites: self.sites(&lines)?,
            lines: lines.iter().map(|line| self.report_line(line)).collect::<Result<_, _>>()?,
            outages: outages.iter().map(|outage| outage_facts(outage, from_ms, until_ms)).collect(),
        })
    }

    fn report_line(&self, line: &Line) -> Result<ReportLine, ServiceError> {
        let (kind, name) = match &line.subject {
            Subject::Feed(name) => (Kind::Feed, name),
            Subject::Relay(name) | Subject::Push(name, _) => (Kind::Relay, name),
        };
        let identity = self.store.identity(kind, name)?;
        Ok(line_facts(line, identity.map(|identity| identity.uid)))
    }

    /// Outages of a relay's feed and of its pushes since `from_ms`, oldest first.
    pub(super) fn outages_of(
        &self,
        relay: &StoredRelay,
        from_ms: i64,
    ) -> Result<Vec<OutageFacts>, ServiceError> {
        let now_ms = time::millis(SystemTime::now());
        let concerns = |outage: &SpanOutage| match &outage.span.subject {
            Subject::Feed(feed) => *feed == relay.feed,
            Subject::Push(name, _) => *name == relay.name,
            // That is the sum of the others.
            Subject::Relay(_) => false,
        };
        let outages = self.store.outages(from_ms, now_ms)?;
        let facts = |outage: &SpanOutage| outage_facts(outage, from_ms, now_ms);
        Ok(outages.iter().filter(|outage| concerns(outage)).map(facts).collect())
    }

    /// Feeds of one site together.
    fn sites(&self, lines: &[Line]) -> Result<Vec<ReportLine>, ServiceError> {
        let mut sites: BTreeMap<String, Line> = BTreeMap::new();
        for feed in self.store.feeds()? {
            let Some(site) = feed.settings.site else { continue };
            let subject = Subject::Feed(feed.settings.name);
            let Some(line) = lines.iter().find(|line| line.subject == subject) else { continue };
            sites.entry(site).and_modify(|sum| sum.add(line)).or_insert_with(|| line.clone());
        }
        let facts = |(name, line): (String, Line)| ReportLine {
            kind: "site".into(),
            name,
            part: None,
            ..line_facts(&line, None)
        };
        Ok(sites.into_iter().map(facts).collect())
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

/// A time in RFC 3339, or the end of a day.
fn read_ms(field: &'static str, text: &str) -> Result<i64, ServiceError> {
    time::read_s(text).and_then(|seconds| seconds.checked_mul(1_000)).ok_or_else(|| ServiceError::Invalid {
        field,
        detail: format!("{text:?} is no time"),
        hint: "Write a time like 2026-11-23T08:00:00Z.",
    })
}

fn entry(line: LogLine) -> LogEntry {
    let LogLine { id, at_ms, kind, name, part, what, code, side, message, who, uid, part_uid } = line;
    LogEntry {
        id,
        at: time::text(time::from_millis(at_ms)),
        kind,
        name,
        part,
        what,
        code,
        side: side.as_deref().and_then(Side::from_name),
        message,
        who,
        record_id: uid,
        part_id: part_uid,
    }
}

fn names(subject: &Subject) -> (&'static str, String, Option<String>) {
    match subject {
        Subject::Feed(name) => ("feed", name.clone(), None),
        Subject::Relay(name) => ("relay", name.clone(), None),
        Subject::Push(relay, destination) => ("push", relay.clone(), Some(destination.clone())),
    }
}

fn line_facts(line: &Line, record_id: Option<String>) -> ReportLine {
    let (kind, name, part) = names(&line.subject);
    let shares = line
        .shares
        .iter()
        .map(|share| SideShare { side: share.side, down_s: share.down_ms / 1_000 })
        .collect();
    ReportLine {
        kind: kind.to_owned(),
        name,
        part,
        wanted_s: line.wanted_ms / 1_000,
        down_s: line.down_ms / 1_000,
        outages: line.outages,
        longest_s: line.longest_ms / 1_000,
        availability_percent: line.availability().map(|share| (share * 1e5).round() / 1e3),
        shares,
        record_id,
    }
}

fn outage_facts(outage: &SpanOutage, from_ms: i64, to_ms: i64) -> OutageFacts {
    let (kind, name, part) = names(&outage.span.subject);
    OutageFacts {
        kind: kind.to_owned(),
        name,
        part,
        begin: time::text(time::from_millis(outage.span.begin_ms)),
        end: outage.span.end_ms.map(|end| time::text(time::from_millis(end))),
        down_s: outage.span.within(from_ms, to_ms) / 1_000,
        code: outage.blame.code.clone(),
        side: outage.blame.side,
        message: outage.blame.message.clone(),
    }
}
