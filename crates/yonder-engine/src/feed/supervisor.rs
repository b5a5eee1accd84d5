//! The task that carries out what a feed's machine decides.

use std::sync::Arc;

use tokio::time::sleep_until;
use yonder_core::{Cause, CauseCode, Decision};
use yonder_media::timeline::Timeline;

use crate::pull;

use super::{Feed, lock};

/// Runs until the task is dropped. Each pull is a task of its own: one that panics is a failure like others.
pub(crate) async fn supervise(feed: Arc<Feed>) {
    // The relay's clock outlives camera sessions.
    let mut timeline = Timeline::default();
    loop {
        match feed.decide() {
            Decision::Dial => timeline = run_pull(&feed, timeline).await,
            Decision::WaitUntil(until) => {
                tokio::select! {
                    () = sleep_until(feed.clock.instant(until)) => {}
                    () = feed.wake.notified() => {}
                }
            }
            Decision::Rest => feed.wake.notified().await,
        }
    }
}

async fn run_pull(feed: &Arc<Feed>, timeline: Timeline) -> Timeline {
    let hang_up = feed.hang_up.subscribe();
    let shared = Arc::clone(feed);
    let task = tokio::spawn(async move {
        let mut timeline = timeline;
        let result = pull::run(&shared, &mut timeline, hang_up).await;
        (timeline, result)
    });
    let outcome = task.await;
    lock(&feed.figures).connected = false;
    match outcome {
        Ok((timeline, Ok(()))) => timeline,
        Ok((timeline, Err(cause))) => {
            feed.change(|machine, now| machine.on_failed(cause, now));
            timeline
        }
        Err(error) => {
            tracing::error!(%error, "a pull failed inside the service");
            let cause = Cause::new(CauseCode::FeedInternal, "The service failed while pulling this feed.");
            feed.change(|machine, now| machine.on_failed(cause, now));
            Timeline::default()
        }
    }
}
