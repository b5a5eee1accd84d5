//! Locks and blocking calls.

use std::sync::{Mutex, MutexGuard, PoisonError};

use crate::error::ServiceError;

/// Locks a mutex whose data is valid between any two of its uses, also after a panic.
pub(crate) fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Runs a blocking call on a thread of the runtime's blocking pool.
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
