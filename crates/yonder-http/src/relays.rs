//! `/api/v1/relays` and `/api/v1/status`

use actix_web::web::{Data, Json, Path, ServiceConfig};
use actix_web::{HttpResponse, delete, get, patch, post};
use yonder_api::{NewRehearsal, NewRelay, Preflight, Problem, Rehearsal, Relay, RelayChange, Start, Status};
use yonder_store::{DesiredState, Kind};

use super::caller::{Authorized as _, Caller, Keeper, Operator, changing, reading, recorded};
use crate::error::HttpError;
use yonder_service::Service;

pub(super) fn configure(config: &mut ServiceConfig) {
    config
        .service(status)
        .service(list)
        .service(add)
        .service(show)
        .service(edit)
        .service(preflight)
        .service(start)
        .service(rehearse)
        .service(stop)
        .service(remove);
}

/// Everything at this moment.
#[utoipa::path(context_path = "/api/v1", tag = "relays", responses((status = 200, body = Status)))]
#[get("/status")]
async fn status(service: Data<Service>, _caller: Caller) -> Json<Status> {
    Json(service.status())
}

/// All relays by name.
#[utoipa::path(context_path = "/api/v1", tag = "relays", responses((status = 200, body = [Relay])))]
#[get("/relays")]
async fn list(service: Data<Service>, _caller: Caller) -> Json<Vec<Relay>> {
    Json(service.relays())
}

/// Adds a relay, which is off.
#[utoipa::path(context_path = "/api/v1", tag = "relays", request_body = NewRelay,
    responses((status = 201, body = Relay), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
#[post("/relays")]
async fn add(service: Data<Service>, keeper: Keeper, new: Json<NewRelay>) -> Result<HttpResponse, HttpError> {
    let relay = recorded(&service, keeper.change("added", Kind::Relay, &new.name), move |service| {
        service.add_relay(&new)
    })
    .await?;
    Ok(HttpResponse::Created().json(relay))
}

/// One relay.
#[utoipa::path(context_path = "/api/v1", tag = "relays", params(("name" = String, Path)),
    responses((status = 200, body = Relay), (status = 404, body = Problem)))]
#[get("/relays/{name}")]
async fn show(service: Data<Service>, _caller: Caller, name: Path<String>) -> Result<Json<Relay>, HttpError> {
    reading(&service, move |service| service.relay(&name)).await.map(Json)
}

/// Changes a relay; while it runs, only the pushes that differ are touched.
#[utoipa::path(context_path = "/api/v1", tag = "relays", params(("name" = String, Path)), request_body = RelayChange,
    responses((status = 200, body = Relay), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
#[patch("/relays/{name}")]
async fn edit(
    service: Data<Service>,
    keeper: Keeper,
    name: Path<String>,
    change: Json<RelayChange>,
) -> Result<Json<Relay>, HttpError> {
    let act = keeper.change("changed", Kind::Relay, &name);
    let edited =
        recorded(&service, act, move |service| service.edit_relay(&name, change.into_inner())).await?;
    // The engine follows once the change is stored.
    reading(&service, move |service| service.relay(&edited.name)).await.map(Json)
}

/// The checks before a start. They take some seconds, in which the camera is pulled; no key is sent.
#[utoipa::path(context_path = "/api/v1", tag = "relays", params(("name" = String, Path)),
    responses((status = 200, body = Preflight), (status = 404, body = Problem)))]
#[post("/relays/{name}/preflight")]
async fn preflight(
    service: Data<Service>,
    _operator: Operator,
    name: Path<String>,
) -> Result<Json<Preflight>, HttpError> {
    Ok(Json(service.preflight(&name).await?))
}

/// Starts a relay, or tries anew what is blocked in one that runs. Before its first start, and after something about
/// it changed, a preflight is run; what fails there keeps it from starting unless forced.
#[utoipa::path(context_path = "/api/v1", tag = "relays", params(("name" = String, Path)), request_body = Start,
    responses((status = 200, body = Relay), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[post("/relays/{name}/start")]
async fn start(
    service: Data<Service>,
    operator: Operator,
    name: Path<String>,
    how: Json<Start>,
) -> Result<Json<Relay>, HttpError> {
    if how.force {
        let (act, name) = (operator.change("start-forced", Kind::Relay, &name), name.clone());
        recorded(&service, act, move |service| service.force_relay(&name)).await?;
    } else {
        service.start_checked(operator.change("started", Kind::Relay, &name)).await?;
    }
    // The engine follows once the change is stored.
    changing(&service, move |service| service.relay(&name)).await.map(Json)
}

/// Pushes to our own grading receiver instead of a platform, and tells what a platform would see.
#[utoipa::path(context_path = "/api/v1", tag = "relays", params(("name" = String, Path)), request_body = NewRehearsal,
    responses((status = 200, body = Rehearsal), (status = 404, body = Problem), (status = 422, body = Problem)))]
#[post("/relays/{name}/rehearse")]
async fn rehearse(
    service: Data<Service>,
    _operator: Operator,
    name: Path<String>,
    new: Json<NewRehearsal>,
) -> Result<Json<Rehearsal>, HttpError> {
    Ok(Json(service.rehearse(&name, new.into_inner()).await?))
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
    let act = operator.change("stopped", Kind::Relay, &name);
    changing(&service, move |service| {
        service.withdraw_relay(&name);
        let remember = |service: &Service| service.remember_wanted(&name, DesiredState::Off);
        service.execute_protective(&act, |service| service.stop_relay(&name), remember)
    })
    .await
    .map(Json)
}

/// Removes a relay; its broadcasts end in order.
#[utoipa::path(context_path = "/api/v1", tag = "relays", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
#[delete("/relays/{name}")]
async fn remove(
    service: Data<Service>,
    keeper: Keeper,
    name: Path<String>,
) -> Result<HttpResponse, HttpError> {
    recorded(&service, keeper.change("removed", Kind::Relay, &name), move |service| {
        service.remove_relay(&name)
    })
    .await?;
    Ok(HttpResponse::NoContent().finish())
}
