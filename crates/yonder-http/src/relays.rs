//! `/api/v1/relays` and `/api/v1/status`

use std::sync::Arc;

use actix_web::web::{self, Data, Json, Path, Query, ServiceConfig};
use actix_web::{HttpRequest, HttpResponse, delete, get, guard, post};
use futures_util::StreamExt as _;
use yonder_api::{
    BulkStart, Job, JobKind, NewRehearsal, NewRelay, Preflight, Problem, Rehearsal, Relay, RelayChange,
    Start, StartOutcome, Status,
};
use yonder_store::{DesiredState, RecordKind};

use super::caller::{Admin, Authorized as _, Caller, Operator, run_audited, run_read, run_write};
use super::jobs::{self, Preference};
use super::json::{self, created};
use crate::error::{HttpError, problem as problem_of};
use crate::page::PageRequest;
use yonder_service::{Change, JobContext, Records, Service, ServiceError, run_blocking};

/// Maximum concurrent preflights of a bulk start.
const MAX_CONCURRENT_STARTS: usize = 8;

/// Maximum size of a change: a holding picture of 8 MiB in Base64, and the other fields.
const MAX_CHANGE: usize = 12 * 1024 * 1024;

pub(super) fn configure(config: &mut ServiceConfig) {
    config
        .service(status)
        .service(list)
        .service(add)
        .service(show)
        .service(
            // The body may contain a holding picture.
            web::resource("/relays/{name}")
                .guard(guard::Patch())
                .app_data(json::configuration_up_to(MAX_CHANGE))
                .to(edit),
        )
        .service(preflight)
        .service(start)
        .service(start_several)
        .service(rehearse)
        .service(stop)
        .service(remove);
}

/// Returns the state of all relays.
#[utoipa::path(context_path = "/api/v1", tag = "relays", responses((status = 200, body = Status)))]
#[get("/status")]
async fn status(service: Data<Service>, _caller: Caller) -> Json<Status> {
    Json(service.status())
}

/// Returns all relays by name.
#[utoipa::path(context_path = "/api/v1", tag = "relays", params(PageRequest),
    responses((status = 200, body = [Relay])))]
#[get("/relays")]
async fn list(
    service: Data<Service>,
    _caller: Caller,
    request: HttpRequest,
    page: Query<PageRequest>,
) -> Result<HttpResponse, HttpError> {
    page.respond(&request, &service.records().relays(), |item| &item.name)
}

/// Adds a relay, which is off.
#[utoipa::path(context_path = "/api/v1", tag = "relays", request_body = NewRelay,
    responses((status = 201, body = Relay), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
#[post("/relays")]
async fn add(service: Data<Service>, admin: Admin, new: Json<NewRelay>) -> Result<HttpResponse, HttpError> {
    let relay =
        run_audited(&service, admin.change("added", RecordKind::Relay, &new.name), move |transaction| {
            transaction.add_relay(&new)
        })
        .await?;
    Ok(created("relays", &relay.name, &relay))
}

/// Returns a relay.
#[utoipa::path(context_path = "/api/v1", tag = "relays", params(("name" = String, Path)),
    responses((status = 200, body = Relay), (status = 404, body = Problem)))]
#[get("/relays/{name}")]
async fn show(service: Data<Service>, _caller: Caller, name: Path<String>) -> Result<Json<Relay>, HttpError> {
    run_read(&service, move |service| service.records().relay(&name)).await.map(Json)
}

/// Changes a relay; while it runs, only pushes that differ are touched.
#[utoipa::path(patch, path = "/relays/{name}", context_path = "/api/v1", tag = "relays", params(("name" = String, Path)), request_body = RelayChange,
    responses((status = 200, body = Relay), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
async fn edit(
    service: Data<Service>,
    admin: Admin,
    name: Path<String>,
    change: Json<RelayChange>,
) -> Result<Json<Relay>, HttpError> {
    let act = admin.change("changed", RecordKind::Relay, &name);
    let edited =
        run_audited(&service, act, move |transaction| transaction.edit_relay(&name, change.into_inner()))
            .await?;
    // The engine applies the change after it is stored.
    run_read(&service, move |service| service.records().relay(&edited.name)).await.map(Json)
}

/// Runs the preflight. It takes some seconds, during which the camera is pulled; no key is sent.
#[utoipa::path(context_path = "/api/v1", tag = "relays", params(("name" = String, Path)),
    responses((status = 200, body = Preflight), (status = 202, body = Job), (status = 404, body = Problem)))]
#[post("/relays/{name}/preflight")]
async fn preflight(
    service: Data<Service>,
    operator: Operator,
    preference: Preference,
    name: Path<String>,
) -> Result<HttpResponse, HttpError> {
    let act = operator.change("checked", RecordKind::Relay, &name);
    let work = (JobKind::Preflight, Some(name.as_str()));
    jobs::run(&service, preference, &operator.0, work, |service, context| async move {
        let preflight = service.planner().preflight(&act.name, &context).await?;
        service.journal().audit_in_background(act).await;
        Ok(preflight)
    })
    .await
}

/// Starts a relay, or retries blocked parts of a running one. The first start, and the first one after a change of its
/// configuration, require a passed preflight unless forced.
#[utoipa::path(context_path = "/api/v1", tag = "relays", params(("name" = String, Path)), request_body = Start,
    responses((status = 200, body = Relay), (status = 202, body = Job), (status = 404, body = Problem),
        (status = 409, body = Problem)))]
#[post("/relays/{name}/start")]
async fn start(
    service: Data<Service>,
    operator: Operator,
    preference: Preference,
    name: Path<String>,
    how: Json<Start>,
) -> Result<HttpResponse, HttpError> {
    let change = start_change(&operator, &name, how.force);
    let work = (JobKind::Start, Some(name.as_str()));
    jobs::run(&service, preference, &operator.0, work, |service, context| async move {
        start_one(&service, change, &context).await
    })
    .await
}

/// Starts several relays, each after its preflight, a few at a time. A failure does not affect the others.
#[utoipa::path(context_path = "/api/v1", tag = "relays", request_body = BulkStart,
    responses((status = 200, body = [StartOutcome]), (status = 202, body = Job), (status = 404, body = Problem)))]
#[post("/starts")]
async fn start_several(
    service: Data<Service>,
    operator: Operator,
    preference: Preference,
    request: Json<BulkStart>,
) -> Result<HttpResponse, HttpError> {
    let BulkStart { relays, force } = request.into_inner();
    let names = run_read(&service, move |service| service.records().relays_to_start(relays)).await?;
    let changes: Vec<Change> = names.iter().map(|name| start_change(&operator, name, force)).collect();
    jobs::run(&service, preference, &operator.0, (JobKind::BulkStart, None), |service, context| async move {
        let total = changes.len();
        let mut outcomes = Vec::with_capacity(total);
        let starts = changes.into_iter().map(|change| {
            let (service, context) = (Arc::clone(&service), context.clone());
            async move {
                let relay = change.name.clone();
                let problem = match context.check_canceled() {
                    Ok(()) => start_one(&service, change, &context).await.map(|_| ()),
                    Err(canceled) => Err(canceled),
                };
                let problem = problem.err().map(|error| problem_of(&error));
                StartOutcome { relay, started: problem.is_none(), problem }
            }
        });
        let mut running = futures_util::stream::iter(starts).buffered(MAX_CONCURRENT_STARTS);
        while let Some(outcome) = running.next().await {
            context.set_progress(format!("starting {}", outcome.relay), outcomes.len() + 1, total);
            outcomes.push(outcome);
        }
        Ok(outcomes)
    })
    .await
}

fn start_change(operator: &Operator, name: &str, force: bool) -> Change {
    operator.change(if force { "start-forced" } else { "started" }, RecordKind::Relay, name)
}

/// Starts a relay, and returns its state.
async fn start_one(
    service: &Arc<Service>,
    change: Change,
    context: &JobContext,
) -> Result<Relay, ServiceError> {
    let name = change.name.clone();
    if change.action == "start-forced" {
        let (service, name) = (Arc::clone(service), name.clone());
        run_blocking(move || service.execute(&change, |transaction| transaction.force_relay(&name))).await?;
    } else {
        service.start_checked(change, context).await?;
    }
    // The engine applies the change after it is stored.
    let service = Arc::clone(service);
    run_blocking(move || service.records().relay(&name)).await
}

/// Rehearses: pushes to an own grading receiver instead of a platform, and returns the grade.
#[utoipa::path(context_path = "/api/v1", tag = "relays", params(("name" = String, Path)), request_body = NewRehearsal,
    responses((status = 200, body = Rehearsal), (status = 202, body = Job), (status = 404, body = Problem),
        (status = 422, body = Problem)))]
#[post("/relays/{name}/rehearse")]
async fn rehearse(
    service: Data<Service>,
    operator: Operator,
    preference: Preference,
    name: Path<String>,
    new: Json<NewRehearsal>,
) -> Result<HttpResponse, HttpError> {
    let (act, new) = (operator.change("rehearsed", RecordKind::Relay, &name), new.into_inner());
    let work = (JobKind::Rehearsal, Some(name.as_str()));
    jobs::run(&service, preference, &operator.0, work, |service, context| async move {
        let rehearsal = service.planner().rehearse(&act.name, new, &context).await?;
        service.journal().audit_in_background(act).await;
        Ok(rehearsal)
    })
    .await
}

/// Stops a relay; its broadcasts end in order.
#[utoipa::path(context_path = "/api/v1", tag = "relays", params(("name" = String, Path)),
    responses((status = 200, body = Relay), (status = 404, body = Problem)))]
#[post("/relays/{name}/stop")]
async fn stop(
    service: Data<Service>,
    operator: Operator,
    name: Path<String>,
) -> Result<Json<Relay>, HttpError> {
    let act = operator.change("stopped", RecordKind::Relay, &name);
    run_write(&service, move |service| {
        service.check_before(&act)?;
        service.reconciler().withdraw_relay(&name);
        let remember = |records: &Records| records.remember_desired_state(&name, DesiredState::Off);
        service.execute_protective(&act, |transaction| transaction.stop_relay(&name), remember)
    })
    .await
    .map(Json)
}

/// Removes a relay; its broadcasts end in order.
#[utoipa::path(context_path = "/api/v1", tag = "relays", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
#[delete("/relays/{name}")]
async fn remove(service: Data<Service>, admin: Admin, name: Path<String>) -> Result<HttpResponse, HttpError> {
    run_audited(&service, admin.change("removed", RecordKind::Relay, &name), move |transaction| {
        transaction.remove_relay(&name)
    })
    .await?;
    Ok(HttpResponse::NoContent().finish())
}
