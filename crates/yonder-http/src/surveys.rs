//! `/api/v1/surveys`, and stills of feeds.

use std::sync::Arc;

use actix_web::http::header::CACHE_CONTROL;
use actix_web::web::{Data, Json, Path, Query, ServiceConfig};
use actix_web::{HttpResponse, delete, get, post};
use bytes::Bytes;
use serde::Deserialize;
use yonder_api::{NewSurvey, Problem, Survey};

use yonder_store::RecordKind;

use super::caller::{Authorized as _, Caller, Operator, run_read};
use crate::error::HttpError;
use yonder_service::Service;

pub(super) fn configure(config: &mut ServiceConfig) {
    config
        .service(begin)
        .service(show)
        .service(cancel)
        .service(survey_still)
        .service(feed_still)
        .service(push_still);
}

/// Starts a survey in the background. `survey` events report its progress.
#[utoipa::path(context_path = "/api/v1", tag = "surveys", request_body = NewSurvey,
    responses((status = 202, body = Survey), (status = 404, body = Problem), (status = 422, body = Problem), (status = 429, body = Problem)))]
#[post("/surveys")]
async fn begin(
    service: Data<Service>,
    operator: Operator,
    new: Json<NewSurvey>,
) -> Result<HttpResponse, HttpError> {
    let owner = Arc::clone(&service);
    let survey = run_read(&service, move |_| {
        let survey = owner.previews().begin_survey(new.into_inner())?;
        // The address contains no credentials.
        let (kind, about) = match &survey.feed {
            Some(feed) => (RecordKind::Feed, feed.as_str()),
            None => (RecordKind::Service, survey.main.address.as_str()),
        };
        owner.journal().audit(&operator.change("surveyed", kind, about));
        Ok(survey)
    })
    .await?;
    Ok(HttpResponse::Accepted().json(survey))
}

/// Returns a survey, running or done.
#[utoipa::path(context_path = "/api/v1", tag = "surveys", params(("id" = String, Path)),
    responses((status = 200, body = Survey), (status = 404, body = Problem)))]
#[get("/surveys/{id}")]
async fn show(service: Data<Service>, _caller: Caller, id: Path<String>) -> Result<Json<Survey>, HttpError> {
    Ok(Json(service.previews().survey(&id)?))
}

/// Ends a survey early; its measurements are kept.
#[utoipa::path(context_path = "/api/v1", tag = "surveys", params(("id" = String, Path)),
    responses((status = 200, body = Survey), (status = 404, body = Problem)))]
#[delete("/surveys/{id}")]
async fn cancel(
    service: Data<Service>,
    _operator: Operator,
    id: Path<String>,
) -> Result<Json<Survey>, HttpError> {
    Ok(Json(service.previews().cancel_survey(&id)?))
}

/// Returns the still picture of a survey's stream.
#[utoipa::path(context_path = "/api/v1", tag = "surveys",
    params(("id" = String, Path), ("stream" = String, Path, description = "`main` or `sub`")),
    responses((status = 200, content_type = "image/jpeg"), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[get("/surveys/{id}/{stream}.jpg")]
async fn survey_still(
    service: Data<Service>,
    _caller: Caller,
    path: Path<(String, String)>,
) -> Result<HttpResponse, HttpError> {
    let (id, stream) = path.into_inner();
    Ok(picture(service.previews().survey_still(&id, stream == "sub")?))
}

/// Selects a stream of a feed.
#[derive(Debug, Deserialize)]
struct StillQuery {
    /// Sub stream.
    #[serde(default)]
    sub: bool,
}

/// Returns a still picture of a feed, at most a few seconds old: of the running stream, or of one that is pulled temporarily.
#[utoipa::path(context_path = "/api/v1", tag = "feeds", params(("name" = String, Path), ("sub" = Option<bool>, Query, description = "the lighter stream")),
    responses((status = 200, content_type = "image/jpeg"), (status = 404, body = Problem), (status = 409, body = Problem), (status = 502, body = Problem)))]
#[get("/feeds/{name}/still.jpg")]
async fn feed_still(
    service: Data<Service>,
    _caller: Caller,
    name: Path<String>,
    query: Query<StillQuery>,
) -> Result<HttpResponse, HttpError> {
    let is_sub = query.sub;
    let spec = run_read(&service, move |service| service.previews().stream_spec(&name, is_sub)).await?;
    Ok(picture(service.previews().still(spec).await?))
}

/// Returns a still picture of what a running push sends: the last keyframe of the feed, or of its rendition.
#[utoipa::path(context_path = "/api/v1", tag = "relays",
    params(("name" = String, Path), ("destination" = String, Path)),
    responses((status = 200, content_type = "image/jpeg"), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[get("/relays/{name}/pushes/{destination}/still.jpg")]
async fn push_still(
    service: Data<Service>,
    _caller: Caller,
    path: Path<(String, String)>,
) -> Result<HttpResponse, HttpError> {
    let (relay, destination) = path.into_inner();
    Ok(picture(service.previews().push_still(&relay, &destination).await?))
}

fn picture(jpeg: Bytes) -> HttpResponse {
    HttpResponse::Ok().content_type("image/jpeg").insert_header((CACHE_CONTROL, "no-store")).body(jpeg)
}
