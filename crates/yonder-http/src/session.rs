//! `/api/v1/session`, `/api/v1/sessions` and `/api/v1/setup`: sign-in and sessions.

use actix_web::web::{Data, Json, Path, Query, ServiceConfig};
use actix_web::{HttpRequest, HttpResponse, delete, get, post};
use secrecy::SecretString;
use yonder_api::{Credentials, PasswordChange, Problem, Session, SetUp, SetUpNeeded, SignedIn};
use yonder_core::Role;
use yonder_store::RecordKind;

use super::caller::{Authorized as _, Caller, client, run_audited, run_audited_action, run_read, run_write};
use crate::access::Access;
use crate::error::HttpError;
use crate::page::PageRequest;
use yonder_service::ServiceError;
use yonder_service::{SESSION_S, Service, role_facts};

pub(super) fn configure(config: &mut ServiceConfig) {
    config
        .service(set_up_needed)
        .service(set_up)
        .service(sign_in)
        .service(who)
        .service(sign_out)
        .service(change_password)
        .service(list)
        .service(end);
}

/// Returns whether the first person must be set up.
#[utoipa::path(context_path = "/api/v1", tag = "session", responses((status = 200, body = SetUpNeeded)), security(()))]
#[get("/setup")]
async fn set_up_needed(service: Data<Service>) -> Json<SetUpNeeded> {
    Json(SetUpNeeded { needed: service.auth().set_up_code().is_some() })
}

/// Adds the first person with the code of the set-up link, and signs in.
#[utoipa::path(context_path = "/api/v1", tag = "session", request_body = SetUp,
    responses((status = 200, body = SignedIn), (status = 403, body = Problem), (status = 408, body = Problem),
        (status = 422, body = Problem), (status = 429, body = Problem)), security(()))]
#[post("/setup")]
async fn set_up(
    service: Data<Service>,
    from: HttpRequest,
    request: Json<SetUp>,
) -> Result<HttpResponse, HttpError> {
    let client = client(&from);
    let begun = run_write(&service, move |service| service.auth().set_up(&request, &client)).await?;
    Ok(signed_in(&from, begun))
}

/// Signs in.
#[utoipa::path(context_path = "/api/v1", tag = "session", request_body = Credentials,
    responses((status = 200, body = SignedIn), (status = 401, body = Problem), (status = 408, body = Problem),
        (status = 429, body = Problem)), security(()))]
#[post("/session")]
async fn sign_in(
    service: Data<Service>,
    from: HttpRequest,
    credentials: Json<Credentials>,
) -> Result<HttpResponse, HttpError> {
    let client = client(&from);
    let begun = run_write(&service, move |service| service.auth().sign_in(&credentials, &client)).await?;
    Ok(signed_in(&from, begun))
}

/// Returns the signed-in person.
#[utoipa::path(context_path = "/api/v1", tag = "session",
    responses((status = 200, body = SignedIn), (status = 401, body = Problem)))]
#[get("/session")]
async fn who(caller: Caller) -> Json<SignedIn> {
    let token = caller.session().map(|session| session.csrf.clone()).unwrap_or_default();
    Json(SignedIn { person: caller.name, role: role_facts(caller.role), token })
}

/// Signs out.
#[utoipa::path(context_path = "/api/v1", tag = "session", responses((status = 204)))]
#[delete("/session")]
async fn sign_out(
    service: Data<Service>,
    caller: Caller,
    from: HttpRequest,
) -> Result<HttpResponse, HttpError> {
    if let Some(session) = caller.session() {
        let token = session.token.clone();
        run_write(&service, move |service| service.auth().sign_out(&token)).await?;
    }
    Ok(HttpResponse::NoContent().cookie(Access::of(&from).cookie(&"".into(), 0)).finish())
}

/// Changes the password of the caller, and ends their other sessions.
#[utoipa::path(context_path = "/api/v1", tag = "session", request_body = PasswordChange,
    responses((status = 204), (status = 401, body = Problem), (status = 422, body = Problem), (status = 429, body = Problem)))]
#[post("/session/password")]
async fn change_password(
    service: Data<Service>,
    caller: Caller,
    from: HttpRequest,
    change: Json<PasswordChange>,
) -> Result<HttpResponse, HttpError> {
    let token = caller.session().map(|session| session.token.clone()).ok_or(ServiceError::SignInNeeded)?;
    let act = caller.change("password-changed", RecordKind::Person, &caller.name);
    let source = Access::of(&from).source(&from);
    run_audited_action(&service, act, move |service| {
        service.auth().change_password(&token, change.into_inner(), source)
    })
    .await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Returns open sessions: the caller's own, or all for an admin.
#[utoipa::path(context_path = "/api/v1", tag = "session", params(PageRequest),
    responses((status = 200, body = [Session])))]
#[get("/sessions")]
async fn list(
    service: Data<Service>,
    caller: Caller,
    request: HttpRequest,
    page: Query<PageRequest>,
) -> Result<HttpResponse, HttpError> {
    let asking = caller.session().map(|session| session.token.clone());
    let sessions = run_read(&service, move |service| {
        service.auth().sessions(whose(&caller).as_deref(), asking.as_ref())
    })
    .await?;
    page.respond(&request, &sessions, |item| &item.id)
}

/// Ends a session: one of the caller's own, or any for an admin.
#[utoipa::path(context_path = "/api/v1", tag = "session", params(("id" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
#[delete("/sessions/{id}")]
async fn end(service: Data<Service>, caller: Caller, id: Path<String>) -> Result<HttpResponse, HttpError> {
    let whose = whose(&caller);
    let act = caller.change("ended", RecordKind::Session, &id);
    run_audited(&service, act, move |transaction| transaction.end_session(&id, whose.as_deref())).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Returns the person whose sessions a caller may see and end; `None` for all.
fn whose(caller: &Caller) -> Option<String> {
    (caller.role < Role::Admin).then(|| caller.name.clone())
}

/// Returns the response to a sign-in.
pub(super) fn signed_in(from: &HttpRequest, (token, facts): (SecretString, SignedIn)) -> HttpResponse {
    HttpResponse::Ok().cookie(Access::of(from).cookie(&token, SESSION_S)).json(facts)
}
