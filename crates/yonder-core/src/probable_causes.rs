//! Probable causes of a connection failure to a camera.
//!
//! A socket reports only "refused" or a timeout. The probable cause depends on the network location of the camera and on the
//! port.

use std::net::IpAddr;

use crate::cause::CauseCode;

/// Network location of a camera, as seen from this machine.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct NetworkLocation {
    /// Host as configured.
    pub host: String,
    /// Port of the connection attempt.
    pub port: u16,
    /// Addresses of the host; empty when the name was not resolved.
    pub addresses: Vec<IpAddr>,
    /// Own addresses of this machine with their prefix lengths.
    pub own: Vec<(IpAddr, u8)>,
}

/// Relation of an address to this machine.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum AddressScope {
    /// This machine itself.
    Here,
    /// In a subnet of this machine.
    SameSegment,
    /// Private address outside of them (RFC 1918, RFC 4193, RFC 6598, link-local).
    PrivateElsewhere,
    /// Public address.
    Public,
}

impl NetworkLocation {
    fn reach(&self) -> Option<AddressScope> {
        let address = self.addresses.first()?;
        if address.is_loopback() || self.own.iter().any(|(own, _)| own == address) {
            return Some(AddressScope::Here);
        }
        if self.own.iter().any(|(own, prefix)| in_network(*address, *own, *prefix)) {
            return Some(AddressScope::SameSegment);
        }
        Some(if is_private(*address) { AddressScope::PrivateElsewhere } else { AddressScope::Public })
    }

    fn is_name(&self) -> bool {
        self.host.parse::<IpAddr>().is_err()
    }

    fn first_address(&self) -> String {
        self.addresses.first().map_or_else(|| self.host.clone(), ToString::to_string)
    }
}

fn is_private(address: IpAddr) -> bool {
    match address {
        // 100.64.0.0/10 is shared address space (RFC 6598), used inside providers' networks.
        IpAddr::V4(v4) => {
            v4.is_private() || v4.is_link_local() || matches!(v4.octets(), [100, 64..=127, _, _])
        }
        IpAddr::V6(v6) => v6.is_unique_local() || v6.is_unicast_link_local(),
    }
}

fn in_network(address: IpAddr, own: IpAddr, prefix: u8) -> bool {
    match (address, own) {
        (IpAddr::V4(a), IpAddr::V4(b)) => {
            let mask = u32::MAX.checked_shl(32 - u32::from(prefix.min(32))).unwrap_or(0);
            a.to_bits() & mask == b.to_bits() & mask
        }
        (IpAddr::V6(a), IpAddr::V6(b)) => {
            let mask = u128::MAX.checked_shl(128 - u32::from(prefix.min(128))).unwrap_or(0);
            a.to_bits() & mask == b.to_bits() & mask
        }
        _ => false,
    }
}

/// Returns probable causes of failure `code` for a camera at `place`, the likeliest first; empty if the code itself is
/// enough.
#[must_use]
pub fn probable_causes(code: CauseCode, place: &NetworkLocation) -> Vec<String> {
    match code {
        CauseCode::FeedNameNotFound => name_not_found(place),
        CauseCode::FeedConnectionRefused => refused(place),
        CauseCode::FeedNoAnswer | CauseCode::FeedUnreachable => no_answer(place),
        CauseCode::FeedProtocol => not_rtsp(place),
        CauseCode::FeedWrongPassword => vec![
            "The password was changed in the camera, or belongs to another account.".to_owned(),
            "The camera is new: it refuses sign-ins until a password is set on its web page, or it still has its factory password."
                .to_owned(),
            "The camera keeps separate accounts for its web page and for its streams.".to_owned(),
            "The camera has locked the account after failed sign-ins, usually for 5 to 30 minutes."
                .to_owned(),
        ],
        CauseCode::FeedForbidden => vec![
            "The account may sign in but not view this stream.".to_owned(),
            "The camera has locked the account after failed sign-ins, usually for 5 to 30 minutes."
                .to_owned(),
        ],
        CauseCode::FeedNoSuchStream => vec![
            "The path belongs to another model or firmware.".to_owned(),
            "The recorder has no camera on this channel, or numbers its channels differently.".to_owned(),
            "The stream is switched off in the camera (often the sub stream).".to_owned(),
        ],
        CauseCode::FeedTooManyViewers => vec![
            "A recorder or another viewer holds the camera's streams; many cameras serve two to five."
                .to_owned(),
            "Interrupted sessions are still counted, usually for up to a minute.".to_owned(),
        ],
        CauseCode::FeedStalled => vec![
            "A firewall passes the connection but not the media: try the other transport.".to_owned(),
            "The camera's encoder has stopped; restarting the camera helps.".to_owned(),
        ],
        CauseCode::FeedUnreadable => vec![
            "The firmware packetizes its video in an optional mode; a newer version may not.".to_owned(),
            "A \"smart\" or vendor codec is enabled; use standard H.264 or H.265.".to_owned(),
        ],
        CauseCode::FeedNoKeyframe => vec![
            "The camera's keyframe interval is very long, or a power-saving mode omits keyframes."
                .to_owned(),
        ],
        _ => Vec::new(),
    }
}

fn name_not_found(place: &NetworkLocation) -> Vec<String> {
    let mut reasons = Vec::new();
    if place.host.to_ascii_lowercase().ends_with(".local") {
        reasons.push("Names ending in .local resolve only within the camera's network segment.".to_owned());
    }
    if !place.host.contains('.') {
        reasons.push("The name has no domain: possibly only the site's name server resolves it.".to_owned());
    }
    reasons.push("The name is misspelled, or its registration has expired.".to_owned());
    reasons.push("A dynamic name was not renewed by the site's router.".to_owned());
    reasons
}

fn refused(place: &NetworkLocation) -> Vec<String> {
    let mut reasons = Vec::new();
    let switched_off = "RTSP is switched off in the camera's settings, or the device has none.";
    let other_port = match place.port {
        554 | 322 => "The camera serves RTSP on another port, often 8554.".to_owned(),
        port => format!("The camera serves RTSP on another port than {port}; the default is 554."),
    };
    match place.reach() {
        Some(AddressScope::Public) => {
            let port = place.port;
            reasons
                .push(format!("The site's router answers, but port {port} is not forwarded to the camera."));
            if place.is_name() {
                let address = place.first_address();
                reasons.push(format!(
                    "{} leads to {address}, which is no longer the site's address.",
                    place.host
                ));
            }
        }
        Some(AddressScope::Here) => reasons.push("The address is this machine itself.".to_owned()),
        Some(AddressScope::SameSegment | AddressScope::PrivateElsewhere) | None => {}
    }
    reasons.push(switched_off.to_owned());
    reasons.push(other_port);
    reasons
}

fn no_answer(place: &NetworkLocation) -> Vec<String> {
    let (host, address, port) = (&place.host, place.first_address(), place.port);
    let mut reasons = Vec::new();
    match place.reach() {
        Some(AddressScope::PrivateElsewhere) => {
            reasons.push(format!(
                "{address} is a private address outside this machine's networks: it can be reached only from within its site, or through a tunnel."
            ));
            reasons.push(
                "The camera is in another network segment, and no route leads there from here.".to_owned(),
            );
        }
        Some(AddressScope::SameSegment | AddressScope::Here) => {
            reasons.push("The camera has no power or no network.".to_owned());
            reasons.push(
                "The camera has another address now: search for it with `yonder feed find`.".to_owned(),
            );
        }
        Some(AddressScope::Public) => {
            reasons.push(format!("Port {port} is not forwarded to the camera, or a firewall drops it."));
            reasons.push(if place.is_name() {
                format!("{host} leads to {address}, which is no longer the site's address.")
            } else {
                "The site's provider has changed its address.".to_owned()
            });
            reasons.push("The site's internet connection is down.".to_owned());
        }
        None => {}
    }
    reasons
}

fn not_rtsp(place: &NetworkLocation) -> Vec<String> {
    let mut reasons = Vec::new();
    if matches!(place.port, 80 | 443 | 8080 | 8443) {
        reasons.push(format!("Port {} is usually the camera's web page; RTSP usually uses 554.", place.port));
    }
    reasons.push("The port is forwarded to another device.".to_owned());
    reasons.push(
        "The port requires TLS (rtsps://), or the address asks for TLS and the port has none.".to_owned(),
    );
    reasons
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn place(host: &str, port: u16, address: Option<&str>) -> NetworkLocation {
        NetworkLocation {
            host: host.into(),
            port,
            addresses: address.into_iter().map(|address| address.parse().unwrap()).collect(),
            own: vec![("10.20.0.5".parse().unwrap(), 24), ("fd00:1::5".parse().unwrap(), 64)],
        }
    }

    #[rstest]
    #[case::itself("127.0.0.1", AddressScope::Here)]
    #[case::own_address("10.20.0.5", AddressScope::Here)]
    #[case::same_segment("10.20.0.77", AddressScope::SameSegment)]
    #[case::same_segment_v6("fd00:1::77", AddressScope::SameSegment)]
    #[case::next_segment("10.20.1.77", AddressScope::PrivateElsewhere)]
    #[case::home("192.168.77.20", AddressScope::PrivateElsewhere)]
    #[case::provider("100.70.1.1", AddressScope::PrivateElsewhere)]
    #[case::internet("198.51.100.9", AddressScope::Public)]
    #[case::internet_v6("2001:db8::9", AddressScope::Public)]
    fn addresses_are_classified(#[case] address: &str, #[case] reach: AddressScope) {
        assert_eq!(place(address, 554, Some(address)).reach(), Some(reach));
    }

    #[rstest]
    #[case::not_forwarded(
        CauseCode::FeedConnectionRefused,
        place("cam.example.net", 554, Some("198.51.100.9")),
        "not forwarded"
    )]
    #[case::stale_name(
        CauseCode::FeedNoAnswer,
        place("cam.example.net", 554, Some("198.51.100.9")),
        "no longer the site's address"
    )]
    #[case::private_from_outside(
        CauseCode::FeedNoAnswer,
        place("192.168.77.20", 554, Some("192.168.77.20")),
        "private address"
    )]
    #[case::no_route(
        CauseCode::FeedUnreachable,
        place("10.20.1.9", 554, Some("10.20.1.9")),
        "another network segment"
    )]
    #[case::moved(CauseCode::FeedNoAnswer, place("10.20.0.9", 554, Some("10.20.0.9")), "feed find")]
    #[case::switched_off(
        CauseCode::FeedConnectionRefused,
        place("10.20.0.9", 554, Some("10.20.0.9")),
        "switched off"
    )]
    #[case::odd_port(
        CauseCode::FeedConnectionRefused,
        place("10.20.0.9", 9000, Some("10.20.0.9")),
        "than 9000"
    )]
    #[case::web_page(CauseCode::FeedProtocol, place("10.20.0.9", 80, Some("10.20.0.9")), "web page")]
    #[case::local_name(CauseCode::FeedNameNotFound, place("summit.local", 554, None), ".local")]
    #[case::locked(CauseCode::FeedWrongPassword, place("10.20.0.9", 554, Some("10.20.0.9")), "locked")]
    #[case::crowded(CauseCode::FeedTooManyViewers, place("10.20.0.9", 554, Some("10.20.0.9")), "recorder")]
    fn probable_causes_match_the_network_location(
        #[case] code: CauseCode,
        #[case] place: NetworkLocation,
        #[case] words: &str,
    ) {
        let reasons = probable_causes(code, &place);
        assert!(reasons.iter().any(|reason| reason.contains(words)), "{reasons:?}");
        assert!(reasons.iter().all(|reason| reason.ends_with('.')), "{reasons:?}");
    }

    #[test]
    fn self_explanatory_failure_has_no_probable_causes() {
        assert!(probable_causes(CauseCode::FeedCodecUnsupported, &NetworkLocation::default()).is_empty());
    }
}
