//! The task that carries out what a feed's machine decides.

use std::sync::Arc;

use tokio::sync::Mutex;
use tokio::time::{sleep_until, timeout};
use yonder_core::{Cause, CauseCode, Decision, FeedMachine, KNOCK_EVERY};
use yonder_media::timeline::Timeline;
use yonder_rtsp::CameraUrl;

use crate::dial;
use crate::pull;

use super::{Feed, lock};

/// Runs until the task is dropped. Each pull is a task of its own: one that panics is a failure like others.
pub(crate) async fn supervise(feed: Arc<Feed>) {
    // The relay's clock outlives camera sessions, also one that panics: time must never step back for pushes
    // that stay connected. Each pull holds the lock for as long as it runs; nobody else wants it.
    let timeline = Arc::new(Mutex::new(Timeline::default()));
    loop {
        match feed.decide() {
            Decision::Dial => run_pull(&feed, &timeline).await,
            Decision::WaitUntil(until) => {
                tokio::select! {
                    () = sleep_until(feed.clock.instant(until)) => {}
                    () = knock(&feed), if feed.knocks() => feed.change(FeedMachine::on_knock_answered),
                    () = feed.wake.notified() => {}
                }
            }
            Decision::Rest => feed.wake.notified().await,
        }
    }
}

/// Resolves when somebody opens at the camera's address. Only a connection is made, and closed at once.
async fn knock(feed: &Feed) {
    loop {
        let next = feed.clock.now() + KNOCK_EVERY;
        let CameraUrl { host, port, .. } = feed.spec().url;
        let opened = async {
            let addresses = dial::resolve(&host, port).await.ok()?;
            dial::connect(&addresses, None).await.ok()
        };
        // Somebody who takes longer to open may well be there, but the wait for the next dial is not longer.
        if let Ok(Some(_connection)) = timeout(KNOCK_EVERY, opened).await {
            return;
        }
        sleep_until(feed.clock.instant(next)).await;
    }
}

async fn run_pull(feed: &Arc<Feed>, timeline: &Arc<Mutex<Timeline>>) {
    let hang_up = feed.subscribe_hang_up();
    let (shared, mut timeline) = (Arc::clone(feed), Arc::clone(timeline).lock_owned().await);
    let outcome = tokio::spawn(async move { pull::run(&shared, &mut timeline, hang_up).await }).await;
    lock(&feed.figures).end_session();
    let failure = match outcome {
        Ok(Ok(())) => None,
        Ok(Err(cause)) => Some(cause),
        Err(error) => {
            tracing::error!(%error, "a pull failed inside the service");
            Some(Cause::new(CauseCode::FeedInternal, "The service failed while pulling this feed."))
        }
    };
    if let Some(cause) = failure {
        feed.change(|machine, now| machine.on_failed(cause, now));
    }
}
