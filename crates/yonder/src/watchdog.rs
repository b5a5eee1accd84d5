//! Notifications to the service manager (`sd_notify(3)`): ready, watchdog, stopping.
//!
//! The service counts as alive while its media threads do: a blocked database or a damaged record must not end running
//! broadcasts.

use std::sync::mpsc::{self, RecvTimeoutError};
use std::thread;
use std::time::Duration;

use sd_notify::NotifyState;
use yonder_engine::Heartbeats;

/// Age of a media thread's heartbeat beyond which it counts as blocked.
const MAX_HEARTBEAT_AGE: Duration = Duration::from_secs(5);
/// Maximum interval of checks.
const MAX_INTERVAL: Duration = Duration::from_secs(2);

/// Notifies the service manager that the service is ready, if there is one.
pub(crate) fn notify_ready() {
    notify(&[NotifyState::Ready]);
}

/// Notifies the service manager that the service is stopping.
pub(crate) fn notify_stopping() {
    notify(&[NotifyState::Stopping]);
}

/// Thread that checks the heartbeats of the media threads and pings the service manager while all are recent. It ends
/// on drop.
#[derive(Debug)]
pub(crate) struct Watchdog {
    _stop: mpsc::Sender<()>,
}

impl Watchdog {
    /// Starts the checks. Pings are sent if the service manager requests them.
    ///
    /// # Errors
    /// If the thread cannot be started.
    pub(crate) fn start(heartbeats: Heartbeats) -> std::io::Result<Self> {
        let patience = sd_notify::watchdog_enabled();
        let interval = patience.map_or(MAX_INTERVAL, |patience| (patience / 4).min(MAX_INTERVAL));
        let (stop, stopped) = mpsc::channel::<()>();
        thread::Builder::new().name("yonder-watchdog".to_owned()).spawn(move || {
            let mut was_alive = true;
            while stopped.recv_timeout(interval) == Err(RecvTimeoutError::Timeout) {
                let oldest = heartbeats.oldest();
                let is_alive = oldest < MAX_HEARTBEAT_AGE;
                if is_alive && patience.is_some() {
                    notify(&[NotifyState::Watchdog]);
                }
                if is_alive != was_alive {
                    was_alive = is_alive;
                    let seconds = oldest.as_secs();
                    if is_alive {
                        tracing::warn!("all media threads run again");
                    } else {
                        tracing::error!(seconds, "a media thread is blocked");
                    }
                }
            }
        })?;
        Ok(Self { _stop: stop })
    }
}

fn notify(state: &[NotifyState<'_>]) {
    if let Err(error) = sd_notify::notify(state) {
        tracing::debug!(%error, "service manager not notified");
    }
}
