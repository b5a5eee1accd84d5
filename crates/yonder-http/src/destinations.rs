//! `/api/v1/destinations`

use actix_web::web::{Data, Json, Path, Query, ServiceConfig};
use actix_web::{HttpRequest, HttpResponse, delete, get, patch, post};
use yonder_api::{Destination, DestinationChange, NewDestination, Problem, Rekey, RevealedKey, Stored};
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

/// Returns all destinations by name.
#[utoipa::path(context_path = "/api/v1", tag = "destinations", params(PageRequest),
    responses((status = 200, body = [Destination])))]
#[get("/destinations")]
async fn list(
    service: Data<Service>,
    _caller: Caller,
    request: HttpRequest,
    page: Query<PageRequest>,
) -> Result<HttpResponse, HttpError> {
    let destinations = run_read(&service, |service| service.records().destinations()).await?;
    page.respond(&request, &destinations, |item| &item.name)
}

/// Adds a destination. The response lists the corrections of the pasted address and key.
#[utoipa::path(context_path = "/api/v1", tag = "destinations", request_body = NewDestination,
    responses((status = 201, body = Stored), (status = 409, body = Problem), (status = 422, body = Problem)))]
#[post("/destinations")]
async fn add(
    service: Data<Service>,
    admin: Admin,
    new: Json<NewDestination>,
) -> Result<HttpResponse, HttpError> {
    let stored = run_audited(
        &service,
        admin.change("added", RecordKind::Destination, &new.name),
        move |transaction| transaction.add_destination(new.into_inner()),
    )
    .await?;
    Ok(created("destinations", &stored.destination.name, &stored))
}

/// Returns a destination.
#[utoipa::path(context_path = "/api/v1", tag = "destinations", params(("name" = String, Path)),
    responses((status = 200, body = Destination), (status = 404, body = Problem)))]
#[get("/destinations/{name}")]
async fn show(
    service: Data<Service>,
    _caller: Caller,
    name: Path<String>,
) -> Result<Json<Destination>, HttpError> {
    run_read(&service, move |service| service.records().destination(&name)).await.map(Json)
}

/// Changes a destination.
#[utoipa::path(context_path = "/api/v1", tag = "destinations", params(("name" = String, Path)), request_body = DestinationChange,
    responses((status = 200, body = Stored), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
#[patch("/destinations/{name}")]
async fn edit(
    service: Data<Service>,
    admin: Admin,
    name: Path<String>,
    change: Json<DestinationChange>,
) -> Result<Json<Stored>, HttpError> {
    run_audited(&service, admin.change("changed", RecordKind::Destination, &name), move |transaction| {
        transaction.edit_destination(&name, change.into_inner())
    })
    .await
    .map(Json)
}

/// Sets a new key or passphrase; a running push applies it with one reconnect.
#[utoipa::path(context_path = "/api/v1", tag = "destinations", params(("name" = String, Path)), request_body = Rekey,
    responses((status = 200, body = Stored), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
#[post("/destinations/{name}/rekey")]
async fn rekey(
    service: Data<Service>,
    operator: Operator,
    name: Path<String>,
    request: Json<Rekey>,
) -> Result<Json<Stored>, HttpError> {
    run_audited(&service, operator.change("rekeyed", RecordKind::Destination, &name), move |transaction| {
        transaction.rekey_destination(&name, &request)
    })
    .await
    .map(Json)
}

/// Returns key and passphrase in clear. Every call is audited.
#[utoipa::path(context_path = "/api/v1", tag = "destinations", params(("name" = String, Path)),
    responses((status = 200, body = RevealedKey), (status = 404, body = Problem)))]
#[post("/destinations/{name}/reveal")]
async fn reveal(
    service: Data<Service>,
    admin: Admin,
    name: Path<String>,
) -> Result<Json<RevealedKey>, HttpError> {
    let act = admin.change("key-revealed", RecordKind::Destination, &name);
    run_audited_action(&service, act, move |service| service.records().reveal_key(&name)).await.map(Json)
}

/// Removes an unused destination.
#[utoipa::path(context_path = "/api/v1", tag = "destinations", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[delete("/destinations/{name}")]
async fn remove(service: Data<Service>, admin: Admin, name: Path<String>) -> Result<HttpResponse, HttpError> {
    run_audited(&service, admin.change("removed", RecordKind::Destination, &name), move |transaction| {
        transaction.remove_destination(&name)
    })
    .await?;
    Ok(HttpResponse::NoContent().finish())
}
