//! Problem documents (RFC 9457): status and body of each error of the service.

use std::sync::Arc;

use actix_web::http::StatusCode;
use actix_web::http::header::{RETRY_AFTER, WWW_AUTHENTICATE};
use actix_web::{HttpResponse, ResponseError};
use yonder_api::Problem;
use yonder_service::{DeviceProblem, ServiceError};
use yonder_store::StoreError;

/// HTTP response of a service error.
#[derive(Debug, Clone, thiserror::Error)]
#[error("{0}")]
pub(crate) struct HttpError(pub(crate) Arc<ServiceError>);

impl From<ServiceError> for HttpError {
    fn from(error: ServiceError) -> Self {
        Self(Arc::new(error))
    }
}

/// Returns the status of an error.
fn status(error: &ServiceError) -> StatusCode {
    match error {
        ServiceError::Invalid { .. } | ServiceError::Malformed(_) | ServiceError::BookRefused(_) => {
            StatusCode::UNPROCESSABLE_ENTITY
        }
        ServiceError::NotFound { .. }
        | ServiceError::NoSuchPage(_)
        | ServiceError::NoSuchSurvey(_)
        | ServiceError::NoSuchJob(_)
        | ServiceError::Store(StoreError::NotFound { .. }) => StatusCode::NOT_FOUND,
        ServiceError::Running { .. }
        | ServiceError::NotRunning(_)
        | ServiceError::SameKey(_)
        | ServiceError::KeyInUse { .. }
        | ServiceError::PreflightFailed { .. }
        | ServiceError::NoStill(_)
        | ServiceError::SecretLost { .. }
        | ServiceError::ChangedMeanwhile(_)
        | ServiceError::Canceled
        | ServiceError::Store(
            StoreError::NameTaken { .. } | StoreError::InUse { .. } | StoreError::LastAdmin(_),
        ) => StatusCode::CONFLICT,
        ServiceError::Device(problem) => match problem {
            DeviceProblem::NotUsable { .. } | DeviceProblem::Refused(_) | DeviceProblem::NotPermitted => {
                StatusCode::BAD_GATEWAY
            }
            DeviceProblem::NoProfile(_)
            | DeviceProblem::Shared(_)
            | DeviceProblem::Busy(_)
            | DeviceProblem::NothingToUndo(_) => StatusCode::CONFLICT,
        },
        ServiceError::SignInNeeded | ServiceError::SignInRefused => StatusCode::UNAUTHORIZED,
        ServiceError::SetUpRefused
        | ServiceError::InvitationRefused
        | ServiceError::RoleNeeded { .. }
        | ServiceError::TokenMissing => StatusCode::FORBIDDEN,
        ServiceError::Stale { .. } | ServiceError::StaleBook => StatusCode::PRECONDITION_FAILED,
        ServiceError::TooManyAttempts(_)
        | ServiceError::TooManySurveys(_)
        | ServiceError::TooManyJobs(_)
        | ServiceError::TooManyStreams => StatusCode::TOO_MANY_REQUESTS,
        ServiceError::BodyTimeout => StatusCode::REQUEST_TIMEOUT,
        ServiceError::WrongMethod(_) => StatusCode::METHOD_NOT_ALLOWED,
        ServiceError::Camera(_) | ServiceError::TestNotDelivered(_) => StatusCode::BAD_GATEWAY,
        ServiceError::Store(StoreError::Full) => StatusCode::INSUFFICIENT_STORAGE,
        ServiceError::Store(StoreError::Locked) => StatusCode::SERVICE_UNAVAILABLE,
        ServiceError::Store(_) | ServiceError::Internal(_) => StatusCode::INTERNAL_SERVER_ERROR,
    }
}

/// Returns the `Retry-After` of an error, in seconds (RFC 9110, section 10.2.3).
fn retry_after_s(error: &ServiceError) -> Option<u64> {
    match error {
        ServiceError::TooManyAttempts(seconds) => Some(*seconds),
        ServiceError::TooManySurveys(_) | ServiceError::TooManyJobs(_) | ServiceError::TooManyStreams => {
            Some(10)
        }
        ServiceError::Store(StoreError::Locked) => Some(5),
        _ => None,
    }
}

/// Returns the problem document of an error.
pub(crate) fn problem(error: &ServiceError) -> Problem {
    let status = status(error);
    Problem {
        kind: "about:blank".to_owned(),
        title: status.canonical_reason().unwrap_or("Error").to_owned(),
        status: status.as_u16(),
        detail: error.detail(),
        code: error.code().to_owned(),
        hint: error.hint(),
        field: error.field().map(str::to_owned),
        checks: match error {
            ServiceError::PreflightFailed { checks, .. } => checks.clone(),
            _ => Vec::new(),
        },
        faults: match error {
            ServiceError::BookRefused(faults) => faults.clone(),
            _ => Vec::new(),
        },
    }
}

impl ResponseError for HttpError {
    fn status_code(&self) -> StatusCode {
        status(&self.0)
    }

    fn error_response(&self) -> HttpResponse {
        let status = status(&self.0);
        if status.is_server_error() {
            tracing::error!(error = ?self.0, "request failed");
        }
        let mut response = HttpResponse::build(status);
        if let Some(seconds) = retry_after_s(&self.0) {
            response.insert_header((RETRY_AFTER, seconds));
        }
        if status == StatusCode::UNAUTHORIZED {
            // RFC 9110, section 15.5.2.
            response.insert_header((WWW_AUTHENTICATE, "Bearer"));
        }
        response
            .content_type("application/problem+json")
            .body(serde_json::to_vec(&problem(&self.0)).unwrap_or_default())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use yonder_core::Role;
    use yonder_store::RecordKind;

    #[rstest]
    #[case(ServiceError::SignInNeeded, 401, "request.sign-in-needed")]
    #[case(ServiceError::SetUpRefused, 403, "request.set-up-refused")]
    #[case(ServiceError::InvitationRefused, 403, "request.invitation-refused")]
    #[case(ServiceError::RoleNeeded { has: Role::Viewer, needs: Role::Admin }, 403, "request.role-needed")]
    #[case(ServiceError::TokenMissing, 403, "request.token-missing")]
    #[case(ServiceError::TooManyAttempts(9), 429, "request.too-many-attempts")]
    #[case(ServiceError::Stale { kind: RecordKind::Feed, name: "a".into() }, 412, "request.stale")]
    #[case(ServiceError::NoSuchJob("a".into()), 404, "request.not-found")]
    #[case(ServiceError::TooManyJobs(32), 429, "request.too-many-jobs")]
    #[case(ServiceError::TooManyStreams, 429, "request.too-many-streams")]
    #[case(ServiceError::BodyTimeout, 408, "request.timeout")]
    #[case(ServiceError::Canceled, 409, "job.canceled")]
    #[case(ServiceError::StaleBook, 412, "request.stale")]
    #[case(ServiceError::ChangedMeanwhile("a".into()), 409, "relay.changed-meanwhile")]
    #[case(ServiceError::Malformed("x".into()), 422, "request.malformed")]
    #[case(ServiceError::NoSuchPage("/x".into()), 404, "request.no-such-page")]
    #[case(ServiceError::Running { kind: RecordKind::Feed, name: "a".into() }, 409, "request.running")]
    #[case(ServiceError::SameKey("a".into()), 409, "destination.same-key")]
    #[case(ServiceError::KeyInUse { destination: "a".into(), relay: "b".into() }, 409, "relay.key-in-use")]
    #[case(ServiceError::PreflightFailed { relay: "a".into(), checks: Vec::new() }, 409, "relay.preflight-failed")]
    #[case(StoreError::NameTaken { kind: RecordKind::Feed, name: "a".into() }.into(), 409, "request.name-taken")]
    #[case(StoreError::InUse { kind: RecordKind::Feed, name: "a".into(), users: vec!["b".into()] }.into(), 409, "request.in-use")]
    #[case(StoreError::LastAdmin("a".into()).into(), 409, "person.last-admin")]
    #[case(StoreError::Damaged("nonsense").into(), 500, "service.records-damaged")]
    #[case(StoreError::Full.into(), 507, "service.disk-full")]
    #[case(StoreError::Locked.into(), 503, "service.records-locked")]
    fn every_error_has_a_status_and_a_code(
        #[case] error: ServiceError,
        #[case] status: u16,
        #[case] code: &str,
    ) {
        let problem = problem(&error);
        assert_eq!((problem.status, problem.code.as_str()), (status, code));
        assert!(problem.detail.ends_with('.'), "{problem:?}");
    }

    #[test]
    fn a_near_name_is_suggested() {
        let error = ServiceError::NotFound {
            kind: RecordKind::Feed,
            name: "Sumit".into(),
            nearest: Some("Summit".into()),
        };
        assert_eq!(problem(&error).hint.as_deref(), Some("Did you mean the feed \"Summit\"?"));
    }
}
