//! Blocking calls.

use crate::error::ServiceError;

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
