//! Evaluation of alert rules against successive status samples.

use std::collections::{BTreeMap, HashSet, VecDeque};

use crate::budget::BitRate;
use crate::supervision::Phase;

use super::Trigger;

/// An alert is resolved once its condition has been absent for this long, so that a flapping subject stays one alert.
const RESOLVE_AFTER_MS: i64 = 20_000;

/// Alert rule.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Rule {
    /// Name, unique among rules.
    pub name: String,
    /// Condition.
    pub trigger: Trigger,
    /// Name of the only relay, feed, destination or uplink that the rule covers; `None` for all.
    pub about: Option<String>,
    /// Interval of repetitions while the alert is open, in milliseconds.
    pub repeat_ms: i64,
}

/// Status of one feed, push, destination, uplink or the service at one moment.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Observation {
    /// Display name: `push Summit Station → Bramble TV`.
    pub subject: String,
    /// Names that select it in a rule.
    pub names: Vec<String>,
    /// Status.
    pub facts: Facts,
}

/// Status of a subject.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Facts {
    /// A feed or a push that should run.
    Running {
        /// State.
        state: Phase,
        /// Media passes.
        up: bool,
        /// A person may be needed: it is blocked, or retried at long intervals only.
        needs_attention: bool,
        /// Cause while it is not up, with fault domain and code.
        cause: Option<String>,
        /// Output bit rate; `None` for a feed.
        kbps: Option<u64>,
        /// Number of reconnections.
        reconnects: u64,
    },
    /// A stream key with an expiry date.
    Key {
        /// Expiry, in milliseconds since 1970.
        expires_ms: i64,
    },
    /// The service itself.
    Service(ServiceFacts),
    /// An uplink with an allowance.
    Month {
        /// Projected share of the month's allowance, in percent.
        projected_percent: u32,
    },
}

/// Faults of the service, each with its message; `None` while there is none.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ServiceFacts {
    /// The disk that holds the records is almost full.
    pub disk_low: Option<String>,
    /// Records cannot be written.
    pub records_failing: Option<String>,
    /// The service was started after a crash or a power failure.
    pub restarted: Option<String>,
    /// A contact cannot be reached.
    pub undelivered: Option<String>,
    /// Encoders with wrong stream keys were refused repeatedly.
    pub wrong_keys: Option<String>,
    /// Days since the last backup; `None` if there has been none.
    pub backup_age_days: Option<u32>,
}

/// Kind of a notice.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NoticeKind {
    /// The alert was raised.
    Raised,
    /// The alert is still open.
    Still,
    /// The alert is resolved.
    Resolved,
    /// Periodic sign of life: no alert is open.
    Alive,
}

impl NoticeKind {
    /// Returns the name used in messages.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Raised => "raised",
            Self::Still => "still",
            Self::Resolved => "over",
            Self::Alive => "alive",
        }
    }

    /// Returns the kind with this name.
    #[must_use]
    pub fn from_name(name: &str) -> Option<Self> {
        [Self::Raised, Self::Still, Self::Resolved, Self::Alive]
            .into_iter()
            .find(|kind| kind.as_str() == name)
    }
}

/// Notice to be sent.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Notice {
    /// Kind.
    pub kind: NoticeKind,
    /// Name of the rule.
    pub rule: String,
    /// Subject.
    pub subject: String,
    /// One or two sentences.
    pub message: String,
    /// When it was raised, in milliseconds since 1970.
    pub raised_ms: i64,
}

/// Open alert, as it is stored over a restart.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Open {
    /// Name of the rule.
    pub rule: String,
    /// Subject.
    pub subject: String,
    /// Last message.
    pub message: String,
    /// When it was raised.
    pub raised_ms: i64,
    /// Time of the last notice, in milliseconds since 1970.
    pub last_notified_ms: i64,
    /// A person has acknowledged it: it is not repeated.
    pub is_acknowledged: bool,
}

#[derive(Debug, Default)]
struct AlertTimer {
    /// When its condition was first met.
    since_ms: Option<i64>,
    /// When its condition was last no longer met.
    gone_ms: Option<i64>,
    open: Option<Open>,
    /// Number of the last evaluation in which its rule and its subject existed.
    evaluation: u64,
}

/// Alert evaluator: compares each set of status samples with the one before.
#[derive(Debug, Default)]
pub struct AlertEvaluator {
    watches: BTreeMap<(String, String), AlertTimer>,
    /// Last reconnection count of each subject, and the times at which it rose.
    returns: BTreeMap<String, (u64, VecDeque<i64>)>,
    /// Number of evaluations so far.
    evaluations: u64,
}

impl AlertEvaluator {
    /// Restores the alerts that were open when the service ended.
    #[must_use]
    pub fn resume(open: Vec<Open>) -> Self {
        let watch = |open: Open| {
            let key = (open.rule.clone(), open.subject.clone());
            (key, AlertTimer { since_ms: Some(open.raised_ms), open: Some(open), ..AlertTimer::default() })
        };
        Self { watches: open.into_iter().map(watch).collect(), ..Self::default() }
    }

    /// Returns the open alerts.
    #[must_use]
    pub fn open(&self) -> Vec<Open> {
        self.watches.values().filter_map(|watch| watch.open.clone()).collect()
    }

    /// Acknowledges open alerts of a rule, so that they are not repeated: that of `subject`, or all. Returns their number.
    pub fn acknowledge(&mut self, rule: &str, subject: Option<&str>) -> usize {
        let mut count = 0;
        for ((name, about), watch) in &mut self.watches {
            let is_meant = name == rule && subject.is_none_or(|subject| subject == about);
            if let Some(open) = watch.open.as_mut().filter(|_| is_meant) {
                open.is_acknowledged = true;
                count += 1;
            }
        }
        count
    }

    /// Evaluates the rules with the status at `now_ms`, and returns the notices to be sent.
    pub fn evaluate(&mut self, now_ms: i64, rules: &[Rule], seen: &[Observation]) -> Vec<Notice> {
        self.count_returns(now_ms, seen);
        let mut notices = Vec::new();
        self.evaluations += 1;
        for rule in rules {
            for observation in seen.iter().filter(|observation| rule.means(observation)) {
                let reason = self.reason(rule, observation, now_ms);
                let watch = self.watches.entry((rule.name.clone(), observation.subject.clone())).or_default();
                watch.evaluation = self.evaluations;
                notices.extend(watch.evaluate(now_ms, rule, &observation.subject, reason));
            }
        }
        // Drop timers of removed rules and subjects.
        let evaluation = self.evaluations;
        self.watches.retain(|_, watch| {
            let stays = watch.evaluation == evaluation;
            if !stays && let Some(open) = &watch.open {
                notices.push(open.over("It is no longer monitored.".to_owned()));
            }
            stays
        });
        notices
    }

    /// Renames subjects: `rename` returns the new name of each that has one.
    pub fn rename_subjects(&mut self, rename: impl Fn(&str) -> Option<String>) {
        let renamed = |subject: String| rename(&subject).unwrap_or(subject);
        let watches = std::mem::take(&mut self.watches).into_iter().map(|((rule, subject), mut watch)| {
            let subject = renamed(subject);
            if let Some(open) = &mut watch.open {
                open.subject.clone_from(&subject);
            }
            ((rule, subject), watch)
        });
        self.watches = watches.collect();
        let returns = std::mem::take(&mut self.returns);
        self.returns = returns.into_iter().map(|(subject, times)| (renamed(subject), times)).collect();
    }

    /// Renames a rule; its open alerts continue.
    pub fn rename_rule(&mut self, old: &str, new: &str) {
        let watches = std::mem::take(&mut self.watches).into_iter().map(|((rule, subject), mut watch)| {
            let rule = if rule == old { new.to_owned() } else { rule };
            if let Some(open) = &mut watch.open {
                open.rule.clone_from(&rule);
            }
            ((rule, subject), watch)
        });
        self.watches = watches.collect();
    }

    fn count_returns(&mut self, now_ms: i64, seen: &[Observation]) {
        let longest_ms = 86_400_000;
        for observation in seen {
            let Facts::Running { reconnects, .. } = observation.facts else { continue };
            let (last, times) = self
                .returns
                .entry(observation.subject.clone())
                .or_insert_with(|| (reconnects, VecDeque::new()));
            // The counter of a restarted subject begins at zero.
            let rose = reconnects.saturating_sub(*last);
            *last = reconnects;
            times.extend((0..rose.min(1_000)).map(|_| now_ms));
            while times.front().is_some_and(|at| now_ms - at > longest_ms) || times.len() > 1_000 {
                times.pop_front();
            }
        }
        let known: HashSet<&str> = seen.iter().map(|observation| &*observation.subject).collect();
        self.returns.retain(|subject, _| known.contains(&**subject));
    }

    /// Returns the message of a rule whose condition is met, and how long it must be met before the alert is raised.
    fn reason(&self, rule: &Rule, observation: &Observation, now_ms: i64) -> Option<(String, i64)> {
        let subject = &observation.subject;
        let ms = |span: std::time::Duration| i64::try_from(span.as_millis()).unwrap_or(i64::MAX);
        match (&observation.facts, rule.trigger) {
            (Facts::Running { state, up: false, cause, .. }, Trigger::Down(after)) => {
                Some((down_text(subject, *state, cause.as_deref()), ms(after)))
            }
            (Facts::Running { needs_attention: true, state, cause, .. }, Trigger::Blocked) => {
                Some((down_text(subject, *state, cause.as_deref()), 0))
            }
            (Facts::Running { up: true, kbps: Some(kbps), .. }, Trigger::RateBelow(below, span))
                if *kbps < below.kbps() =>
            {
                let rate = BitRate::from_kbps(*kbps);
                Some((format!("The {subject} sends {rate}, less than {below}."), ms(span)))
            }
            (Facts::Running { up: true, kbps: Some(kbps), .. }, Trigger::RateAbove(above, span))
                if *kbps > above.kbps() =>
            {
                let rate = BitRate::from_kbps(*kbps);
                Some((format!("The {subject} sends {rate}, more than {above}."), ms(span)))
            }
            (Facts::Key { expires_ms }, Trigger::KeyExpires(days)) => {
                let left_ms = expires_ms - now_ms;
                let said = match left_ms / 86_400_000 {
                    _ if left_ms <= 0 => format!("The stream key of the {subject} has expired."),
                    0 => format!("The stream key of the {subject} expires within a day."),
                    left => format!("The stream key of the {subject} expires in {left} days."),
                };
                (left_ms < i64::from(days) * 86_400_000).then_some((said, 0))
            }
            (Facts::Month { projected_percent }, Trigger::Allowance(share))
                if *projected_percent >= share =>
            {
                Some((format!("The {subject} will use {projected_percent} % of its monthly allowance."), 0))
            }
            (Facts::Service(facts), trigger) => service_reason(facts, trigger),
            (Facts::Running { .. }, Trigger::Flapping(times, span)) => {
                let (_, returns) = self.returns.get(subject)?;
                let lately = returns.iter().filter(|at| now_ms - **at <= ms(span)).count();
                let is_enough = u32::try_from(lately).unwrap_or(u32::MAX) >= times;
                let minutes = span.as_secs().div_ceil(60);
                is_enough.then(|| (format!("The {subject} recovered {lately} times in {minutes} min."), 0))
            }
            _ => None,
        }
    }
}

/// Returns the same for conditions of the service itself.
fn service_reason(facts: &ServiceFacts, trigger: Trigger) -> Option<(String, i64)> {
    let said = match trigger {
        Trigger::DiskLow => facts.disk_low.clone(),
        Trigger::RecordsFailing => facts.records_failing.clone(),
        Trigger::Restarted => facts.restarted.clone(),
        Trigger::Undelivered => facts.undelivered.clone(),
        Trigger::WrongKeys => facts.wrong_keys.clone(),
        Trigger::BackupOld(days) => match facts.backup_age_days {
            None => Some("No backup was made yet.".to_owned()),
            Some(age) => (age >= days).then(|| format!("The last backup is {age} days old.")),
        },
        _ => None,
    };
    said.map(|said| (said, 0))
}

fn down_text(subject: &str, state: Phase, cause: Option<&str>) -> String {
    format!("The {subject} is {state}. {}", cause.unwrap_or_default()).trim_end().to_owned()
}

impl Rule {
    fn means(&self, observation: &Observation) -> bool {
        let is_about = |about: &String| observation.names.iter().any(|name| name.eq_ignore_ascii_case(about));
        self.about.as_ref().is_none_or(is_about)
    }
}

impl Open {
    fn over(&self, message: String) -> Notice {
        let Self { rule, subject, raised_ms, .. } = self.clone();
        Notice { kind: NoticeKind::Resolved, rule, subject, message, raised_ms }
    }
}

impl AlertTimer {
    fn evaluate(
        &mut self,
        now_ms: i64,
        rule: &Rule,
        subject: &str,
        reason: Option<(String, i64)>,
    ) -> Option<Notice> {
        let Some((message, lasting_ms)) = reason else { return self.resolve_removed(now_ms, subject) };
        self.gone_ms = None;
        let since_ms = *self.since_ms.get_or_insert(now_ms);
        let kind = match &self.open {
            None if now_ms - since_ms >= lasting_ms => NoticeKind::Raised,
            Some(open) if !open.is_acknowledged && now_ms - open.last_notified_ms >= rule.repeat_ms => {
                NoticeKind::Still
            }
            _ => return None,
        };
        let raised_ms = self.open.as_ref().map_or(now_ms, |open| open.raised_ms);
        let (rule, subject) = (rule.name.clone(), subject.to_owned());
        self.open = Some(Open {
            rule: rule.clone(),
            subject: subject.clone(),
            message: message.clone(),
            raised_ms,
            last_notified_ms: now_ms,
            is_acknowledged: false,
        });
        Some(Notice { kind, rule, subject, message, raised_ms })
    }

    fn resolve_removed(&mut self, now_ms: i64, subject: &str) -> Option<Notice> {
        let gone_ms = *self.gone_ms.get_or_insert(now_ms);
        if self.open.is_none() {
            self.since_ms = None;
            return None;
        }
        if now_ms - gone_ms < RESOLVE_AFTER_MS {
            return None;
        }
        self.since_ms = None;
        let open = self.open.take()?;
        let minutes = (gone_ms - open.raised_ms).max(0) / 60_000;
        Some(open.over(format!("The {subject} recovered after {minutes} min.")))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::supervision::PushPhase;

    const HOUR: i64 = 3_600_000;

    fn rule(trigger: &str) -> Vec<Rule> {
        vec![Rule {
            name: "night".into(),
            trigger: trigger.parse().unwrap(),
            about: None,
            repeat_ms: 4 * HOUR,
        }]
    }

    fn push(state: &str, up: bool, kbps: u64, reconnects: u64) -> Vec<Observation> {
        let cause = (!up).then(|| "Camera side. It does not answer. (feed.no-answer)".to_owned());
        let needs_attention = state == "blocked";
        let facts = Facts::Running {
            state: Phase::Push(PushPhase::from_name(state).unwrap()),
            up,
            needs_attention,
            cause,
            kbps: Some(kbps),
            reconnects,
        };
        vec![Observation {
            subject: "push Line → Bramble".into(),
            names: vec!["Line".into(), "Bramble".into()],
            facts,
        }]
    }

    /// Returns time and kind of the notices for samples (time, status).
    fn notices(rules: &[Rule], samples: &[(i64, Vec<Observation>)]) -> Vec<(i64, &'static str)> {
        let mut book = AlertEvaluator::default();
        let notices = samples.iter().flat_map(|(at, seen)| {
            book.evaluate(*at, rules, seen)
                .into_iter()
                .map(|notice| (*at, notice.kind.as_str()))
                .collect::<Vec<_>>()
        });
        notices.collect()
    }

    #[test]
    fn down_alert_is_raised_once_repeated_after_hours_and_resolved() {
        let down = || push("waiting", false, 0, 0);
        let samples = [
            (0, push("live", true, 1, 0)),
            (1_000, down()),
            (60_000, down()),
            (61_000, down()),
            (HOUR, down()),
            (4 * HOUR + 61_000, down()),
            (5 * HOUR, push("live", true, 1, 1)),
            (5 * HOUR + 19_000, push("live", true, 1, 1)),
            (5 * HOUR + 20_000, push("live", true, 1, 1)),
            (6 * HOUR, push("live", true, 1, 1)),
        ];
        let said = notices(&rule("down 60s"), &samples);
        assert_eq!(said, [(61_000, "raised"), (4 * HOUR + 61_000, "still"), (5 * HOUR + 20_000, "over")]);
    }

    #[test]
    fn open_alert_continues_under_the_new_names_of_its_rule_and_subject() {
        let mut book = AlertEvaluator::default();
        let down = push("waiting", false, 0, 0);
        book.evaluate(0, &rule("down 1s"), &down);
        assert_eq!(book.evaluate(2_000, &rule("down 1s"), &down).len(), 1);
        let renamed = "push Line East → Bramble";
        book.rename_subjects(|subject| (subject == "push Line → Bramble").then(|| renamed.to_owned()));
        book.rename_rule("night", "Nights");
        let rules = vec![Rule { name: "Nights".into(), ..rule("down 1s").remove(0) }];
        let down = vec![Observation { subject: renamed.into(), ..down.into_iter().next().unwrap() }];
        assert_eq!(book.evaluate(3_000, &rules, &down), [], "it is neither over nor raised again");
        let open = book.open().remove(0);
        assert_eq!((open.rule.as_str(), open.subject.as_str(), open.raised_ms), ("Nights", renamed, 2_000));
    }

    #[test]
    fn short_downtime_raises_no_alert_and_short_uptime_resolves_none() {
        let rules = rule("down 60s");
        let short = [
            (0, push("waiting", false, 0, 0)),
            (59_000, push("live", true, 1, 1)),
            (70_000, push("waiting", false, 0, 1)),
        ];
        assert!(notices(&rules, &short).is_empty());
        let moment = [
            (0, push("waiting", false, 0, 0)),
            (60_000, push("waiting", false, 0, 0)),
            (61_000, push("live", true, 1, 1)),
            (70_000, push("waiting", false, 0, 1)),
            (90_000, push("waiting", false, 0, 1)),
        ];
        assert_eq!(notices(&rules, &moment), [(60_000, "raised")]);
    }

    #[test]
    fn messages_contain_cause_and_duration() {
        let mut book = AlertEvaluator::default();
        let raised = book.evaluate(0, &rule("blocked"), &push("blocked", false, 0, 0)).remove(0);
        assert_eq!(
            raised.message,
            "The push Line → Bramble is blocked. Camera side. It does not answer. (feed.no-answer)"
        );
        book.evaluate(5 * 60_000, &rule("blocked"), &push("live", true, 1, 1));
        let over = book.evaluate(6 * 60_000, &rule("blocked"), &push("live", true, 1, 1)).remove(0);
        assert_eq!(over.message, "The push Line → Bramble recovered after 5 min.");
    }

    #[test]
    fn rate_conditions_apply_to_running_pushes_only() {
        let low = |at| (at, push("live", true, 400, 0));
        let rules = rule("rate-below 500kbit/s 30s");
        assert_eq!(notices(&rules, &[low(0), low(29_000), low(30_000)]), [(30_000, "raised")]);
        assert!(
            notices(&rules, &[(0, push("waiting", false, 0, 0)), (99_000, push("waiting", false, 0, 0))])
                .is_empty()
        );
        let high = [(0, push("live", true, 9_000, 0)), (30_000, push("live", true, 9_000, 0))];
        assert_eq!(notices(&rule("rate-above 8Mbit/s 30s"), &high), [(30_000, "raised")]);
    }

    #[test]
    fn reconnections_are_counted_over_time_despite_counter_resets() {
        let rules = rule("flapping 3 in 10m");
        let at = |minute: i64, reconnects| (minute * 60_000, push("live", true, 1, reconnects));
        assert_eq!(notices(&rules, &[at(0, 5), at(1, 6), at(2, 7), at(3, 8)]), [(180_000, "raised")]);
        assert!(notices(&rules, &[at(0, 5), at(1, 6), at(2, 7), at(20, 8)]).is_empty());
        assert!(notices(&rules, &[at(0, 5), at(1, 0), at(2, 1), at(3, 2)]).is_empty());
    }

    #[test]
    fn expiring_keys_and_exhausted_allowances_raise_alerts() {
        let day = 24 * HOUR;
        let key = |expires_ms| {
            let facts = Facts::Key { expires_ms };
            vec![Observation { subject: "destination Bramble".into(), names: vec!["Bramble".into()], facts }]
        };
        let mut book = AlertEvaluator::default();
        assert_eq!(book.evaluate(0, &rule("key-expires 7d"), &key(8 * day)), []);
        let notice = book.evaluate(0, &rule("key-expires 7d"), &key(3 * day)).remove(0);
        assert_eq!(notice.message, "The stream key of the destination Bramble expires in 3 days.");
        let month = |projected_percent| {
            let facts = Facts::Month { projected_percent };
            vec![Observation { subject: "uplink Mast".into(), names: vec!["Mast".into()], facts }]
        };
        assert!(notices(&rule("allowance 80%"), &[(0, month(79))]).is_empty());
        assert_eq!(notices(&rule("allowance 80%"), &[(0, month(80))]), [(0, "raised")]);
    }

    #[test]
    fn rule_can_be_limited_to_one_name() {
        let about = |name: &str| vec![Rule { about: Some(name.into()), ..rule("blocked").remove(0) }];
        let blocked = || [(0, push("blocked", false, 0, 0))];
        assert_eq!(notices(&about("bramble"), &blocked()).len(), 1);
        assert!(notices(&about("Hall"), &blocked()).is_empty());
    }

    #[test]
    fn restart_repeats_no_notice_and_stopped_subjects_are_resolved() {
        let mut book = AlertEvaluator::default();
        book.evaluate(0, &rule("blocked"), &push("blocked", false, 0, 0));
        let mut book = AlertEvaluator::resume(book.open());
        assert_eq!(book.evaluate(60_000, &rule("blocked"), &push("blocked", false, 0, 0)), []);
        let over = book.evaluate(70_000, &rule("blocked"), &[]);
        assert_eq!(over[0].kind, NoticeKind::Resolved);
        assert!(book.open().is_empty());
    }
}
