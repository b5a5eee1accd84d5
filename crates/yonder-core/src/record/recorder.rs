//! From one look at everything to the next: what is to be written down.

use std::collections::{BTreeMap, HashSet};

use super::{Blame, Note, Sight, Silence, Subject};
use crate::supervision::{FeedPhase, Phase, PushPhase};

/// A run that was open when the service ended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OpenRun {
    /// Subject.
    pub subject: Subject,
    /// Its outage was open as well.
    pub was_down: bool,
}

#[derive(Debug)]
struct Known {
    state: Option<Phase>,
    code: Option<String>,
    /// When the last thing was written down of it; nothing is written out of order.
    last_ms: i64,
    /// Since when it is down.
    down_since: Option<i64>,
    /// It was up since its run began.
    was_up: bool,
    /// Since when the holding picture is sent, and what the platform does about silence.
    held: Option<(i64, Option<Silence>)>,
    /// The outage that is open, by whether it is our own doing.
    outage: Option<bool>,
}

impl Known {
    /// Returns a summary of the holding picture's effect, once the feed is back.
    fn remark(&mut self, sight: &Sight, at_ms: i64) -> Option<String> {
        if sight.state == Phase::Push(PushPhase::Holding) {
            self.held.get_or_insert_with(|| (at_ms, sight.silence.clone()));
            return None;
        }
        let (since_ms, silence) = self.held.take()?;
        if sight.state != Phase::Push(PushPhase::Live) {
            return None;
        }
        let held_s = (at_ms - since_ms) / 1_000;
        Some(match silence {
            Some(Silence { platform, survives_s }) if held_s > i64::from(survives_s) => format!(
                "The holding picture kept the broadcast for {held_s} s: {platform} ends one after {survives_s} s of silence."
            ),
            _ => format!("The holding picture was sent for {held_s} s, and the broadcast went on."),
        })
    }
}

/// Compares each look with the one before.
#[derive(Debug, Default)]
pub struct Recorder {
    known: BTreeMap<Subject, Known>,
}

impl Recorder {
    /// Takes up the record where the service left it at `ended_ms`: what should have run since was down.
    pub fn resume(&mut self, open: Vec<OpenRun>, ended_ms: i64, in_order: bool) -> Vec<Note> {
        let mut notes = Vec::new();
        for OpenRun { subject, was_down } in open {
            let blame = if in_order { Blame::stopped() } else { Blame::not_running() };
            let known = Known {
                state: None,
                code: Some(blame.code.clone()),
                last_ms: ended_ms,
                down_since: Some(ended_ms),
                was_up: true,
                held: None,
                // A subject that was down before keeps its own cause.
                outage: Some(!was_down),
            };
            if !was_down {
                notes.push(Note::OutageBegan { at_ms: ended_ms, subject: subject.clone(), blame });
            }
            self.known.insert(subject, known);
        }
        notes
    }

    /// Takes everything that should run, as it is at `now_ms`.
    pub fn look(&mut self, now_ms: i64, sights: &[Sight]) -> Vec<Note> {
        let mut notes = Vec::new();
        for sight in sights {
            self.look_at(now_ms, sight, &mut notes);
        }
        let seen: HashSet<&Subject> = sights.iter().map(|sight| &sight.subject).collect();
        let gone: Vec<Subject> =
            self.known.keys().filter(|subject| !seen.contains(subject)).cloned().collect();
        for subject in gone {
            let known = self.known.remove(&subject);
            let at_ms = known.as_ref().map_or(now_ms, |known| known.last_ms.max(now_ms));
            if known.is_some_and(|known| known.outage.is_some()) {
                notes.push(Note::OutageEnded { at_ms, subject: subject.clone() });
            }
            if !matches!(subject, Subject::Relay(_)) {
                let state = match &subject {
                    Subject::Push(..) => Phase::Push(PushPhase::Off),
                    Subject::Feed(_) | Subject::Relay(_) => Phase::Feed(FeedPhase::Off),
                };
                notes.push(Note::State { at_ms, subject: subject.clone(), state, blame: None, remark: None });
            }
            notes.push(Note::RunEnded { at_ms, subject });
        }
        notes
    }

    /// Continues under other names: `rename` returns the new name of a subject that has one.
    pub fn rename_subjects(&mut self, rename: impl Fn(&Subject) -> Option<Subject>) {
        let known = std::mem::take(&mut self.known).into_iter();
        self.known = known.map(|(subject, known)| (rename(&subject).unwrap_or(subject), known)).collect();
    }

    fn look_at(&mut self, now_ms: i64, sight: &Sight, notes: &mut Vec<Note>) {
        let subject = &sight.subject;
        // Our own wall clock may have been set in between.
        let begins_at = sight.since_ms.min(now_ms);
        let known = self.known.entry(subject.clone()).or_insert_with(|| {
            notes.push(Note::RunBegan { at_ms: begins_at, subject: subject.clone() });
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
        let code = sight.blame.as_ref().map(|blame| blame.code.clone());
        let is_new_state = known.state != Some(sight.state);
        let at_ms = if is_new_state { begins_at } else { now_ms }.max(known.last_ms);
        if is_new_state || (known.code != code && code.is_some()) {
            (known.state, known.code, known.last_ms) = (Some(sight.state), code, at_ms);
            let remark = known.remark(sight, at_ms);
            if !matches!(subject, Subject::Relay(_)) {
                let (state, blame) = (sight.state, sight.blame.clone());
                notes.push(Note::State { at_ms, subject: subject.clone(), state, blame, remark });
            }
        }
        if sight.is_up() {
            known.down_since = None;
            known.was_up = true;
            if known.outage.take().is_some() {
                notes.push(Note::OutageEnded { at_ms, subject: subject.clone() });
            }
            return;
        }
        let down_since = *known.down_since.get_or_insert(at_ms);
        let begin = |at_ms, blame: &Blame| Note::OutageBegan {
            at_ms,
            subject: subject.clone(),
            blame: blame.clone(),
        };
        match (&sight.blame, known.outage) {
            // A first start takes its time; it is no outage unless something goes wrong.
            (None, None) if known.was_up => {
                known.outage = Some(true);
                notes.push(begin(down_since, &Blame::change()));
            }
            (Some(blame), None) => {
                known.outage = Some(false);
                notes.push(begin(down_since, blame));
            }
            (Some(blame), Some(true)) => {
                known.outage = Some(false);
                notes.push(Note::OutageEnded { at_ms, subject: subject.clone() });
                notes.push(begin(at_ms, blame));
            }
            _ => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::cause::Side;

    fn feed() -> Subject {
        Subject::Feed("Summit".into())
    }

    fn blame(code: &str) -> Blame {
        Blame { code: code.into(), side: Side::Camera, message: "It is away.".into() }
    }

    fn phase(name: &str) -> Phase {
        let feed = FeedPhase::from_name(name).map(Phase::Feed);
        feed.or_else(|| PushPhase::from_name(name).map(Phase::Push)).unwrap()
    }

    fn sight(state: &str, since_ms: i64, code: Option<&str>) -> Vec<Sight> {
        vec![Sight { subject: feed(), state: phase(state), since_ms, blame: code.map(blame), silence: None }]
    }

    /// Notes in short: a letter and its time, with the code of what has one.
    fn short(notes: &[Note]) -> Vec<String> {
        notes
            .iter()
            .map(|note| match note {
                Note::State { at_ms, state, blame, .. } => {
                    let code = blame.as_ref().map_or("", |blame| &blame.code);
                    format!("{state} {at_ms} {code}").trim_end().to_owned()
                }
                Note::RunBegan { at_ms, .. } => format!("run {at_ms}"),
                Note::RunEnded { at_ms, .. } => format!("end {at_ms}"),
                Note::OutageBegan { at_ms, blame, .. } => format!("down {at_ms} {}", blame.code),
                Note::OutageEnded { at_ms, .. } => format!("up {at_ms}"),
            })
            .collect()
    }

    #[test]
    fn run_continues_under_a_new_name() {
        let mut recorder = Recorder::default();
        recorder.look(10, &sight("flowing", 8, None));
        let renamed = Subject::Feed("Summit East".into());
        recorder.rename_subjects(|subject| (*subject == feed()).then(|| renamed.clone()));
        let seen = vec![Sight { subject: renamed, ..sight("flowing", 8, None).remove(0) }];
        assert_eq!(recorder.look(20, &seen), []);
    }

    #[test]
    fn a_start_is_no_outage_and_a_loss_is_one_until_it_flows_again() {
        let mut recorder = Recorder::default();
        assert_eq!(short(&recorder.look(10, &sight("dialing", 8, None))), ["run 8", "dialing 8"]);
        assert_eq!(short(&recorder.look(20, &sight("flowing", 15, None))), ["flowing 15"]);
        assert_eq!(recorder.look(30, &sight("flowing", 15, None)), []);
        let lost = recorder.look(40, &sight("waiting", 33, Some("feed.stalled")));
        assert_eq!(short(&lost), ["waiting 33 feed.stalled", "down 33 feed.stalled"]);
        // Another cause of the same outage is a line of the logbook, and the outage keeps its first.
        let other = recorder.look(50, &sight("waiting", 45, Some("feed.unreachable")));
        assert_eq!(short(&other), ["waiting 50 feed.unreachable"]);
        assert_eq!(short(&recorder.look(60, &sight("flowing", 55, None))), ["flowing 55", "up 55"]);
        assert_eq!(short(&recorder.look(70, &[])), ["off 70", "end 70"]);
    }

    #[test]
    fn a_start_that_fails_was_down_from_its_beginning() {
        let mut recorder = Recorder::default();
        recorder.look(10, &sight("dialing", 8, None));
        let failed = recorder.look(20, &sight("blocked", 18, Some("feed.wrong-password")));
        assert_eq!(short(&failed), ["blocked 18 feed.wrong-password", "down 8 feed.wrong-password"]);
        assert_eq!(short(&recorder.look(90, &[])), ["up 90", "off 90", "end 90"]);
    }

    #[test]
    fn a_change_on_purpose_is_planned_until_it_fails() {
        let mut recorder = Recorder::default();
        recorder.look(10, &sight("flowing", 8, None));
        let changed = recorder.look(20, &sight("dialing", 19, None));
        assert_eq!(short(&changed), ["dialing 19", "down 19 service.change"]);
        let failed = recorder.look(30, &sight("waiting", 25, Some("feed.no-answer")));
        assert_eq!(short(&failed), ["waiting 25 feed.no-answer", "up 25", "down 25 feed.no-answer"]);
    }

    #[test]
    fn what_the_service_slept_through_is_an_outage_of_its_own() {
        let mut recorder = Recorder::default();
        let resumed = recorder.resume(vec![OpenRun { subject: feed(), was_down: false }], 100, false);
        assert_eq!(short(&resumed), ["down 100 service.not-running"]);
        assert_eq!(short(&recorder.look(160, &sight("dialing", 150, None))), ["dialing 150"]);
        assert_eq!(short(&recorder.look(170, &sight("flowing", 165, None))), ["flowing 165", "up 165"]);
    }

    #[test]
    fn what_was_down_before_a_restart_stays_down_once() {
        let mut recorder = Recorder::default();
        let open = vec![OpenRun { subject: feed(), was_down: true }];
        assert_eq!(recorder.resume(open, 100, true), []);
        let still = recorder.look(160, &sight("waiting", 150, Some("feed.no-answer")));
        assert_eq!(short(&still), ["waiting 150 feed.no-answer"]);
        assert_eq!(short(&recorder.look(170, &sight("flowing", 165, None))), ["flowing 165", "up 165"]);
    }

    #[test]
    fn what_should_not_run_after_a_restart_ends() {
        let mut recorder = Recorder::default();
        recorder.resume(vec![OpenRun { subject: feed(), was_down: false }], 100, true);
        assert_eq!(short(&recorder.look(150, &[])), ["up 150", "off 150", "end 150"]);
    }

    #[test]
    fn a_holding_picture_that_saved_the_broadcast_is_told() {
        let push = |state: &str, since_ms, code: Option<&str>| {
            let silence = Some(Silence { platform: "Bramble TV".into(), survives_s: 10 });
            vec![Sight { silence, ..sight(state, since_ms, code).remove(0) }]
        };
        let mut recorder = Recorder::default();
        recorder.look(1_000, &push("live", 1_000, None));
        let held = recorder.look(5_000, &push("holding", 5_000, Some("feed.stalled")));
        assert_eq!(short(&held), ["holding 5000 feed.stalled"], "a push that holds is no outage");
        recorder.look(6_000, &push("holding", 5_000, Some("feed.no-answer")));
        let back = recorder.look(68_000, &push("live", 68_000, None));
        let said =
            "The holding picture kept the broadcast for 63 s: Bramble TV ends one after 10 s of silence.";
        assert!(matches!(&back[0], Note::State { remark: Some(remark), .. } if remark == said), "{back:?}");
        recorder.look(70_000, &push("holding", 70_000, None));
        let back = recorder.look(71_000, &push("live", 71_000, None));
        assert!(matches!(&back[0], Note::State { remark: Some(remark), .. } if remark.contains("went on")));
    }

    #[test]
    fn a_clock_that_is_set_back_does_not_turn_the_record_round() {
        let mut recorder = Recorder::default();
        recorder.look(5_000, &sight("flowing", 4_000, None));
        let lost = recorder.look(1_000, &sight("waiting", 900, Some("feed.stalled")));
        assert_eq!(short(&lost), ["waiting 4000 feed.stalled", "down 4000 feed.stalled"]);
    }

    #[test]
    fn a_relay_is_up_while_all_of_it_is() {
        let up = |subject| Sight { subject, state: phase("live"), since_ms: 5, blame: None, silence: None };
        let push = |name: &str| Subject::Push("Line".into(), name.into());
        let feed = sight("flowing", 7, None).remove(0);
        let whole = super::super::relay_sight("Line", &feed, &[up(push("a")), up(push("b"))]);
        assert!(whole.is_up());
        assert_eq!(whole.since_ms, 7);
        let blocked = Sight {
            subject: push("b"),
            state: phase("blocked"),
            since_ms: 9,
            blame: Some(blame("push.key-refused")),
            silence: None,
        };
        let broken = super::super::relay_sight("Line", &feed, &[up(push("a")), blocked]);
        assert!(!broken.is_up());
        assert_eq!((broken.since_ms, broken.blame.unwrap().code.as_str()), (9, "push.key-refused"));
        // Its states are those of its parts, which the logbook has already.
        let mut recorder = Recorder::default();
        assert_eq!(short(&recorder.look(20, &[whole])), ["run 7"]);
    }
}
