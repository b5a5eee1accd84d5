//! Outage tracker: derives history entries from successive status samples.

use std::collections::{BTreeMap, HashSet};

use super::{HistoryEvent, OutageCause, Silence, StatusSample, Subject};
use crate::supervision::{FeedPhase, Phase, PushPhase};

/// Run that was open when the service ended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OpenRun {
    /// Subject.
    pub subject: Subject,
    /// It had an open outage.
    pub was_down: bool,
}

#[derive(Debug)]
struct Known {
    state: Option<Phase>,
    code: Option<String>,
    /// Time of the last entry, so that entries are in order.
    last_ms: i64,
    /// When it went down.
    down_since: Option<i64>,
    /// It has been up in this run.
    was_up: bool,
    /// Begin of the hold, and the platform's silence limit.
    held: Option<(i64, Option<Silence>)>,
    /// Open outage; true if caused by an action of an operator or of the service.
    outage: Option<bool>,
}

impl Known {
    /// Returns a summary of a hold once the feed has returned.
    fn hold_summary(&mut self, sample: &StatusSample, at_ms: i64) -> Option<String> {
        if sample.state == Phase::Push(PushPhase::Holding) {
            self.held.get_or_insert_with(|| (at_ms, sample.silence.clone()));
            return None;
        }
        let (since_ms, silence) = self.held.take()?;
        if sample.state != Phase::Push(PushPhase::Live) {
            return None;
        }
        let held_s = (at_ms - since_ms) / 1_000;
        Some(match silence {
            Some(Silence { platform, survives_s }) if held_s > i64::from(survives_s) => format!(
                "The holding picture kept the broadcast for {held_s} s: {platform} ends one after {survives_s} s of silence."
            ),
            _ => format!("The holding picture was sent for {held_s} s, and the broadcast continued."),
        })
    }
}

/// Compares each set of status samples with the one before.
#[derive(Debug, Default)]
pub struct OutageTracker {
    known: BTreeMap<Subject, Known>,
}

impl OutageTracker {
    /// Restores open runs after a restart. The time from `ended_ms` to now counts as an outage.
    pub fn resume(&mut self, open: Vec<OpenRun>, ended_ms: i64, in_order: bool) -> Vec<HistoryEvent> {
        let mut events = Vec::new();
        for OpenRun { subject, was_down } in open {
            let cause = if in_order { OutageCause::stopped() } else { OutageCause::not_running() };
            let known = Known {
                state: None,
                code: Some(cause.code.clone()),
                last_ms: ended_ms,
                down_since: Some(ended_ms),
                was_up: true,
                held: None,
                // A subject that was down before keeps its cause.
                outage: Some(!was_down),
            };
            if !was_down {
                events.push(HistoryEvent::OutageBegan { at_ms: ended_ms, subject: subject.clone(), cause });
            }
            self.known.insert(subject, known);
        }
        events
    }

    /// Evaluates the status at `now_ms` of all subjects that should run.
    pub fn evaluate(&mut self, now_ms: i64, samples: &[StatusSample]) -> Vec<HistoryEvent> {
        let mut events = Vec::new();
        for sample in samples {
            self.evaluate_subject(now_ms, sample, &mut events);
        }
        let seen: HashSet<&Subject> = samples.iter().map(|sample| &sample.subject).collect();
        let gone: Vec<Subject> =
            self.known.keys().filter(|subject| !seen.contains(subject)).cloned().collect();
        for subject in gone {
            let known = self.known.remove(&subject);
            let at_ms = known.as_ref().map_or(now_ms, |known| known.last_ms.max(now_ms));
            if known.is_some_and(|known| known.outage.is_some()) {
                events.push(HistoryEvent::OutageEnded { at_ms, subject: subject.clone() });
            }
            if !matches!(subject, Subject::Relay(_)) {
                let state = match &subject {
                    Subject::Push(..) => Phase::Push(PushPhase::Off),
                    Subject::Feed(_) | Subject::Relay(_) => Phase::Feed(FeedPhase::Off),
                };
                events.push(HistoryEvent::State {
                    at_ms,
                    subject: subject.clone(),
                    state,
                    cause: None,
                    remark: None,
                });
            }
            events.push(HistoryEvent::RunEnded { at_ms, subject });
        }
        events
    }

    /// Renames subjects: `rename` returns the new name of each that has one.
    pub fn rename_subjects(&mut self, rename: impl Fn(&Subject) -> Option<Subject>) {
        let known = std::mem::take(&mut self.known).into_iter();
        self.known = known.map(|(subject, known)| (rename(&subject).unwrap_or(subject), known)).collect();
    }

    fn evaluate_subject(&mut self, now_ms: i64, sample: &StatusSample, events: &mut Vec<HistoryEvent>) {
        let subject = &sample.subject;
        // The wall clock may have been set back in between.
        let begins_at = sample.since_ms.min(now_ms);
        let known = self.known.entry(subject.clone()).or_insert_with(|| {
            events.push(HistoryEvent::RunBegan { at_ms: begins_at, subject: subject.clone() });
            Known {
                state: None,
                code: None,
                last_ms: begins_at,
                down_since: None,
                was_up: false,
                held: None,
                outage: None,
            }
        });
        let code = sample.cause.as_ref().map(|cause| cause.code.clone());
        let is_new_state = known.state != Some(sample.state);
        let at_ms = if is_new_state { begins_at } else { now_ms }.max(known.last_ms);
        if is_new_state || (known.code != code && code.is_some()) {
            (known.state, known.code, known.last_ms) = (Some(sample.state), code, at_ms);
            let remark = known.hold_summary(sample, at_ms);
            if !matches!(subject, Subject::Relay(_)) {
                let (state, cause) = (sample.state, sample.cause.clone());
                events.push(HistoryEvent::State { at_ms, subject: subject.clone(), state, cause, remark });
            }
        }
        if sample.is_up() {
            known.down_since = None;
            known.was_up = true;
            if known.outage.take().is_some() {
                events.push(HistoryEvent::OutageEnded { at_ms, subject: subject.clone() });
            }
            return;
        }
        let down_since = *known.down_since.get_or_insert(at_ms);
        let begin = |at_ms, cause: &OutageCause| HistoryEvent::OutageBegan {
            at_ms,
            subject: subject.clone(),
            cause: cause.clone(),
        };
        match (&sample.cause, known.outage) {
            // A first start is not an outage unless it fails.
            (None, None) if known.was_up => {
                known.outage = Some(true);
                events.push(begin(down_since, &OutageCause::change()));
            }
            (Some(cause), None) => {
                known.outage = Some(false);
                events.push(begin(down_since, cause));
            }
            (Some(cause), Some(true)) => {
                known.outage = Some(false);
                events.push(HistoryEvent::OutageEnded { at_ms, subject: subject.clone() });
                events.push(begin(at_ms, cause));
            }
            _ => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::cause::FaultDomain;

    fn feed() -> Subject {
        Subject::Feed("Summit".into())
    }

    fn cause(code: &str) -> OutageCause {
        OutageCause { code: code.into(), side: FaultDomain::Camera, message: "It is away.".into() }
    }

    fn phase(name: &str) -> Phase {
        let feed = FeedPhase::from_name(name).map(Phase::Feed);
        feed.or_else(|| PushPhase::from_name(name).map(Phase::Push)).unwrap()
    }

    fn sample(state: &str, since_ms: i64, code: Option<&str>) -> Vec<StatusSample> {
        vec![StatusSample {
            subject: feed(),
            state: phase(state),
            since_ms,
            cause: code.map(cause),
            silence: None,
        }]
    }

    /// Formats entries as a letter and a time, with the code where there is one.
    fn short(events: &[HistoryEvent]) -> Vec<String> {
        events
            .iter()
            .map(|event| match event {
                HistoryEvent::State { at_ms, state, cause, .. } => {
                    let code = cause.as_ref().map_or("", |cause| &cause.code);
                    format!("{state} {at_ms} {code}").trim_end().to_owned()
                }
                HistoryEvent::RunBegan { at_ms, .. } => format!("run {at_ms}"),
                HistoryEvent::RunEnded { at_ms, .. } => format!("end {at_ms}"),
                HistoryEvent::OutageBegan { at_ms, cause, .. } => format!("down {at_ms} {}", cause.code),
                HistoryEvent::OutageEnded { at_ms, .. } => format!("up {at_ms}"),
            })
            .collect()
    }

    #[test]
    fn run_continues_under_a_new_name() {
        let mut tracker = OutageTracker::default();
        tracker.evaluate(10, &sample("flowing", 8, None));
        let renamed = Subject::Feed("Summit East".into());
        tracker.rename_subjects(|subject| (*subject == feed()).then(|| renamed.clone()));
        let seen = vec![StatusSample { subject: renamed, ..sample("flowing", 8, None).remove(0) }];
        assert_eq!(tracker.evaluate(20, &seen), []);
    }

    #[test]
    fn loss_is_an_outage_and_a_start_is_not() {
        let mut tracker = OutageTracker::default();
        assert_eq!(short(&tracker.evaluate(10, &sample("dialing", 8, None))), ["run 8", "dialing 8"]);
        assert_eq!(short(&tracker.evaluate(20, &sample("flowing", 15, None))), ["flowing 15"]);
        assert_eq!(tracker.evaluate(30, &sample("flowing", 15, None)), []);
        let lost = tracker.evaluate(40, &sample("waiting", 33, Some("feed.stalled")));
        assert_eq!(short(&lost), ["waiting 33 feed.stalled", "down 33 feed.stalled"]);
        // Another cause during an outage is a logbook entry; the outage keeps its first cause.
        let other = tracker.evaluate(50, &sample("waiting", 45, Some("feed.unreachable")));
        assert_eq!(short(&other), ["waiting 50 feed.unreachable"]);
        assert_eq!(short(&tracker.evaluate(60, &sample("flowing", 55, None))), ["flowing 55", "up 55"]);
        assert_eq!(short(&tracker.evaluate(70, &[])), ["off 70", "end 70"]);
    }

    #[test]
    fn failed_start_is_an_outage_from_its_begin() {
        let mut tracker = OutageTracker::default();
        tracker.evaluate(10, &sample("dialing", 8, None));
        let failed = tracker.evaluate(20, &sample("blocked", 18, Some("feed.wrong-password")));
        assert_eq!(short(&failed), ["blocked 18 feed.wrong-password", "down 8 feed.wrong-password"]);
        assert_eq!(short(&tracker.evaluate(90, &[])), ["up 90", "off 90", "end 90"]);
    }

    #[test]
    fn interruption_by_a_change_is_planned_until_it_fails() {
        let mut tracker = OutageTracker::default();
        tracker.evaluate(10, &sample("flowing", 8, None));
        let changed = tracker.evaluate(20, &sample("dialing", 19, None));
        assert_eq!(short(&changed), ["dialing 19", "down 19 service.change"]);
        let failed = tracker.evaluate(30, &sample("waiting", 25, Some("feed.no-answer")));
        assert_eq!(short(&failed), ["waiting 25 feed.no-answer", "up 25", "down 25 feed.no-answer"]);
    }

    #[test]
    fn downtime_of_the_service_is_an_outage() {
        let mut tracker = OutageTracker::default();
        let resumed = tracker.resume(vec![OpenRun { subject: feed(), was_down: false }], 100, false);
        assert_eq!(short(&resumed), ["down 100 service.not-running"]);
        assert_eq!(short(&tracker.evaluate(160, &sample("dialing", 150, None))), ["dialing 150"]);
        assert_eq!(short(&tracker.evaluate(170, &sample("flowing", 165, None))), ["flowing 165", "up 165"]);
    }

    #[test]
    fn outage_continues_over_a_restart() {
        let mut tracker = OutageTracker::default();
        let open = vec![OpenRun { subject: feed(), was_down: true }];
        assert_eq!(tracker.resume(open, 100, true), []);
        let still = tracker.evaluate(160, &sample("waiting", 150, Some("feed.no-answer")));
        assert_eq!(short(&still), ["waiting 150 feed.no-answer"]);
        assert_eq!(short(&tracker.evaluate(170, &sample("flowing", 165, None))), ["flowing 165", "up 165"]);
    }

    #[test]
    fn run_of_a_stopped_subject_ends_after_a_restart() {
        let mut tracker = OutageTracker::default();
        tracker.resume(vec![OpenRun { subject: feed(), was_down: false }], 100, true);
        assert_eq!(short(&tracker.evaluate(150, &[])), ["up 150", "off 150", "end 150"]);
    }

    #[test]
    fn hold_summary_is_in_the_logbook() {
        let push = |state: &str, since_ms, code: Option<&str>| {
            let silence = Some(Silence { platform: "Bramble TV".into(), survives_s: 10 });
            vec![StatusSample { silence, ..sample(state, since_ms, code).remove(0) }]
        };
        let mut tracker = OutageTracker::default();
        tracker.evaluate(1_000, &push("live", 1_000, None));
        let held = tracker.evaluate(5_000, &push("holding", 5_000, Some("feed.stalled")));
        assert_eq!(short(&held), ["holding 5000 feed.stalled"], "a push that holds is no outage");
        tracker.evaluate(6_000, &push("holding", 5_000, Some("feed.no-answer")));
        let back = tracker.evaluate(68_000, &push("live", 68_000, None));
        let said =
            "The holding picture kept the broadcast for 63 s: Bramble TV ends one after 10 s of silence.";
        assert!(
            matches!(&back[0], HistoryEvent::State { remark: Some(remark), .. } if remark == said),
            "{back:?}"
        );
        tracker.evaluate(70_000, &push("holding", 70_000, None));
        let back = tracker.evaluate(71_000, &push("live", 71_000, None));
        assert!(
            matches!(&back[0], HistoryEvent::State { remark: Some(remark), .. } if remark.contains("continued"))
        );
    }

    #[test]
    fn entries_stay_in_order_after_the_clock_is_set_back() {
        let mut tracker = OutageTracker::default();
        tracker.evaluate(5_000, &sample("flowing", 4_000, None));
        let lost = tracker.evaluate(1_000, &sample("waiting", 900, Some("feed.stalled")));
        assert_eq!(short(&lost), ["waiting 4000 feed.stalled", "down 4000 feed.stalled"]);
    }

    #[test]
    fn relay_is_up_while_all_of_its_parts_are() {
        let up =
            |subject| StatusSample { subject, state: phase("live"), since_ms: 5, cause: None, silence: None };
        let push = |name: &str| Subject::Push("Line".into(), name.into());
        let feed = sample("flowing", 7, None).remove(0);
        let whole = super::super::relay_sample("Line", &feed, &[up(push("a")), up(push("b"))]);
        assert!(whole.is_up());
        assert_eq!(whole.since_ms, 7);
        let blocked = StatusSample {
            subject: push("b"),
            state: phase("blocked"),
            since_ms: 9,
            cause: Some(cause("push.key-refused")),
            silence: None,
        };
        let broken = super::super::relay_sample("Line", &feed, &[up(push("a")), blocked]);
        assert!(!broken.is_up());
        assert_eq!((broken.since_ms, broken.cause.unwrap().code.as_str()), (9, "push.key-refused"));
        // The states of a relay are those of its parts, which the logbook already has.
        let mut tracker = OutageTracker::default();
        assert_eq!(short(&tracker.evaluate(20, &[whole])), ["run 7"]);
    }
}
