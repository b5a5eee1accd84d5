//! The option `--json`, for the whole process.

use std::sync::atomic::{AtomicBool, Ordering};

/// Set by the option `--json`.
static JSON: AtomicBool = AtomicBool::new(false);

/// Enables JSON output for the process.
pub(crate) fn use_json() {
    JSON.store(true, Ordering::Relaxed);
}

/// Returns true if output is JSON.
pub(crate) fn wants_json() -> bool {
    JSON.load(Ordering::Relaxed)
}
