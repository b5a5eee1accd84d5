//! `/api/v1/backup`, `/api/v1/selfcheck` and `/metrics`

use actix_web::http::header::{ACCEPT, CACHE_CONTROL};
use actix_web::middleware::from_fn;
use actix_web::web::{Data, Json, ServiceConfig};
use actix_web::{HttpRequest, HttpResponse, get, post};
use yonder_api::{Check, Job, JobKind, MasterKeyRotation, Problem};
use yonder_service::run_blocking;
use yonder_store::RecordKind;

use super::caller::{Admin, Authorized as _, Caller, identify_first, run_audited_action, run_read};
use super::jobs::{self, Preference};
use crate::error::HttpError;
use crate::metrics::{self, RequestMetrics};
use yonder_service::Service;

pub(super) fn configure(config: &mut ServiceConfig) {
    config.service(backup).service(selfcheck).service(rotate_master_key);
}

pub(super) fn configure_metrics(config: &mut ServiceConfig) {
    config.service(read_metrics);
}

/// Returns a backup of all records as a SQLite file, with sealed secrets. With `Prefer: respond-async` the response is
/// the job that makes it, and `/jobs/{id}/file` has the file.
#[utoipa::path(context_path = "/api/v1", tag = "maintenance",
    responses((status = 200, content_type = "application/vnd.sqlite3"), (status = 202, body = Job),
        (status = 500, body = Problem)))]
#[post("/backup")]
async fn backup(
    service: Data<Service>,
    admin: Admin,
    preference: Preference,
) -> Result<HttpResponse, HttpError> {
    let act = admin.change("backed-up", RecordKind::Service, "yonder");
    let job = jobs::begin(&service, &admin.0, (JobKind::Backup, None), |service, context| async move {
        run_blocking(move || {
            let copied = service.records().backup_to_file(&context)?;
            service.journal().audit(&act);
            Ok(copied)
        })
        .await
    })?;
    if preference.is_async() {
        return Ok(jobs::accepted(&job));
    }
    match job.wait(jobs::MAX_SYNCHRONOUS).await {
        Some(Err(error)) => Err(HttpError(error)),
        Some(Ok(_)) => jobs::stream_file(job).await,
        None => Ok(jobs::accepted(&job)),
    }
}

/// Seals every secret with a new master key, which replaces the present one in its file. Earlier backups need the key
/// with which they were made.
#[utoipa::path(context_path = "/api/v1", tag = "maintenance",
    responses((status = 200, body = MasterKeyRotation), (status = 500, body = Problem), (status = 507, body = Problem)))]
#[post("/master-key/rotate")]
async fn rotate_master_key(
    service: Data<Service>,
    admin: Admin,
) -> Result<Json<MasterKeyRotation>, HttpError> {
    let act = admin.change("master-key-rotated", RecordKind::Service, "yonder");
    let sealed = run_audited_action(&service, act, |service| service.records().rotate_master_key()).await?;
    Ok(Json(MasterKeyRotation { sealed }))
}

/// Checks records, secrets, disk, open files and the certificate authority.
#[utoipa::path(context_path = "/api/v1", tag = "maintenance", responses((status = 200, body = [Check])))]
#[get("/selfcheck")]
async fn selfcheck(service: Data<Service>, _caller: Caller) -> Result<Json<Vec<Check>>, HttpError> {
    run_read(&service, |service| Ok(service.selfcheck())).await.map(Json)
}

/// Returns metrics in `OpenMetrics` text.
#[get("/metrics", wrap = "from_fn(identify_first)")]
async fn read_metrics(
    service: Data<Service>,
    _caller: Caller,
    request: HttpRequest,
    requests: Data<RequestMetrics>,
) -> HttpResponse {
    let accept = request.headers().get(ACCEPT).and_then(|accept| accept.to_str().ok());
    let (media_type, text) = metrics::exposition(accept, &service.stats(), &requests);
    HttpResponse::Ok().content_type(media_type).insert_header((CACHE_CONTROL, "no-store")).body(text)
}
