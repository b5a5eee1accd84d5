//! HLS stream of a signpost.

use std::sync::Arc;

use actix_web::http::StatusCode;
use actix_web::http::header::{ACCESS_CONTROL_ALLOW_ORIGIN, RETRY_AFTER};
use actix_web::web::{Data, Path, ServiceConfig};
use actix_web::{HttpRequest, HttpResponse, routes};
use bytes::Bytes;
use futures_util::stream;
use yonder_media::hls::{LiveWindow, PLAYLIST_TYPE, master_playlist, media_playlist};
use yonder_service::{Refusal, Service};

use crate::request::viewer;
use crate::respond;

/// Time for which a media playlist may be stored: it changes with each segment.
const PLAYLIST_CACHING: &str = "public, max-age=1";
/// The same for segments, which never change.
const SEGMENT_CACHING: &str = "public, max-age=600, immutable";
/// Media type of segments.
const SEGMENT_TYPE: &str = "video/mp4";
/// Seconds after which a refused viewer may try again.
const RETRY_S: u32 = 30;

pub(super) fn configure(config: &mut ServiceConfig) {
    config.service(master).service(media).service(init).service(segment);
}

/// Master playlist.
#[routes]
#[get("/w/{alias}/live.m3u8")]
#[head("/w/{alias}/live.m3u8")]
async fn master(service: Data<Service>, request: HttpRequest, alias: Path<String>) -> HttpResponse {
    let Some(window) = service.sharing().stream(&alias) else { return respond::no_such_file() };
    if let Err(refusal) = service.sharing().admit(&alias, viewer(&request)) {
        return refused(refusal);
    }
    let Some(mut playlist) = master_playlist(&window) else { return respond::no_such_file() };
    // The media playlist is requested with the same session, so that the viewer counts once.
    let query = request.query_string();
    if query.starts_with("viewer=") && query.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'=')
    {
        playlist = playlist.replace(".m3u8\n", &format!(".m3u8?{query}\n"));
    }
    respond::open_text(&request, PLAYLIST_TYPE, PLAYLIST_CACHING, playlist)
}

/// Media playlist of a stream with a target duration.
#[routes]
#[get("/w/{alias}/media-{stream}-{target}.m3u8")]
#[head("/w/{alias}/media-{stream}-{target}.m3u8")]
async fn media(service: Data<Service>, request: HttpRequest, path: Path<(String, u64, u64)>) -> HttpResponse {
    let (alias, stream, target) = path.into_inner();
    let window = service.sharing().stream(&alias);
    let window = window.filter(|window| window.id() == stream && window.target_s() == target);
    let Some(window) = window else { return respond::no_such_file() };
    if let Err(refusal) = service.sharing().admit(&alias, viewer(&request)) {
        return refused(refusal);
    }
    match media_playlist(&window) {
        Some(playlist) => {
            service.sharing().count_bytes(&alias, playlist.len());
            respond::open_text(&request, PLAYLIST_TYPE, PLAYLIST_CACHING, playlist)
        }
        None => respond::no_such_file(),
    }
}

/// Initialization section.
#[routes]
#[get("/w/{alias}/init-{number}.mp4")]
#[head("/w/{alias}/init-{number}.mp4")]
async fn init(service: Data<Service>, path: Path<(String, u64)>) -> HttpResponse {
    let (alias, number) = path.into_inner();
    let window = service.sharing().stream(&alias);
    let bytes = window.and_then(|window| window.init(number).map(|init| init.bytes.clone()));
    match bytes {
        Some(bytes) => file(&service, &alias, vec![bytes]),
        None => respond::no_such_file(),
    }
}

/// Media segment.
#[routes]
#[get("/w/{alias}/segment-{number}.m4s")]
#[head("/w/{alias}/segment-{number}.m4s")]
async fn segment(service: Data<Service>, path: Path<(String, u64)>) -> HttpResponse {
    let (alias, number) = path.into_inner();
    let window: Option<Arc<LiveWindow>> = service.sharing().stream(&alias);
    let pieces = window.and_then(|window| window.segment(number).map(|segment| segment.pieces.clone()));
    match pieces {
        Some(pieces) => file(&service, &alias, pieces),
        None => respond::no_such_file(),
    }
}

/// Answers with a file in pieces, which are shared by all viewers.
fn file(service: &Service, alias: &str, pieces: Vec<Bytes>) -> HttpResponse {
    let size: usize = pieces.iter().map(Bytes::len).sum();
    service.sharing().count_bytes(alias, size);
    let pieces = stream::iter(pieces.into_iter().map(Ok::<_, actix_web::Error>));
    respond::response(StatusCode::OK, SEGMENT_TYPE, SEGMENT_CACHING)
        .insert_header((ACCESS_CONTROL_ALLOW_ORIGIN, "*"))
        .no_chunking(u64::try_from(size).unwrap_or_default())
        .streaming(pieces)
}

fn refused(refusal: Refusal) -> HttpResponse {
    let text = match refusal {
        Refusal::Viewers => {
            "There are as many viewers as this page serves at a time. Try again in a moment.\n"
        }
        Refusal::Traffic => "This page has served as much as it may today.\n",
    };
    respond::response(StatusCode::SERVICE_UNAVAILABLE, "text/plain; charset=utf-8", "no-store")
        .insert_header((ACCESS_CONTROL_ALLOW_ORIGIN, "*"))
        .insert_header((RETRY_AFTER, RETRY_S))
        .body(text)
}
