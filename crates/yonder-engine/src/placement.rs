//! Placement of feeds on media threads by load, and balancing while they run.

use std::collections::HashMap;
use std::sync::{Arc, Weak};
use std::time::Duration;

use parking_lot::Mutex;
use tokio::runtime::Handle;
use tokio::time::interval;
use tokio_util::task::AbortOnDropHandle;

use crate::feed::FeedCommand;
use crate::media_threads::Heartbeats;
use crate::running::{Running, RunningFeed};

/// Load assumed for each connection of a feed that has not been measured, in kilobits per second.
const DEFAULT_KBPS: u64 = 4_000;
/// Interval at which loads are compared.
const BALANCE_INTERVAL: Duration = Duration::from_secs(10);
/// Minimum imbalance for a move: excess of the most over the least loaded thread, in percent of the former.
const MIN_IMBALANCE_PERCENT: u64 = 25;
/// Minimum imbalance for a move, in kilobits per second.
const MIN_IMBALANCE_KBPS: u64 = 20_000;
/// Heartbeat age beyond which a thread counts as blocked: feeds are not moved from or to it.
const MAX_HEARTBEAT_AGE: Duration = Duration::from_secs(3);

/// Load of one feed.
#[derive(Debug, Clone, PartialEq, Eq)]
struct FeedLoad {
    name: String,
    thread: usize,
    kbps: u64,
}

fn loads(feeds: &HashMap<String, RunningFeed>) -> Vec<FeedLoad> {
    let load = |(name, feed): (&String, &RunningFeed)| {
        let measured = feed.handle.snapshot().load_kbps();
        let assumed = DEFAULT_KBPS * u64::try_from(feed.connections()).unwrap_or(1);
        // An absent feed is expected to return.
        let kbps = if measured > 0 { measured } else { assumed };
        FeedLoad { name: name.clone(), thread: feed.thread, kbps }
    };
    feeds.iter().map(load).collect()
}

/// Returns the load of each thread.
fn by_thread(loads: &[FeedLoad], threads: usize) -> Vec<u64> {
    let mut sums = vec![0; threads];
    for load in loads {
        if let Some(sum) = sums.get_mut(load.thread) {
            *sum += load.kbps;
        }
    }
    sums
}

/// Returns the thread for a new feed.
pub(crate) fn least_loaded(feeds: &HashMap<String, RunningFeed>, threads: usize) -> usize {
    if threads <= 1 {
        return 0;
    }
    let sums = by_thread(&loads(feeds), threads);
    sums.iter().enumerate().min_by_key(|(_, sum)| **sum).map_or(0, |(thread, _)| thread)
}

/// Moves a running feed.
pub(crate) fn move_feed(feed: &mut RunningFeed, thread: usize) {
    if feed.thread != thread {
        feed.thread = thread;
        feed.handle.send(FeedCommand::Move(thread));
    }
}

/// Returns the move of a feed that balances the loads best; `None` while they are balanced or no single move helps.
fn next_move(loads: &[FeedLoad], is_alive: &[bool]) -> Option<(String, usize)> {
    let sums = by_thread(loads, is_alive.len());
    let alive =
        || sums.iter().copied().enumerate().filter(|(thread, _)| is_alive.get(*thread) == Some(&true));
    let (most, most_kbps) = alive().max_by_key(|(_, sum)| *sum)?;
    let (least, least_kbps) = alive().min_by_key(|(_, sum)| *sum)?;
    let excess = most_kbps - least_kbps;
    if excess < MIN_IMBALANCE_KBPS || excess * 100 < most_kbps * MIN_IMBALANCE_PERCENT {
        return None;
    }
    let movable = loads.iter().filter(|load| load.thread == most && load.kbps < excess);
    let best = movable.min_by_key(|load| (excess / 2).abs_diff(load.kbps))?;
    // A move must leave at most three quarters of the difference.
    let after = excess.abs_diff(2 * best.kbps);
    (after * 4 <= excess * 3).then(|| (best.name.clone(), least))
}

/// Task that moves feeds while media threads are unevenly loaded. It ends on drop.
#[derive(Debug)]
pub(crate) struct Balancer {
    _task: AbortOnDropHandle<()>,
}

impl Balancer {
    /// Starts the task on `runtime`.
    pub(crate) fn start(runtime: &Handle, running: &Arc<Mutex<Running>>, heartbeats: Heartbeats) -> Self {
        let running = Arc::downgrade(running);
        Self { _task: AbortOnDropHandle::new(runtime.spawn(balance(running, heartbeats))) }
    }
}

/// Moves one feed at a time, so that the new loads are measured before the next move.
async fn balance(running: Weak<Mutex<Running>>, heartbeats: Heartbeats) {
    let mut ticks = interval(BALANCE_INTERVAL);
    ticks.tick().await;
    loop {
        ticks.tick().await;
        let Some(running) = running.upgrade() else { return };
        let is_alive: Vec<bool> = heartbeats.ages().iter().map(|age| *age < MAX_HEARTBEAT_AGE).collect();
        let mut running = running.lock();
        if let Some((name, thread)) = next_move(&loads(&running.feeds), &is_alive)
            && let Some(feed) = running.feeds.get_mut(&name)
        {
            move_feed(feed, thread);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn feeds(loads: &[(usize, u64)]) -> Vec<FeedLoad> {
        let feed = |(number, (thread, kbps)): (usize, &(usize, u64))| FeedLoad {
            name: format!("feed-{number}"),
            thread: *thread,
            kbps: *kbps,
        };
        loads.iter().enumerate().map(feed).collect()
    }

    #[rstest]
    #[case::all_on_one(&[(0, 20_000), (0, 20_000), (0, 20_000), (0, 20_000)], Some(1))]
    #[case::balanced(&[(0, 40_000), (1, 38_000)], None)]
    #[case::little_load(&[(0, 5_000), (0, 5_000)], None)]
    #[case::one_large_feed_cannot_be_split(&[(0, 100_000), (1, 10_000)], None)]
    #[case::moving_the_large_one_would_only_swap_sides(&[(0, 100_000), (0, 2_000), (1, 10_000)], None)]
    fn feed_moves_only_where_that_evens_the_load(
        #[case] loads: &[(usize, u64)],
        #[case] expected: Option<usize>,
    ) {
        let next = next_move(&feeds(loads), &[true, true]);
        assert_eq!(next.map(|(_, thread)| thread), expected);
    }

    #[test]
    fn balancing_terminates() {
        let mut loads = feeds(&[(0, 8_000), (0, 30_000), (0, 12_000), (0, 50_000), (1, 3_000), (0, 21_000)]);
        for _ in 0..10 {
            let Some((name, thread)) = next_move(&loads, &[true, true]) else { break };
            loads.iter_mut().find(|load| load.name == name).unwrap().thread = thread;
        }
        assert_eq!(next_move(&loads, &[true, true]), None);
        let sums = by_thread(&loads, 2);
        assert!(sums[0].abs_diff(sums[1]) <= 32_000, "{sums:?}");
    }

    #[test]
    fn blocked_thread_gets_no_feeds() {
        let loads = feeds(&[(0, 40_000), (0, 40_000), (1, 0), (2, 10_000)]);
        assert_eq!(next_move(&loads, &[true, false, true]).map(|(_, thread)| thread), Some(2));
        assert_eq!(next_move(&loads, &[false, true, false]), None);
    }
}
