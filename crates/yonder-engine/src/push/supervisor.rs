//! The task that carries out what a push's machine decides.

use std::sync::Arc;

use tokio::time::sleep_until;
use yonder_core::{Cause, CauseCode, Decision, PushMachine, PushState};

use super::Push;
use super::delivery::{self, End};

/// Runs until the push is unwanted. Each delivery is a task of its own: one that panics is a failure like
/// others.
pub(crate) async fn supervise(push: Arc<Push>) {
    let mut signal = push.program.signal();
    signal.mark_changed();
    while push.state() != PushState::Off {
        match push.decide() {
            Decision::Dial => run_delivery(&push).await,
            Decision::WaitUntil(until) => {
                tokio::select! {
                    () = sleep_until(push.clock.instant(until)) => {}
                    _ = signal.changed() => push.note_source(),
                    () = push.wake.notified() => {}
                }
            }
            Decision::Rest => {
                tokio::select! {
                    _ = signal.changed() => push.note_source(),
                    () = push.wake.notified() => {}
                }
            }
        }
    }
}

async fn run_delivery(push: &Arc<Push>) {
    let shared = Arc::clone(push);
    let outcome = tokio::spawn(async move { delivery::run(&shared).await }).await;
    let failure = match outcome {
        Ok(Ok(End::Unwanted)) => None,
        Ok(Ok(End::Returning)) => {
            push.change(PushMachine::on_returned);
            None
        }
        Ok(Err(cause)) => Some(cause),
        Err(error) => {
            tracing::error!(%error, "a push failed inside the service");
            Some(Cause::new(CauseCode::PushInternal, "The service failed while pushing to this destination."))
        }
    };
    if let Some(cause) = failure {
        push.change(|machine, now| machine.on_failed(cause, now));
    }
    // The picture may have come or gone meanwhile.
    push.note_source();
}
