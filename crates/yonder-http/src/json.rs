//! JSON bodies, and problem documents for invalid ones.

use actix_web::HttpResponse;
use actix_web::error::JsonPayloadError;
use actix_web::http::header::LOCATION;
use actix_web::web::JsonConfig;

use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
use serde::Serialize;

use crate::error::HttpError;
use crate::limits::is_timeout;
use yonder_service::ServiceError;

/// Maximum size of a body, in bytes, by default.
const MAX_BODY: usize = 64 * 1024;

pub(super) fn configuration() -> JsonConfig {
    configuration_up_to(MAX_BODY)
}

/// Returns the configuration for bodies up to another size.
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

/// Returns the 201 response of a created record, with its address (RFC 9110, section 15.3.2).
pub(super) fn created(collection: &str, name: &str, body: impl Serialize) -> HttpResponse {
    let name = utf8_percent_encode(name, NON_ALPHANUMERIC);
    let location = format!("/api/v1/{collection}/{name}");
    HttpResponse::Created().insert_header((LOCATION, location)).json(body)
}
