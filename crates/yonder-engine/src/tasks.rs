//! Ownership of tasks: every task of the engine has an owner that ends it, and panics are detected.

use std::any::Any;
use std::panic::AssertUnwindSafe;
use std::sync::Arc;
use std::time::Duration;

use futures_util::FutureExt as _;
use parking_lot::Mutex;
use tokio::runtime::Handle;
use tokio::task::JoinSet;
use tokio::time::timeout;

/// Runs `future` and returns the message of a panic in it as an error.
///
/// # Cancel safety
/// As safe as `future`.
pub(crate) async fn catch_panic<T>(future: impl Future<Output = T>) -> Result<T, String> {
    AssertUnwindSafe(future).catch_unwind().await.map_err(|panic| message_of(&*panic))
}

fn message_of(panic: &(dyn Any + Send)) -> String {
    let text = panic.downcast_ref::<String>().map(String::as_str);
    text.or_else(|| panic.downcast_ref::<&str>().copied()).unwrap_or("panic without a message").to_owned()
}

/// Tasks that close connections in the background. Clones share them.
#[derive(Debug, Clone, Default)]
pub(crate) struct ClosingTasks(Arc<Mutex<JoinSet<()>>>);

impl ClosingTasks {
    /// Spawns a task on `runtime`.
    pub(crate) fn spawn(&self, runtime: &Handle, task: impl Future<Output = ()> + Send + 'static) {
        let mut tasks = self.0.lock();
        // Drop finished tasks.
        while tasks.try_join_next().is_some() {}
        tasks.spawn_on(task, runtime);
    }

    /// Waits up to `limit` for all tasks, and aborts the rest. Returns false if some were aborted.
    ///
    /// # Cancel safety
    /// When dropped, the tasks are aborted.
    pub(crate) async fn finish(&self, limit: Duration) -> bool {
        let mut tasks = std::mem::take(&mut *self.0.lock());
        timeout(limit, async { while tasks.join_next().await.is_some() {} }).await.is_ok()
    }

    #[cfg(test)]
    pub(crate) fn len(&self) -> usize {
        let mut tasks = self.0.lock();
        while tasks.try_join_next().is_some() {}
        tasks.len()
    }
}

#[cfg(test)]
mod tests {
    use tokio::time::sleep;

    use super::*;

    #[tokio::test]
    async fn panic_is_returned_with_its_message() {
        let caught = catch_panic(async { panic!("lens {}", "cap") }).await;
        assert_eq!(caught, Err::<(), _>("lens cap".to_owned()));
        assert_eq!(catch_panic(async { 7 }).await, Ok(7));
    }

    #[tokio::test(start_paused = true)]
    async fn closing_tasks_end_by_themselves_or_are_aborted() {
        let tasks = ClosingTasks::default();
        let runtime = Handle::current();
        tasks.spawn(&runtime, sleep(Duration::from_millis(5)));
        sleep(Duration::from_millis(50)).await;
        assert_eq!(tasks.len(), 0);
        tasks.spawn(&runtime, std::future::pending());
        assert!(!tasks.finish(Duration::from_millis(20)).await);
        assert!(tasks.finish(Duration::from_millis(20)).await);
    }
}
