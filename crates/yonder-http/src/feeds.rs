//! `/api/v1/feeds`

use actix_web::web::{Data, Json, Path, Query, ServiceConfig};
use actix_web::{HttpRequest, HttpResponse, delete, get, patch, post};
use yonder_api::{Feed, FeedChange, NewFeed, Problem};
use yonder_store::RecordKind;

use super::caller::{Admin, Authorized as _, Caller, run_audited, run_read};
use super::json::created;
use crate::error::HttpError;
use crate::page::PageRequest;
use yonder_service::Service;

pub(super) fn configure(config: &mut ServiceConfig) {
    config.service(list).service(add).service(show).service(edit).service(remove);
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
