//! The background loops of the service, each restarted when it panics.

use std::panic::AssertUnwindSafe;
use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

use tokio::task::{JoinHandle, JoinSet};
use tokio::time::sleep;
use yonder_store::Kind;

use super::Service;

/// Pauses after panics in a row; the last one repeats.
const PAUSES: [Duration; 4] =
    [Duration::from_secs(1), Duration::from_secs(5), Duration::from_secs(15), Duration::from_secs(30)];

/// Background loops that run; they end when this is dropped.
#[derive(Debug)]
pub struct Loops(#[expect(dead_code, reason = "aborts the loops when it is dropped")] JoinSet<()>);

/// A future of a loop.
type Run = Pin<Box<dyn Future<Output = ()> + Send>>;
/// Starts a loop.
type Start = fn(Arc<Service>) -> Run;

impl Service {
    /// Starts all background loops. To be called within a tokio runtime.
    #[must_use]
    pub fn start_loops(self: &Arc<Self>) -> Loops {
        let mut loops = JoinSet::new();
        let all: [(&str, Start); 8] = [
            ("backlog", |service| Box::pin(service.write_backlog())),
            ("ledger", |service| Box::pin(service.keep_ledger())),
            ("schedules", |service| Box::pin(service.keep_schedules())),
            ("rates", |service| Box::pin(service.keep_rates())),
            ("alerts", |service| Box::pin(service.keep_alerts())),
            ("notifications", |service| Box::pin(service.deliver_notifications())),
            ("record", |service| Box::pin(service.keep_record())),
            ("events", |service| Box::pin(service.watch())),
        ];
        for (name, run) in all {
            let service = Arc::clone(self);
            loops.spawn(async move { service.supervise(name, run).await });
        }
        Loops(loops)
    }

    /// Runs a loop, and starts it again whenever it panics.
    async fn supervise(self: Arc<Self>, name: &'static str, run: impl Fn(Arc<Self>) -> Run) {
        let mut panics = 0_usize;
        loop {
            let task = AbortOnDrop(tokio::spawn(run(Arc::clone(&self))));
            match task.joined().await {
                Err(error) if error.is_panic() => {}
                // It has ended by itself, as with the engine.
                _ => return,
            }
            self.loop_restarts.fetch_add(1, Ordering::Relaxed);
            tracing::error!(name, "background loop panicked, and is restarted");
            let service = Arc::clone(&self);
            let detail = format!("The background loop {name} failed inside the service, and was restarted.");
            let record = move || service.record_own("loop-restarted", Kind::Service, "yonder", &detail);
            // A panic in the record itself must not end the supervision.
            let _recorded =
                tokio::task::spawn_blocking(move || std::panic::catch_unwind(AssertUnwindSafe(record))).await;
            let [.., last] = PAUSES;
            sleep(PAUSES.get(panics).copied().unwrap_or(last)).await;
            panics += 1;
        }
    }
}

/// A task that ends with its supervisor.
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
    use super::*;
    use std::sync::atomic::AtomicUsize;
    use tokio::runtime::Handle;
    use yonder_engine::Engine;
    use yonder_store::{LogFilter, MasterKey, Store};

    #[tokio::test(flavor = "multi_thread", worker_threads = 2)]
    async fn a_loop_that_panics_is_restarted_counted_and_recorded() {
        let store = Store::open_in_memory(MasterKey::from_bytes(&[1; 32])).unwrap();
        let engine = Engine::new(Handle::current());
        let service = Arc::new(Service::new(store, engine, "a-local-token".into()).unwrap());
        let runs: Arc<AtomicUsize> = Arc::default();
        let counted = Arc::clone(&runs);
        let run = move |_| -> Run {
            let counted = Arc::clone(&counted);
            Box::pin(async move {
                assert!(counted.fetch_add(1, Ordering::Relaxed) > 0, "the first run fails");
            })
        };
        Arc::clone(&service).supervise("test", run).await;
        assert_eq!(runs.load(Ordering::Relaxed), 2);
        assert_eq!(service.process_figures().loop_restarts, 1);
        let filter = LogFilter { most: 10, ..LogFilter::default() };
        let lines = service.store.logbook(&filter).unwrap();
        assert!(lines.iter().any(|line| line.what == "loop-restarted" && line.message.contains("test")));
    }
}
