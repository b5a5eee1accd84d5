//! `/api/v1/alerts` and `/api/v1/receivers`

use std::sync::Arc;

use actix_web::web::{Data, Json, Path, ServiceConfig};
use actix_web::{HttpResponse, delete, get, patch, post};
use yonder_api::{
    Acknowledge, AddedReceiver, Alert, AlertChange, Mute, NewAlert, NewReceiver, Problem, Receiver,
    ReceiverChange,
};
use yonder_store::Kind;

use super::caller::{Authorized as _, Caller, Keeper, Operator, audited, reading, recorded};
use super::json::created;
use crate::error::HttpError;
use yonder_service::Service;

pub(super) fn configure(config: &mut ServiceConfig) {
    config.service(list).service(add).service(show).service(edit).service(remove);
    config.service(acknowledge).service(mute);
    config
        .service(list_receivers)
        .service(add_receiver)
        .service(show_receiver)
        .service(edit_receiver)
        .service(remove_receiver)
        .service(test_receiver);
}

/// All alerts by name, with what they go on about.
#[utoipa::path(context_path = "/api/v1", tag = "alerts", responses((status = 200, body = [Alert])))]
#[get("/alerts")]
async fn list(service: Data<Service>, _caller: Caller) -> Result<Json<Vec<Alert>>, HttpError> {
    reading(&service, |service| service.notifications().alerts()).await.map(Json)
}

/// Adds an alert.
#[utoipa::path(context_path = "/api/v1", tag = "alerts", request_body = NewAlert,
    responses((status = 201, body = Alert), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
#[post("/alerts")]
async fn add(service: Data<Service>, keeper: Keeper, new: Json<NewAlert>) -> Result<HttpResponse, HttpError> {
    let act = keeper.change("added", Kind::Alert, &new.name);
    let added = recorded(&service, act, move |transaction| transaction.add_alert(&new)).await?;
    let alert = shown(&service, added).await?;
    Ok(created("alerts", &alert.name, &alert))
}

/// One alert.
#[utoipa::path(context_path = "/api/v1", tag = "alerts", params(("name" = String, Path)),
    responses((status = 200, body = Alert), (status = 404, body = Problem)))]
#[get("/alerts/{name}")]
async fn show(service: Data<Service>, _caller: Caller, name: Path<String>) -> Result<Json<Alert>, HttpError> {
    reading(&service, move |service| service.notifications().alert(&name)).await.map(Json)
}

/// Returns an alert as it is after a change.
async fn shown(service: &Data<Service>, name: String) -> Result<Alert, HttpError> {
    reading(service, move |service| service.notifications().alert(&name)).await
}

/// Changes an alert.
#[utoipa::path(context_path = "/api/v1", tag = "alerts", params(("name" = String, Path)), request_body = AlertChange,
    responses((status = 200, body = Alert), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
#[patch("/alerts/{name}")]
async fn edit(
    service: Data<Service>,
    keeper: Keeper,
    name: Path<String>,
    change: Json<AlertChange>,
) -> Result<Json<Alert>, HttpError> {
    let act = keeper.change("changed", Kind::Alert, &name);
    let edited =
        recorded(&service, act, move |transaction| transaction.edit_alert(&name, change.into_inner()))
            .await?;
    shown(&service, edited).await.map(Json)
}

/// Acknowledges an open alert: it is not repeated, and the next notification says that it is over.
#[utoipa::path(context_path = "/api/v1", tag = "alerts", params(("name" = String, Path)), request_body = Acknowledge,
    responses((status = 200, body = Alert), (status = 404, body = Problem), (status = 422, body = Problem)))]
#[post("/alerts/{name}/acknowledge")]
async fn acknowledge(
    service: Data<Service>,
    operator: Operator,
    name: Path<String>,
    what: Json<Acknowledge>,
) -> Result<Json<Alert>, HttpError> {
    let act = operator.change("acknowledged", Kind::Alert, &name);
    let subject = what.into_inner().subject;
    let notifications = Arc::clone(service.notifications());
    let acknowledged = recorded(&service, act, move |transaction| {
        notifications.acknowledge_alert(transaction, &name, subject.as_deref())
    })
    .await?;
    shown(&service, acknowledged).await.map(Json)
}

/// Mutes an alert for some time: no notification is sent; the logbook still records it.
#[utoipa::path(context_path = "/api/v1", tag = "alerts", params(("name" = String, Path)), request_body = Mute,
    responses((status = 200, body = Alert), (status = 404, body = Problem), (status = 422, body = Problem)))]
#[post("/alerts/{name}/mute")]
async fn mute(
    service: Data<Service>,
    operator: Operator,
    name: Path<String>,
    how: Json<Mute>,
) -> Result<Json<Alert>, HttpError> {
    let act = operator.change("muted", Kind::Alert, &name);
    let muted = recorded(&service, act, move |transaction| transaction.mute_alert(&name, how.for_s)).await?;
    shown(&service, muted).await.map(Json)
}

/// Removes an alert.
#[utoipa::path(context_path = "/api/v1", tag = "alerts", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
#[delete("/alerts/{name}")]
async fn remove(
    service: Data<Service>,
    keeper: Keeper,
    name: Path<String>,
) -> Result<HttpResponse, HttpError> {
    let act = keeper.change("removed", Kind::Alert, &name);
    recorded(&service, act, move |transaction| transaction.remove_alert(&name)).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// All receivers by name.
#[utoipa::path(context_path = "/api/v1", tag = "alerts", responses((status = 200, body = [Receiver])))]
#[get("/receivers")]
async fn list_receivers(service: Data<Service>, _caller: Caller) -> Result<Json<Vec<Receiver>>, HttpError> {
    reading(&service, |service| service.notifications().receivers()).await.map(Json)
}

/// Adds a receiver. A web receiver without a secret gets one, which is shown this once.
#[utoipa::path(context_path = "/api/v1", tag = "alerts", request_body = NewReceiver,
    responses((status = 201, body = AddedReceiver), (status = 409, body = Problem), (status = 422, body = Problem)))]
#[post("/receivers")]
async fn add_receiver(
    service: Data<Service>,
    keeper: Keeper,
    new: Json<NewReceiver>,
) -> Result<HttpResponse, HttpError> {
    let act = keeper.change("added", Kind::Receiver, &new.name);
    let (name, made) =
        recorded(&service, act, move |transaction| transaction.add_receiver(new.into_inner())).await?;
    let receiver = reading(&service, move |service| service.notifications().receiver(&name)).await?;
    let added = AddedReceiver { receiver, secret: made.map(Into::into) };
    Ok(created("receivers", &added.receiver.name, &added))
}

/// One receiver.
#[utoipa::path(context_path = "/api/v1", tag = "alerts", params(("name" = String, Path)),
    responses((status = 200, body = Receiver), (status = 404, body = Problem)))]
#[get("/receivers/{name}")]
async fn show_receiver(
    service: Data<Service>,
    _caller: Caller,
    name: Path<String>,
) -> Result<Json<Receiver>, HttpError> {
    reading(&service, move |service| service.notifications().receiver(&name)).await.map(Json)
}

/// Changes a receiver.
#[utoipa::path(context_path = "/api/v1", tag = "alerts", params(("name" = String, Path)), request_body = ReceiverChange,
    responses((status = 200, body = Receiver), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
#[patch("/receivers/{name}")]
async fn edit_receiver(
    service: Data<Service>,
    keeper: Keeper,
    name: Path<String>,
    change: Json<ReceiverChange>,
) -> Result<Json<Receiver>, HttpError> {
    let act = keeper.change("changed", Kind::Receiver, &name);
    let edited =
        recorded(&service, act, move |transaction| transaction.edit_receiver(&name, change.into_inner()))
            .await?;
    reading(&service, move |service| service.notifications().receiver(&edited)).await.map(Json)
}

/// Removes a receiver.
#[utoipa::path(context_path = "/api/v1", tag = "alerts", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
#[delete("/receivers/{name}")]
async fn remove_receiver(
    service: Data<Service>,
    keeper: Keeper,
    name: Path<String>,
) -> Result<HttpResponse, HttpError> {
    let act = keeper.change("removed", Kind::Receiver, &name);
    recorded(&service, act, move |transaction| transaction.remove_receiver(&name)).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Tells a receiver that this is a test, and answers once it was told.
#[utoipa::path(context_path = "/api/v1", tag = "alerts", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem), (status = 502, body = Problem)))]
#[post("/receivers/{name}/test")]
async fn test_receiver(
    service: Data<Service>,
    keeper: Keeper,
    name: Path<String>,
) -> Result<HttpResponse, HttpError> {
    let act = keeper.change("tested", Kind::Receiver, &name);
    let who = keeper.0.name;
    audited(&service, act, move |service| service.notifications().test_receiver(&name, &who)).await?;
    Ok(HttpResponse::NoContent().finish())
}
