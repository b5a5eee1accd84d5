//! Pagination of lists: `limit` and `after`, with the next page in a `Link` header (RFC 8288).

use actix_web::http::header::LINK;
use actix_web::{HttpRequest, HttpResponse};
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
use serde::{Deserialize, Serialize};
use utoipa::IntoParams;
use yonder_service::ServiceError;

use crate::error::HttpError;

/// Maximum number of items per page.
const MAX_LIMIT: usize = 10_000;

/// Requested part of a list; all of it by default.
#[derive(Debug, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(super) struct PageRequest {
    /// Maximum number of items, from 1 to 10 000. The address of the next page is in the header `Link` with `rel="next"`.
    #[param(minimum = 1, maximum = 10_000)]
    limit: Option<usize>,
    /// Name, or ID for items without a name, of the last item of the previous page.
    after: Option<String>,
}

impl PageRequest {
    /// Returns a page of `items` as the response to `request`. `key` returns the value that `after` refers to.
    ///
    /// # Errors
    /// [`ServiceError::Invalid`] for a limit out of range, and for an `after` that is no longer in the list.
    pub(super) fn respond<T: Serialize>(
        &self,
        request: &HttpRequest,
        items: &[T],
        key: impl Fn(&T) -> &str,
    ) -> Result<HttpResponse, HttpError> {
        let begin = match &self.after {
            None => 0,
            Some(after) => {
                let last = items.iter().position(|item| key(item).eq_ignore_ascii_case(after));
                1 + last.ok_or_else(|| ServiceError::Invalid {
                    field: "after",
                    detail: format!("the list has no {after:?}"),
                    hint: "Begin with the first page again.",
                })?
            }
        };
        let limit = checked_limit(self.limit)?;
        let rest = items.get(begin..).unwrap_or_default();
        let page = rest.get(..limit.min(rest.len())).unwrap_or(rest);
        let mut response = HttpResponse::Ok();
        if let Some(last) = page.last().filter(|_| page.len() < rest.len()) {
            let after = utf8_percent_encode(key(last), NON_ALPHANUMERIC).to_string();
            response.insert_header((LINK, next(request, &format!("limit={limit}&after={after}"))));
        }
        Ok(response.json(page))
    }
}

/// Checks the range of a limit.
///
/// # Errors
/// [`ServiceError::Invalid`].
pub(super) fn checked_limit(limit: Option<usize>) -> Result<usize, HttpError> {
    match limit {
        None => Ok(usize::MAX),
        Some(limit) if (1..=MAX_LIMIT).contains(&limit) => Ok(limit),
        Some(limit) => Err(ServiceError::Invalid {
            field: "limit",
            detail: format!("{limit} is not from 1 to {MAX_LIMIT}"),
            hint: "Ask for fewer items, and for the next page by the Link header.",
        }
        .into()),
    }
}

/// Returns the value of a `Link` header to the next page.
pub(super) fn next(request: &HttpRequest, query: &str) -> String {
    format!("<{}?{query}>; rel=\"next\"", request.path())
}
