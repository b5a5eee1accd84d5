//! `/api/v1/feeds/{name}/preview`: a live preview over a WebSocket (RFC 6455).

use std::time::Duration;

use actix_web::http::header::ORIGIN;
use actix_web::web::{Data, Payload, Query, ServiceConfig};
use actix_web::{HttpRequest, HttpResponse, get, web};
use actix_ws::{Message, MessageStream, Session};
use serde::Deserialize;
use tokio::sync::mpsc;
use tokio::time::interval;
use tokio_stream::StreamExt as _;
use yonder_api::{PreviewEvent, Problem};
use yonder_engine::PreviewMessage;

use super::caller::{Caller, Credential, known, run_read};
use crate::access::Access;
use crate::error::HttpError;
use crate::limits::Limits;
use yonder_service::Service;
use yonder_service::ServiceError;

/// Interval of permission checks.
const LOOK_EVERY: Duration = Duration::from_secs(10);
/// Maximum segments queued for a viewer before some are skipped.
const QUEUE: usize = 120;

pub(super) fn configure(config: &mut ServiceConfig) {
    config.service(preview);
}

/// Selects a stream of a feed.
#[derive(Debug, Deserialize)]
struct PreviewQuery {
    /// Sub stream.
    #[serde(default)]
    sub: bool,
}

/// Streams a live preview over a WebSocket: text messages have the media type and the end, binary messages are segments
/// of fragmented MP4. The pull of a running feed is used; a feed that does not run is pulled while it has viewers, at
/// most a quarter of an hour.
#[utoipa::path(context_path = "/api/v1", tag = "feeds",
    params(("name" = String, Path), ("sub" = Option<bool>, Query, description = "the lighter stream")),
    responses((status = 101, description = "what follows are `PreviewEvent` texts and binary segments", body = PreviewEvent), (status = 404, body = Problem), (status = 429, body = Problem)))]
#[get("/feeds/{name}/preview")]
async fn preview(
    service: Data<Service>,
    limits: Data<Limits>,
    caller: Caller,
    request: HttpRequest,
    (name, query): (web::Path<String>, Query<PreviewQuery>),
    body: Payload,
) -> Result<HttpResponse, actix_web::Error> {
    check_origin(&request)?;
    let open = limits.previews.open(&caller.name)?;
    let is_sub = query.sub;
    let spec = run_read(&service, move |service| service.previews().stream_spec(&name, is_sub)).await?;
    let (response, session, messages) = actix_ws::handle(&request, body)?;
    let (viewer, segments) = mpsc::channel(QUEUE);
    // Sockets belong to the engine's runtime.
    let engine = service.engine().clone();
    service.engine().runtime().spawn(async move { engine.preview(spec, viewer).await });
    actix_web::rt::spawn(async move {
        forward(service, caller.credential, (session, messages), segments).await;
        drop(open);
    });
    Ok(response)
}

/// Refuses requests from pages of other sites, which browsers allow to open web sockets with this site's cookie
/// (RFC 6455, 10.2).
fn check_origin(request: &HttpRequest) -> Result<(), HttpError> {
    let Some(origin) = request.headers().get(ORIGIN) else { return Ok(()) };
    let is_own = Access::of(request).is_own_origin(origin.to_str().unwrap_or_default(), request);
    if is_own { Ok(()) } else { Err(ServiceError::TokenMissing.into()) }
}

/// Runs until the viewer or the stream ends, or the viewer loses the permission. Dropping the segments ends the lease
/// of the stream.
async fn forward(
    service: Data<Service>,
    credential: Credential,
    (mut session, mut messages): (Session, MessageStream),
    mut segments: mpsc::Receiver<PreviewMessage>,
) {
    let mut looks = interval(LOOK_EVERY);
    looks.reset();
    loop {
        tokio::select! {
            _ = looks.tick() => {
                if known(&service, credential.clone()).await.is_err() {
                    break;
                }
            }
            message = messages.next() => match message {
                Some(Ok(Message::Ping(payload))) => {
                    if session.pong(&payload).await.is_err() {
                        return;
                    }
                }
                Some(Ok(Message::Close(_)) | Err(_)) | None => return,
                Some(Ok(_)) => {}
            },
            segment = segments.recv() => {
                let Some(segment) = segment else { break };
                if send_message(&mut session, segment).await.is_err() {
                    return;
                }
            }
        }
    }
    // The viewer may have closed at the same moment.
    let _closed = session.close(None).await;
}

async fn send_message(session: &mut Session, message: PreviewMessage) -> Result<(), actix_ws::Closed> {
    let event = match message {
        PreviewMessage::Segment(segment) => return session.binary(segment).await,
        PreviewMessage::Type(mime) => PreviewEvent::Type { mime },
        PreviewMessage::Ended(cause) => {
            PreviewEvent::Ended { cause: cause.map(|cause| Box::new(yonder_service::cause_facts(cause))) }
        }
    };
    session.text(serde_json::to_string(&event).unwrap_or_default()).await
}
