//! Logbook and monthly report for the API.

use std::collections::BTreeMap;
use std::time::SystemTime;

use yonder_api::{LogEntry, Outage as OutageFacts, Report, ReportLine, SideShare};
use yonder_core::FaultDomain;
use yonder_core::record::{Line, SpanOutage, Subject, report};
use yonder_store::{LogFilter, RecordKind, Relay as StoredRelay};

use super::History;
use yonder_records::ServiceError;
use yonder_records::{time, views};

/// Default and maximum number of lines.
const DEFAULT_LINES: u32 = 200;
const MAX_LINES: u32 = 10_000;

impl History {
    /// Returns lines of the logbook, the oldest first.
    ///
    /// # Errors
    /// [`ServiceError::Invalid`] naming the field, or if the records cannot be read.
    pub fn logbook(&self, request: &yonder_api::LogbookRequest) -> Result<Vec<LogEntry>, ServiceError> {
        let limit = request.limit.unwrap_or(DEFAULT_LINES);
        if limit == 0 || limit > MAX_LINES {
            let detail = format!("the limit {limit} is not from 1 to {MAX_LINES}");
            let hint = "Ask for fewer lines, or for a later time.";
            return Err(ServiceError::Invalid { field: "limit", detail, hint });
        }
        let from_ms = request.from.as_deref().map(|text| read_ms("from", text)).transpose()?;
        if let Some(kind) =
            request.kind.as_deref().filter(|kind| *kind != "push" && RecordKind::from_name(kind).is_none())
        {
            return Err(ServiceError::Invalid {
                field: "kind",
                detail: format!("the logbook has no entries of kind {kind:?}"),
                hint: "Ask for feed, push, relay, destination, platform, uplink, pattern, alert, person or service.",
            });
        }
        if let Some(side) = request.side.as_deref().filter(|side| FaultDomain::from_name(side).is_none()) {
            return Err(ServiceError::Invalid {
                field: "side",
                detail: format!("{side:?} is not a fault domain"),
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
            changes: request.changes,
            limit,
        };
        let lines = self.records.store.logbook(&filter)?;
        Ok(lines.into_iter().map(views::log_entry).collect())
    }

    /// Returns the availability report of a month, with the fault domain of each outage.
    ///
    /// # Errors
    /// [`ServiceError::Invalid`] for a month that is none, or if the records cannot be read.
    pub fn report(&self, month: Option<&str>) -> Result<Report, ServiceError> {
        let this = time::Calendar::now().month_text();
        let month = month.unwrap_or(&this);
        let (from_ms, to_ms) = time::month_ms(month).ok_or_else(|| ServiceError::Invalid {
            field: "month",
            detail: format!("{month:?} is not a month"),
            hint: "Write a month like 2026-11.",
        })?;
        let now_ms = time::millis(SystemTime::now());
        let until_ms = to_ms.min(now_ms).max(from_ms);
        let outages = self.records.store.outages(from_ms, until_ms)?;
        let lines = report(from_ms, until_ms, &self.records.store.runs(from_ms, until_ms)?, &outages);
        Ok(Report {
            month: month.to_owned(),
            from: time::text(time::from_millis(from_ms)),
            to: time::text(time::from_millis(until_ms)),
            sites: self.sites(&lines)?,
            lines: lines.iter().map(|line| self.report_line(line)).collect::<Result<_, _>>()?,
            outage_count: outages.len(),
            outages: outages.iter().map(|outage| outage_facts(outage, from_ms, until_ms)).collect(),
        })
    }

    fn report_line(&self, line: &Line) -> Result<ReportLine, ServiceError> {
        let (kind, name) = match &line.subject {
            Subject::Feed(name) => (RecordKind::Feed, name),
            Subject::Relay(name) | Subject::Push(name, _) => (RecordKind::Relay, name),
        };
        let identity = self.records.store.identity(kind, name)?;
        Ok(line_facts(line, identity.map(|identity| identity.uid)))
    }

    /// Returns the outages of a relay's feed and pushes since `from_ms`, the oldest first.
    pub(super) fn outages_of(
        &self,
        relay: &StoredRelay,
        from_ms: i64,
    ) -> Result<Vec<OutageFacts>, ServiceError> {
        let now_ms = time::millis(SystemTime::now());
        let concerns = |outage: &SpanOutage| match &outage.span.subject {
            Subject::Feed(feed) => *feed == relay.feed,
            Subject::Push(name, _) => *name == relay.name,
            // The relay's outages are those of its parts.
            Subject::Relay(_) => false,
        };
        let outages = self.records.store.outages(from_ms, now_ms)?;
        let facts = |outage: &SpanOutage| outage_facts(outage, from_ms, now_ms);
        Ok(outages.iter().filter(|outage| concerns(outage)).map(facts).collect())
    }

    /// Returns the sums of the feeds of each site.
    fn sites(&self, lines: &[Line]) -> Result<Vec<ReportLine>, ServiceError> {
        let mut sites: BTreeMap<String, Line> = BTreeMap::new();
        for feed in self.records.store.feeds()? {
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

/// Parses a time in RFC 3339, or a day, whose end is returned.
fn read_ms(field: &'static str, text: &str) -> Result<i64, ServiceError> {
    time::read_s(text).and_then(|seconds| seconds.checked_mul(1_000)).ok_or_else(|| ServiceError::Invalid {
        field,
        detail: format!("{text:?} is not a time"),
        hint: "Write a time like 2026-11-23T08:00:00Z.",
    })
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
        code: outage.cause.code.clone(),
        side: outage.cause.side,
        message: outage.cause.message.clone(),
    }
}
