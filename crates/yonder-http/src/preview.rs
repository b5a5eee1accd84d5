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

use super::caller::{Caller, Credential, known, reading};
use crate::access::Access;
use crate::error::HttpError;
use crate::limits::Limits;
use yonder_service::Service;
use yonder_service::ServiceError;

/// How often it is seen whether the viewer still may.
const LOOK_EVERY: Duration = Duration::from_secs(10);
/// Segments that a viewer may be behind before it misses some.
const QUEUE: usize = 120;

pub(super) fn configure(config: &mut ServiceConfig) {
    config.service(preview);
}

/// Which stream of a feed.
#[derive(Debug, Deserialize)]
struct PreviewQuery {
    /// The lighter stream.
    #[serde(default)]
    sub: bool,
}

/// A live preview over a WebSocket: texts tell the media type and the end, binary messages are segments of fragmented
/// MP4. It is taken from the pull that runs; a feed that does not run is pulled for as long as somebody watches, at
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
    let spec = reading(&service, move |service| service.previews().stream_spec(&name, is_sub)).await?;
    let (response, session, messages) = actix_ws::handle(&request, body)?;
    let (viewer, segments) = mpsc::channel(QUEUE);
    // Media runs on the engine's own threads.
    let engine = service.engine().clone();
    service.engine().runtime().spawn(async move { engine.preview(spec, viewer).await });
    actix_web::rt::spawn(async move {
        forward(service, caller.credential, (session, messages), segments).await;
        drop(open);
    });
    Ok(response)
}

/// A page of another site must not open previews with a cookie of this one: browsers tell where a page is from, and
/// allow connections of this kind to anywhere (RFC 6455, 10.2).
fn check_origin(request: &HttpRequest) -> Result<(), HttpError> {
    let Some(origin) = request.headers().get(ORIGIN) else { return Ok(()) };
    let is_own = Access::of(request).is_own_origin(origin.to_str().unwrap_or_default(), request);
    if is_own { Ok(()) } else { Err(ServiceError::TokenMissing.into()) }
}

/// Runs until the viewer or the stream ends, or the viewer is not allowed any more. Dropping the segments is what
/// tells the engine that nobody watches.
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
                if tell(&mut session, segment).await.is_err() {
                    return;
                }
            }
        }
    }
    // The viewer may have closed at the same moment.
    let _closed = session.close(None).await;
}

async fn tell(session: &mut Session, message: PreviewMessage) -> Result<(), actix_ws::Closed> {
    let event = match message {
        PreviewMessage::Segment(segment) => return session.binary(segment).await,
        PreviewMessage::Type(mime) => PreviewEvent::Type { mime },
        PreviewMessage::Ended(cause) => {
            PreviewEvent::Ended { cause: cause.map(|cause| Box::new(yonder_service::cause_facts(cause))) }
        }
    };
    session.text(serde_json::to_string(&event).unwrap_or_default()).await
}
