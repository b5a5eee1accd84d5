//! Task that carries out the decisions of a feed's [`FeedMachine`].

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use tokio::time::{sleep_until, timeout};
use yonder_core::{Cause, CauseCode, FeedMachine};
use yonder_media::timeline::Timeline;
use yonder_rtsp::CameraUrl;

use crate::dial;
use crate::pull;
use crate::tasks::catch_panic;

use super::{Feed, FeedStep, HangUp, lock};

/// Probes reuse the addresses of a name for this long.
const ADDRESS_TTL: Duration = Duration::from_secs(5);

/// Runs until the feed is retired. A connection that panics is a failure like others.
///
/// `timeline` outlives connections, and this future where it panics: time must never step back for pushes that stay
/// connected.
pub(crate) async fn supervise(feed: Arc<Feed>, timeline: Arc<tokio::sync::Mutex<Timeline>>) {
    loop {
        match feed.decide() {
            FeedStep::Connect(hang_up) => run_pull(&feed, &timeline, hang_up).await,
            FeedStep::WaitUntil(until) => {
                tokio::select! {
                    () = sleep_until(feed.clock.instant(until)) => {}
                    () = probe(&feed), if feed.probe_interval().is_some() => {
                        feed.change(FeedMachine::on_probe_answered);
                    }
                    () = feed.wake.notified() => {}
                }
            }
            FeedStep::Idle if feed.is_retired() => return,
            FeedStep::Idle => feed.wake.notified().await,
        }
    }
}

/// Resolves when the camera accepts a TCP connection, which is closed at once.
async fn probe(feed: &Feed) {
    let mut addresses: Vec<SocketAddr> = Vec::new();
    let mut resolved_at = None::<Duration>;
    while let Some(interval) = feed.probe_interval() {
        let began = feed.clock.now();
        let is_stale = resolved_at.is_none_or(|at| began.saturating_sub(at) >= ADDRESS_TTL);
        let CameraUrl { host, port, .. } = feed.spec().url;
        let answered = async {
            if is_stale && let Ok(found) = dial::resolve(&host, port).await {
                addresses = found;
                resolved_at = Some(began);
            }
            dial::connect(&addresses, None).await.is_ok()
        };
        // A camera that takes longer to accept is dialed in its turn, which comes as soon.
        if timeout(interval, answered).await == Ok(true) {
            return;
        }
        sleep_until(feed.clock.instant(began + interval)).await;
    }
    std::future::pending::<()>().await;
}

async fn run_pull(feed: &Arc<Feed>, timeline: &tokio::sync::Mutex<Timeline>, hang_up: HangUp) {
    let mut timeline = timeline.lock().await;
    // Boxed, so that a feed that waits does not hold the room of a pull.
    let outcome = catch_panic(Box::pin(pull::run(feed, &mut timeline, hang_up))).await;
    lock(&feed.figures).end_session();
    let failure = match outcome {
        Ok(Ok(())) => None,
        Ok(Err(cause)) => Some(cause),
        Err(panic) => {
            tracing::error!(feed = feed.spec().name, panic, "pull panicked");
            Some(Cause::new(CauseCode::FeedInternal, "The service failed while pulling this feed."))
        }
    };
    if let Some(cause) = failure {
        feed.change(|machine, now| machine.on_failed(cause, now));
    }
}
