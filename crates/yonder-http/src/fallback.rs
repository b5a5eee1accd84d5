//! Responses to requests without a matching operation.

use std::sync::LazyLock;

use actix_web::http::Method;
use actix_web::http::header::ALLOW;
use actix_web::{HttpRequest, HttpResponse, ResponseError as _};
use utoipa::OpenApi as _;
use yonder_service::ServiceError;

use crate::conventions::operations;
use crate::error::HttpError;
use crate::openapi::Document;

/// Paths of the API by segments, with their methods.
static PATHS: LazyLock<Vec<(Vec<String>, Vec<&'static str>)>> = LazyLock::new(|| {
    let mut api = Document::openapi();
    let paths = api.paths.paths.iter_mut().map(|(path, item)| {
        let segments = path.split('/').map(str::to_owned).collect();
        (segments, operations(item).map(|(method, _)| method).collect())
    });
    paths.collect()
});

/// Returns the methods of a path, for a `405` response (RFC 9110, section 15.5.6); empty for an unknown path.
fn methods_of(path: &str) -> Vec<Method> {
    let asked: Vec<&str> = path.split('/').collect();
    let is_path = |segments: &[String]| {
        let is_segment = |(known, asked): (&String, &&str)| known.starts_with('{') || known == asked;
        segments.len() == asked.len() && segments.iter().zip(&asked).all(is_segment)
    };
    let found = PATHS.iter().filter(|(segments, _)| is_path(segments)).flat_map(|(_, methods)| methods);
    found.filter_map(|method| method.to_uppercase().parse().ok()).collect()
}

/// Responds to requests without a matching operation.
pub(super) async fn no_such_page(request: HttpRequest) -> HttpResponse {
    let methods = methods_of(request.path());
    if !methods.is_empty() {
        let error = ServiceError::WrongMethod(request.method().to_string());
        let mut response = HttpError::from(error).error_response();
        let allow = methods.iter().map(Method::as_str).collect::<Vec<_>>().join(", ");
        if let Ok(allow) = allow.parse() {
            response.headers_mut().insert(ALLOW, allow);
        }
        return response;
    }
    HttpError::from(ServiceError::NoSuchPage(request.path().to_owned())).error_response()
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("/api/v1/relays", &["GET", "POST"])]
    #[case("/api/v1/relays/Summit%20Station", &["GET", "DELETE", "PATCH"])]
    #[case("/api/v1/relays/Line/start", &["POST"])]
    #[case("/api/v1/nothing", &[])]
    #[case("/api/v1/relays/Line/start/now", &[])]
    fn methods_of_a_path_are_known(#[case] path: &str, #[case] expected: &[&str]) {
        let methods = methods_of(path);
        let found: Vec<&str> = methods.iter().map(Method::as_str).collect();
        assert_eq!(found, expected);
    }
}
