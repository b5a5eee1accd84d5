//! One delivery: connects to the platform, runs the dialogue and sends the output's units, by RTMP or SRT.

mod backlog;
mod rtmp;
mod srt;

use std::sync::Arc;
use std::time::Duration;

use tokio::time::sleep;
use yonder_address::ServerAddress;
use yonder_core::{Cause, CauseCode};

use crate::dial;
use crate::feed::lock;
use crate::reach;
use crate::view::StepView;

use super::Push;

/// A platform that takes nothing for so long is gone.
const NO_PROGRESS: Duration = Duration::from_secs(10);
/// An orderly end may take this long.
const CLOSE_PATIENCE: Duration = Duration::from_millis(1500);
/// How often the backlog is looked at.
const TICK: Duration = Duration::from_secs(1);
/// Interval at which better routes are probed while another is in use; shorter for a short failback delay.
const PROBE_INTERVAL: Duration = Duration::from_secs(15);
/// A push that waits this long for a keyframe shows it.
const KEYFRAME_WARNING: Duration = Duration::from_secs(6);

/// How a delivery ended in order.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum End {
    /// The push was disabled.
    Disabled,
    /// It connects again at once: over a better route, or for a new broadcast.
    Returning,
}

/// Runs until the platform ends it (an error), the push is disabled, or it returns to a better route.
pub(super) async fn run(push: &Arc<Push>) -> Result<End, Cause> {
    {
        let mut figures = lock(&push.figures);
        figures.steps.clear();
        figures.link = None;
    }
    let Some(route) = push.route() else {
        return Err(Cause::new(CauseCode::PushInternal, "There is no route to this destination."));
    };
    let result = match &route.server {
        ServerAddress::Rtmp(server) => rtmp::run(push, server, route.uplink.as_ref()).await,
        ServerAddress::Srt(server) => srt::run(push, server, route.uplink.as_ref()).await,
    };
    lock(&push.figures).backlog = Duration::ZERO;
    result
}

/// Resolves when the delivery is to end in order.
async fn wait_for_end(push: &Push) -> End {
    tokio::select! {
        () = push.hung_up() => End::Disabled,
        () = push.rolled_over() => End::Returning,
        () = wait_for_failback(push) => End::Returning,
    }
}

/// Probes better routes now and then, and resolves when it is time to return to one. Routes may change meanwhile.
async fn wait_for_failback(push: &Push) {
    loop {
        let (_, delay) = push.better_routes();
        sleep(PROBE_INTERVAL.min(delay / 4).max(Duration::from_millis(100))).await;
        let (better, _) = push.better_routes();
        for (number, route) in better.iter().enumerate() {
            let uplink = route.uplink.as_ref();
            let probed = reach::probe(&route.server, push.spec.authority.as_ref(), uplink).await;
            if push.record_probe(number, probed.is_ok()) {
                return;
            }
        }
    }
}

/// Warns while the platform waits for the feed's first keyframe, so that the platform is not blamed when it hangs up.
fn warn_about_keyframe(push: &Push, waited: Duration) {
    if waited >= KEYFRAME_WARNING {
        push.change(|machine, _| machine.on_warning(Some(no_keyframe(waited))));
    }
}

/// Cause of a push that the platform has accepted, but whose feed has no keyframe to begin with.
fn no_keyframe(waited: Duration) -> Cause {
    let message = format!(
        "The platform has accepted the push, but the feed has sent no keyframe for {} s.",
        waited.as_secs()
    );
    Cause::new(CauseCode::FeedNoKeyframe, message)
}

/// The steps of one dial, as they are done.
#[derive(Debug)]
struct Steps {
    push: Arc<Push>,
    began: Duration,
}

impl Steps {
    fn begin(push: &Arc<Push>) -> Self {
        Self { push: Arc::clone(push), began: push.clock.now() }
    }

    fn note(&self, name: &'static str) {
        let after = self.push.clock.now().saturating_sub(self.began);
        lock(&self.push.figures).steps.push(StepView { name, after });
    }

    /// Finds the addresses of a server.
    async fn resolve(&self, host: &str, port: u16) -> Result<Vec<std::net::SocketAddr>, Cause> {
        let found = dial::resolve(host, port).await;
        let found = found.map_err(|error| crate::causes::push_dial(&error, &format!("{host}:{port}")))?;
        self.note("name found");
        Ok(found)
    }
}
