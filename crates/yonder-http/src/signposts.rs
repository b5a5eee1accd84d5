//! `/api/v1/signposts`

use actix_web::web::{Data, Json, Path, Query, ServiceConfig};
use actix_web::{HttpRequest, HttpResponse, delete, get, patch, post};
use yonder_api::{NewSignpost, Problem, Signpost, SignpostChange};
use yonder_store::RecordKind;

use super::caller::{Admin, Authorized as _, Caller, Operator, run_audited, run_read};
use super::json::created;
use crate::error::HttpError;
use crate::page::PageRequest;
use yonder_service::{Service, ServiceError};

pub(super) fn configure(config: &mut ServiceConfig) {
    config
        .service(list)
        .service(add)
        .service(show)
        .service(edit)
        .service(pause)
        .service(resume)
        .service(remove);
}

/// Returns all signposts.
#[utoipa::path(context_path = "/api/v1", tag = "signposts", params(PageRequest),
    responses((status = 200, body = [Signpost])))]
#[get("/signposts")]
async fn list(
    service: Data<Service>,
    _caller: Caller,
    request: HttpRequest,
    page: Query<PageRequest>,
) -> Result<HttpResponse, HttpError> {
    let signposts = run_read(&service, |service| service.sharing().signposts()).await?;
    page.respond(&request, &signposts, |item| &item.name)
}

/// Adds a signpost.
#[utoipa::path(context_path = "/api/v1", tag = "signposts", request_body = NewSignpost,
    responses((status = 201, body = Signpost), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
#[post("/signposts")]
async fn add(
    service: Data<Service>,
    admin: Admin,
    new: Json<NewSignpost>,
) -> Result<HttpResponse, HttpError> {
    let change = admin.change("added", RecordKind::Signpost, &new.name);
    let name = run_audited(&service, change, move |transaction| transaction.add_signpost(&new)).await?;
    let signpost = read(&service, name).await?;
    Ok(created("signposts", &signpost.name, &signpost))
}

/// Returns a signpost.
#[utoipa::path(context_path = "/api/v1", tag = "signposts", params(("name" = String, Path)),
    responses((status = 200, body = Signpost), (status = 404, body = Problem)))]
#[get("/signposts/{name}")]
async fn show(
    service: Data<Service>,
    _caller: Caller,
    name: Path<String>,
) -> Result<Json<Signpost>, HttpError> {
    read(&service, name.into_inner()).await.map(Json)
}

/// Changes a signpost.
#[utoipa::path(context_path = "/api/v1", tag = "signposts", params(("name" = String, Path)), request_body = SignpostChange,
    responses((status = 200, body = Signpost), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
#[patch("/signposts/{name}")]
async fn edit(
    service: Data<Service>,
    admin: Admin,
    name: Path<String>,
    change: Json<SignpostChange>,
) -> Result<Json<Signpost>, HttpError> {
    // Traffic is stored by the present alias.
    super::run_blocking(&service, |service| service.sharing().store_traffic()).await?;
    let audited = admin.change("changed", RecordKind::Signpost, &name);
    let name =
        run_audited(&service, audited, move |transaction| transaction.edit_signpost(&name, &change)).await?;
    read(&service, name).await.map(Json)
}

/// Pauses a signpost: its pages show nothing.
#[utoipa::path(context_path = "/api/v1", tag = "signposts", params(("name" = String, Path)),
    responses((status = 200, body = Signpost), (status = 404, body = Problem)))]
#[post("/signposts/{name}/pause")]
async fn pause(
    service: Data<Service>,
    operator: Operator,
    name: Path<String>,
) -> Result<Json<Signpost>, HttpError> {
    set_paused(&service, &operator, name.into_inner(), true).await
}

/// Resumes a paused signpost.
#[utoipa::path(context_path = "/api/v1", tag = "signposts", params(("name" = String, Path)),
    responses((status = 200, body = Signpost), (status = 404, body = Problem)))]
#[post("/signposts/{name}/resume")]
async fn resume(
    service: Data<Service>,
    operator: Operator,
    name: Path<String>,
) -> Result<Json<Signpost>, HttpError> {
    set_paused(&service, &operator, name.into_inner(), false).await
}

async fn set_paused(
    service: &Data<Service>,
    operator: &Operator,
    name: String,
    is_paused: bool,
) -> Result<Json<Signpost>, HttpError> {
    let action = if is_paused { "paused" } else { "resumed" };
    let audited = operator.change(action, RecordKind::Signpost, &name);
    let change = SignpostChange { paused: Some(is_paused), ..SignpostChange::default() };
    let name =
        run_audited(service, audited, move |transaction| transaction.edit_signpost(&name, &change)).await?;
    read(service, name).await.map(Json)
}

/// Removes a signpost: its addresses lead nowhere.
#[utoipa::path(context_path = "/api/v1", tag = "signposts", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
#[delete("/signposts/{name}")]
async fn remove(service: Data<Service>, admin: Admin, name: Path<String>) -> Result<HttpResponse, HttpError> {
    let change = admin.change("removed", RecordKind::Signpost, &name);
    run_audited(&service, change, move |transaction| transaction.remove_signpost(&name)).await?;
    Ok(HttpResponse::NoContent().finish())
}

async fn read(service: &Data<Service>, name: String) -> Result<Signpost, HttpError> {
    run_read(service, move |service| -> Result<_, ServiceError> { service.sharing().signpost(&name) }).await
}
