//! Web console, whose files are compiled in.

use std::collections::HashMap;
use std::io::Write as _;
use std::sync::LazyLock;

use actix_web::http::header::{
    ACCEPT_ENCODING, CACHE_CONTROL, CONTENT_ENCODING, CONTENT_SECURITY_POLICY, HeaderName, REFERRER_POLICY,
    VARY, X_CONTENT_TYPE_OPTIONS,
};
use actix_web::web::Bytes;
use actix_web::{HttpRequest, HttpResponse};
use flate2::Compression;
use flate2::write::GzEncoder;
use rust_embed::RustEmbed;

use parking_lot::Mutex;

#[derive(RustEmbed)]
#[folder = "$YONDER_CONSOLE"]
struct Files;

/// Content security policy: no external sources. Positioned menus need inline styles.
const POLICY: &str = "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data: blob:; \
    media-src 'self' blob:; object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'";

/// Compressed files, filled on demand and bounded by the number of embedded files.
static COMPRESSED: LazyLock<Mutex<HashMap<String, Bytes>>> = LazyLock::new(Mutex::default);

/// Returns true if the client accepts gzip (RFC 9110, 12.5.3).
#[must_use]
pub fn accepts_gzip(request: &HttpRequest) -> bool {
    let header = request.headers().get(ACCEPT_ENCODING).and_then(|value| value.to_str().ok());
    header.is_some_and(|value| {
        value.split(',').any(|one| one.trim().starts_with("gzip") && !one.trim().ends_with("q=0"))
    })
}

/// Serves a file of the console; other addresses are pages of it.
pub(super) async fn serve(request: HttpRequest) -> HttpResponse {
    let path = request.path().trim_start_matches('/');
    let takes_gzip = accepts_gzip(&request);
    match Files::get(path) {
        Some(file) => answer(path, file.data.into_owned(), takes_gzip),
        // A missing asset must not be answered with a page.
        None if path.starts_with("assets/") => HttpResponse::NotFound().finish(),
        None => match Files::get("index.html") {
            Some(page) => answer("index.html", page.data.into_owned(), takes_gzip),
            None => HttpResponse::NotFound().finish(),
        },
    }
}

fn answer(path: &str, data: Vec<u8>, takes_gzip: bool) -> HttpResponse {
    // Assets are named by their content.
    let caching =
        if path.starts_with("assets/") { "public, max-age=31536000, immutable" } else { "no-cache" };
    let mut response = HttpResponse::Ok();
    response
        .content_type(mime_guess::from_path(path).first_or_octet_stream().as_ref())
        .insert_header((CACHE_CONTROL, caching))
        .insert_header((VARY, "Accept-Encoding"))
        .insert_header((CONTENT_SECURITY_POLICY, POLICY))
        .insert_header((X_CONTENT_TYPE_OPTIONS, "nosniff"))
        .insert_header((REFERRER_POLICY, "no-referrer"))
        .insert_header((HeaderName::from_static("cross-origin-opener-policy"), "same-origin"));
    // Fonts are already compressed.
    let is_text = [".js", ".css", ".html", ".svg"].iter().any(|ending| path.ends_with(ending));
    if takes_gzip && is_text {
        response.insert_header((CONTENT_ENCODING, "gzip"));
        return response.body(compressed(path, &data));
    }
    response.body(data)
}

fn compressed(path: &str, data: &[u8]) -> Bytes {
    let mut all = COMPRESSED.lock();
    all.entry(path.to_owned())
        .or_insert_with(|| {
            let mut packed = GzEncoder::new(Vec::new(), Compression::best());
            // Writing to memory cannot fail.
            let written = packed.write_all(data).and_then(|()| packed.finish());
            written.unwrap_or_default().into()
        })
        .clone()
}

#[cfg(test)]
mod tests {
    use actix_web::test::TestRequest;

    use super::*;

    #[test]
    fn gzip_is_used_where_it_is_accepted() {
        let with = |value: &str| {
            accepts_gzip(&TestRequest::default().insert_header((ACCEPT_ENCODING, value)).to_http_request())
        };
        assert!(with("br, gzip") && !with("br") && !with("gzip;q=0"));
    }
}
