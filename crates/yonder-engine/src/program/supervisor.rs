//! The task that carries out what a relay's machine decides.

use std::sync::Arc;
use std::time::Duration;

use tokio::sync::watch;
use tokio::task::JoinHandle;
use tokio::time::sleep_until;
use yonder_core::Showing;

use crate::feed::FeedSignal;
use crate::holding::{self, Round, Sequence};

use super::Program;

/// The holding picture is sent this much later than its time, in ticks: what the feed has on its way when it
/// returns then always lies behind what was held.
const LAG: i64 = 18_000;
/// After a holding picture could not be made, it is tried again so often.
const RETRY: Duration = Duration::from_secs(5);

/// Runs until the task is dropped.
pub(crate) async fn supervise(program: Arc<Program>) {
    let mut feed = program.feed.signal();
    feed.mark_changed();
    let mut making: Option<JoinHandle<Option<Round>>> = None;
    loop {
        program.follow_wish();
        let until = match program.decide() {
            Showing::Feed => {
                making = None;
                None
            }
            Showing::FeedUntil(until) => {
                // It is ready when its time comes.
                making.get_or_insert_with(|| tokio::spawn(make(Arc::clone(&program))));
                Some(until)
            }
            Showing::Holding => {
                let made = making.take().unwrap_or_else(|| tokio::spawn(make(Arc::clone(&program))));
                match made.await.ok().flatten() {
                    // The feed may have come back meanwhile.
                    Some(round) if program.decide() == Showing::Holding => {
                        hold(&program, round, &mut feed).await;
                        continue;
                    }
                    Some(_) => continue,
                    None => Some(program.feed.clock.now() + RETRY),
                }
            }
        };
        program.tell();
        wait(&program, &mut feed, until).await;
    }
}

/// Resolves when there is something new to decide on.
async fn wait(program: &Program, feed: &mut watch::Receiver<FeedSignal>, until: Option<Duration>) {
    let time = async {
        match until {
            Some(until) => sleep_until(program.feed.clock.instant(until)).await,
            None => std::future::pending().await,
        }
    };
    tokio::select! {
        // The sender lives in the feed, which the program holds.
        _changed = feed.changed() => {}
        () = program.wake.notified() => {}
        () = time => {}
    }
}

/// Makes a holding picture; `None`, and a word in the log, where there can be none.
async fn make(program: Arc<Program>) -> Option<Round> {
    let wanted = program.wanted()?;
    let made = tokio::task::spawn_blocking(move || holding::make(&wanted)).await;
    match made {
        Ok(Ok(round)) => Some(round),
        Ok(Err(error)) => {
            tracing::error!(relay = program.relay, %error, "there is no holding picture");
            None
        }
        Err(error) => {
            tracing::error!(relay = program.relay, %error, "making the holding picture failed inside the service");
            None
        }
    }
}

/// Sends the holding picture until the feed sends again, or another picture is wanted.
async fn hold(program: &Program, round: Round, feed: &mut watch::Receiver<FeedSignal>) {
    let picture = program.picture();
    let Some(mut sequence) = program.begin_holding(round, LAG) else { return };
    tracing::info!(relay = program.relay, "holding");
    loop {
        program.follow_wish();
        program.tell();
        if !send_due(program, &mut sequence) {
            tracing::info!(relay = program.relay, "the feed is back");
            return;
        }
        if !program.has_picture(picture.as_ref()) {
            return;
        }
        let due = program.feed.time_of(sequence.next_dts() + LAG);
        wait(program, feed, due).await;
    }
}

/// Sends what is due; false once the feed sends again.
fn send_due(program: &Program, sequence: &mut Sequence) -> bool {
    let Some(now) = program.feed.ticks_now() else { return false };
    while sequence.next_dts() + LAG <= now {
        let unit = sequence.take();
        program.send_held(unit, sequence.headers());
    }
    !program.sends_feed()
}
