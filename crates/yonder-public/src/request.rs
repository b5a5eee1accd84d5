//! Facts of a request.

use std::collections::hash_map::RandomState;
use std::hash::BuildHasher as _;
use std::net::IpAddr;
use std::sync::LazyLock;

use actix_web::HttpRequest;
use actix_web::http::header::USER_AGENT;
use actix_web::web::Data;
use url::form_urlencoded;
use yonder_http::Access;
use yonder_service::ViewerId;

/// Maximum length of the number by which a page distinguishes viewers behind one address.
const MAX_SESSION: usize = 24;
/// Viewers that are distinguished behind one address and browser.
const MAX_SESSIONS: u64 = 64;

/// Key of viewer numbers, new with each start: nothing can be derived from them later.
static KEY: LazyLock<RandomState> = LazyLock::new(RandomState::new);

/// Returns the address of the client, behind trusted proxies as well.
pub(super) fn client_address(request: &HttpRequest) -> Option<IpAddr> {
    request.app_data::<Data<Access>>()?.client_address(request)
}

/// Returns the viewer that has sent a request.
pub(super) fn viewer(request: &HttpRequest) -> ViewerId {
    let browser = request.headers().get(USER_AGENT).map(|value| value.as_bytes().to_vec());
    let mut pairs = form_urlencoded::parse(request.query_string().as_bytes());
    let session = pairs.find(|(name, _)| name == "viewer").map(|(_, value)| value.into_owned());
    let session = session.filter(|session| session.len() <= MAX_SESSION);
    // One address cannot occupy all places.
    let session = session.map(|session| KEY.hash_one(session) % MAX_SESSIONS);
    ViewerId(KEY.hash_one((client_address(request), browser, session)))
}

#[cfg(test)]
mod tests {
    use std::collections::HashSet;

    use actix_web::test::TestRequest;

    use super::*;

    fn request(query: &str, browser: &str) -> HttpRequest {
        TestRequest::with_uri(&format!("/w/summit/live.m3u8?{query}"))
            .peer_addr("192.0.2.7:4000".parse().unwrap())
            .insert_header((USER_AGENT, browser))
            .app_data(Data::new(Access::default()))
            .to_http_request()
    }

    #[test]
    fn viewers_are_told_apart_by_address_browser_and_session() {
        let one = viewer(&request("viewer=1", "Lamp/1"));
        assert_eq!(one, viewer(&request("viewer=1", "Lamp/1")));
        assert_ne!(one, viewer(&request("viewer=1", "Lamp/2")));
        assert_ne!(one, viewer(&request("", "Lamp/1")));
        let all: HashSet<_> =
            (0..5_000).map(|at| viewer(&request(&format!("viewer={at}"), "Lamp/1"))).collect();
        assert_eq!(all.len(), 64);
    }
}
