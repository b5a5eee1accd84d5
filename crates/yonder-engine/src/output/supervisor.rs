//! Task that carries out the decisions of a relay's [`HoldMachine`](yonder_core::HoldMachine).

use std::sync::Arc;
use std::time::Duration;

use tokio::sync::watch;
use tokio::time::sleep_until;
use tokio_util::task::AbortOnDropHandle;
use yonder_core::HoldDecision;

use crate::feed::FeedSignal;
use yonder_slate::{self, SlateGop, SlatePlayer};

use super::RelayOutput;

/// Pause before a slate that could not be made is tried again.
const RETRY_INTERVAL: Duration = Duration::from_secs(5);

/// A slate being made, on a task of its own that ends with its handle.
type Rendering = AbortOnDropHandle<Option<SlateGop>>;

/// Runs until the task is dropped.
pub(crate) async fn supervise(output: Arc<RelayOutput>) {
    let mut feed = output.feed.signal();
    feed.mark_changed();
    let mut rendering: Option<Rendering> = None;
    loop {
        output.apply_hold_request();
        let until = match output.decide() {
            HoldDecision::Feed => {
                rendering = None;
                None
            }
            HoldDecision::FeedUntil(until) => {
                // It is ready when its time comes.
                rendering.get_or_insert_with(|| start_rendering(&output));
                Some(until)
            }
            HoldDecision::Slate => {
                let started = rendering.take().unwrap_or_else(|| start_rendering(&output));
                match started.await.ok().flatten() {
                    // The feed may have come back meanwhile.
                    Some(gop) if output.decide() == HoldDecision::Slate => {
                        play(&output, gop, &mut feed).await;
                        continue;
                    }
                    Some(_) => continue,
                    None => Some(output.feed.clock.now() + RETRY_INTERVAL),
                }
            }
        };
        output.publish_signal();
        wait(&output, &mut feed, until).await;
    }
}

/// Waits for a change of the feed, a request, or `until`.
async fn wait(output: &RelayOutput, feed: &mut watch::Receiver<FeedSignal>, until: Option<Duration>) {
    let time = async {
        match until {
            Some(until) => sleep_until(output.feed.clock.instant(until)).await,
            None => std::future::pending().await,
        }
    };
    tokio::select! {
        // The sender lives in the feed, which the output holds.
        _changed = feed.changed() => {}
        () = output.wake.notified() => {}
        () = time => {}
    }
}

fn start_rendering(output: &Arc<RelayOutput>) -> Rendering {
    AbortOnDropHandle::new(tokio::spawn(render(Arc::clone(output))))
}

/// Makes a slate; `None`, with an entry in the log, where that fails.
async fn render(output: Arc<RelayOutput>) -> Option<SlateGop> {
    let request = output.slate_request()?;
    match yonder_slate::render_on_own_thread(request).await {
        Ok(gop) => Some(gop),
        Err(error) => {
            tracing::error!(relay = output.relay, %error, "slate could not be rendered");
            None
        }
    }
}

/// Plays a slate until the feed is on the output again, or another picture is wanted.
async fn play(output: &RelayOutput, gop: SlateGop, feed: &mut watch::Receiver<FeedSignal>) {
    let picture = output.picture();
    let mut player = output.begin_slate(gop);
    tracing::info!(relay = output.relay, "slate on the output");
    loop {
        output.apply_hold_request();
        output.publish_signal();
        if !send_due(output, &mut player) {
            tracing::info!(relay = output.relay, "feed on the output");
            return;
        }
        if !output.has_picture(picture.as_ref()) {
            return;
        }
        let due = output.feed.clock.time_of(player.next_dts());
        wait(output, feed, Some(due)).await;
    }
}

/// Sends the frames that are due; false once the feed is on the output.
fn send_due(output: &RelayOutput, player: &mut SlatePlayer) -> bool {
    let now = output.feed.clock.ticks_now();
    while player.next_dts() <= now {
        let unit = player.next_unit();
        output.send_slate(unit, player.headers());
    }
    !output.is_on_feed()
}
