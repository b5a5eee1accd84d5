//! Failback: probes of routes that are better than the one in use.

use std::time::Duration;

use tokio::time::sleep;

use crate::children::{Child, ChildEvent, Children};
use crate::ids::PushId;
use crate::reachability;
use crate::spec::Route;

use super::state::PushCore;

/// Probe interval of better routes; shorter for a short failback delay.
const PROBE_INTERVAL: Duration = Duration::from_secs(15);
const MIN_PROBE_INTERVAL: Duration = Duration::from_millis(100);

/// Spawns a child that probes the better routes periodically, and reports each result.
pub(super) fn start(push: PushId, core: &PushCore, children: &mut Children) -> Child {
    let better: Vec<Route> = core.policy.routes.iter().take(core.machine.route()).cloned().collect();
    let interval = PROBE_INTERVAL.min(core.policy.failback_delay / 4).max(MIN_PROBE_INTERVAL);
    let authority = core.spec.authority.clone();
    let reporter = children.reporter();
    let work = async move {
        loop {
            sleep(interval).await;
            for route in &better {
                let probed =
                    reachability::probe(&route.server, authority.as_ref(), route.uplink.as_ref()).await;
                let route = route.clone();
                reporter.report(ChildEvent::RouteProbed { push, route, is_reachable: probed.is_ok() });
            }
        }
    };
    children.spawn(work, |panic| {
        tracing::error!(panic, "probe of a route panicked");
        ChildEvent::Done
    })
}
