//! Probe of an absent camera.

use std::net::SocketAddr;
use std::time::Duration;

use tokio::time::{Instant, sleep_until, timeout};
use yonder_rtsp::CameraUrl;

use crate::children::{Child, ChildEvent, Children};
use crate::dial;

/// Probes reuse the addresses of a name for this long.
const ADDRESS_TTL: Duration = Duration::from_secs(5);

/// Starts a child that reports [`ChildEvent::CameraAnswered`] once the camera accepts a TCP connection, which is closed at once.
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
            if is_stale && let Ok(found) = dial::resolve(&host, port).await {
                addresses = found;
                resolved_at = Some(began);
            }
            dial::connect(&addresses, None).await.is_ok()
        };
        // A camera that takes longer to accept is dialed in its turn, which comes as soon.
        if timeout(interval, answered).await == Ok(true) {
            return ChildEvent::CameraAnswered;
        }
        sleep_until(began + interval).await;
    }
}
