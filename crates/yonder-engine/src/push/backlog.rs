//! Evaluation of the backlog of a push.

use std::time::Duration;

use yonder_core::{Cause, CauseCode, PushState};
use yonder_media::ticks::{TICKS_PER_SECOND, to_millis};

use super::state::{PushContext, PushCore};

/// Backlog at which a push begins to lag, and at which it stops lagging, in ticks.
const LAGGING_TICKS: i64 = 3 * TICKS_PER_SECOND / 2;
const CAUGHT_UP_TICKS: i64 = TICKS_PER_SECOND / 2;

/// Evaluates the distance of the last sent unit to the newest one.
pub(super) fn evaluate(core: &mut PushCore, last_sent: Option<i64>, context: &mut PushContext<'_, '_>) {
    let behind = match (context.ring.newest_dts(), last_sent) {
        (Some(newest), Some(last)) => (newest - last).max(0),
        _ => 0,
    };
    let time = Duration::from_millis(u64::try_from(to_millis(behind)).unwrap_or_default());
    core.stats.backlog = time;
    if let Some(cause) = context.overload {
        let cause = cause.clone();
        core.change(|machine, now| machine.on_backlog(Some(cause), now));
    } else if behind > LAGGING_TICKS {
        let message = format!("{} It is {:.1} s behind.", rates(core, context), time.as_secs_f64());
        set_lagging(core, message);
    } else if behind < CAUGHT_UP_TICKS {
        set_caught_up(core);
    }
}

/// Returns a sentence with the required and the actual bit rate.
pub(super) fn rates(core: &mut PushCore, context: &mut PushContext<'_, '_>) -> String {
    let carried = core.stats.rate.kbps(context.now);
    let needed = context.stats.video(context.now).map_or(0, |video| video.kbps);
    format!(
        "The network path to this destination carries {carried} kbit/s and the push needs {needed} kbit/s."
    )
}

pub(super) fn set_lagging(core: &mut PushCore, message: String) {
    let cause = Cause::new(CauseCode::PushTooSlow, message);
    core.change(|machine, now| machine.on_backlog(Some(cause), now));
}

fn set_caught_up(core: &mut PushCore) {
    if core.machine.state() == PushState::Lagging {
        core.change(|machine, now| machine.on_backlog(None, now));
    }
}
