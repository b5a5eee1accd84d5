//! `/api/v1/uplinks` and `/api/v1/budget`

use actix_web::web::{Data, Json, Path, Query, ServiceConfig};
use actix_web::{HttpRequest, HttpResponse, delete, get, patch, post};
use yonder_api::{Budget, NewUplink, Problem, Uplink, UplinkChange, WhatIf};
use yonder_store::RecordKind;

use super::caller::{Admin, Authorized as _, Caller, run_audited, run_read};
use super::json::created;
use crate::error::HttpError;
use crate::page::PageRequest;
use yonder_service::Service;

pub(super) fn configure(config: &mut ServiceConfig) {
    config.service(list).service(add).service(show).service(edit).service(remove).service(budget);
}

/// Returns all uplinks, those of this machine first.
#[utoipa::path(context_path = "/api/v1", tag = "uplinks", params(PageRequest),
    responses((status = 200, body = [Uplink])))]
#[get("/uplinks")]
async fn list(
    service: Data<Service>,
    _caller: Caller,
    request: HttpRequest,
    page: Query<PageRequest>,
) -> Result<HttpResponse, HttpError> {
    let uplinks = run_read(&service, |service| service.records().uplinks()).await?;
    page.respond(&request, &uplinks, |item| &item.name)
}

/// Adds an uplink.
#[utoipa::path(context_path = "/api/v1", tag = "uplinks", request_body = NewUplink,
    responses((status = 201, body = Uplink), (status = 409, body = Problem), (status = 422, body = Problem)))]
#[post("/uplinks")]
async fn add(service: Data<Service>, admin: Admin, new: Json<NewUplink>) -> Result<HttpResponse, HttpError> {
    let uplink =
        run_audited(&service, admin.change("added", RecordKind::Uplink, &new.name), move |transaction| {
            transaction.add_uplink(&new)
        })
        .await?;
    Ok(created("uplinks", &uplink.name, &uplink))
}

/// Returns an uplink.
#[utoipa::path(context_path = "/api/v1", tag = "uplinks", params(("name" = String, Path)),
    responses((status = 200, body = Uplink), (status = 404, body = Problem)))]
#[get("/uplinks/{name}")]
async fn show(
    service: Data<Service>,
    _caller: Caller,
    name: Path<String>,
) -> Result<Json<Uplink>, HttpError> {
    run_read(&service, move |service| service.records().uplink(&name)).await.map(Json)
}

/// Changes an uplink.
#[utoipa::path(context_path = "/api/v1", tag = "uplinks", params(("name" = String, Path)), request_body = UplinkChange,
    responses((status = 200, body = Uplink), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
#[patch("/uplinks/{name}")]
async fn edit(
    service: Data<Service>,
    admin: Admin,
    name: Path<String>,
    change: Json<UplinkChange>,
) -> Result<Json<Uplink>, HttpError> {
    run_audited(&service, admin.change("changed", RecordKind::Uplink, &name), move |transaction| {
        transaction.edit_uplink(&name, &change)
    })
    .await
    .map(Json)
}

/// Removes an uplink.
#[utoipa::path(context_path = "/api/v1", tag = "uplinks", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
#[delete("/uplinks/{name}")]
async fn remove(service: Data<Service>, admin: Admin, name: Path<String>) -> Result<HttpResponse, HttpError> {
    run_audited(&service, admin.change("removed", RecordKind::Uplink, &name), move |transaction| {
        transaction.remove_uplink(&name)
    })
    .await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Returns the budget: uplinks, bit rates and monthly traffic, as they are or with hypothetical changes.
#[utoipa::path(context_path = "/api/v1", tag = "uplinks", request_body = WhatIf,
    responses((status = 200, body = Budget), (status = 422, body = Problem)))]
#[post("/budget")]
async fn budget(
    service: Data<Service>,
    _caller: Caller,
    what_if: Json<WhatIf>,
) -> Result<Json<Budget>, HttpError> {
    run_read(&service, move |service| service.planner().budget(&what_if)).await.map(Json)
}
