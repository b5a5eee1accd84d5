//! `/api/v1/events`: live changes as server-sent events.

use std::sync::Arc;
use std::time::{Duration, SystemTime};

use actix_web::http::header::{CACHE_CONTROL, HeaderValue};
use actix_web::web::{Bytes, Data, ServiceConfig};
use actix_web::{HttpResponse, get};
use tokio::sync::{broadcast, mpsc};
use tokio::time::interval;
use tokio_stream::StreamExt as _;
use tokio_stream::wrappers::ReceiverStream;
use yonder_api::{Problem, RelayEvent};

use super::caller::{Caller, Credential, known};
use crate::error::HttpError;
use crate::limits::Limits;
use yonder_service::{LiveEvent, Service};

/// Interval of heartbeats, at which the caller's permission is checked as well.
const HEARTBEAT: Duration = Duration::from_secs(10);
/// Maximum events queued for a slow subscriber.
const QUEUE: usize = 64;

pub(super) fn configure(config: &mut ServiceConfig) {
    config.service(events);
}

/// Streams each relay once (`complete`), then all changes, new logbook lines, and statistics once a second. A
/// subscriber that lags too far behind is disconnected, and gets everything again when it reconnects. The stream ends
/// with its session or token.
#[utoipa::path(context_path = "/api/v1", tag = "relays",
    responses((status = 200, body = RelayEvent, content_type = "text/event-stream"), (status = 429, body = Problem)))]
#[get("/events")]
async fn events(
    service: Data<Service>,
    limits: Data<Limits>,
    caller: Caller,
) -> Result<HttpResponse, HttpError> {
    let open = limits.event_streams.open(&caller.name)?;
    let (known, changes) = service.events().subscribe();
    let (sender, receiver) = mpsc::channel(QUEUE);
    actix_web::rt::spawn(async move {
        forward(service, caller.credential, (known, changes), sender).await;
        drop(open);
    });
    let stream = ReceiverStream::new(receiver).map(Ok::<_, std::convert::Infallible>);
    Ok(HttpResponse::Ok()
        .content_type("text/event-stream")
        .insert_header((CACHE_CONTROL, HeaderValue::from_static("no-store")))
        .streaming(stream))
}

/// Runs until the subscriber disconnects, lags, or loses its permission.
async fn forward(
    service: Data<Service>,
    credential: Credential,
    (relays, mut changes): (Vec<LiveEvent>, broadcast::Receiver<LiveEvent>),
    to: mpsc::Sender<Bytes>,
) {
    let complete = serde_json::to_string(&RelayEvent::Complete).unwrap_or_default();
    for event in relays.into_iter().chain([Arc::from(complete)]) {
        if to.send(text(&event)).await.is_err() {
            return;
        }
    }
    let mut heartbeat = interval(HEARTBEAT);
    heartbeat.reset();
    loop {
        let next = tokio::select! {
            () = to.closed() => return,
            event = changes.recv() => match event {
                Ok(event) => text(&event),
                Err(broadcast::error::RecvError::Lagged(_) | broadcast::error::RecvError::Closed) => return,
            },
            _ = heartbeat.tick() => {
                if known(&service, credential.clone()).await.is_err() {
                    return;
                }
                heartbeat_event()
            }
        };
        if to.send(next).await.is_err() {
            return;
        }
    }
}

/// Returns the heartbeat as a message, since browsers do not report comments of the stream.
fn heartbeat_event() -> Bytes {
    let event = RelayEvent::Alive { now: yonder_service::time_text(SystemTime::now()) };
    text(&Arc::from(serde_json::to_string(&event).unwrap_or_default()))
}

fn text(event: &LiveEvent) -> Bytes {
    Bytes::from(format!("data: {event}\n\n"))
}
