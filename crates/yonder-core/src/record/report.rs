//! Availability report: uptime within the time in which a subject should have run.

use std::collections::BTreeMap;

use super::{OutageCause, Subject};
use crate::cause::FaultDomain;

/// Time span, open if `end_ms` is `None`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Span {
    /// Subject.
    pub subject: Subject,
    /// Begin, in milliseconds since 1970.
    pub begin_ms: i64,
    /// End, where it has ended.
    pub end_ms: Option<i64>,
}

impl Span {
    /// Returns the overlap with `from_ms..to_ms`, in milliseconds.
    #[must_use]
    pub fn within(&self, from_ms: i64, to_ms: i64) -> u64 {
        let begin = self.begin_ms.max(from_ms);
        let end = self.end_ms.unwrap_or(to_ms).min(to_ms);
        u64::try_from(end.saturating_sub(begin)).unwrap_or_default()
    }
}

/// Outage with its cause.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SpanOutage {
    /// Subject and time.
    pub span: Span,
    /// Cause.
    pub cause: OutageCause,
}

/// Downtime of one fault domain.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Share {
    /// Fault domain.
    pub side: FaultDomain,
    /// Time down, in milliseconds.
    pub down_ms: u64,
}

/// Line of the report.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Line {
    /// Subject.
    pub subject: Subject,
    /// Desired run time, in milliseconds.
    pub wanted_ms: u64,
    /// Downtime within it, in milliseconds.
    pub down_ms: u64,
    /// Number of outages.
    pub outages: usize,
    /// Longest outage, in milliseconds.
    pub longest_ms: u64,
    /// Downtime by fault domain, the largest first.
    pub shares: Vec<Share>,
}

impl Line {
    fn new(subject: Subject) -> Self {
        Self { subject, wanted_ms: 0, down_ms: 0, outages: 0, longest_ms: 0, shares: Vec::new() }
    }

    /// Returns the availability from 0 to 1; `None` if it should not have run at all.
    #[must_use]
    #[expect(
        clippy::as_conversions,
        reason = "a month has far fewer milliseconds than a double holds exactly"
    )]
    pub fn availability(&self) -> Option<f64> {
        (self.wanted_ms > 0).then(|| 1.0 - self.down_ms.min(self.wanted_ms) as f64 / self.wanted_ms as f64)
    }

    /// Adds another line, for the sum over a site.
    pub fn add(&mut self, other: &Self) {
        self.wanted_ms += other.wanted_ms;
        self.down_ms += other.down_ms;
        self.outages += other.outages;
        self.longest_ms = self.longest_ms.max(other.longest_ms);
        for share in &other.shares {
            add_share(&mut self.shares, share.side, share.down_ms);
        }
        order(&mut self.shares);
    }
}

fn add_share(shares: &mut Vec<Share>, side: FaultDomain, down_ms: u64) {
    match shares.iter_mut().find(|share| share.side == side) {
        Some(share) => share.down_ms += down_ms,
        None => shares.push(Share { side, down_ms }),
    }
}

fn order(shares: &mut [Share]) {
    shares.sort_by_key(|share| std::cmp::Reverse(share.down_ms));
}

/// Returns a line for each subject that should have run between `from_ms` and `to_ms`, sorted by subject.
///
/// `to_ms` is at most the present: open spans are counted up to it.
#[must_use]
pub fn report(from_ms: i64, to_ms: i64, runs: &[Span], outages: &[SpanOutage]) -> Vec<Line> {
    let mut lines: BTreeMap<&Subject, Line> = BTreeMap::new();
    for run in runs {
        let wanted_ms = run.within(from_ms, to_ms);
        if wanted_ms > 0 {
            lines.entry(&run.subject).or_insert_with(|| Line::new(run.subject.clone())).wanted_ms +=
                wanted_ms;
        }
    }
    for outage in outages {
        let down_ms = outage.span.within(from_ms, to_ms);
        let Some(line) = lines.get_mut(&outage.span.subject).filter(|_| down_ms > 0) else { continue };
        line.outages += 1;
        line.down_ms += down_ms;
        line.longest_ms = line.longest_ms.max(down_ms);
        add_share(&mut line.shares, outage.cause.side, down_ms);
    }
    let mut lines: Vec<Line> = lines.into_values().collect();
    lines.iter_mut().for_each(|line| order(&mut line.shares));
    lines
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn span(name: &str, begin_ms: i64, end_ms: Option<i64>) -> Span {
        Span { subject: Subject::Feed(name.into()), begin_ms, end_ms }
    }

    fn outage(name: &str, begin_ms: i64, end_ms: Option<i64>, side: FaultDomain) -> SpanOutage {
        let cause = OutageCause { code: "feed.stalled".into(), side, message: String::new() };
        SpanOutage { span: span(name, begin_ms, end_ms), cause }
    }

    #[test]
    fn time_outside_the_month_does_not_count() {
        let runs = [span("Summit", -5_000, None), span("Viaduct", 500, Some(700)), span("Shed", 2_000, None)];
        let outages = [
            outage("Summit", -100, Some(100), FaultDomain::Camera),
            outage("Summit", 400, Some(450), FaultDomain::Network),
            outage("Summit", 900, None, FaultDomain::Network),
            outage("Summit", 1_500, None, FaultDomain::Service),
            outage("Shed", 2_000, None, FaultDomain::Camera),
        ];
        let lines = report(0, 1_000, &runs, &outages);
        assert_eq!(lines.len(), 2);
        let summit = &lines[0];
        assert_eq!(
            (summit.wanted_ms, summit.down_ms, summit.outages, summit.longest_ms),
            (1_000, 250, 3, 100)
        );
        let shares: Vec<_> = summit.shares.iter().map(|share| (share.side, share.down_ms)).collect();
        assert_eq!(shares, [(FaultDomain::Network, 150), (FaultDomain::Camera, 100)]);
        assert_eq!(summit.availability(), Some(0.75));
        assert_eq!((lines[1].wanted_ms, lines[1].availability()), (200, Some(1.0)));
    }

    #[test]
    fn lines_of_one_site_add_up() {
        let runs = [span("Summit", 0, None), span("Viaduct", 0, None)];
        let outages = [
            outage("Summit", 0, Some(100), FaultDomain::Camera),
            outage("Viaduct", 0, Some(300), FaultDomain::Network),
        ];
        let mut lines = report(0, 1_000, &runs, &outages).into_iter();
        let mut site = lines.next().unwrap();
        site.add(&lines.next().unwrap());
        assert_eq!((site.wanted_ms, site.down_ms, site.outages, site.longest_ms), (2_000, 400, 2, 300));
        assert_eq!(site.shares[0].side, FaultDomain::Network);
        assert_eq!(site.availability(), Some(0.8));
    }

    proptest! {
        #[test]
        fn reports_of_two_half_months_sum_to_the_month(
            cut in 0_i64..1_000,
            spans in prop::collection::vec((0_i64..1_000, 0_i64..500), 0..8),
        ) {
            let runs = [span("Summit", 0, None)];
            let outages: Vec<_> = spans.iter().map(|(begin, length)| outage("Summit", *begin, Some(begin + length), FaultDomain::Camera)).collect();
            let down = |from, to| report(from, to, &runs, &outages).iter().map(|line| line.down_ms).sum::<u64>();
            prop_assert_eq!(down(0, cut) + down(cut, 1_000), down(0, 1_000));
        }
    }
}
