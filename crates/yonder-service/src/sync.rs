//! Locking without poisoning, and blocking calls.

use std::sync::{Mutex, MutexGuard, PoisonError};

use crate::error::ServiceError;

/// Locks a mutex whose data is consistent even after a panic of a holder.
pub(crate) fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Runs a blocking call on the runtime's blocking thread pool.
///
/// # Errors
/// The error of the call, and [`ServiceError::Internal`] after a panic in it.
///
/// # Cancel safety
/// When dropped, the call still runs to completion.
pub async fn run_blocking<T: Send + 'static>(
    call: impl FnOnce() -> Result<T, ServiceError> + Send + 'static,
) -> Result<T, ServiceError> {
    tokio::task::spawn_blocking(call).await.map_err(|_| ServiceError::Internal("a blocking call was lost"))?
}
