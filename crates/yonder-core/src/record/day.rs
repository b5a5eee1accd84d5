//! Day of a relay as a band: the worst level of each time step.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::{Span, SpanOutage, Subject};
use crate::supervision::PushPhase;

/// Level of a relay on a day, from good to bad.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "lowercase")]
pub enum DayLevel {
    /// Switched off.
    #[default]
    Off,
    /// Everything ran as desired.
    Flowing,
    /// A push sent the holding picture, or the feed was away while broadcasts continued.
    Holding,
    /// A push lagged behind its feed.
    Lagging,
    /// A push was down.
    Down,
}

impl DayLevel {
    /// Returns the name of the level.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Off => "off",
            Self::Flowing => "flowing",
            Self::Holding => "holding",
            Self::Lagging => "lagging",
            Self::Down => "down",
        }
    }

    /// Returns the level of a push's state; `None` for states that runs and outages cover.
    fn of_push(state: PushPhase) -> Option<Self> {
        match state {
            PushPhase::Holding => Some(Self::Holding),
            PushPhase::Lagging => Some(Self::Lagging),
            _ => None,
        }
    }
}

/// Change of state.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StateBegan {
    /// Subject.
    pub subject: Subject,
    /// When the state began.
    pub at_ms: i64,
    /// The state of a push; `None` for other subjects.
    pub state: Option<PushPhase>,
}

/// Time steps with the worst level of each.
struct Strip {
    from_ms: i64,
    step_ms: i64,
    levels: Vec<DayLevel>,
}

impl Strip {
    fn lay(&mut self, level: DayLevel, begin_ms: i64, end_ms: i64) {
        let begin = begin_ms.saturating_sub(self.from_ms).max(0);
        let end = end_ms.saturating_sub(self.from_ms);
        if end <= begin {
            return;
        }
        let index = |ms: i64| usize::try_from(ms.div_euclid(self.step_ms)).unwrap_or(usize::MAX);
        let (first, last) = (index(begin), index(end - 1));
        for step in self.levels.iter_mut().take(last.saturating_add(1)).skip(first) {
            *step = (*step).max(level);
        }
    }

    fn bands(self) -> Vec<(DayLevel, u32)> {
        let mut bands: Vec<(DayLevel, u32)> = Vec::new();
        for level in self.levels {
            match bands.last_mut() {
                Some((last, steps)) if *last == level => *steps += 1,
                _ => bands.push((level, 1)),
            }
        }
        bands
    }
}

/// Returns the relays that ran within `steps` steps of `step_ms` from `from_ms`, each with the bands that fill this
/// time. Spans that have not ended last until `now_ms`.
///
/// An outage of a push is `Down`. An outage of the relay alone is that of its feed, during which its pushes continue:
/// `Holding`.
#[must_use]
pub fn day(
    (from_ms, step_ms, steps): (i64, i64, usize),
    now_ms: i64,
    runs: &[Span],
    outages: &[SpanOutage],
    states: &[StateBegan],
) -> BTreeMap<String, Vec<(DayLevel, u32)>> {
    let mut strips: BTreeMap<&str, Strip> = BTreeMap::new();
    let mut lay = |relay, level, begin_ms, end_ms: Option<i64>| {
        let strip = || Strip { from_ms, step_ms: step_ms.max(1), levels: vec![DayLevel::Off; steps] };
        strips.entry(relay).or_insert_with(strip).lay(level, begin_ms, end_ms.unwrap_or(now_ms));
    };
    for run in runs {
        if let Subject::Relay(relay) = &run.subject {
            lay(relay, DayLevel::Flowing, run.begin_ms, run.end_ms);
        }
    }
    for SpanOutage { span, .. } in outages {
        match &span.subject {
            Subject::Relay(relay) => lay(relay, DayLevel::Holding, span.begin_ms, span.end_ms),
            Subject::Push(relay, _) => lay(relay, DayLevel::Down, span.begin_ms, span.end_ms),
            Subject::Feed(_) => {}
        }
    }
    // Backwards, so that the end of each state is known when it is reached.
    let mut ends: BTreeMap<&Subject, i64> = BTreeMap::new();
    for began in states.iter().rev() {
        let end_ms = ends.insert(&began.subject, began.at_ms);
        if let (Subject::Push(relay, _), Some(level)) =
            (&began.subject, began.state.and_then(DayLevel::of_push))
        {
            lay(relay, level, began.at_ms, end_ms);
        }
    }
    strips.into_iter().map(|(relay, strip)| (relay.to_owned(), strip.bands())).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::cause::FaultDomain;
    use crate::record::OutageCause;

    fn relay() -> Subject {
        Subject::Relay("Line".into())
    }

    fn push(name: &str) -> Subject {
        Subject::Push("Line".into(), name.into())
    }

    fn span(subject: Subject, begin_ms: i64, end_ms: Option<i64>) -> Span {
        Span { subject, begin_ms, end_ms }
    }

    fn outage(subject: Subject, begin_ms: i64, end_ms: Option<i64>) -> SpanOutage {
        let cause =
            OutageCause { code: "feed.stalled".into(), side: FaultDomain::Camera, message: String::new() };
        SpanOutage { span: span(subject, begin_ms, end_ms), cause }
    }

    fn began(subject: Subject, at_ms: i64, state: &str) -> StateBegan {
        StateBegan { subject, at_ms, state: PushPhase::from_name(state) }
    }

    /// Ten steps of ten milliseconds, from 100.
    fn short(runs: &[Span], outages: &[SpanOutage], states: &[StateBegan]) -> Vec<(&'static str, u32)> {
        let all = day((100, 10, 10), 200, runs, outages, states);
        assert!(all.values().all(|bands| bands.iter().map(|(_, steps)| steps).sum::<u32>() == 10));
        all.into_values().flatten().map(|(level, steps)| (level.as_str(), steps)).collect()
    }

    #[test]
    fn run_without_outages_flows_and_is_off_outside() {
        assert_eq!(
            short(&[span(relay(), 120, Some(150))], &[], &[]),
            [("off", 2), ("flowing", 3), ("off", 5)]
        );
        assert_eq!(short(&[span(relay(), 0, None)], &[], &[]), [("flowing", 10)]);
        assert_eq!(short(&[span(push("a"), 0, None)], &[], &[]), []);
    }

    #[test]
    fn absent_feed_counts_as_holding_and_absent_push_as_down() {
        let runs = [span(relay(), 0, None)];
        let away = outage(relay(), 110, Some(130));
        assert_eq!(
            short(&runs, std::slice::from_ref(&away), &[]),
            [("flowing", 1), ("holding", 2), ("flowing", 7)]
        );
        let down = outage(push("a"), 115, Some(121));
        let both = [("flowing", 1), ("down", 2), ("flowing", 7)];
        assert_eq!(short(&runs, &[away, down], &[]), both, "a step is as bad as its worst moment");
    }

    #[test]
    fn states_last_until_the_same_push_enters_another_one_or_until_now() {
        let runs = [span(relay(), 0, None)];
        let states = [
            began(push("a"), 110, "holding"),
            began(push("b"), 115, "live"),
            began(push("a"), 140, "live"),
            began(push("b"), 180, "lagging"),
        ];
        let expected = [("flowing", 1), ("holding", 3), ("flowing", 4), ("lagging", 2)];
        assert_eq!(short(&runs, &[], &states), expected);
    }

    #[test]
    fn spans_outside_the_day_or_reversed_are_ignored() {
        let runs = [span(relay(), i64::MIN, Some(i64::MAX)), span(relay(), 150, Some(120))];
        assert_eq!(
            short(&runs, &[outage(push("a"), 300, None), outage(push("a"), 0, Some(100))], &[]),
            [("flowing", 10)]
        );
    }
}
