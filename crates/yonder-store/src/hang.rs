//! Simulation of a blocked disk, for tests. Not part of release builds.

use std::fmt;
use std::sync::OnceLock;
use std::thread::sleep;
use std::time::Duration;

/// Work that can be blocked.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum DiskWork {
    /// Reads and writes of the records.
    Records,
    /// Copy of a backup.
    Backup,
}

type IsHanging = Box<dyn Fn(DiskWork) -> bool + Send + Sync>;

/// Blocks work while a test requests it.
#[derive(Default)]
pub(crate) struct Hang(OnceLock<IsHanging>);

impl fmt::Debug for Hang {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Hang")
    }
}

impl Hang {
    pub(crate) fn set(&self, is_hanging: impl Fn(DiskWork) -> bool + Send + Sync + 'static) {
        // Only the first one is used.
        let _first = self.0.set(Box::new(is_hanging));
    }

    /// Blocks while the work is to be blocked.
    pub(crate) fn wait(&self, work: DiskWork) {
        if let Some(is_hanging) = self.0.get() {
            while is_hanging(work) {
                sleep(Duration::from_millis(20));
            }
        }
    }
}
