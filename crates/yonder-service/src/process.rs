//! Resource usage of this process.

use std::fs;

use yonder_engine::Engine;

/// Resource usage of the process; 0 where unknown.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ProcessStats {
    /// Resident memory, in bytes.
    pub resident_bytes: u64,
    /// Open files and sockets.
    pub open_files: u64,
    /// Unfinished tasks of the engine.
    pub tasks: u64,
    /// Age of the oldest heartbeat of a media thread, in milliseconds.
    pub heartbeat_age_ms: u64,
    /// Restarts of background loops after panics.
    pub loop_restarts: u64,
}

impl ProcessStats {
    /// Reads the present values.
    pub fn read(engine: &Engine, loop_restarts: u64) -> Self {
        let status = fs::read_to_string("/proc/self/status").unwrap_or_default();
        let tasks = u64::try_from(engine.tasks()).unwrap_or(u64::MAX);
        let oldest = engine.heartbeat_ages().into_iter().max().unwrap_or_default();
        Self {
            resident_bytes: resident_bytes(&status).unwrap_or_default(),
            open_files: open_files(),
            tasks,
            heartbeat_age_ms: u64::try_from(oldest.as_millis()).unwrap_or(u64::MAX),
            loop_restarts,
        }
    }
}

/// Returns the number of open files and sockets, without the one for reading it.
pub(crate) fn open_files() -> u64 {
    let count = fs::read_dir("/proc/self/fd").map_or(0, Iterator::count);
    u64::try_from(count.saturating_sub(1)).unwrap_or(u64::MAX)
}

/// Parses `VmRSS:     12345 kB`, see `proc_pid_status(5)`.
fn resident_bytes(status: &str) -> Option<u64> {
    let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:"))?;
    let kilobytes: u64 = line.trim().strip_suffix("kB")?.trim().parse().ok()?;
    Some(kilobytes * 1024)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn resident_memory_is_parsed() {
        assert_eq!(resident_bytes("Name:\tyonder\nVmRSS:\t   12345 kB\nThreads:\t4\n"), Some(12_641_280));
        assert_eq!(resident_bytes("Name:\tyonder\n"), None);
    }

    #[test]
    fn a_file_that_is_opened_counts() {
        let before = open_files();
        let files: Vec<_> = (0..50).filter_map(|_| fs::File::open("/dev/null").ok()).collect();
        // Concurrent tests open and close files as well.
        assert!(open_files() + 25 > before + 50, "{before}");
        drop(files);
    }
}
