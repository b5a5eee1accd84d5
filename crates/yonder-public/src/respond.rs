//! Responses: headers, compression, and the page for unknown addresses.

use std::io::Write as _;

use actix_web::http::StatusCode;
use actix_web::http::header::{
    ACCESS_CONTROL_ALLOW_ORIGIN, CACHE_CONTROL, CONTENT_ENCODING, CONTENT_SECURITY_POLICY, CONTENT_TYPE,
    HeaderName, REFERRER_POLICY, VARY, X_CONTENT_TYPE_OPTIONS,
};
use actix_web::{HttpRequest, HttpResponse, HttpResponseBuilder};
use flate2::Compression;
use flate2::write::GzEncoder;
use yonder_http::accepts_gzip;

use crate::pages;

/// Smallest text that is compressed, in bytes.
const MIN_COMPRESSED: usize = 400;

/// Sites that may show a page in a frame.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Frames {
    /// No site.
    None,
    /// Every site.
    All,
}

/// Returns a response with the headers of all responses.
pub(super) fn response(status: StatusCode, content_type: &str, caching: &str) -> HttpResponseBuilder {
    let mut response = HttpResponse::build(status);
    response
        .insert_header((CONTENT_TYPE, content_type))
        .insert_header((CACHE_CONTROL, caching))
        .insert_header((X_CONTENT_TYPE_OPTIONS, "nosniff"))
        .insert_header((REFERRER_POLICY, "no-referrer"));
    response
}

/// Returns the content security policy of a page: its own files, and streams of this server.
fn policy(frames: Frames) -> String {
    let ancestors = if frames == Frames::All { "*" } else { "'none'" };
    format!(
        "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self'; media-src 'self' blob:; \
         connect-src 'self'; worker-src 'self' blob:; base-uri 'none'; form-action 'none'; frame-ancestors {ancestors}"
    )
}

/// Answers with a page.
pub(super) fn page(request: &HttpRequest, status: StatusCode, frames: Frames, html: String) -> HttpResponse {
    let mut response = response(status, "text/html; charset=utf-8", "public, max-age=10");
    response.insert_header((CONTENT_SECURITY_POLICY, policy(frames))).insert_header((
        HeaderName::from_static("permissions-policy"),
        "camera=(), microphone=(), geolocation=(), payment=()",
    ));
    text(request, response, html.into_bytes())
}

/// Answers with a text that every site may read, such as a playlist.
pub(super) fn open_text(
    request: &HttpRequest,
    content_type: &str,
    caching: &str,
    content: String,
) -> HttpResponse {
    let mut response = response(StatusCode::OK, content_type, caching);
    response.insert_header((ACCESS_CONTROL_ALLOW_ORIGIN, "*"));
    text(request, response, content.into_bytes())
}

/// Answers with a text, compressed if that pays and the client accepts it.
pub(super) fn text(
    request: &HttpRequest,
    mut response: HttpResponseBuilder,
    content: Vec<u8>,
) -> HttpResponse {
    response.insert_header((VARY, "Accept-Encoding"));
    if content.len() < MIN_COMPRESSED || !accepts_gzip(request) {
        return response.body(content);
    }
    let mut packed = GzEncoder::new(Vec::new(), Compression::fast());
    match packed.write_all(&content).and_then(|()| packed.finish()) {
        Ok(packed) => response.insert_header((CONTENT_ENCODING, "gzip")).body(packed),
        Err(_) => response.body(content),
    }
}

/// Handles requests for unknown addresses.
pub(super) async fn no_such_page(request: HttpRequest) -> HttpResponse {
    not_found(&request)
}

/// Returns the page for an unknown address.
pub(super) fn not_found(request: &HttpRequest) -> HttpResponse {
    page(request, StatusCode::NOT_FOUND, Frames::All, pages::unknown_page())
}

/// Answers a file that is not there, such as a segment that was removed.
pub(super) fn no_such_file() -> HttpResponse {
    response(StatusCode::NOT_FOUND, "text/plain; charset=utf-8", "public, max-age=1")
        .insert_header((ACCESS_CONTROL_ALLOW_ORIGIN, "*"))
        .body("There is no such file.\n")
}
