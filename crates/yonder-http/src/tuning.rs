//! `/api/v1/feeds/{name}/tuning`

use actix_web::web::{Data, Json, Path, Query, ServiceConfig};
use actix_web::{HttpResponse, get, post};
use yonder_api::{Job, JobKind, NewTuning, Problem, Tuning, TuningRequest, TuningResult};
use yonder_store::RecordKind;

use super::caller::{Admin, Authorized as _, Operator};
use super::jobs::{self, Preference};
use crate::error::HttpError;
use yonder_service::Service;

pub(super) fn configure(config: &mut ServiceConfig) {
    config.service(show_tuning).service(tune);
}

/// Returns the encoder settings of a feed's camera over ONVIF: what it has, what it offers, and what suits the relays best.
#[utoipa::path(context_path = "/api/v1", tag = "feeds", params(("name" = String, Path), TuningRequest),
    responses((status = 200, body = Tuning), (status = 404, body = Problem), (status = 409, body = Problem), (status = 502, body = Problem)))]
#[get("/feeds/{name}/tuning")]
async fn show_tuning(
    service: Data<Service>,
    _operator: Operator,
    name: Path<String>,
    request: Query<TuningRequest>,
) -> Result<Json<Tuning>, HttpError> {
    Ok(Json(service.planner().tuning(&name, request.into_inner()).await?))
}

/// Changes the encoder settings of a feed's camera over ONVIF, or restores the former ones, and verifies the stream by a
/// survey. The former settings are stored.
#[utoipa::path(context_path = "/api/v1", tag = "feeds", params(("name" = String, Path)), request_body = NewTuning,
    responses((status = 200, body = TuningResult), (status = 202, body = Job), (status = 404, body = Problem),
        (status = 409, body = Problem), (status = 422, body = Problem), (status = 502, body = Problem)))]
#[post("/feeds/{name}/tuning")]
async fn tune(
    service: Data<Service>,
    admin: Admin,
    preference: Preference,
    name: Path<String>,
    new: Json<NewTuning>,
) -> Result<HttpResponse, HttpError> {
    let (name, new) = (name.into_inner(), new.into_inner());
    let change = admin.change("tuned", RecordKind::Feed, &name);
    let about = name.clone();
    jobs::run(&service, preference, &admin.0, (JobKind::Tune, Some(&about)), |service, context| async move {
        let planned = service.planner().plan_tuning(&name, new, &context).await?;
        service.journal().audit_fields_in_background(change, planned.fields()).await;
        service.planner().tune(planned, &context).await
    })
    .await
}
