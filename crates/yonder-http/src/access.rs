//! Access settings: TLS, public URL and trusted proxies, from which the session cookie and the client address follow.

use std::net::{IpAddr, Ipv4Addr};

use actix_web::HttpRequest;
use actix_web::cookie::time::Duration;
use actix_web::cookie::{Cookie, SameSite};
use actix_web::http::header::HOST;
use actix_web::web::Data;
use secrecy::{ExposeSecret as _, SecretString};
use url::Url;
use yonder_service::Source;

/// Name of the session cookie.
pub(crate) const COOKIE: &str = "yonder-session";
/// Session cookie of clients over TLS: a browser accepts it only with `Secure`, and from this host (RFC 6265bis, 4.1.3).
const SECURE_COOKIE: &str = "__Host-yonder-session";
/// Header to which proxies append the address of their client.
const FORWARDED_FOR: &str = "X-Forwarded-For";

/// Access settings of the service.
#[derive(Debug, Clone, Default)]
pub struct Access {
    /// URL for browsers.
    pub public_url: Option<Url>,
    /// Proxies whose `X-Forwarded-For` is trusted.
    pub trusted_proxies: Vec<IpAddr>,
    /// The service itself uses TLS.
    pub tls: bool,
}

impl Access {
    /// Returns the settings for a request.
    pub(crate) fn of(request: &HttpRequest) -> Data<Self> {
        request.app_data::<Data<Self>>().cloned().unwrap_or_else(|| Data::new(Self::default()))
    }

    /// Returns true if browsers use TLS, to the service itself or to a proxy.
    pub(crate) fn is_secure(&self) -> bool {
        self.public_url.as_ref().map_or(self.tls, |url| url.scheme() == "https")
    }

    /// Returns the session cookie: not accessible to scripts, and not sent by other sites.
    pub(crate) fn cookie(&self, token: &SecretString, seconds: i64) -> Cookie<'static> {
        let is_secure = self.is_secure();
        let name = if is_secure { SECURE_COOKIE } else { COOKIE };
        Cookie::build(name, token.expose_secret().to_owned())
            .path("/")
            .http_only(true)
            .secure(is_secure)
            .same_site(SameSite::Strict)
            .max_age(Duration::seconds(seconds))
            .finish()
    }

    /// Returns the token from the session cookie of a request.
    pub(crate) fn session_token(&self, request: &HttpRequest) -> Option<SecretString> {
        let name = if self.is_secure() { SECURE_COOKIE } else { COOKIE };
        request.cookie(name).map(|cookie| cookie.value().into())
    }

    /// Returns the address of the client: that of the connection, or behind trusted proxies the last address that is
    /// not one of theirs.
    #[must_use]
    pub fn client_address(&self, request: &HttpRequest) -> Option<IpAddr> {
        let peer = request.peer_addr()?.ip().to_canonical();
        if !self.is_trusted(peer) {
            return Some(peer);
        }
        let headers = request.headers().get_all(FORWARDED_FOR).filter_map(|value| value.to_str().ok());
        let chain: Vec<&str> = headers.flat_map(|value| value.split(',')).map(str::trim).collect();
        let mut client = peer;
        for hop in chain.into_iter().rev() {
            // Entries further left may be forged by the client.
            let Some(address) = read_address(hop) else { break };
            client = address;
            if !self.is_trusted(address) {
                break;
            }
        }
        Some(client)
    }

    /// Returns the source of a request, for rate limits.
    pub(crate) fn source(&self, request: &HttpRequest) -> Source {
        self.client_address(request).unwrap_or(IpAddr::V4(Ipv4Addr::UNSPECIFIED)).into()
    }

    /// Returns true for the origin (RFC 6454) of this service's pages.
    pub(crate) fn is_own_origin(&self, origin: &str, request: &HttpRequest) -> bool {
        if self.public_url.as_ref().is_some_and(|url| url.origin().ascii_serialization() == origin) {
            return true;
        }
        let host = request.headers().get(HOST).and_then(|host| host.to_str().ok()).unwrap_or_default();
        origin.split_once("://").is_some_and(|(_, authority)| authority == host)
    }

    fn is_trusted(&self, address: IpAddr) -> bool {
        self.trusted_proxies.iter().any(|proxy| proxy.to_canonical() == address)
    }
}

/// Parses an address as written by proxies: with or without a port, IPv6 with or without brackets.
fn read_address(text: &str) -> Option<IpAddr> {
    let address = text.parse::<IpAddr>().ok();
    let with_port = || text.parse::<std::net::SocketAddr>().ok().map(|address| address.ip());
    let bracketed = || text.strip_prefix('[')?.strip_suffix(']')?.parse().ok();
    address.or_else(with_port).or_else(bracketed).map(|address: IpAddr| address.to_canonical())
}

#[cfg(test)]
mod tests {
    use actix_web::test::TestRequest;
    use rstest::rstest;

    use super::*;

    fn behind_proxies() -> Access {
        let trusted_proxies = ["192.0.2.1", "2001:db8::1"].map(|proxy| proxy.parse().unwrap()).to_vec();
        Access { trusted_proxies, ..Access::default() }
    }

    #[rstest]
    #[case::no_proxy("203.0.113.9", &["198.51.100.1"], "203.0.113.9")]
    #[case::proxy("192.0.2.1", &["203.0.113.9"], "203.0.113.9")]
    #[case::made_up_before("192.0.2.1", &["198.51.100.77, 203.0.113.9"], "203.0.113.9")]
    #[case::two_proxies("192.0.2.1", &["203.0.113.9, 2001:db8::1"], "203.0.113.9")]
    #[case::two_headers("192.0.2.1", &["198.51.100.77", "203.0.113.9:4711"], "203.0.113.9")]
    #[case::bracketed("192.0.2.1", &["[2001:db8:5::9]:4711"], "2001:db8:5::9")]
    #[case::nonsense("192.0.2.1", &["203.0.113.9, unknown"], "192.0.2.1")]
    #[case::no_header("192.0.2.1", &[], "192.0.2.1")]
    fn client_address_precedes_the_trusted_proxies(
        #[case] peer: &str,
        #[case] headers: &[&str],
        #[case] expected: &str,
    ) {
        let peer: IpAddr = peer.parse().unwrap();
        let mut request = TestRequest::default().peer_addr((peer, 5000).into());
        for value in headers {
            request = request.append_header((FORWARDED_FOR, *value));
        }
        let found = behind_proxies().client_address(&request.to_http_request());
        assert_eq!(found, Some(expected.parse().unwrap()));
    }

    #[rstest]
    #[case::plain(None, false, false)]
    #[case::own_tls(None, true, true)]
    #[case::behind_a_tls_proxy(Some("https://relay.example.net"), false, true)]
    #[case::plain_public(Some("http://relay.example.net"), false, false)]
    fn cookie_is_secure_for_browsers_over_tls(
        #[case] public_url: Option<&str>,
        #[case] tls: bool,
        #[case] secure: bool,
    ) {
        let public_url = public_url.map(|url| url.parse().unwrap());
        let access = Access { public_url, tls, ..Access::default() };
        let cookie = access.cookie(&"a-token".into(), 60);
        assert_eq!((cookie.secure(), cookie.name().starts_with("__Host-")), (Some(secure), secure));
        assert_eq!((cookie.http_only(), cookie.same_site()), (Some(true), Some(SameSite::Strict)));
        let request = TestRequest::default().cookie(cookie).to_http_request();
        assert_eq!(access.session_token(&request).unwrap().expose_secret(), "a-token");
    }

    #[test]
    fn pages_of_the_public_url_have_the_same_origin() {
        let access =
            Access { public_url: Some("https://relay.example.net/".parse().unwrap()), ..Access::default() };
        // As behind a proxy that sends the name of its upstream.
        let request = TestRequest::default().insert_header(("Host", "127.0.0.1:8460")).to_http_request();
        assert!(access.is_own_origin("https://relay.example.net", &request));
        assert!(access.is_own_origin("http://127.0.0.1:8460", &request));
        assert!(!access.is_own_origin("https://relay.example.com", &request));
    }
}
