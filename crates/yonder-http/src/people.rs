//! `/api/v1/people` and `/api/v1/invitations`

use actix_web::web::{Data, Json, Path, Query, ServiceConfig};
use actix_web::{HttpRequest, HttpResponse, delete, get, patch, post};
use yonder_api::{
    Invitation, InvitationCode, Join, MadeInvitation, NewInvitation, Person, PersonChange, Problem, SignedIn,
};
use yonder_store::RecordKind;

use super::caller::{Admin, Authorized as _, client, run_audited, run_read, run_write};
use super::session::signed_in;
use crate::error::HttpError;
use crate::page::PageRequest;
use yonder_service::Service;

pub(super) fn configure(config: &mut ServiceConfig) {
    config.service(list).service(edit).service(remove);
    config.service(invitations).service(invite).service(show_invitation).service(join).service(withdraw);
}

/// Returns all people by name.
#[utoipa::path(context_path = "/api/v1", tag = "people",
    params(PageRequest),
    responses((status = 200, body = [Person]), (status = 403, body = Problem)))]
#[get("/people")]
async fn list(
    service: Data<Service>,
    _admin: Admin,
    request: HttpRequest,
    page: Query<PageRequest>,
) -> Result<HttpResponse, HttpError> {
    let people = run_read(&service, |service| service.records().people()).await?;
    page.respond(&request, &people, |item| &item.name)
}

/// Changes the role of a person.
#[utoipa::path(context_path = "/api/v1", tag = "people", params(("name" = String, Path)), request_body = PersonChange,
    responses((status = 200, body = Person), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[patch("/people/{name}")]
async fn edit(
    service: Data<Service>,
    admin: Admin,
    name: Path<String>,
    change: Json<PersonChange>,
) -> Result<Json<Person>, HttpError> {
    let act = admin.change("changed", RecordKind::Person, &name);
    run_audited(&service, act, move |transaction| transaction.edit_person(&name, &change)).await.map(Json)
}

/// Removes a person with their sessions, tokens and invitations.
#[utoipa::path(context_path = "/api/v1", tag = "people", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[delete("/people/{name}")]
async fn remove(service: Data<Service>, admin: Admin, name: Path<String>) -> Result<HttpResponse, HttpError> {
    let act = admin.change("removed", RecordKind::Person, &name);
    run_audited(&service, act, move |transaction| transaction.remove_person(&name)).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Returns all open invitations.
#[utoipa::path(context_path = "/api/v1", tag = "people", params(PageRequest),
    responses((status = 200, body = [Invitation])))]
#[get("/invitations")]
async fn invitations(
    service: Data<Service>,
    _admin: Admin,
    request: HttpRequest,
    page: Query<PageRequest>,
) -> Result<HttpResponse, HttpError> {
    let invitations = run_read(&service, |service| service.records().invitations()).await?;
    page.respond(&request, &invitations, |item| &item.name)
}

/// Creates an invitation, or a link to a new password for an existing person. The link is valid once, for three days;
/// its code is returned only here.
#[utoipa::path(context_path = "/api/v1", tag = "people", request_body = NewInvitation,
    responses((status = 201, body = MadeInvitation), (status = 422, body = Problem)))]
#[post("/invitations")]
async fn invite(
    service: Data<Service>,
    admin: Admin,
    new: Json<NewInvitation>,
) -> Result<HttpResponse, HttpError> {
    let by = admin.0.actor();
    let act = admin.change("invited", RecordKind::Person, &new.name);
    let made = run_audited(&service, act, move |transaction| transaction.invite(&new, &by)).await?;
    Ok(HttpResponse::Created().json(made))
}

/// Returns the invitation of a code.
#[utoipa::path(context_path = "/api/v1", tag = "people", request_body = InvitationCode,
    responses((status = 200, body = Invitation), (status = 403, body = Problem)), security(()))]
#[post("/invitations/look")]
async fn show_invitation(
    service: Data<Service>,
    code: Json<InvitationCode>,
) -> Result<Json<Invitation>, HttpError> {
    let code = code.into_inner().code.into_inner();
    run_read(&service, move |service| service.records().invitation_of_code(&code)).await.map(Json)
}

/// Accepts an invitation, and signs in.
#[utoipa::path(context_path = "/api/v1", tag = "people", request_body = Join,
    responses((status = 200, body = SignedIn), (status = 403, body = Problem), (status = 408, body = Problem),
        (status = 422, body = Problem), (status = 429, body = Problem)), security(()))]
#[post("/invitations/join")]
async fn join(
    service: Data<Service>,
    from: HttpRequest,
    request: Json<Join>,
) -> Result<HttpResponse, HttpError> {
    let client = client(&from);
    let begun =
        run_write(&service, move |service| service.auth().join(request.into_inner(), &client)).await?;
    Ok(signed_in(&from, begun))
}

/// Revokes an invitation.
#[utoipa::path(context_path = "/api/v1", tag = "people", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
#[delete("/invitations/{name}")]
async fn withdraw(
    service: Data<Service>,
    admin: Admin,
    name: Path<String>,
) -> Result<HttpResponse, HttpError> {
    let act = admin.change("uninvited", RecordKind::Person, &name);
    run_audited(&service, act, move |transaction| transaction.revoke_invitation(&name)).await?;
    Ok(HttpResponse::NoContent().finish())
}
