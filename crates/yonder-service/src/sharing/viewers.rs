//! Viewers and traffic of signposts.

use std::collections::HashMap;
use std::time::{Duration, Instant};

use yonder_store::SignpostTraffic;

/// Time after the last request for which a viewer counts: some polls of a playlist.
const VIEWER_TIMEOUT: Duration = Duration::from_secs(30);
/// Interval at which absent viewers are removed.
const PRUNE_INTERVAL: Duration = Duration::from_secs(2);

/// Viewer of a page, as a number that nothing can be derived from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct ViewerId(pub u64);

/// Reason for the refusal of a viewer.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Refusal {
    /// The maximum of viewers is reached.
    Viewers,
    /// The maximum of traffic in a day is reached.
    Traffic,
}

/// Limits of a signpost.
#[derive(Debug, Clone, Copy)]
pub(super) struct Limits {
    pub(super) viewers: usize,
    pub(super) daily_bytes: Option<u64>,
}

/// Viewers of a signpost.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(super) struct Audience {
    /// Present viewers.
    pub(super) now: u32,
    pub(super) today: SignpostTraffic,
    /// Bytes since the start of the service.
    pub(super) total_bytes: u64,
}

/// State of a signpost.
#[derive(Debug, Default)]
struct Watched {
    /// Last request of each viewer.
    viewers: HashMap<ViewerId, Instant>,
    pruned_at: Option<Instant>,
    /// Day of the counts, like `2026-11-23`.
    day: String,
    today: SignpostTraffic,
    /// Bytes since the start of the service.
    total_bytes: u64,
    unstored: SignpostTraffic,
    /// Unstored traffic of earlier days.
    earlier: Vec<(String, SignpostTraffic)>,
}

impl Watched {
    fn set_day(&mut self, day: &str) {
        if self.day != day {
            let unstored = std::mem::take(&mut self.unstored);
            if unstored != SignpostTraffic::default() {
                self.earlier.push((std::mem::take(&mut self.day), unstored));
            }
            day.clone_into(&mut self.day);
            // Those who are present watch today as well.
            let viewers = u64::try_from(self.viewers.len()).unwrap_or_default();
            self.today = SignpostTraffic { bytes: 0, viewers };
            self.unstored = self.today;
        }
    }

    fn prune(&mut self, now: Instant) {
        if self.pruned_at.is_none_or(|at| now.saturating_duration_since(at) >= PRUNE_INTERVAL) {
            self.viewers.retain(|_, seen| now.saturating_duration_since(*seen) < VIEWER_TIMEOUT);
            self.pruned_at = Some(now);
        }
    }

    fn count(&mut self, traffic: SignpostTraffic) {
        for sum in [&mut self.today, &mut self.unstored] {
            sum.bytes += traffic.bytes;
            sum.viewers += traffic.viewers;
        }
    }
}

/// Viewers and traffic by alias.
#[derive(Debug, Default)]
pub(super) struct Viewers(HashMap<String, Watched>);

impl Viewers {
    /// Counts a request of a viewer.
    pub(super) fn admit(
        &mut self,
        alias: &str,
        viewer: ViewerId,
        limits: Limits,
        day: &str,
        now: Instant,
    ) -> Result<(), Refusal> {
        let watched = self.0.entry(alias.to_owned()).or_default();
        watched.set_day(day);
        watched.prune(now);
        if limits.daily_bytes.is_some_and(|maximum| watched.today.bytes >= maximum) {
            return Err(Refusal::Traffic);
        }
        if let Some(seen) = watched.viewers.get_mut(&viewer) {
            *seen = now;
            return Ok(());
        }
        if watched.viewers.len() >= limits.viewers {
            return Err(Refusal::Viewers);
        }
        watched.viewers.insert(viewer, now);
        watched.count(SignpostTraffic { bytes: 0, viewers: 1 });
        Ok(())
    }

    pub(super) fn count_bytes(&mut self, alias: &str, bytes: u64) {
        if let Some(watched) = self.0.get_mut(alias) {
            watched.count(SignpostTraffic { bytes, viewers: 0 });
            watched.total_bytes += bytes;
        }
    }

    pub(super) fn audience(&mut self, alias: &str, day: &str, now: Instant) -> Audience {
        let Some(watched) = self.0.get_mut(alias) else { return Audience::default() };
        watched.set_day(day);
        watched.prune(now);
        Audience {
            now: u32::try_from(watched.viewers.len()).unwrap_or(u32::MAX),
            today: watched.today,
            total_bytes: watched.total_bytes,
        }
    }

    /// Continues the counts of a day.
    pub(super) fn resume(&mut self, day: &str, traffic: HashMap<String, SignpostTraffic>) {
        for (alias, today) in traffic {
            let watched = self.0.entry(alias).or_default();
            watched.day = day.to_owned();
            watched.today = today;
        }
    }

    /// Returns the traffic since the last call, by day.
    pub(super) fn take_unstored(&mut self) -> Vec<(String, Vec<(String, SignpostTraffic)>)> {
        let mut days: HashMap<String, Vec<(String, SignpostTraffic)>> = HashMap::new();
        for (alias, watched) in &mut self.0 {
            let unstored = std::mem::take(&mut watched.unstored);
            if unstored != SignpostTraffic::default() {
                days.entry(watched.day.clone()).or_default().push((alias.clone(), unstored));
            }
            for (day, traffic) in watched.earlier.drain(..) {
                days.entry(day).or_default().push((alias.clone(), traffic));
            }
        }
        days.into_iter().collect()
    }

    /// Adds traffic that could not be stored.
    pub(super) fn put_back(&mut self, day: &str, traffic: Vec<(String, SignpostTraffic)>) {
        for (alias, unstored) in traffic {
            self.0.entry(alias).or_default().earlier.push((day.to_owned(), unstored));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const DAY: &str = "2026-12-01";
    const LIMITS: Limits = Limits { viewers: 2, daily_bytes: Some(1_000) };

    fn admit(viewers: &mut Viewers, viewer: u64, now: Instant) -> Result<(), Refusal> {
        viewers.admit("summit", ViewerId(viewer), LIMITS, DAY, now)
    }

    #[test]
    fn viewers_over_the_maximum_are_refused_until_one_leaves() {
        let (mut viewers, start) = (Viewers::default(), Instant::now());
        assert_eq!(admit(&mut viewers, 1, start), Ok(()));
        assert_eq!(admit(&mut viewers, 2, start), Ok(()));
        assert_eq!(admit(&mut viewers, 3, start), Err(Refusal::Viewers));
        // The second one stays.
        let later = start + Duration::from_secs(20);
        assert_eq!(admit(&mut viewers, 2, later), Ok(()));
        let later = start + Duration::from_secs(31);
        assert_eq!(admit(&mut viewers, 3, later), Ok(()));
        let audience = viewers.audience("summit", DAY, later);
        assert_eq!((audience.now, audience.today.viewers), (2, 3));
    }

    #[test]
    fn traffic_is_limited_by_the_day_and_stored_once() {
        let (mut viewers, now) = (Viewers::default(), Instant::now());
        assert_eq!(admit(&mut viewers, 1, now), Ok(()));
        viewers.count_bytes("summit", 600);
        let stored = viewers.take_unstored();
        let expected = SignpostTraffic { bytes: 600, viewers: 1 };
        assert_eq!(stored, [(DAY.to_owned(), vec![("summit".to_owned(), expected)])]);
        assert!(viewers.take_unstored().is_empty());
        viewers.put_back(DAY, stored[0].1.clone());
        assert_eq!(viewers.take_unstored(), stored);
        viewers.count_bytes("summit", 400);
        assert_eq!(admit(&mut viewers, 1, now), Err(Refusal::Traffic));
        // The next day begins with those who watch.
        let next = "2026-12-02";
        assert_eq!(viewers.admit("summit", ViewerId(1), LIMITS, next, now), Ok(()));
        let audience = viewers.audience("summit", next, now);
        assert_eq!(audience.today, SignpostTraffic { bytes: 0, viewers: 1 });
        let days: Vec<String> = viewers.take_unstored().into_iter().map(|(day, _)| day).collect();
        assert_eq!(days.len(), 2);
    }

    #[test]
    fn counts_continue_after_a_restart() {
        let (mut viewers, now) = (Viewers::default(), Instant::now());
        let before = SignpostTraffic { bytes: 900, viewers: 4 };
        viewers.resume(DAY, HashMap::from([("summit".to_owned(), before)]));
        assert_eq!(viewers.audience("summit", DAY, now).today, before);
        assert_eq!(admit(&mut viewers, 1, now), Ok(()));
        viewers.count_bytes("summit", 100);
        assert_eq!(admit(&mut viewers, 1, now), Err(Refusal::Traffic));
    }
}
