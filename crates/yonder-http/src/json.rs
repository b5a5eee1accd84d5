//! JSON bodies, and problems for those that are none.

use actix_web::error::JsonPayloadError;
use actix_web::web::JsonConfig;
use actix_web::{HttpRequest, HttpResponse, ResponseError as _};

use crate::error::HttpError;
use crate::limits::is_timeout;
use yonder_service::ServiceError;

/// Longest body accepted, in bytes, where nothing else is said.
const MAX_BODY: usize = 64 * 1024;

pub(super) fn configuration() -> JsonConfig {
    configuration_up_to(MAX_BODY)
}

/// For bodies up to another length.
pub(super) fn configuration_up_to(most: usize) -> JsonConfig {
    JsonConfig::default().limit(most).error_handler(move |error, _| {
        if matches!(&error, JsonPayloadError::Payload(error) if is_timeout(error)) {
            return HttpError::from(ServiceError::BodyTimeout).into();
        }
        let detail = match &error {
            JsonPayloadError::Deserialize(inner) => inner.to_string(),
            JsonPayloadError::ContentType => "the body must be sent as application/json".to_owned(),
            JsonPayloadError::Overflow { .. } | JsonPayloadError::OverflowKnownLength { .. } => {
                format!("the body is longer than {most} bytes")
            }
            _ => "the body is no JSON".to_owned(),
        };
        HttpError::from(ServiceError::Malformed(detail)).into()
    })
}

pub(super) async fn no_such_page(request: HttpRequest) -> HttpResponse {
    HttpError::from(ServiceError::NoSuchPage(request.path().to_owned())).error_response()
}
