//! `/api/v1/jobs`: background work, and the requests that start it.
//!
//! A request that may take longer than a second always runs as a job. With `Prefer: respond-async` (RFC 7240) the
//! response is 202 with the job; otherwise it waits for the end of the job, which continues if the connection is lost.
//! A request that is repeated with the same `Idempotency-Key` gets the job of the first one.

use std::io::Read as _;
use std::sync::Arc;
use std::time::Duration;

use actix_web::http::header::{CACHE_CONTROL, LOCATION};
use actix_web::web::{self, Bytes, Data, Json, Path, Query, ServiceConfig};
use actix_web::{FromRequest, HttpRequest, HttpResponse, delete, get};
use serde::Serialize;
use yonder_api::{Job, JobKind, JobRequest, Problem};
use yonder_core::Role;
use yonder_service::{JobContext, JobEntry, NewJob, Service, ServiceError};

use super::caller::{Caller, Operator};
use crate::error::{HttpError, problem};
use crate::page::PageRequest;

/// Maximum wait for the end of a job, in seconds.
const MAX_WAIT_S: u32 = 30;
/// Maximum duration of a synchronous request.
pub(super) const MAX_SYNCHRONOUS: Duration = Duration::from_secs(15 * 60);
/// Size of a read from a file, in bytes.
const FILE_CHUNK: usize = 256 * 1024;
/// Media type of a backup.
pub(super) const SQLITE: &str = "application/vnd.sqlite3";

pub(super) fn configure(config: &mut ServiceConfig) {
    config.service(list).service(show).service(download).service(cancel);
}

/// Preferences of a request (RFC 7240).
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(super) struct Preference {
    /// `respond-async`: respond before the work is done.
    respond_async: bool,
    /// `wait`: maximum wait for the end of the work.
    wait: Duration,
}

impl Preference {
    /// Returns true for a response before the work is done.
    pub(super) fn is_async(self) -> bool {
        self.respond_async
    }

    fn parse(request: &HttpRequest) -> Self {
        let mut preference = Self::default();
        let headers = request.headers().get_all("Prefer").filter_map(|value| value.to_str().ok());
        for item in headers.flat_map(|value| value.split(',')) {
            let item = item.split(';').next().unwrap_or_default().trim();
            match item.split_once('=') {
                None if item.eq_ignore_ascii_case("respond-async") => preference.respond_async = true,
                Some((name, seconds)) if name.trim().eq_ignore_ascii_case("wait") => {
                    let seconds = seconds.trim().trim_matches('"').parse().unwrap_or(0);
                    preference.wait = Duration::from_secs(u64::from(MAX_WAIT_S.min(seconds)));
                }
                _ => {}
            }
        }
        preference
    }
}

impl FromRequest for Preference {
    type Error = HttpError;
    type Future = std::future::Ready<Result<Self, Self::Error>>;

    fn from_request(request: &HttpRequest, _: &mut actix_web::dev::Payload) -> Self::Future {
        std::future::ready(Ok(Self::parse(request)))
    }
}

/// Runs work as a job, and responds as preferred by the request.
pub(super) async fn run<T, F>(
    service: &Data<Service>,
    preference: Preference,
    caller: &Caller,
    (kind, about): (JobKind, Option<&str>),
    work: impl FnOnce(Arc<Service>, JobContext) -> F,
) -> Result<HttpResponse, HttpError>
where
    T: Serialize,
    F: Future<Output = Result<T, ServiceError>> + Send + 'static,
{
    let job = begin(service, caller, (kind, about), work)?;
    let outcome = match preference {
        // Even for work that has already ended, since the caller expects a job.
        Preference { respond_async: true, wait: Duration::ZERO } => None,
        Preference { respond_async: true, wait } => job.wait(wait).await,
        Preference { respond_async: false, .. } => job.wait(MAX_SYNCHRONOUS).await,
    };
    match outcome {
        Some(Ok(result)) => Ok(HttpResponse::Ok().json(result)),
        Some(Err(error)) => Err(HttpError(error)),
        None => Ok(accepted(&job)),
    }
}

/// Starts work as a job.
pub(super) fn begin<T, F>(
    service: &Data<Service>,
    caller: &Caller,
    (kind, about): (JobKind, Option<&str>),
    work: impl FnOnce(Arc<Service>, JobContext) -> F,
) -> Result<Arc<JobEntry>, HttpError>
where
    T: Serialize,
    F: Future<Output = Result<T, ServiceError>> + Send + 'static,
{
    let new = NewJob {
        kind,
        about: about.map(str::to_owned),
        who: caller.name.clone(),
        request_key: caller.request_key.clone(),
    };
    let owner = Arc::clone(service);
    let job = service.jobs().begin(service.engine().runtime(), new, |context| {
        let publisher = Arc::clone(&owner);
        let running = work(owner, context);
        async move {
            let result = running.await?;
            publisher.events().notify_changes();
            serde_json::to_value(result).map_err(|_| ServiceError::Internal("a result cannot be written"))
        }
    })?;
    Ok(job)
}

/// Returns the 202 response of a request whose work continues as a job.
pub(super) fn accepted(job: &JobEntry) -> HttpResponse {
    HttpResponse::Accepted()
        .insert_header((LOCATION, format!("/api/v1/jobs/{}", job.id())))
        .insert_header(("Preference-Applied", "respond-async"))
        .json(job.to_api(problem))
}

/// Returns a job that the caller may see: their own, or any for an admin.
fn find(service: &Data<Service>, caller: &Caller, id: &str) -> Result<Arc<JobEntry>, HttpError> {
    let job = service.jobs().get(id)?;
    if is_visible(&job, caller) { Ok(job) } else { Err(ServiceError::NoSuchJob(id.to_owned()).into()) }
}

fn is_visible(job: &JobEntry, caller: &Caller) -> bool {
    caller.role >= Role::Admin || job.who() == caller.name
}

/// Returns jobs of the last hour, the latest first: one's own, or all for an admin.
#[utoipa::path(context_path = "/api/v1", tag = "jobs", params(PageRequest),
    responses((status = 200, body = [Job])))]
#[get("/jobs")]
async fn list(
    service: Data<Service>,
    caller: Caller,
    request: HttpRequest,
    page: Query<PageRequest>,
) -> Result<HttpResponse, HttpError> {
    let jobs = service.jobs().list();
    let jobs: Vec<Job> =
        jobs.iter().filter(|job| is_visible(job, &caller)).map(|job| job.to_api(problem)).collect();
    page.respond(&request, &jobs, |item| &item.id)
}

/// Returns a job, at once or when it has ended.
#[utoipa::path(context_path = "/api/v1", tag = "jobs", params(("id" = String, Path), JobRequest),
    responses((status = 200, body = Job), (status = 404, body = Problem)))]
#[get("/jobs/{id}")]
async fn show(
    service: Data<Service>,
    caller: Caller,
    id: Path<String>,
    request: Query<JobRequest>,
) -> Result<Json<Job>, HttpError> {
    let job = find(&service, &caller, &id)?;
    let wait_s = request.wait_s.unwrap_or(0).min(MAX_WAIT_S);
    let _ended = job.wait(Duration::from_secs(u64::from(wait_s))).await;
    Ok(Json(job.to_api(problem)))
}

/// Returns the file that a job has created: a backup.
#[utoipa::path(context_path = "/api/v1", tag = "jobs", params(("id" = String, Path)),
    responses((status = 200, content_type = "application/vnd.sqlite3"), (status = 404, body = Problem)))]
#[get("/jobs/{id}/file")]
async fn download(
    service: Data<Service>,
    caller: Caller,
    id: Path<String>,
) -> Result<HttpResponse, HttpError> {
    if caller.role < Role::Admin {
        return Err(ServiceError::RoleNeeded { has: caller.role, needs: Role::Admin }.into());
    }
    let job = find(&service, &caller, &id)?;
    if job.wait(Duration::ZERO).await.is_none_or(|outcome| outcome.is_err()) {
        return Err(ServiceError::NoSuchJob(id.into_inner()).into());
    }
    stream_file(job).await
}

/// Returns the file of a job that has ended, in chunks.
pub(super) async fn stream_file(job: Arc<JobEntry>) -> Result<HttpResponse, HttpError> {
    let missing = || HttpError::from(ServiceError::NoSuchJob(job.id().to_owned()));
    let path = job.file().ok_or_else(missing)?;
    let opened = web::block(move || std::fs::File::open(path)).await;
    let file = opened.ok().and_then(Result::ok).ok_or_else(missing)?;
    // The job, and with it the file, is kept until everything was read.
    let chunks = futures_util::stream::unfold(Some((file, Arc::clone(&job))), |state| async {
        let (mut file, job) = state?;
        let read = web::block(move || {
            let mut chunk = vec![0; FILE_CHUNK];
            let count = file.read(&mut chunk)?;
            chunk.truncate(count);
            Ok::<_, std::io::Error>((Bytes::from(chunk), file))
        });
        match read.await.map_err(std::io::Error::other).and_then(|read| read) {
            Ok((chunk, _)) if chunk.is_empty() => None,
            Ok((chunk, file)) => Some((Ok(chunk), Some((file, job)))),
            Err(error) => Some((Err(error), None)),
        }
    });
    Ok(HttpResponse::Ok().content_type(SQLITE).insert_header((CACHE_CONTROL, "no-store")).streaming(chunks))
}

/// Requests the cancellation of a job. A job past its last check completes.
#[utoipa::path(context_path = "/api/v1", tag = "jobs", params(("id" = String, Path)),
    responses((status = 202, body = Job), (status = 404, body = Problem)))]
#[delete("/jobs/{id}")]
async fn cancel(
    service: Data<Service>,
    operator: Operator,
    id: Path<String>,
) -> Result<HttpResponse, HttpError> {
    let job = find(&service, &operator.0, &id)?;
    job.cancel();
    let _ended = job.wait(Duration::from_millis(500)).await;
    Ok(HttpResponse::Accepted().json(job.to_api(problem)))
}

#[cfg(test)]
mod tests {
    use actix_web::test::TestRequest;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::none(&[], false, 0)]
    #[case::asynchronous(&["respond-async"], true, 0)]
    #[case::both(&["respond-async, wait=10"], true, 10)]
    #[case::two_headers(&["wait=\"5\"", "Respond-Async; foo"], true, 5)]
    #[case::beyond_the_limit(&["wait=3600"], false, 30)]
    #[case::others(&["return=minimal, handling=lenient"], false, 0)]
    fn preferences_are_parsed(#[case] headers: &[&str], #[case] respond_async: bool, #[case] wait_s: u64) {
        let mut request = TestRequest::default();
        for value in headers {
            request = request.append_header(("Prefer", *value));
        }
        let expected = Preference { respond_async, wait: Duration::from_secs(wait_s) };
        assert_eq!(Preference::parse(&request.to_http_request()), expected);
    }
}
