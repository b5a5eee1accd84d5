//! `/api/v1/feeds`

use actix_web::web::{Data, Json, Path, Query, ServiceConfig};
use actix_web::{HttpRequest, HttpResponse, delete, get, patch, post};
use yonder_api::{Feed, FeedChange, IngestRekey, NewFeed, Problem, RevealedIngest};
use yonder_store::RecordKind;

use super::caller::{Admin, Authorized as _, Caller, Operator, run_audited, run_audited_action, run_read};
use super::json::created;
use crate::error::HttpError;
use crate::page::PageRequest;
use yonder_service::Service;

pub(super) fn configure(config: &mut ServiceConfig) {
    config
        .service(list)
        .service(add)
        .service(show)
        .service(edit)
        .service(rekey)
        .service(reveal)
        .service(remove);
}

/// Returns all feeds by name.
#[utoipa::path(context_path = "/api/v1", tag = "feeds", params(PageRequest),
    responses((status = 200, body = [Feed])))]
#[get("/feeds")]
async fn list(
    service: Data<Service>,
    _caller: Caller,
    request: HttpRequest,
    page: Query<PageRequest>,
) -> Result<HttpResponse, HttpError> {
    let feeds = run_read(&service, |service| service.records().feeds()).await?;
    page.respond(&request, &feeds, |item| &item.name)
}

/// Adds a feed.
#[utoipa::path(context_path = "/api/v1", tag = "feeds", request_body = NewFeed,
    responses((status = 201, body = Feed), (status = 409, body = Problem), (status = 422, body = Problem)))]
#[post("/feeds")]
async fn add(service: Data<Service>, admin: Admin, new: Json<NewFeed>) -> Result<HttpResponse, HttpError> {
    let feed =
        run_audited(&service, admin.change("added", RecordKind::Feed, &new.name), move |transaction| {
            transaction.add_feed(new.into_inner())
        })
        .await?;
    Ok(created("feeds", &feed.name, &feed))
}

/// Returns a feed.
#[utoipa::path(context_path = "/api/v1", tag = "feeds", params(("name" = String, Path)),
    responses((status = 200, body = Feed), (status = 404, body = Problem)))]
#[get("/feeds/{name}")]
async fn show(service: Data<Service>, _caller: Caller, name: Path<String>) -> Result<Json<Feed>, HttpError> {
    run_read(&service, move |service| service.records().feed(&name)).await.map(Json)
}

/// Changes a feed.
#[utoipa::path(context_path = "/api/v1", tag = "feeds", params(("name" = String, Path)), request_body = FeedChange,
    responses((status = 200, body = Feed), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
#[patch("/feeds/{name}")]
async fn edit(
    service: Data<Service>,
    admin: Admin,
    name: Path<String>,
    change: Json<FeedChange>,
) -> Result<Json<Feed>, HttpError> {
    run_audited(&service, admin.change("changed", RecordKind::Feed, &name), move |transaction| {
        transaction.edit_feed(&name, change.into_inner())
    })
    .await
    .map(Json)
}

/// Replaces the stream key of a feed that encoders publish to. An encoder that publishes stays connected.
#[utoipa::path(context_path = "/api/v1", tag = "feeds", params(("name" = String, Path)), request_body = IngestRekey,
    responses((status = 200, body = Feed), (status = 404, body = Problem), (status = 422, body = Problem)))]
#[post("/feeds/{name}/rekey")]
async fn rekey(
    service: Data<Service>,
    operator: Operator,
    name: Path<String>,
    request: Json<IngestRekey>,
) -> Result<Json<Feed>, HttpError> {
    run_audited(&service, operator.change("rekeyed", RecordKind::Feed, &name), move |transaction| {
        transaction.rekey_feed(&name, &request)
    })
    .await
    .map(Json)
}

/// Returns addresses, stream key and passphrase for an encoder in clear. Every call is audited.
#[utoipa::path(context_path = "/api/v1", tag = "feeds", params(("name" = String, Path)),
    responses((status = 200, body = RevealedIngest), (status = 404, body = Problem), (status = 422, body = Problem)))]
#[post("/feeds/{name}/reveal")]
async fn reveal(
    service: Data<Service>,
    admin: Admin,
    name: Path<String>,
) -> Result<Json<RevealedIngest>, HttpError> {
    let act = admin.change("key-revealed", RecordKind::Feed, &name);
    run_audited_action(&service, act, move |service| service.ingest().reveal(&name)).await.map(Json)
}

/// Removes an unused feed.
#[utoipa::path(context_path = "/api/v1", tag = "feeds", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[delete("/feeds/{name}")]
async fn remove(service: Data<Service>, admin: Admin, name: Path<String>) -> Result<HttpResponse, HttpError> {
    run_audited(&service, admin.change("removed", RecordKind::Feed, &name), move |transaction| {
        transaction.remove_feed(&name)
    })
    .await?;
    Ok(HttpResponse::NoContent().finish())
}
