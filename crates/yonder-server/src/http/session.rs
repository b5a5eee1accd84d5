//! `/api/v1/session` and `/api/v1/setup`: signing in and out.

use actix_web::cookie::time::Duration;
use actix_web::cookie::{Cookie, SameSite};
use actix_web::web::{Data, Json, ServiceConfig};
use actix_web::{HttpResponse, delete, get, post};
use secrecy::{ExposeSecret as _, SecretString};
use yonder_api::{Credentials, Problem, SetUp, SetUpNeeded, SignedIn};

use super::caller::{COOKIE, Caller, changing};
use crate::error::ServiceError;
use crate::service::{SESSION_S, Service};

pub(super) fn configure(config: &mut ServiceConfig) {
    config.service(set_up_needed).service(set_up).service(sign_in).service(who).service(sign_out);
}

/// Whether the first person is still to be made.
#[utoipa::path(context_path = "/api/v1", tag = "session", responses((status = 200, body = SetUpNeeded)), security(()))]
#[get("/setup")]
async fn set_up_needed(service: Data<Service>) -> Json<SetUpNeeded> {
    Json(SetUpNeeded { needed: service.set_up_code().is_some() })
}

/// Makes the first person, with the code of the set-up link, and signs them in.
#[utoipa::path(context_path = "/api/v1", tag = "session", request_body = SetUp,
    responses((status = 200, body = SignedIn), (status = 403, body = Problem), (status = 422, body = Problem)), security(()))]
#[post("/setup")]
async fn set_up(service: Data<Service>, request: Json<SetUp>) -> Result<HttpResponse, ServiceError> {
    let (token, signed_in) = changing(&service, move |service| service.set_up(&request)).await?;
    Ok(HttpResponse::Ok().cookie(cookie(&token, SESSION_S)).json(signed_in))
}

/// Signs in.
#[utoipa::path(context_path = "/api/v1", tag = "session", request_body = Credentials,
    responses((status = 200, body = SignedIn), (status = 401, body = Problem), (status = 429, body = Problem)), security(()))]
#[post("/session")]
async fn sign_in(
    service: Data<Service>,
    credentials: Json<Credentials>,
) -> Result<HttpResponse, ServiceError> {
    let (token, signed_in) = changing(&service, move |service| service.sign_in(&credentials)).await?;
    Ok(HttpResponse::Ok().cookie(cookie(&token, SESSION_S)).json(signed_in))
}

/// Who is signed in.
#[utoipa::path(context_path = "/api/v1", tag = "session",
    responses((status = 200, body = SignedIn), (status = 401, body = Problem)))]
#[get("/session")]
async fn who(caller: Caller) -> Json<SignedIn> {
    let token = caller.session.map(|session| session.csrf).unwrap_or_default();
    Json(SignedIn { person: caller.name, token })
}

/// Signs out.
#[utoipa::path(context_path = "/api/v1", tag = "session", responses((status = 204)))]
#[delete("/session")]
async fn sign_out(service: Data<Service>, caller: Caller) -> Result<HttpResponse, ServiceError> {
    if let Some(session) = caller.session {
        changing(&service, move |service| service.sign_out(&session.token)).await?;
    }
    Ok(HttpResponse::NoContent().cookie(cookie(&"".into(), 0)).finish())
}

/// The session cookie: out of reach of scripts, never sent along by other sites.
fn cookie(token: &SecretString, seconds: i64) -> Cookie<'static> {
    Cookie::build(COOKIE, token.expose_secret().to_owned())
        .path("/")
        .http_only(true)
        .same_site(SameSite::Strict)
        .max_age(Duration::seconds(seconds))
        .finish()
}
