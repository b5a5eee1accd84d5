//! `/healthz` and `/readyz`, for process supervision.

use std::time::Duration;

use actix_web::web::{Data, ServiceConfig};
use actix_web::{HttpResponse, get};

use super::caller::run_read;
use yonder_service::Service;

pub(super) fn configure(config: &mut ServiceConfig) {
    config.service(health).service(ready);
}

/// Liveness: the process answers.
#[get("/healthz")]
async fn health() -> HttpResponse {
    HttpResponse::Ok().content_type("text/plain; charset=utf-8").body("ok\n")
}

/// Age of a media thread's heartbeat beyond which it counts as blocked.
const MAX_HEARTBEAT_AGE: Duration = Duration::from_secs(5);

/// Readiness: the media threads run and the records can be read.
#[get("/readyz")]
async fn ready(service: Data<Service>) -> HttpResponse {
    let oldest = service.heartbeat_ages().into_iter().max().unwrap_or_default();
    if oldest >= MAX_HEARTBEAT_AGE {
        return not_ready(&format!("a media thread has not run for {} s\n", oldest.as_secs()));
    }
    match run_read(&service, |service| service.records().feeds()).await {
        Ok(_) => HttpResponse::Ok().content_type("text/plain; charset=utf-8").body("ready\n"),
        Err(error) => {
            tracing::error!(?error, "records not readable");
            not_ready("the records cannot be read\n")
        }
    }
}

fn not_ready(reason: &str) -> HttpResponse {
    let body = format!("not ready: {reason}");
    HttpResponse::ServiceUnavailable().content_type("text/plain; charset=utf-8").body(body)
}
