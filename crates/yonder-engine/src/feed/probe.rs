//! Probes of an absent camera.

use std::net::SocketAddr;
use std::time::Duration;

use tokio::time::{Instant, sleep_until, timeout};
use yonder_rtsp::CameraUrl;

use crate::children::{Child, ChildEvent, Children};
use crate::connect;

/// Time for which a resolved address is reused.
const ADDRESS_TTL: Duration = Duration::from_secs(5);

/// Spawns a child that reports [`ChildEvent::CameraAnswered`] once the camera accepts a TCP connection, which is closed
/// at once.
pub(super) fn start(url: CameraUrl, interval: Duration, children: &mut Children) -> Child {
    children.spawn(probe(url, interval), |panic| {
        tracing::error!(panic, "probe of a camera panicked");
        ChildEvent::Done
    })
}

async fn probe(url: CameraUrl, interval: Duration) -> ChildEvent {
    let CameraUrl { host, port, .. } = url;
    let mut addresses: Vec<SocketAddr> = Vec::new();
    let mut resolved_at = None::<Instant>;
    loop {
        let began = Instant::now();
        let is_stale = resolved_at.is_none_or(|at| at.elapsed() >= ADDRESS_TTL);
        let answered = async {
            if is_stale && let Ok(found) = connect::resolve(&host, port).await {
                addresses = found;
                resolved_at = Some(began);
            }
            connect::connect(&addresses, None).await.is_ok()
        };
        // A slower camera is reached by the next regular dial.
        if timeout(interval, answered).await == Ok(true) {
            return ChildEvent::CameraAnswered;
        }
        sleep_until(began + interval).await;
    }
}
