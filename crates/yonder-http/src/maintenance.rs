//! `/api/v1/backup`, `/api/v1/selfcheck` and `/metrics`

use actix_web::http::header::{ACCEPT, CACHE_CONTROL};
use actix_web::middleware::from_fn;
use actix_web::web::{Data, Json, ServiceConfig};
use actix_web::{HttpRequest, HttpResponse, get, post};
use yonder_api::{Check, Job, JobKind, MasterKeyRotation, Problem};
use yonder_service::run_blocking;
use yonder_store::Kind;

use super::caller::{Admin, Authorized as _, Caller, audited, identify_first, reading};
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

/// A copy of all records as they are now, as a SQLite file; secrets in it stay sealed. With `Prefer: respond-async` the job that makes
/// it is returned, and `/jobs/{id}/file` has the file.
#[utoipa::path(context_path = "/api/v1", tag = "maintenance",
    responses((status = 200, content_type = "application/vnd.sqlite3"), (status = 202, body = Job),
        (status = 500, body = Problem)))]
#[post("/backup")]
async fn backup(
    service: Data<Service>,
    admin: Admin,
    preference: Preference,
) -> Result<HttpResponse, HttpError> {
    let act = admin.change("backed-up", Kind::Service, "yonder");
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

/// Seals every secret under a new master key, which takes the place of the present one in its file. Backups made before need
/// the key that they were made under.
#[utoipa::path(context_path = "/api/v1", tag = "maintenance",
    responses((status = 200, body = MasterKeyRotation), (status = 500, body = Problem), (status = 507, body = Problem)))]
#[post("/master-key/rotate")]
async fn rotate_master_key(
    service: Data<Service>,
    admin: Admin,
) -> Result<Json<MasterKeyRotation>, HttpError> {
    let act = admin.change("master-key-rotated", Kind::Service, "yonder");
    let sealed = audited(&service, act, |service| service.records().rotate_master_key()).await?;
    Ok(Json(MasterKeyRotation { sealed }))
}

/// Checks records, secrets, disk, open files and the certificate authority.
#[utoipa::path(context_path = "/api/v1", tag = "maintenance", responses((status = 200, body = [Check])))]
#[get("/selfcheck")]
async fn selfcheck(service: Data<Service>, _caller: Caller) -> Result<Json<Vec<Check>>, HttpError> {
    reading(&service, |service| Ok(service.selfcheck())).await.map(Json)
}

/// Figures for whatever collects them, in `OpenMetrics` text.
#[get("/metrics", wrap = "from_fn(identify_first)")]
async fn read_metrics(
    service: Data<Service>,
    _caller: Caller,
    request: HttpRequest,
    requests: Data<RequestMetrics>,
) -> HttpResponse {
    let accept = request.headers().get(ACCEPT).and_then(|accept| accept.to_str().ok());
    let (media_type, text) = metrics::exposition(accept, &service.figures(), &requests);
    HttpResponse::Ok().content_type(media_type).insert_header((CACHE_CONTROL, "no-store")).body(text)
}
