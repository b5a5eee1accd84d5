//! Authentication by a bearer token, or by a session cookie with a CSRF token for changes. The type of a handler's
//! caller states the required role.

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
use yonder_store::RecordKind;

use super::run_blocking;
use crate::access::Access;
use crate::error::HttpError;
use yonder_service::ServiceError;
use yonder_service::SignInClient;
use yonder_service::same_secret;
use yonder_service::{Actor, Change, Origin, Service, Transaction};

/// Beginning of the `User-Agent` of our command-line client.
const CLIENT_AGENT: &str = "yonder/";
/// Maximum length of an idempotency key, in bytes.
const MAX_REQUEST_KEY: usize = 100;

/// Authenticated caller. A handler with this argument refuses unauthenticated requests.
#[derive(Debug, Clone)]
pub(super) struct Caller {
    /// Name of the person or token.
    pub(super) name: String,
    /// Responsible person; `None` for the local token.
    pub(super) person: Option<String>,
    /// Role.
    pub(super) role: Role,
    /// Credential.
    pub(super) credential: Credential,
    /// Origin of the request.
    pub(super) origin: Origin,
    /// Network address.
    pub(super) address: Option<String>,
    /// Expected revision of the record (`If-Match`).
    pub(super) expected_revision: Option<i64>,
    /// Idempotency key (`Idempotency-Key`).
    pub(super) request_key: Option<String>,
}

/// Credential of a request.
#[derive(Debug, Clone)]
pub(super) enum Credential {
    /// Session cookie.
    Session(CallerSession),
    /// Bearer token.
    Bearer(SecretString),
}

#[derive(Debug, Clone)]
pub(super) struct CallerSession {
    pub(super) token: SecretString,
    pub(super) csrf: String,
}

impl Caller {
    /// Returns the session, for a caller with a cookie.
    pub(super) fn session(&self) -> Option<&CallerSession> {
        match &self.credential {
            Credential::Session(session) => Some(session),
            Credential::Bearer(_) => None,
        }
    }

    /// Returns the author of changes by this caller.
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

/// Caller with the role operator.
#[derive(Debug, Clone)]
pub(super) struct Operator(pub(super) Caller);

/// Caller with the role admin.
#[derive(Debug, Clone)]
pub(super) struct Admin(pub(super) Caller);

/// Caller whose role is sufficient for a change.
pub(super) trait Authorized {
    /// Required role.
    const ROLE: Role;

    /// Returns the caller.
    fn caller(&self) -> &Caller;

    /// Returns a change by this caller.
    fn change(&self, action: &'static str, kind: RecordKind, name: &str) -> Change {
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

/// Caller, authenticated before the body is read.
#[derive(Debug)]
struct Identified(Result<Caller, HttpError>);

/// Authenticates a request. Handlers without a caller argument are public.
pub(super) async fn identify_first(
    request: ServiceRequest,
    next: Next<impl MessageBody + 'static>,
) -> Result<ServiceResponse<impl MessageBody>, actix_web::Error> {
    let found = identify(request.request()).await;
    request.extensions_mut().insert(Identified(found));
    next.call(request).await
}

/// Returns true for an authenticated request.
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
        // Schemes are case-insensitive (RFC 9110, section 11.1).
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

/// Parses `If-Match` (RFC 9110, section 13.1.1): a tag such as `"7"`, or `*` for any revision.
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

/// Parses the idempotency key.
fn request_key(request: &HttpRequest) -> Result<Option<String>, HttpError> {
    let Some(value) = request.headers().get("Idempotency-Key") else { return Ok(None) };
    let key = value.to_str().unwrap_or_default().trim();
    if key.is_empty() || key.len() > MAX_REQUEST_KEY {
        let detail = format!("Idempotency-Key must have 1 to {MAX_REQUEST_KEY} characters");
        return Err(ServiceError::Malformed(detail).into());
    }
    Ok(Some(key.to_owned()))
}

/// Returns the caller of a valid credential.
pub(super) async fn known(service: &Data<Service>, credential: Credential) -> Result<Caller, HttpError> {
    run_read(service, move |service| match credential {
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

/// Runs a read on a blocking thread.
pub(super) async fn run_read<T: Send + 'static>(
    service: &Data<Service>,
    call: impl FnOnce(&Service) -> Result<T, ServiceError> + Send + 'static,
) -> Result<T, HttpError> {
    let service = std::sync::Arc::clone(service);
    let done = actix_web::web::block(move || call(&service)).await;
    Ok(done.map_err(|_| ServiceError::Internal("a blocking call was lost"))??)
}

/// Runs a change on a blocking thread.
pub(super) async fn run_write<T: Send + 'static>(
    service: &Data<Service>,
    call: impl FnOnce(&Service) -> Result<T, ServiceError> + Send + 'static,
) -> Result<T, HttpError> {
    run_blocking(service, call).await
}

/// Runs a change of a record with its audit entry, on a blocking thread.
pub(super) async fn run_audited<T: Send + 'static>(
    service: &Data<Service>,
    change: Change,
    call: impl FnOnce(&Transaction<'_>) -> Result<T, ServiceError> + Send + 'static,
) -> Result<T, HttpError> {
    run_write(service, move |service| service.execute(&change, call)).await
}

/// Runs an action that changes no record, and adds an audit entry after it.
pub(super) async fn run_audited_action<T: Send + 'static>(
    service: &Data<Service>,
    change: Change,
    call: impl FnOnce(&Service) -> Result<T, ServiceError> + Send + 'static,
) -> Result<T, HttpError> {
    run_write(service, move |service| {
        let done = call(service)?;
        service.journal().audit(&change);
        Ok(done)
    })
    .await
}
