//! Authentication: a bearer token, or the cookie of a session together with its token on every change. Handlers state by
//! the type of their caller what role they want.

use std::future::{Ready, ready};

use actix_web::body::MessageBody;
use actix_web::dev::{Payload, ServiceRequest, ServiceResponse};
use actix_web::http::Method;
use actix_web::http::header::{AUTHORIZATION, IF_MATCH, USER_AGENT};
use actix_web::middleware::Next;
use actix_web::web::Data;
use actix_web::{FromRequest, HttpMessage as _, HttpRequest};
use secrecy::SecretString;
use yonder_api::CSRF_HEADER;
use yonder_core::Role;
use yonder_store::Kind;

use super::blocking;
use crate::access::Access;
use crate::error::HttpError;
use yonder_service::ServiceError;
use yonder_service::SignInClient;
use yonder_service::same_secret;
use yonder_service::{Actor, Change, Origin, Service, Transaction};

/// Beginning of what our own command-line client says of itself.
const CLIENT_AGENT: &str = "yonder/";
/// Longest key of a request, in bytes.
const MAX_REQUEST_KEY: usize = 100;

/// Authenticated caller. Handlers that take one refuse all others.
#[derive(Debug, Clone)]
pub(super) struct Caller {
    /// Name of the person, or of the token.
    pub(super) name: String,
    /// Person who is responsible; `None` for the home folder's token.
    pub(super) person: Option<String>,
    /// Role.
    pub(super) role: Role,
    /// By what they came.
    pub(super) credential: Credential,
    /// Origin of the request.
    pub(super) origin: Origin,
    /// Network address of the caller.
    pub(super) address: Option<String>,
    /// Revision that the record must have (`If-Match`).
    pub(super) expected_revision: Option<i64>,
    /// Key by which a repeated request is recognized (`Idempotency-Key`).
    pub(super) request_key: Option<String>,
}

/// Credential of a request.
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

    /// Returns who makes a change.
    pub(super) fn actor(&self) -> Actor {
        Actor {
            name: self.name.clone(),
            person: self.person.clone(),
            role: self.role,
            origin: self.origin,
            address: self.address.clone(),
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
pub(super) struct Admin(pub(super) Caller);

/// A caller with the role that a change needs.
pub(super) trait Authorized {
    /// Role that was asked for.
    const ROLE: Role;

    /// The caller.
    fn caller(&self) -> &Caller;

    /// Returns a change that this caller makes.
    fn change(&self, action: &'static str, kind: Kind, name: &str) -> Change {
        let caller = self.caller();
        Change {
            actor: caller.actor(),
            needs: Self::ROLE,
            action,
            kind,
            name: name.to_owned(),
            expected_revision: caller.expected_revision,
        }
    }
}

impl Authorized for Caller {
    const ROLE: Role = Role::Viewer;

    fn caller(&self) -> &Caller {
        self
    }
}

impl Authorized for Operator {
    const ROLE: Role = Role::Operator;

    fn caller(&self) -> &Caller {
        &self.0
    }
}

impl Authorized for Admin {
    const ROLE: Role = Role::Admin;

    fn caller(&self) -> &Caller {
        &self.0
    }
}

/// Caller, authenticated before the handler and its request are read.
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

/// True for a request of a known caller.
pub(super) fn is_identified(request: &ServiceRequest) -> bool {
    request.extensions().get::<Identified>().is_some_and(|Identified(found)| found.is_ok())
}

fn take(request: &HttpRequest) -> Result<Caller, HttpError> {
    let found = request.extensions_mut().remove::<Identified>();
    found.map_or(Err(ServiceError::Internal("the caller was not identified").into()), |Identified(found)| {
        found
    })
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

impl FromRequest for Admin {
    type Error = HttpError;
    type Future = Ready<Result<Self, Self::Error>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        ready(take(request).and_then(|caller| caller.needs(Role::Admin)).map(Self))
    }
}

async fn identify(request: &HttpRequest) -> Result<Caller, HttpError> {
    let service: &Data<Service> =
        request.app_data().ok_or(ServiceError::Internal("the service is not configured"))?;
    let expected_revision = expected_revision(request)?;
    let request_key = request_key(request)?;
    let access = Access::of(request);
    let address = access.client_address(request).map(|address| address.to_string());
    if let Some(value) = request.headers().get(AUTHORIZATION) {
        // Schemes are not case-sensitive (RFC 9110, section 11.1).
        let parts = value.to_str().ok().and_then(|value| value.trim().split_once(' '));
        let token = parts.filter(|(scheme, _)| scheme.eq_ignore_ascii_case("bearer"));
        let token = token.map(|(_, token)| token).unwrap_or_default();
        let secret = SecretString::from(token.trim());
        let caller = known(service, Credential::Bearer(secret)).await?;
        let is_command = user_agent(request).starts_with(CLIENT_AGENT);
        let origin = if is_command { Origin::CommandLine } else { Origin::Api };
        return Ok(Caller { origin, address, expected_revision, request_key, ..caller });
    }
    let token = access.session_token(request).ok_or(ServiceError::SignInNeeded)?;
    let session = CallerSession { token, csrf: String::new() };
    let caller = known(service, Credential::Session(session)).await?;
    let reads_only = matches!(*request.method(), Method::GET | Method::HEAD);
    let carried =
        request.headers().get(CSRF_HEADER).and_then(|value| value.to_str().ok()).unwrap_or_default();
    let csrf = caller.session().map(|session| session.csrf.as_str()).unwrap_or_default();
    if !reads_only && !same_secret(&csrf.into(), carried) {
        return Err(ServiceError::TokenMissing.into());
    }
    Ok(Caller { address, expected_revision, request_key, ..caller })
}

/// Returns the revision of `If-Match` (RFC 9110, section 13.1.1): a tag like `"7"`, or `*` for any.
fn expected_revision(request: &HttpRequest) -> Result<Option<i64>, HttpError> {
    let Some(value) = request.headers().get(IF_MATCH) else { return Ok(None) };
    let tag = value.to_str().unwrap_or_default().trim();
    if tag == "*" {
        return Ok(None);
    }
    let number = tag.strip_prefix('"').and_then(|tag| tag.strip_suffix('"')).and_then(|tag| tag.parse().ok());
    let invalid = || ServiceError::Malformed("If-Match must be a single tag like \"7\"".to_owned());
    Ok(Some(number.ok_or_else(invalid)?))
}

/// Returns the key of a request that may be repeated.
fn request_key(request: &HttpRequest) -> Result<Option<String>, HttpError> {
    let Some(value) = request.headers().get("Idempotency-Key") else { return Ok(None) };
    let key = value.to_str().unwrap_or_default().trim();
    if key.is_empty() || key.len() > MAX_REQUEST_KEY {
        let detail = format!("Idempotency-Key must have 1 to {MAX_REQUEST_KEY} characters");
        return Err(ServiceError::Malformed(detail).into());
    }
    Ok(Some(key.to_owned()))
}

/// Whom a credential belongs to, as long as it is valid.
pub(super) async fn known(service: &Data<Service>, credential: Credential) -> Result<Caller, HttpError> {
    reading(service, move |service| match credential {
        Credential::Bearer(secret) => {
            let (name, person, role) = service.auth().bearer(&secret)?;
            let credential = Credential::Bearer(secret);
            let origin = Origin::Api;
            Ok(Caller {
                name,
                person,
                role,
                credential,
                origin,
                address: None,
                expected_revision: None,
                request_key: None,
            })
        }
        Credential::Session(CallerSession { token, .. }) => {
            let session = service.auth().session(&token)?;
            let credential = Credential::Session(CallerSession { token, csrf: session.csrf });
            Ok(Caller {
                person: Some(session.person.clone()),
                name: session.person,
                role: session.role,
                credential,
                origin: Origin::Console,
                address: None,
                expected_revision: None,
                request_key: None,
            })
        }
    })
    .await
}

/// Returns the `User-Agent` of a request.
fn user_agent(request: &HttpRequest) -> String {
    let agent = request.headers().get(USER_AGENT).and_then(|value| value.to_str().ok());
    agent.unwrap_or_default().to_owned()
}

/// Returns the client of a sign-in.
pub(super) fn client(request: &HttpRequest) -> SignInClient {
    SignInClient { agent: user_agent(request), address: Access::of(request).client_address(request) }
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

/// Makes a change of a record, together with its audit entry.
pub(super) async fn recorded<T: Send + 'static>(
    service: &Data<Service>,
    change: Change,
    call: impl FnOnce(&Transaction<'_>) -> Result<T, ServiceError> + Send + 'static,
) -> Result<T, HttpError> {
    changing(service, move |service| service.execute(&change, call)).await
}

/// Does what changes no record, and adds an audit entry once it is done.
pub(super) async fn audited<T: Send + 'static>(
    service: &Data<Service>,
    change: Change,
    call: impl FnOnce(&Service) -> Result<T, ServiceError> + Send + 'static,
) -> Result<T, HttpError> {
    changing(service, move |service| {
        let done = call(service)?;
        service.journal().audit(&change);
        Ok(done)
    })
    .await
}
