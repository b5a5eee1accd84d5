//! Locks for state that is consistent between any two of its uses.

use std::sync::{Mutex, MutexGuard, PoisonError};

/// Locks a mutex whose data is consistent between any two of its uses, also after a panic.
pub(crate) fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
