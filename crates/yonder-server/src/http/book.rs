//! `/api/v1/book`: everything that is kept as one document, and back.

use actix_web::web::{Data, Json, ServiceConfig};
use actix_web::{get, post};
use yonder_api::{BookOutcome, BookRequest, Problem, SiteBook};

use super::caller::{Caller, Keeper, changing, reading};
use crate::error::ServiceError;
use crate::service::Service;

pub(super) fn configure(config: &mut ServiceConfig) {
    config.service(show).service(apply);
}

/// Everything that is kept, without secrets.
#[utoipa::path(context_path = "/api/v1", tag = "book", responses((status = 200, body = SiteBook)))]
#[get("/book")]
async fn show(service: Data<Service>, _caller: Caller) -> Result<Json<SiteBook>, ServiceError> {
    reading(&service, Service::book).await.map(Json)
}

/// Brings a book into effect, all of it or nothing, or tells what it would change.
#[utoipa::path(context_path = "/api/v1", tag = "book", request_body = BookRequest,
    responses((status = 200, body = BookOutcome), (status = 422, body = Problem)))]
#[post("/book")]
async fn apply(
    service: Data<Service>,
    keeper: Keeper,
    request: Json<BookRequest>,
) -> Result<Json<BookOutcome>, ServiceError> {
    changing(&service, move |service| service.apply_book(request.into_inner(), &keeper.0.name))
        .await
        .map(Json)
}
