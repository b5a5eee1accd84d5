//! `/api/v1/platforms`

use actix_web::web::{Data, Json, Path, Query, ServiceConfig};
use actix_web::{HttpRequest, HttpResponse, delete, get, patch, post};
use yonder_api::{NewPlatform, Platform, PlatformChange, Problem, RuleKind};
use yonder_core::platform::{RULES, Rule};
use yonder_store::RecordKind;

use super::caller::{Admin, Authorized as _, Caller, run_audited, run_read};
use super::json::created;
use crate::error::HttpError;
use crate::page::PageRequest;
use yonder_service::Service;

pub(super) fn configure(config: &mut ServiceConfig) {
    config.service(rules).service(list).service(add).service(show).service(edit).service(remove);
}

/// Returns all rules that a sheet can have, in display order.
#[utoipa::path(context_path = "/api/v1", tag = "platforms", responses((status = 200, body = [RuleKind])))]
#[get("/platform-rules")]
async fn rules(_caller: Caller) -> Json<Vec<RuleKind>> {
    let kind = |rule: &Rule| RuleKind { rule: rule.name.to_owned(), wants: rule.wants.to_owned() };
    Json(RULES.iter().map(kind).collect())
}

/// Returns all platforms by name: built-in and user-defined rule sheets.
#[utoipa::path(context_path = "/api/v1", tag = "platforms", params(PageRequest),
    responses((status = 200, body = [Platform])))]
#[get("/platforms")]
async fn list(
    service: Data<Service>,
    _caller: Caller,
    request: HttpRequest,
    page: Query<PageRequest>,
) -> Result<HttpResponse, HttpError> {
    let platforms = run_read(&service, |service| service.records().platforms()).await?;
    page.respond(&request, &platforms, |item| &item.name)
}

/// Adds a platform, optionally based on another one.
#[utoipa::path(context_path = "/api/v1", tag = "platforms", request_body = NewPlatform,
    responses((status = 201, body = Platform), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
#[post("/platforms")]
async fn add(
    service: Data<Service>,
    admin: Admin,
    new: Json<NewPlatform>,
) -> Result<HttpResponse, HttpError> {
    let platform =
        run_audited(&service, admin.change("added", RecordKind::Platform, &new.name), move |transaction| {
            transaction.add_platform(&new)
        })
        .await?;
    Ok(created("platforms", &platform.name, &platform))
}

/// Returns a platform.
#[utoipa::path(context_path = "/api/v1", tag = "platforms", params(("name" = String, Path)),
    responses((status = 200, body = Platform), (status = 404, body = Problem)))]
#[get("/platforms/{name}")]
async fn show(
    service: Data<Service>,
    _caller: Caller,
    name: Path<String>,
) -> Result<Json<Platform>, HttpError> {
    run_read(&service, move |service| service.records().platform(&name)).await.map(Json)
}

/// Changes rules of a platform; a changed built-in sheet becomes user-defined.
#[utoipa::path(context_path = "/api/v1", tag = "platforms", params(("name" = String, Path)), request_body = PlatformChange,
    responses((status = 200, body = Platform), (status = 404, body = Problem), (status = 422, body = Problem)))]
#[patch("/platforms/{name}")]
async fn edit(
    service: Data<Service>,
    admin: Admin,
    name: Path<String>,
    change: Json<PlatformChange>,
) -> Result<Json<Platform>, HttpError> {
    run_audited(&service, admin.change("changed", RecordKind::Platform, &name), move |transaction| {
        transaction.edit_platform(&name, &change)
    })
    .await
    .map(Json)
}

/// Removes a user-defined platform; a built-in one of the same name applies again.
#[utoipa::path(context_path = "/api/v1", tag = "platforms", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
#[delete("/platforms/{name}")]
async fn remove(service: Data<Service>, admin: Admin, name: Path<String>) -> Result<HttpResponse, HttpError> {
    run_audited(&service, admin.change("removed", RecordKind::Platform, &name), move |transaction| {
        transaction.remove_platform(&name)
    })
    .await?;
    Ok(HttpResponse::NoContent().finish())
}
