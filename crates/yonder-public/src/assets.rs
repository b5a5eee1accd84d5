//! Script and style sheet of the pages, which are compiled in.

use actix_web::http::StatusCode;
use actix_web::web::{Path, ServiceConfig};
use actix_web::{HttpRequest, HttpResponse, routes};
use rust_embed::RustEmbed;

use crate::respond;

#[derive(RustEmbed)]
#[folder = "$YONDER_WATCH"]
struct Files;

pub(super) fn configure(config: &mut ServiceConfig) {
    config.service(asset);
}

#[routes]
#[get("/assets/{name}")]
#[head("/assets/{name}")]
async fn asset(request: HttpRequest, name: Path<String>) -> HttpResponse {
    let Some(file) = Files::get(&name) else { return respond::no_such_file() };
    // Names with a hash, of the player library, never change their content.
    let caching =
        if name.contains('-') { "public, max-age=31536000, immutable" } else { "public, max-age=300" };
    let kind = mime_guess::from_path(&*name).first_or_octet_stream();
    respond::text(&request, respond::response(StatusCode::OK, kind.as_ref(), caching), file.data.into_owned())
}
