//! Telling the service manager how the service is (`sd_notify(3)`): ready, alive, stopping.

use std::sync::Arc;
use std::time::Duration;

use sd_notify::NotifyState;
use tokio::time::interval;
use yonder_server::Service;

/// Tells that the service is ready; nothing happens where no service manager listens.
pub(crate) fn tell_ready() {
    tell(&[NotifyState::Ready]);
}

/// Tells that the service stops.
pub(crate) fn tell_stopping() {
    tell(&[NotifyState::Stopping]);
}

/// Tells again and again that the service is alive, as long as its records and its media threads answer; a service
/// that does not is started anew by its manager. Ends at once where no watchdog is set.
pub(crate) async fn keep_telling(service: Arc<Service>) {
    let Some(patience) = sd_notify::watchdog_enabled() else { return };
    // Twice in the time that the manager waits.
    let mut ticks = interval(patience / 2);
    loop {
        ticks.tick().await;
        if answers(Arc::clone(&service), patience / 2).await {
            tell(&[NotifyState::Watchdog]);
        } else {
            tracing::error!("the service does not answer itself");
        }
    }
}

/// The records can be read, in time, on a thread of the media runtime.
async fn answers(service: Arc<Service>, patience: Duration) -> bool {
    let looked = tokio::task::spawn_blocking(move || service.feeds().is_ok());
    matches!(tokio::time::timeout(patience, looked).await, Ok(Ok(true)))
}

fn tell(state: &[NotifyState<'_>]) {
    if let Err(error) = sd_notify::notify(state) {
        tracing::debug!(%error, "the service manager cannot be told");
    }
}
