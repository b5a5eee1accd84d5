//! `/healthz` and `/readyz`, for whatever watches the process.

use actix_web::web::{Data, ServiceConfig};
use actix_web::{HttpResponse, get};

use super::caller::reading;
use crate::service::Service;

pub(super) fn configure(config: &mut ServiceConfig) {
    config.service(health).service(ready);
}

/// The process answers.
#[get("/healthz")]
async fn health() -> HttpResponse {
    HttpResponse::Ok().content_type("text/plain; charset=utf-8").body("ok\n")
}

/// The records can be read.
#[get("/readyz")]
async fn ready(service: Data<Service>) -> HttpResponse {
    match reading(&service, Service::feeds).await {
        Ok(_) => HttpResponse::Ok().content_type("text/plain; charset=utf-8").body("ready\n"),
        Err(error) => {
            tracing::error!(?error, "not ready");
            HttpResponse::ServiceUnavailable().content_type("text/plain; charset=utf-8").body("not ready\n")
        }
    }
}
