//! Authority of an address: host and port (RFC 3986, 3.2).

use std::fmt;
use std::net::Ipv6Addr;

/// Error for an invalid host or port.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum AuthorityError {
    /// The host is empty.
    #[error("the address names no host")]
    NoHost,
    /// The host is neither a name nor an address.
    #[error("the host {0:?} is neither a name nor an address")]
    Host(String),
    /// The port is not a number from 1 to 65535.
    #[error("the port {0:?} is not a number from 1 to 65535")]
    Port(String),
}

/// Host with an optional port.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Authority {
    /// Host name in lower case, or address; IPv6 without brackets, with its zone behind `%` where it is link-local.
    pub host: String,
    /// Port, if given.
    pub port: Option<u16>,
}

impl Authority {
    /// Parses `host`, `host:port`, `[v6]` or `[v6]:port`. A colon without a port is ignored.
    ///
    /// # Errors
    /// [`AuthorityError`] for the invalid part.
    pub fn parse(text: &str) -> Result<Self, AuthorityError> {
        let malformed = || AuthorityError::Host(text.to_owned());
        let (host, port) = match text.strip_prefix('[') {
            Some(rest) => {
                let (host, after) = rest.split_once(']').ok_or_else(malformed)?;
                let port = match after.strip_prefix(':') {
                    Some(port) => port,
                    None if after.is_empty() => "",
                    None => return Err(malformed()),
                };
                let host = ipv6_host(host).ok_or_else(|| AuthorityError::Host(host.to_owned()))?;
                (host, port)
            }
            None => match ipv6_host(text) {
                // An IPv6 address without brackets is accepted only without a port, since its end would be ambiguous.
                Some(host) => (host, ""),
                None => {
                    let (host, port) = text.split_once(':').unwrap_or((text, ""));
                    (host.to_ascii_lowercase(), port)
                }
            },
        };
        if host.is_empty() {
            return Err(AuthorityError::NoHost);
        }
        let is_name = host.chars().all(|c| c.is_alphanumeric() || matches!(c, '-' | '.' | '_'));
        if !is_name && ipv6_host(&host).is_none() {
            return Err(AuthorityError::Host(host));
        }
        let port = match port {
            "" => None,
            text => match text.parse::<u16>() {
                Ok(number) if number > 0 => Some(number),
                _ => return Err(AuthorityError::Port(text.to_owned())),
            },
        };
        Ok(Self { host, port })
    }

    /// Creates an authority that omits a default port.
    #[must_use]
    pub fn shown(host: &str, port: u16, usual: u16) -> Self {
        Self { host: host.to_owned(), port: Some(port).filter(|port| *port != usual) }
    }
}

/// Returns an IPv6 address in lower case, with its zone, if any. The zone follows `%25` (RFC 6874, 2), or `%`, which is
/// common.
fn ipv6_host(text: &str) -> Option<String> {
    let (address, zone) = match text.split_once("%25").or_else(|| text.split_once('%')) {
        Some((address, zone)) => (address, Some(zone)),
        None => (text, None),
    };
    let parsed = address.parse::<Ipv6Addr>().ok()?;
    let address = address.to_ascii_lowercase();
    let Some(zone) = zone else { return Some(address) };
    let is_zone =
        !zone.is_empty() && zone.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '-' | '.' | '_'));
    (is_zone && parsed.is_unicast_link_local()).then(|| format!("{address}%{zone}"))
}

impl fmt::Display for Authority {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.host.contains(':') {
            write!(f, "[{}]", self.host.replace('%', "%25"))?;
        } else {
            f.write_str(&self.host)?;
        }
        self.port.map_or(Ok(()), |port| write!(f, ":{port}"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case::name("Ingest.example.net", "ingest.example.net", None)]
    #[case::port("ingest.example.net:1936", "ingest.example.net", Some(1936))]
    #[case::empty_port("ingest.example.net:", "ingest.example.net", None)]
    #[case::v4("192.0.2.7:8890", "192.0.2.7", Some(8890))]
    #[case::v6("[2001:db8::1]", "2001:db8::1", None)]
    #[case::v6_port("[2001:db8::1]:1935", "2001:db8::1", Some(1935))]
    #[case::bare_v6("2001:db8::1", "2001:db8::1", None)]
    #[case::zone("[fe80::1%25eth0]:554", "fe80::1%eth0", Some(554))]
    #[case::zone_as_people_write_it("[FE80::1%eth0]", "fe80::1%eth0", None)]
    #[case::bare_zone("fe80::1%eth0", "fe80::1%eth0", None)]
    fn hosts_and_ports_are_read(#[case] text: &str, #[case] host: &str, #[case] port: Option<u16>) {
        assert_eq!(Authority::parse(text), Ok(Authority { host: host.to_owned(), port }));
    }

    #[rstest]
    #[case("", AuthorityError::NoHost)]
    #[case(":80", AuthorityError::NoHost)]
    #[case("a,b", AuthorityError::Host("a,b".into()))]
    #[case("a:0", AuthorityError::Port("0".into()))]
    #[case("a:70000", AuthorityError::Port("70000".into()))]
    #[case("a:b", AuthorityError::Port("b".into()))]
    #[case("[2001:db8::1", AuthorityError::Host("[2001:db8::1".into()))]
    #[case("[2001:db8::1]x", AuthorityError::Host("[2001:db8::1]x".into()))]
    #[case("[example]", AuthorityError::Host("example".into()))]
    #[case("[fe80::1%]", AuthorityError::Host("fe80::1%".into()))]
    #[case("[fe80::1%a/b]", AuthorityError::Host("fe80::1%a/b".into()))]
    #[case("[2001:db8::1%eth0]", AuthorityError::Host("2001:db8::1%eth0".into()))]
    fn malformed_authorities_are_refused(#[case] text: &str, #[case] error: AuthorityError) {
        assert_eq!(Authority::parse(text), Err(error));
    }

    proptest! {
        #[test]
        fn displayed_address_parses_to_the_same_value(text in "[a-z0-9.:\\[\\]-]{0,24}") {
            if let Ok(authority) = Authority::parse(&text) {
                prop_assert_eq!(Authority::parse(&authority.to_string()), Ok(authority));
            }
        }
    }
}
