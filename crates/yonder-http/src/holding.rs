//! `/api/v1/relays/{name}/hold`, `resume` and `holding-picture`

use actix_web::http::header::CACHE_CONTROL;
use actix_web::web::{Bytes, Data, Json, Path, PayloadConfig, ServiceConfig};
use actix_web::{HttpResponse, delete, get, post, put};
use yonder_api::{Problem, Relay};
use yonder_store::{DesiredState, RecordKind};

use super::caller::{Admin, Authorized as _, Caller, Operator, run_audited, run_read, run_write};
use crate::error::HttpError;
use yonder_service::{Records, Service, ServiceError};

/// Maximum size of a picture file, in bytes.
const MAX_BYTES: usize = 8 * 1024 * 1024;

pub(super) fn configure(config: &mut ServiceConfig) {
    config
        .app_data(PayloadConfig::new(MAX_BYTES))
        .service(hold)
        .service(resume)
        .service(set_picture)
        .service(remove_picture)
        .service(show_picture);
}

/// Holds: shows the holding picture while the broadcasts continue.
#[utoipa::path(context_path = "/api/v1", tag = "relays", params(("name" = String, Path)),
    responses((status = 200, body = Relay), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[post("/relays/{name}/hold")]
async fn hold(
    service: Data<Service>,
    operator: Operator,
    name: Path<String>,
) -> Result<Json<Relay>, HttpError> {
    let act = operator.change("held", RecordKind::Relay, &name);
    run_write(&service, move |service| {
        service.check_before(&act)?;
        service.reconciler().switch_output(&name, DesiredState::Hold);
        let remember = |records: &Records| records.remember_desired_state(&name, DesiredState::Hold);
        service.execute_protective(&act, |transaction| transaction.hold_relay(&name), remember)
    })
    .await
    .map(Json)
}

/// Resumes: returns to the feed.
#[utoipa::path(context_path = "/api/v1", tag = "relays", params(("name" = String, Path)),
    responses((status = 200, body = Relay), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[post("/relays/{name}/resume")]
async fn resume(
    service: Data<Service>,
    operator: Operator,
    name: Path<String>,
) -> Result<Json<Relay>, HttpError> {
    let act = operator.change("resumed", RecordKind::Relay, &name);
    run_write(&service, move |service| {
        service.check_before(&act)?;
        service.reconciler().switch_output(&name, DesiredState::On);
        let remember = |records: &Records| records.remember_desired_state(&name, DesiredState::On);
        service.execute_protective(&act, |transaction| transaction.resume_relay(&name), remember)
    })
    .await
    .map(Json)
}

/// Sets the relay's holding picture: PNG or JPEG, at most 8 MiB.
#[utoipa::path(context_path = "/api/v1", tag = "relays", params(("name" = String, Path)),
    request_body(content = Vec<u8>, content_type = "image/png"),
    responses((status = 204), (status = 404, body = Problem), (status = 422, body = Problem)))]
#[put("/relays/{name}/holding-picture")]
async fn set_picture(
    service: Data<Service>,
    admin: Admin,
    name: Path<String>,
    file: Result<Bytes, actix_web::Error>,
) -> Result<HttpResponse, HttpError> {
    let file = file.map_err(|error| ServiceError::Invalid {
        field: "picture",
        detail: error.to_string(),
        hint: "Give a PNG or JPEG of at most 8 MiB.",
    })?;
    run_audited(&service, admin.change("picture-set", RecordKind::Relay, &name), move |transaction| {
        transaction.set_holding_picture(&name, Some(&file))
    })
    .await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Removes the relay's holding picture; the default card with its name is used again.
#[utoipa::path(context_path = "/api/v1", tag = "relays", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
#[delete("/relays/{name}/holding-picture")]
async fn remove_picture(
    service: Data<Service>,
    admin: Admin,
    name: Path<String>,
) -> Result<HttpResponse, HttpError> {
    run_audited(&service, admin.change("picture-removed", RecordKind::Relay, &name), move |transaction| {
        transaction.set_holding_picture(&name, None)
    })
    .await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Returns the picture that the relay shows while it holds.
#[utoipa::path(context_path = "/api/v1", tag = "relays", params(("name" = String, Path)),
    responses((status = 200, content_type = "image/png"), (status = 404, body = Problem)))]
#[get("/relays/{name}/holding-picture")]
async fn show_picture(
    service: Data<Service>,
    _caller: Caller,
    name: Path<String>,
) -> Result<HttpResponse, HttpError> {
    let png = run_read(&service, move |service| service.records().holding_picture(&name)).await?;
    Ok(HttpResponse::Ok().content_type("image/png").insert_header((CACHE_CONTROL, "no-store")).body(png))
}
