//! One delivery: dial the platform, run the dialogue, and send what the hub holds, by the protocol that the
//! server speaks.

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
use crate::spec::Way;
use crate::view::StepView;

use super::Push;

/// A platform that takes nothing for so long is gone.
const NO_PROGRESS: Duration = Duration::from_secs(10);
/// An orderly end may take this long.
const CLOSE_PATIENCE: Duration = Duration::from_millis(1500);
/// How often the backlog is looked at.
const TICK: Duration = Duration::from_secs(1);
/// Better ways are looked at so often while another is in use; oftener when they have to settle for less.
const LOOK_EVERY: Duration = Duration::from_secs(15);

/// How a delivery ended in order.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum End {
    /// Nobody wants it any more.
    Unwanted,
    /// It dials anew at once: by a better way, or for a new broadcast.
    Returning,
}

/// Runs until the platform ends it (an error), the push is unwanted, or it returns to a better way.
pub(super) async fn run(push: &Arc<Push>) -> Result<End, Cause> {
    {
        let mut figures = lock(&push.figures);
        figures.steps.clear();
        figures.link = None;
    }
    let Some((way, better)) = push.ways_up_to_mine().split_last() else {
        return Err(Cause::new(CauseCode::PushInternal, "There is no way to this destination."));
    };
    let result = match &way.server {
        ServerAddress::Rtmp(server) => rtmp::run(push, server, way, better).await,
        ServerAddress::Srt(server) => srt::run(push, server, way, better).await,
    };
    lock(&push.figures).backlog = Duration::ZERO;
    result
}

/// Resolves when the delivery is to end in order.
async fn ended(push: &Push, better: &[Way]) -> End {
    tokio::select! {
        () = push.hung_up() => End::Unwanted,
        () = push.rolled_over() => End::Returning,
        () = settled(push, better), if !better.is_empty() => End::Returning,
    }
}

/// Looks at better ways now and then, and resolves when one has been usable for long enough.
async fn settled(push: &Push, better: &[Way]) {
    let pause = LOOK_EVERY.min(push.spec.return_after / 4).max(Duration::from_millis(100));
    loop {
        sleep(pause).await;
        for (number, way) in better.iter().enumerate() {
            let uplink = way.uplink.as_ref();
            let usable = reach::knock(&way.server, push.spec.authority.as_ref(), uplink).await.is_ok();
            if push.note_way_seen(number, usable) {
                return;
            }
        }
    }
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
