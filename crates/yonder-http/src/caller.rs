//! Who calls: a bearer token, or the cookie of a session together with its token on every change. Handlers say by
//! the type of their caller what role they want.

use std::future::{Ready, ready};

use actix_web::body::MessageBody;
use actix_web::dev::{Payload, ServiceRequest, ServiceResponse};
use actix_web::http::Method;
use actix_web::http::header::{AUTHORIZATION, USER_AGENT};
use actix_web::middleware::Next;
use actix_web::web::Data;
use actix_web::{FromRequest, HttpMessage as _, HttpRequest};
use secrecy::SecretString;
use yonder_api::CSRF_HEADER;
use yonder_core::Role;
use yonder_store::Kind;

use super::blocking;
use crate::error::HttpError;
use yonder_service::Service;
use yonder_service::ServiceError;
use yonder_service::same_secret;

/// Name of the session cookie.
pub(super) const COOKIE: &str = "yonder-session";

/// Somebody who may use the API. Handlers that take one refuse everybody else.
#[derive(Debug, Clone)]
pub(super) struct Caller {
    /// Name of the person, or of the token.
    pub(super) name: String,
    /// What they may do.
    pub(super) role: Role,
    /// By what they came.
    pub(super) credential: Credential,
}

/// What a caller showed.
#[derive(Debug, Clone)]
pub(super) enum Credential {
    /// The cookie of a session.
    Session(CallerSession),
    /// A token.
    Bearer(SecretString),
}

#[derive(Debug, Clone)]
pub(super) struct CallerSession {
    pub(super) token: SecretString,
    pub(super) csrf: String,
}

impl Caller {
    /// The session, for people who came by cookie.
    pub(super) fn session(&self) -> Option<&CallerSession> {
        match &self.credential {
            Credential::Session(session) => Some(session),
            Credential::Bearer(_) => None,
        }
    }

    fn needs(self, role: Role) -> Result<Self, HttpError> {
        if self.role >= role {
            Ok(self)
        } else {
            Err(ServiceError::RoleNeeded { has: self.role, needs: role }.into())
        }
    }
}

/// A caller who starts, stops, holds, resumes, rekeys and measures.
#[derive(Debug, Clone)]
pub(super) struct Operator(pub(super) Caller);

/// A caller who changes everything.
#[derive(Debug, Clone)]
pub(super) struct Keeper(pub(super) Caller);

/// Who called, found out before the handler and its request are looked at: what strangers send is not even read.
#[derive(Debug)]
struct Identified(Result<Caller, HttpError>);

/// Finds out who calls. Handlers that take no caller are open to everybody.
pub(super) async fn identify_first(
    request: ServiceRequest,
    next: Next<impl MessageBody + 'static>,
) -> Result<ServiceResponse<impl MessageBody>, actix_web::Error> {
    let found = identify(request.request()).await;
    request.extensions_mut().insert(Identified(found));
    next.call(request).await
}

fn take(request: &HttpRequest) -> Result<Caller, HttpError> {
    let found = request.extensions_mut().remove::<Identified>();
    found.map_or(Err(ServiceError::Internal("nobody looked who calls").into()), |Identified(found)| found)
}

impl FromRequest for Caller {
    type Error = HttpError;
    type Future = Ready<Result<Self, Self::Error>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        ready(take(request))
    }
}

impl FromRequest for Operator {
    type Error = HttpError;
    type Future = Ready<Result<Self, Self::Error>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        ready(take(request).and_then(|caller| caller.needs(Role::Operator)).map(Self))
    }
}

impl FromRequest for Keeper {
    type Error = HttpError;
    type Future = Ready<Result<Self, Self::Error>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        ready(take(request).and_then(|caller| caller.needs(Role::Keeper)).map(Self))
    }
}

async fn identify(request: &HttpRequest) -> Result<Caller, HttpError> {
    let service: &Data<Service> =
        request.app_data().ok_or(ServiceError::Internal("the service is not configured"))?;
    if let Some(value) = request.headers().get(AUTHORIZATION) {
        let token = value.to_str().ok().and_then(|value| value.strip_prefix("Bearer ")).unwrap_or_default();
        let secret = SecretString::from(token.trim());
        return known(service, Credential::Bearer(secret)).await;
    }
    let cookie = request.cookie(COOKIE).ok_or(ServiceError::SignInNeeded)?;
    let session = CallerSession { token: SecretString::from(cookie.value()), csrf: String::new() };
    let caller = known(service, Credential::Session(session)).await?;
    let reads_only = matches!(*request.method(), Method::GET | Method::HEAD);
    let carried =
        request.headers().get(CSRF_HEADER).and_then(|value| value.to_str().ok()).unwrap_or_default();
    let csrf = caller.session().map(|session| session.csrf.as_str()).unwrap_or_default();
    if !reads_only && !same_secret(&csrf.into(), carried) {
        return Err(ServiceError::TokenMissing.into());
    }
    Ok(caller)
}

/// Whom a credential belongs to, as long as it is valid.
pub(super) async fn known(service: &Data<Service>, credential: Credential) -> Result<Caller, HttpError> {
    reading(service, move |service| match credential {
        Credential::Bearer(secret) => {
            let (name, role) = service.bearer(&secret)?;
            Ok(Caller { name, role, credential: Credential::Bearer(secret) })
        }
        Credential::Session(CallerSession { token, .. }) => {
            let session = service.session(&token)?;
            let credential = Credential::Session(CallerSession { token, csrf: session.csrf });
            Ok(Caller { name: session.person, role: session.role, credential })
        }
    })
    .await
}

/// What the caller's browser or program says of itself.
pub(super) fn agent(request: &HttpRequest) -> String {
    let agent = request.headers().get(USER_AGENT).and_then(|value| value.to_str().ok());
    agent.unwrap_or_default().to_owned()
}

/// Runs a read that changes nothing.
pub(super) async fn reading<T: Send + 'static>(
    service: &Data<Service>,
    call: impl FnOnce(&Service) -> Result<T, ServiceError> + Send + 'static,
) -> Result<T, HttpError> {
    let service = std::sync::Arc::clone(service);
    let done = actix_web::web::block(move || call(&service)).await;
    Ok(done.map_err(|_| ServiceError::Internal("a blocking call was lost"))??)
}

/// Runs a change.
pub(super) async fn changing<T: Send + 'static>(
    service: &Data<Service>,
    call: impl FnOnce(&Service) -> Result<T, ServiceError> + Send + 'static,
) -> Result<T, HttpError> {
    blocking(service, call).await
}

/// Runs a change, and records what was done, to what, and by whom.
pub(super) async fn recorded<T: Send + 'static>(
    service: &Data<Service>,
    caller: Caller,
    (what, kind, name): (&'static str, Kind, String),
    call: impl FnOnce(&Service) -> Result<T, ServiceError> + Send + 'static,
) -> Result<T, HttpError> {
    changing(service, move |service| {
        let done = call(service)?;
        service.record(&caller.name, what, kind, &name);
        Ok(done)
    })
    .await
}
