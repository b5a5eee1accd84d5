//! Media threads: single-threaded runtimes that each run a share of the feeds, with their relays and pushes.
//!
//! A frame passes from its pull to its pushes within microseconds. On one thread that costs a function call; handing
//! frames between threads would cost a wake-up per hop, more than all other work.
//!
//! Each thread has a heartbeat. A blocked thread is detected by the watchdog, the readiness check and the metrics,
//! independently of the last snapshots of its feeds.

use std::io;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::thread;
use std::time::Duration;

use tokio::runtime::{Builder, Handle};
use tokio::sync::oneshot;
use tokio::time::{MissedTickBehavior, interval};

use crate::clock::Clock;

/// Interval of the heartbeat.
const HEARTBEAT_INTERVAL: Duration = Duration::from_secs(1);

/// Threads for feeds and pushes. They end on drop, with their tasks.
#[derive(Debug)]
pub struct MediaThreads {
    handles: Vec<Handle>,
    heartbeats: Heartbeats,
    /// Stop signals: each one ends its thread on drop.
    _stops: Vec<oneshot::Sender<()>>,
}

/// Last heartbeat of each media thread. Clones share the state.
#[derive(Debug, Clone)]
pub struct Heartbeats {
    clock: Clock,
    /// Milliseconds on the clock.
    beats: Arc<[AtomicU64]>,
}

impl Heartbeats {
    fn new(count: usize) -> Self {
        let clock = Clock::default();
        let beats = (0..count).map(|_| AtomicU64::new(0)).collect();
        Self { clock, beats }
    }

    fn beat(&self, number: usize) {
        if let Some(beat) = self.beats.get(number) {
            beat.store(millis(self.clock.now()), Ordering::Relaxed);
        }
    }

    /// Returns the age of each thread's last heartbeat, below two seconds for a healthy thread.
    #[must_use]
    pub fn ages(&self) -> Vec<Duration> {
        let now = millis(self.clock.now());
        let age = |beat: &AtomicU64| Duration::from_millis(now.saturating_sub(beat.load(Ordering::Relaxed)));
        self.beats.iter().map(age).collect()
    }

    /// Returns the age of the oldest heartbeat; zero without media threads.
    #[must_use]
    pub fn oldest(&self) -> Duration {
        self.ages().into_iter().max().unwrap_or_default()
    }
}

fn millis(time: Duration) -> u64 {
    u64::try_from(time.as_millis()).unwrap_or(u64::MAX)
}

impl MediaThreads {
    /// Starts `count` threads, at least one.
    ///
    /// # Errors
    /// If a thread cannot be started.
    pub fn start(count: usize) -> io::Result<Self> {
        let count = count.max(1);
        let heartbeats = Heartbeats::new(count);
        let (mut handles, mut stops) = (Vec::new(), Vec::new());
        for number in 0..count {
            let runtime = Builder::new_current_thread().enable_all().build()?;
            let (stop, stopped) = oneshot::channel::<()>();
            handles.push(runtime.handle().clone());
            stops.push(stop);
            let heartbeats = heartbeats.clone();
            heartbeats.beat(number);
            thread::Builder::new().name(format!("yonder-media-{number}")).spawn(move || {
                // The closed channel is the signal to stop.
                runtime.block_on(async {
                    tokio::select! {
                        _stopped = stopped => {}
                        () = keep_beating(&heartbeats, number) => {}
                    }
                });
                runtime.shutdown_background();
            })?;
        }
        Ok(Self { handles, heartbeats, _stops: stops })
    }

    pub(crate) fn handles(&self) -> &[Handle] {
        &self.handles
    }

    /// Returns the threads' heartbeats.
    #[must_use]
    pub fn heartbeats(&self) -> Heartbeats {
        self.heartbeats.clone()
    }

    /// Blocks the first thread once `is_due` returns true. For tests of the watchdog.
    #[cfg(debug_assertions)]
    pub fn block_first_once(&self, is_due: impl Fn() -> bool + Send + 'static) {
        if let Some(handle) = self.handles.first() {
            handle.spawn(async move {
                while !is_due() {
                    tokio::time::sleep(Duration::from_millis(100)).await;
                }
                loop {
                    thread::park();
                }
            });
        }
    }
}

async fn keep_beating(heartbeats: &Heartbeats, number: usize) {
    let mut ticks = interval(HEARTBEAT_INTERVAL);
    ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
    loop {
        ticks.tick().await;
        heartbeats.beat(number);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn threads_are_separate_and_end_on_drop() {
        let threads = MediaThreads::start(2).unwrap();
        let (sender, names) = std::sync::mpsc::channel();
        for handle in threads.handles() {
            let sender = sender.clone();
            handle.spawn(async move { sender.send(thread::current().name().map(str::to_owned)) });
        }
        let patience = Duration::from_secs(5);
        let mut seen: Vec<_> = (0..2).map(|_| names.recv_timeout(patience).unwrap().unwrap()).collect();
        seen.sort();
        assert_eq!(seen, ["yonder-media-0", "yonder-media-1"]);
        let (held, gone) = oneshot::channel::<()>();
        threads.handles()[0].spawn(async move {
            let _held = held;
            std::future::pending::<()>().await;
        });
        drop(threads);
        // The task was dropped with its thread.
        assert!(gone.blocking_recv().is_err());
    }

    #[test]
    fn blocked_thread_has_no_heartbeat_and_others_continue() {
        let threads = MediaThreads::start(2).unwrap();
        let heartbeats = threads.heartbeats();
        let begin = std::time::Instant::now();
        threads.block_first_once(|| true);
        while heartbeats.oldest() < Duration::from_secs(3) {
            assert!(begin.elapsed() < Duration::from_secs(10), "{:?}", heartbeats.ages());
            thread::sleep(Duration::from_millis(50));
        }
        let ages = heartbeats.ages();
        assert!(ages[0] >= Duration::from_secs(3) && ages[1] < Duration::from_secs(2), "{ages:?}");
    }
}
