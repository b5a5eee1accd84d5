//! `/api/v1/patterns`

use actix_web::web::{Data, Json, Path, Query, ServiceConfig};
use actix_web::{HttpRequest, HttpResponse, delete, get, post, put};
use yonder_api::{Feed, Pattern, PatternFeeds, Problem, StoredPattern};
use yonder_store::RecordKind;

use super::caller::{Admin, Authorized as _, Caller, run_audited, run_read};
use super::json::created;
use crate::error::HttpError;
use crate::page::PageRequest;
use yonder_service::Service;

pub(super) fn configure(config: &mut ServiceConfig) {
    config.service(list).service(add).service(show).service(edit).service(remove).service(add_feeds);
}

/// Returns all patterns by name.
#[utoipa::path(context_path = "/api/v1", tag = "patterns", params(PageRequest),
    responses((status = 200, body = [StoredPattern])))]
#[get("/patterns")]
async fn list(
    service: Data<Service>,
    _caller: Caller,
    request: HttpRequest,
    page: Query<PageRequest>,
) -> Result<HttpResponse, HttpError> {
    let patterns = run_read(&service, |service| service.records().patterns()).await?;
    page.respond(&request, &patterns, |item| &item.name)
}

/// Adds a pattern.
#[utoipa::path(context_path = "/api/v1", tag = "patterns", request_body = Pattern,
    responses((status = 201, body = StoredPattern), (status = 409, body = Problem), (status = 422, body = Problem)))]
#[post("/patterns")]
async fn add(service: Data<Service>, admin: Admin, new: Json<Pattern>) -> Result<HttpResponse, HttpError> {
    let pattern =
        run_audited(&service, admin.change("added", RecordKind::Pattern, &new.name), move |transaction| {
            transaction.add_pattern(new.into_inner())
        })
        .await?;
    Ok(created("patterns", &pattern.name, &pattern))
}

/// Returns a pattern.
#[utoipa::path(context_path = "/api/v1", tag = "patterns", params(("name" = String, Path)),
    responses((status = 200, body = StoredPattern), (status = 404, body = Problem)))]
#[get("/patterns/{name}")]
async fn show(
    service: Data<Service>,
    _caller: Caller,
    name: Path<String>,
) -> Result<Json<StoredPattern>, HttpError> {
    run_read(&service, move |service| service.records().pattern(&name)).await.map(Json)
}

/// Replaces a pattern.
#[utoipa::path(context_path = "/api/v1", tag = "patterns", params(("name" = String, Path)), request_body = Pattern,
    responses((status = 200, body = StoredPattern), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
#[put("/patterns/{name}")]
async fn edit(
    service: Data<Service>,
    admin: Admin,
    name: Path<String>,
    new: Json<Pattern>,
) -> Result<Json<StoredPattern>, HttpError> {
    run_audited(&service, admin.change("changed", RecordKind::Pattern, &name), move |transaction| {
        transaction.edit_pattern(&name, new.into_inner())
    })
    .await
    .map(Json)
}

/// Removes a pattern.
#[utoipa::path(context_path = "/api/v1", tag = "patterns", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
#[delete("/patterns/{name}")]
async fn remove(service: Data<Service>, admin: Admin, name: Path<String>) -> Result<HttpResponse, HttpError> {
    run_audited(&service, admin.change("removed", RecordKind::Pattern, &name), move |transaction| {
        transaction.remove_pattern(&name)
    })
    .await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Creates feeds from a pattern: one, or one per channel of a recorder; all or none.
#[utoipa::path(context_path = "/api/v1", tag = "patterns", params(("name" = String, Path)), request_body = PatternFeeds,
    responses((status = 201, body = [Feed]), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
#[post("/patterns/{name}/feeds")]
async fn add_feeds(
    service: Data<Service>,
    admin: Admin,
    name: Path<String>,
    new: Json<PatternFeeds>,
) -> Result<HttpResponse, HttpError> {
    let feeds =
        run_audited(&service, admin.change("filled-in", RecordKind::Pattern, &name), move |transaction| {
            transaction.add_pattern_feeds(&name, &new)
        })
        .await?;
    Ok(HttpResponse::Created().json(feeds))
}
