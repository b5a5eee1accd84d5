//! Who calls: a bearer token, or the cookie of a session together with its token on every change.

use std::future::Future;
use std::pin::Pin;

use actix_web::dev::Payload;
use actix_web::http::Method;
use actix_web::http::header::AUTHORIZATION;
use actix_web::web::Data;
use actix_web::{FromRequest, HttpRequest};
use secrecy::SecretString;
use yonder_api::CSRF_HEADER;
use yonder_store::Kind;

use super::blocking;
use crate::auth::same_secret;
use crate::error::ServiceError;
use crate::service::Service;

/// Name of the session cookie.
pub(super) const COOKIE: &str = "yonder-session";

/// Somebody who may use the API. Handlers that take one refuse everybody else.
#[derive(Debug, Clone)]
pub(super) struct Caller {
    /// Name of the person, or `local` for the home folder's token.
    pub(super) name: String,
    /// The session, for people who came by cookie.
    pub(super) session: Option<CallerSession>,
}

#[derive(Debug, Clone)]
pub(super) struct CallerSession {
    pub(super) token: SecretString,
    pub(super) csrf: String,
}

impl FromRequest for Caller {
    type Error = ServiceError;
    type Future = Pin<Box<dyn Future<Output = Result<Self, Self::Error>>>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        let request = request.clone();
        Box::pin(async move { identify(&request).await })
    }
}

async fn identify(request: &HttpRequest) -> Result<Caller, ServiceError> {
    let service: &Data<Service> =
        request.app_data().ok_or(ServiceError::Internal("the service is not configured"))?;
    if let Some(value) = request.headers().get(AUTHORIZATION) {
        let token = value.to_str().ok().and_then(|value| value.strip_prefix("Bearer ")).unwrap_or_default();
        if service.is_local_token(token.trim()) {
            return Ok(Caller { name: "local".to_owned(), session: None });
        }
        return Err(ServiceError::SignInNeeded);
    }
    let cookie = request.cookie(COOKIE).ok_or(ServiceError::SignInNeeded)?;
    let token = SecretString::from(cookie.value());
    let shown = token.clone();
    let session = blocking_read(service, move |service| service.session(&shown)).await?;
    let reads_only = matches!(*request.method(), Method::GET | Method::HEAD);
    let carried =
        request.headers().get(CSRF_HEADER).and_then(|value| value.to_str().ok()).unwrap_or_default();
    if !reads_only && !same_secret(&session.csrf.as_str().into(), carried) {
        return Err(ServiceError::TokenMissing);
    }
    Ok(Caller { name: session.person, session: Some(CallerSession { token, csrf: session.csrf }) })
}

async fn blocking_read<T: Send + 'static>(
    service: &Data<Service>,
    call: impl FnOnce(&Service) -> Result<T, ServiceError> + Send + 'static,
) -> Result<T, ServiceError> {
    let service = std::sync::Arc::clone(service);
    actix_web::web::block(move || call(&service))
        .await
        .map_err(|_| ServiceError::Internal("a blocking call was lost"))?
}

/// Runs a read that changes nothing.
pub(super) async fn reading<T: Send + 'static>(
    service: &Data<Service>,
    call: impl FnOnce(&Service) -> Result<T, ServiceError> + Send + 'static,
) -> Result<T, ServiceError> {
    blocking_read(service, call).await
}

/// Runs a change.
pub(super) async fn changing<T: Send + 'static>(
    service: &Data<Service>,
    call: impl FnOnce(&Service) -> Result<T, ServiceError> + Send + 'static,
) -> Result<T, ServiceError> {
    blocking(service, call).await
}

/// Runs a change, and records what was done, to what, and by whom.
pub(super) async fn recorded<T: Send + 'static>(
    service: &Data<Service>,
    caller: Caller,
    (what, kind, name): (&'static str, Kind, String),
    call: impl FnOnce(&Service) -> Result<T, ServiceError> + Send + 'static,
) -> Result<T, ServiceError> {
    changing(service, move |service| {
        let done = call(service)?;
        service.record(&caller.name, what, kind, &name);
        Ok(done)
    })
    .await
}
