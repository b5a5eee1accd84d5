//! Supervised background loops, which are restarted after a panic.

use std::panic::AssertUnwindSafe;
use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use tokio::task::{JoinHandle, JoinSet};
use tokio::time::sleep;
use yonder_store::RecordKind;

use crate::journal::Journal;

/// Delays after consecutive panics; the last one repeats.
const PAUSES: [Duration; 4] =
    [Duration::from_secs(1), Duration::from_secs(5), Duration::from_secs(15), Duration::from_secs(30)];

/// Future of a loop.
type Run = Pin<Box<dyn Future<Output = ()> + Send>>;

/// Running background loops, which end on drop.
#[derive(Debug)]
pub struct Loops {
    supervisor: Arc<Supervisor>,
    tasks: JoinSet<()>,
}

impl Loops {
    pub(crate) fn new(supervisor: Arc<Supervisor>) -> Self {
        Self { supervisor, tasks: JoinSet::new() }
    }

    /// Starts a loop of a part of the service. Must be called within a tokio runtime.
    pub(crate) fn start<P: Send + Sync + 'static>(
        &mut self,
        name: &'static str,
        part: &Arc<P>,
        run: fn(Arc<P>) -> Run,
    ) {
        let (supervisor, part) = (Arc::clone(&self.supervisor), Arc::clone(part));
        self.tasks.spawn(async move { supervisor.supervise(name, || run(Arc::clone(&part))).await });
    }
}

/// Supervisor of loops, which records restarts.
#[derive(Debug)]
pub(crate) struct Supervisor {
    journal: Arc<Journal>,
    restarts: AtomicU64,
}

impl Supervisor {
    pub(crate) fn new(journal: Arc<Journal>) -> Self {
        Self { journal, restarts: AtomicU64::new(0) }
    }

    /// Returns the number of restarts after panics.
    pub(crate) fn restarts(&self) -> u64 {
        self.restarts.load(Ordering::Relaxed)
    }

    /// Runs a loop, and restarts it after each panic.
    async fn supervise(&self, name: &'static str, run: impl Fn() -> Run) {
        let mut panics = 0_usize;
        loop {
            let task = AbortOnDrop(tokio::spawn(run()));
            match task.joined().await {
                Err(error) if error.is_panic() => {}
                // The loop has ended by itself, as the engine has.
                _ => return,
            }
            self.restarts.fetch_add(1, Ordering::Relaxed);
            tracing::error!(name, "background loop panicked, and is restarted");
            let journal = Arc::clone(&self.journal);
            let detail =
                format!("The background loop {name} failed with an internal error, and was restarted.");
            let record = move || journal.log_own("loop-restarted", RecordKind::Service, "yonder", &detail);
            // A panic in the logbook must not end the supervision.
            let _recorded =
                tokio::task::spawn_blocking(move || std::panic::catch_unwind(AssertUnwindSafe(record))).await;
            let [.., last] = PAUSES;
            sleep(PAUSES.get(panics).copied().unwrap_or(last)).await;
            panics += 1;
        }
    }
}

/// Task that is aborted on drop.
struct AbortOnDrop(JoinHandle<()>);

impl AbortOnDrop {
    async fn joined(mut self) -> Result<(), tokio::task::JoinError> {
        (&mut self.0).await
    }
}

impl Drop for AbortOnDrop {
    fn drop(&mut self) {
        self.0.abort();
    }
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::AtomicUsize;

    use tokio::runtime::Handle;
    use yonder_engine::Engine;
    use yonder_store::{LogFilter, MasterKey, Store};

    use super::*;
    use crate::Service;

    #[tokio::test(flavor = "multi_thread", worker_threads = 2)]
    async fn a_loop_that_panics_is_restarted_counted_and_recorded() {
        let store = Store::open_in_memory(MasterKey::from_bytes(&[1; 32])).unwrap();
        let engine = Engine::new(Handle::current());
        let service = Service::new(store, engine, "a-local-token".into()).unwrap();
        let runs: Arc<AtomicUsize> = Arc::default();
        let supervisor = Supervisor::new(Arc::clone(service.journal()));
        let run = || -> Run {
            let counted = Arc::clone(&runs);
            Box::pin(async move {
                assert!(counted.fetch_add(1, Ordering::Relaxed) > 0, "the first run fails");
            })
        };
        supervisor.supervise("test", run).await;
        assert_eq!(runs.load(Ordering::Relaxed), 2);
        assert_eq!(supervisor.restarts(), 1);
        let filter = LogFilter { limit: 10, ..LogFilter::default() };
        let lines = service.records().store.logbook(&filter).unwrap();
        assert!(lines.iter().any(|line| line.what == "loop-restarted" && line.message.contains("test")));
    }
}
