//! The console: its files are part of the program.

use actix_web::http::header::{
    CACHE_CONTROL, CONTENT_SECURITY_POLICY, HeaderName, REFERRER_POLICY, X_CONTENT_TYPE_OPTIONS,
};
use actix_web::{HttpRequest, HttpResponse};
use rust_embed::RustEmbed;

#[derive(RustEmbed)]
#[folder = "$YONDER_CONSOLE"]
struct Files;

/// Nothing leaves the service, and nothing from elsewhere comes in. Positioned menus need inline styles.
const POLICY: &str = "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data: blob:; \
    media-src 'self' blob:; object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'";

/// A file of the console; every other address is a page of it.
pub(super) async fn serve(request: HttpRequest) -> HttpResponse {
    let path = request.path().trim_start_matches('/');
    match Files::get(path) {
        Some(file) => answer(path, file.data.into_owned()),
        // A missing asset must not come back as a page.
        None if path.starts_with("assets/") => HttpResponse::NotFound().finish(),
        None => match Files::get("index.html") {
            Some(page) => answer("index.html", page.data.into_owned()),
            None => HttpResponse::NotFound().finish(),
        },
    }
}

fn answer(path: &str, data: Vec<u8>) -> HttpResponse {
    // The names of assets change with their content.
    let caching =
        if path.starts_with("assets/") { "public, max-age=31536000, immutable" } else { "no-cache" };
    HttpResponse::Ok()
        .content_type(mime_guess::from_path(path).first_or_octet_stream().as_ref())
        .insert_header((CACHE_CONTROL, caching))
        .insert_header((CONTENT_SECURITY_POLICY, POLICY))
        .insert_header((X_CONTENT_TYPE_OPTIONS, "nosniff"))
        .insert_header((REFERRER_POLICY, "no-referrer"))
        .insert_header((HeaderName::from_static("cross-origin-opener-policy"), "same-origin"))
        .body(data)
}
