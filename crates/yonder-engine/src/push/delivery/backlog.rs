//! How far a push is behind its feed, and what to say of it.

use std::time::Duration;

use yonder_core::{Cause, CauseCode, PushState};
use yonder_media::TICKS_PER_SECOND;

use crate::feed::lock;
use crate::push::Push;

/// Backlog at which a push counts as lagging, and at which it no longer does, in ticks.
const LAGGING_TICKS: i64 = 3 * TICKS_PER_SECOND / 2;
const CAUGHT_UP_TICKS: i64 = TICKS_PER_SECOND / 2;

/// Notes how far the unit sent last is behind the newest, and tells the machine.
pub(super) fn judge(push: &Push, last_sent: Option<i64>) {
    let behind = match (push.output.hub.newest_dts(), last_sent) {
        (Some(newest), Some(last)) => (newest - last).max(0),
        _ => 0,
    };
    let time = Duration::from_millis(u64::try_from(behind / 90).unwrap_or_default());
    lock(&push.figures).backlog = time;
    if behind > LAGGING_TICKS {
        let message = format!("{} It is {:.1} s behind.", needs(push), time.as_secs_f64());
        lag(push, message);
    } else if behind < CAUGHT_UP_TICKS {
        caught_up(push);
    }
}

/// What the push needs against what gets through.
pub(super) fn needs(push: &Push) -> String {
    let now = push.clock.now();
    let carried = lock(&push.figures).rate.kbps(now);
    let needed = lock(&push.feed.figures).video(now).map_or(0, |video| video.kbps);
    format!("The way to this destination carries {carried} kbit/s and the push needs {needed} kbit/s.")
}

pub(super) fn lag(push: &Push, message: String) {
    let cause = Cause::new(CauseCode::PushTooSlow, message);
    push.change(|machine, now| machine.on_backlog(Some(cause), now));
}

pub(super) fn caught_up(push: &Push) {
    if push.state() == PushState::Lagging {
        push.change(|machine, now| machine.on_backlog(None, now));
    }
}
