//! `/api/v1/tokens`

use actix_web::web::{Data, Json, Path, Query, ServiceConfig};
use actix_web::{HttpRequest, HttpResponse, delete, get, post};
use yonder_api::{MadeToken, NewToken, Problem, Token};
use yonder_store::RecordKind;

use super::caller::{Admin, Authorized as _, run_audited, run_read};
use crate::error::HttpError;
use crate::page::PageRequest;
use yonder_service::Service;

pub(super) fn configure(config: &mut ServiceConfig) {
    config.service(list).service(add).service(remove);
}

/// Returns all API tokens by name.
#[utoipa::path(context_path = "/api/v1", tag = "people",
    params(PageRequest),
    responses((status = 200, body = [Token]), (status = 403, body = Problem)))]
#[get("/tokens")]
async fn list(
    service: Data<Service>,
    _admin: Admin,
    request: HttpRequest,
    page: Query<PageRequest>,
) -> Result<HttpResponse, HttpError> {
    let tokens = run_read(&service, |service| service.records().tokens()).await?;
    page.respond(&request, &tokens, |item| &item.name)
}

/// Creates a token; its secret is returned only here.
#[utoipa::path(context_path = "/api/v1", tag = "people", request_body = NewToken,
    responses((status = 201, body = MadeToken), (status = 409, body = Problem), (status = 422, body = Problem)))]
#[post("/tokens")]
async fn add(service: Data<Service>, admin: Admin, new: Json<NewToken>) -> Result<HttpResponse, HttpError> {
    let by = admin.0.actor();
    let act = admin.change("added", RecordKind::Token, &new.name);
    let made = run_audited(&service, act, move |transaction| transaction.add_token(&new, &by)).await?;
    Ok(HttpResponse::Created().json(made))
}

/// Revokes a token.
#[utoipa::path(context_path = "/api/v1", tag = "people", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
#[delete("/tokens/{name}")]
async fn remove(service: Data<Service>, admin: Admin, name: Path<String>) -> Result<HttpResponse, HttpError> {
    let act = admin.change("removed", RecordKind::Token, &name);
    run_audited(&service, act, move |transaction| transaction.remove_token(&name)).await?;
    Ok(HttpResponse::NoContent().finish())
}
