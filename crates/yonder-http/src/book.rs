//! `/api/v1/book`: export and application of the site book.

use actix_web::web::{self, Data, Json, ServiceConfig};
use actix_web::{HttpResponse, get, post};
use yonder_api::{BookOutcome, BookRequest, Job, JobKind, Problem, SiteBook};
use yonder_service::run_blocking;

use super::caller::{Admin, Caller, run_read};
use super::jobs::{self, Preference};
use super::json;
use crate::error::HttpError;
use yonder_service::Service;

/// Maximum size of a book, in bytes: about ten thousand relays.
const MAX_BYTES: usize = 16 * 1024 * 1024;

pub(super) fn configure(config: &mut ServiceConfig) {
    let scope = web::scope("/book").app_data(json::configuration_up_to(MAX_BYTES));
    config.service(scope.service(show).service(apply));
}

/// Returns all settings as a site book, without secrets.
#[utoipa::path(context_path = "/api/v1", path = "/book", tag = "book", responses((status = 200, body = SiteBook)))]
#[get("")]
async fn show(service: Data<Service>, _caller: Caller) -> Result<Json<SiteBook>, HttpError> {
    run_read(&service, |service| service.records().book()).await.map(Json)
}

/// Applies a book completely or not at all, or returns what it would change.
#[utoipa::path(context_path = "/api/v1", path = "/book", tag = "book", request_body = BookRequest,
    responses((status = 200, body = BookOutcome), (status = 202, body = Job), (status = 412, body = Problem),
        (status = 422, body = Problem)))]
#[post("")]
async fn apply(
    service: Data<Service>,
    admin: Admin,
    preference: Preference,
    request: Json<BookRequest>,
) -> Result<HttpResponse, HttpError> {
    let (request, actor) = (request.into_inner(), admin.0.actor());
    jobs::run(&service, preference, &admin.0, (JobKind::SiteBook, None), |service, context| async move {
        run_blocking(move || service.apply_book(request, &actor, &context)).await
    })
    .await
}
