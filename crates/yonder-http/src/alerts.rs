//! `/api/v1/alerts` and `/api/v1/contacts`

use std::sync::Arc;

use actix_web::web::{Data, Json, Path, Query, ServiceConfig};
use actix_web::{HttpRequest, HttpResponse, delete, get, patch, post};
use yonder_api::{
    Acknowledge, AddedContact, Alert, AlertChange, Contact, ContactChange, Mute, NewAlert, NewContact,
    Problem,
};
use yonder_store::RecordKind;

use super::caller::{Admin, Authorized as _, Caller, Operator, run_audited, run_audited_action, run_read};
use super::json::created;
use crate::error::HttpError;
use crate::page::PageRequest;
use yonder_service::Service;

pub(super) fn configure(config: &mut ServiceConfig) {
    config.service(list).service(add).service(show).service(edit).service(remove);
    config.service(acknowledge).service(mute);
    config
        .service(list_contacts)
        .service(add_contact)
        .service(show_contact)
        .service(edit_contact)
        .service(remove_contact)
        .service(test_contact);
}

/// Returns all alert rules by name, with their open alerts.
#[utoipa::path(context_path = "/api/v1", tag = "alerts", params(PageRequest),
    responses((status = 200, body = [Alert])))]
#[get("/alerts")]
async fn list(
    service: Data<Service>,
    _caller: Caller,
    request: HttpRequest,
    page: Query<PageRequest>,
) -> Result<HttpResponse, HttpError> {
    let alerts = run_read(&service, |service| service.notifications().alerts()).await?;
    page.respond(&request, &alerts, |item| &item.name)
}

/// Adds an alert.
#[utoipa::path(context_path = "/api/v1", tag = "alerts", request_body = NewAlert,
    responses((status = 201, body = Alert), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
#[post("/alerts")]
async fn add(service: Data<Service>, admin: Admin, new: Json<NewAlert>) -> Result<HttpResponse, HttpError> {
    let act = admin.change("added", RecordKind::Alert, &new.name);
    let added = run_audited(&service, act, move |transaction| transaction.add_alert(&new)).await?;
    let alert = shown(&service, added).await?;
    Ok(created("alerts", &alert.name, &alert))
}

/// Returns an alert.
#[utoipa::path(context_path = "/api/v1", tag = "alerts", params(("name" = String, Path)),
    responses((status = 200, body = Alert), (status = 404, body = Problem)))]
#[get("/alerts/{name}")]
async fn show(service: Data<Service>, _caller: Caller, name: Path<String>) -> Result<Json<Alert>, HttpError> {
    run_read(&service, move |service| service.notifications().alert(&name)).await.map(Json)
}

/// Returns an alert after a change.
async fn shown(service: &Data<Service>, name: String) -> Result<Alert, HttpError> {
    run_read(service, move |service| service.notifications().alert(&name)).await
}

/// Changes an alert.
#[utoipa::path(context_path = "/api/v1", tag = "alerts", params(("name" = String, Path)), request_body = AlertChange,
    responses((status = 200, body = Alert), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
#[patch("/alerts/{name}")]
async fn edit(
    service: Data<Service>,
    admin: Admin,
    name: Path<String>,
    change: Json<AlertChange>,
) -> Result<Json<Alert>, HttpError> {
    let act = admin.change("changed", RecordKind::Alert, &name);
    let edited =
        run_audited(&service, act, move |transaction| transaction.edit_alert(&name, change.into_inner()))
            .await?;
    shown(&service, edited).await.map(Json)
}

/// Acknowledges an open alert: it is not repeated, but its resolution is notified.
#[utoipa::path(context_path = "/api/v1", tag = "alerts", params(("name" = String, Path)), request_body = Acknowledge,
    responses((status = 200, body = Alert), (status = 404, body = Problem), (status = 422, body = Problem)))]
#[post("/alerts/{name}/acknowledge")]
async fn acknowledge(
    service: Data<Service>,
    operator: Operator,
    name: Path<String>,
    what: Json<Acknowledge>,
) -> Result<Json<Alert>, HttpError> {
    let act = operator.change("acknowledged", RecordKind::Alert, &name);
    let subject = what.into_inner().subject;
    let notifications = Arc::clone(service.notifications());
    let acknowledged = run_audited(&service, act, move |transaction| {
        notifications.acknowledge_alert(transaction, &name, subject.as_deref())
    })
    .await?;
    shown(&service, acknowledged).await.map(Json)
}

/// Mutes an alert for some time: no notifications are sent, and the logbook still records it.
#[utoipa::path(context_path = "/api/v1", tag = "alerts", params(("name" = String, Path)), request_body = Mute,
    responses((status = 200, body = Alert), (status = 404, body = Problem), (status = 422, body = Problem)))]
#[post("/alerts/{name}/mute")]
async fn mute(
    service: Data<Service>,
    operator: Operator,
    name: Path<String>,
    how: Json<Mute>,
) -> Result<Json<Alert>, HttpError> {
    let act = operator.change("muted", RecordKind::Alert, &name);
    let muted =
        run_audited(&service, act, move |transaction| transaction.mute_alert(&name, how.for_s)).await?;
    shown(&service, muted).await.map(Json)
}

/// Removes an alert.
#[utoipa::path(context_path = "/api/v1", tag = "alerts", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
#[delete("/alerts/{name}")]
async fn remove(service: Data<Service>, admin: Admin, name: Path<String>) -> Result<HttpResponse, HttpError> {
    let act = admin.change("removed", RecordKind::Alert, &name);
    run_audited(&service, act, move |transaction| transaction.remove_alert(&name)).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Returns all contacts by name.
#[utoipa::path(context_path = "/api/v1", tag = "alerts", params(PageRequest),
    responses((status = 200, body = [Contact])))]
#[get("/contacts")]
async fn list_contacts(
    service: Data<Service>,
    _caller: Caller,
    request: HttpRequest,
    page: Query<PageRequest>,
) -> Result<HttpResponse, HttpError> {
    let contacts = run_read(&service, |service| service.notifications().contacts()).await?;
    page.respond(&request, &contacts, |item| &item.name)
}

/// Adds a contact. A webhook without a secret gets a generated one, which is returned only here.
#[utoipa::path(context_path = "/api/v1", tag = "alerts", request_body = NewContact,
    responses((status = 201, body = AddedContact), (status = 409, body = Problem), (status = 422, body = Problem)))]
#[post("/contacts")]
async fn add_contact(
    service: Data<Service>,
    admin: Admin,
    new: Json<NewContact>,
) -> Result<HttpResponse, HttpError> {
    let act = admin.change("added", RecordKind::Contact, &new.name);
    let (name, made) =
        run_audited(&service, act, move |transaction| transaction.add_contact(new.into_inner())).await?;
    let contact = run_read(&service, move |service| service.notifications().contact(&name)).await?;
    let added = AddedContact { contact, secret: made.map(Into::into) };
    Ok(created("contacts", &added.contact.name, &added))
}

/// Returns a contact.
#[utoipa::path(context_path = "/api/v1", tag = "alerts", params(("name" = String, Path)),
    responses((status = 200, body = Contact), (status = 404, body = Problem)))]
#[get("/contacts/{name}")]
async fn show_contact(
    service: Data<Service>,
    _caller: Caller,
    name: Path<String>,
) -> Result<Json<Contact>, HttpError> {
    run_read(&service, move |service| service.notifications().contact(&name)).await.map(Json)
}

/// Changes a contact.
#[utoipa::path(context_path = "/api/v1", tag = "alerts", params(("name" = String, Path)), request_body = ContactChange,
    responses((status = 200, body = Contact), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
#[patch("/contacts/{name}")]
async fn edit_contact(
    service: Data<Service>,
    admin: Admin,
    name: Path<String>,
    change: Json<ContactChange>,
) -> Result<Json<Contact>, HttpError> {
    let act = admin.change("changed", RecordKind::Contact, &name);
    let edited =
        run_audited(&service, act, move |transaction| transaction.edit_contact(&name, change.into_inner()))
            .await?;
    run_read(&service, move |service| service.notifications().contact(&edited)).await.map(Json)
}

/// Removes a contact.
#[utoipa::path(context_path = "/api/v1", tag = "alerts", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[delete("/contacts/{name}")]
async fn remove_contact(
    service: Data<Service>,
    admin: Admin,
    name: Path<String>,
) -> Result<HttpResponse, HttpError> {
    let act = admin.change("removed", RecordKind::Contact, &name);
    run_audited(&service, act, move |transaction| transaction.remove_contact(&name)).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Delivers a test message to a contact, and responds once it was delivered.
#[utoipa::path(context_path = "/api/v1", tag = "alerts", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem), (status = 502, body = Problem)))]
#[post("/contacts/{name}/test")]
async fn test_contact(
    service: Data<Service>,
    admin: Admin,
    name: Path<String>,
) -> Result<HttpResponse, HttpError> {
    let act = admin.change("tested", RecordKind::Contact, &name);
    let who = admin.0.name;
    run_audited_action(&service, act, move |service| service.notifications().test_contact(&name, &who))
        .await?;
    Ok(HttpResponse::NoContent().finish())
}
