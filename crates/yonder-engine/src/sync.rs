//! Locking without poisoning.

use std::sync::{Mutex, MutexGuard, PoisonError};

/// Locks a mutex whose data is consistent even after a panic of a holder.
pub(crate) fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
