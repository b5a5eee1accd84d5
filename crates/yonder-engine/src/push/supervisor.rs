//! Task that carries out the decisions of a push's [`PushMachine`].

use std::sync::Arc;

use tokio::time::sleep_until;
use yonder_core::{Cause, CauseCode, Decision, PushMachine, PushState};

use crate::tasks::catch_panic;

use super::Push;
use super::delivery::{self, End};

/// Runs until the push is disabled. A delivery that panics is a failure like others.
pub(crate) async fn supervise(push: Arc<Push>) {
    let mut signal = push.output.signal();
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
            Decision::Idle => {
                tokio::select! {
                    _ = signal.changed() => push.note_source(),
                    () = push.wake.notified() => {}
                }
            }
        }
    }
}

async fn run_delivery(push: &Arc<Push>) {
    let failure = // Boxed, so that a push that waits does not hold the room of a delivery.
    match catch_panic(Box::pin(delivery::run(push))).await {
        Ok(Ok(End::Disabled)) => None,
        Ok(Ok(End::Returning)) => {
            push.change(PushMachine::on_returned);
            None
        }
        Ok(Err(cause)) => Some(cause),
        Err(panic) => {
            let (relay, destination) = (&push.relay, &push.spec.destination);
            tracing::error!(relay, destination, panic, "push panicked");
            Some(Cause::new(CauseCode::PushInternal, "The service failed while pushing to this destination."))
        }
    };
    if let Some(cause) = failure {
        push.change(|machine, now| machine.on_failed(cause, now));
    }
    // The source may have changed meanwhile.
    push.note_source();
}
