//! Lanes: threads that each run a share of the feeds, with all that hangs on them.
//!
//! A picture passes from its pull to its pushes within microseconds. On one thread that costs a function call; from
//! thread to thread each step would wake a sleeper, which costs more than all the rest of its way.

use std::io;
use std::thread;

use tokio::runtime::{Builder, Handle};
use tokio::sync::oneshot;

/// Threads for feeds and pushes. They end when the value is dropped; tasks that are under way end with them.
#[derive(Debug)]
pub struct Lanes {
    handles: Vec<Handle>,
    /// Each ends its thread when it goes.
    _stops: Vec<oneshot::Sender<()>>,
}

impl Lanes {
    /// Starts so many threads, one at least.
    ///
    /// # Errors
    /// When the system gives no thread.
    pub fn start(count: usize) -> io::Result<Self> {
        let (mut handles, mut stops) = (Vec::new(), Vec::new());
        for number in 0..count.max(1) {
            let runtime = Builder::new_current_thread().enable_all().build()?;
            let (stop, stopped) = oneshot::channel::<()>();
            handles.push(runtime.handle().clone());
            stops.push(stop);
            thread::Builder::new().name(format!("yonder-lane-{number}")).spawn(move || {
                // The sender that goes is the sign to end.
                let _ended = runtime.block_on(stopped);
                runtime.shutdown_background();
            })?;
        }
        Ok(Self { handles, _stops: stops })
    }

    pub(crate) fn handles(&self) -> &[Handle] {
        &self.handles
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_lane_is_a_thread_of_its_own_and_ends_with_the_lanes() {
        let lanes = Lanes::start(2).unwrap();
        let (told, names) = std::sync::mpsc::channel();
        for handle in lanes.handles() {
            let told = told.clone();
            handle.spawn(async move { told.send(thread::current().name().map(str::to_owned)) });
        }
        let mut names: Vec<_> = names.iter().take(2).flatten().collect();
        names.sort();
        assert_eq!(names, ["yonder-lane-0", "yonder-lane-1"]);
        let (held, gone) = oneshot::channel::<()>();
        lanes.handles()[0].spawn(async move {
            let _held = held;
            std::future::pending::<()>().await;
        });
        drop(lanes);
        // The task went with its lane, and what it held with it.
        assert!(gone.blocking_recv().is_err());
    }
}
