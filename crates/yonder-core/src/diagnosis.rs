//! Why a camera was probably not reached: the reasons that people of this trade meet, likeliest first.
//!
//! A socket only says "refused" or nothing at all. What that means depends on where the camera stands as seen from
//! here, and on the port that was asked.

use std::net::IpAddr;

use crate::cause::CauseCode;

/// Network location of a camera, as seen from this machine.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Place {
    /// Host as it was written.
    pub host: String,
    /// Port that was asked.
    pub port: u16,
    /// Addresses that the host stands for; empty when its name was not found.
    pub addresses: Vec<IpAddr>,
    /// This machine's own addresses, each with the length of its network's prefix.
    pub own: Vec<(IpAddr, u8)>,
}

/// How an address lies to this machine.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Reach {
    /// This machine itself.
    Here,
    /// In one of this machine's own networks.
    SameSegment,
    /// A private address elsewhere (RFC 1918, RFC 4193, RFC 6598, link-local).
    PrivateElsewhere,
    /// An address of the internet.
    Public,
}

impl Place {
    fn reach(&self) -> Option<Reach> {
        let address = self.addresses.first()?;
        if address.is_loopback() || self.own.iter().any(|(own, _)| own == address) {
            return Some(Reach::Here);
        }
        if self.own.iter().any(|(own, prefix)| in_network(*address, *own, *prefix)) {
            return Some(Reach::SameSegment);
        }
        Some(if is_private(*address) { Reach::PrivateElsewhere } else { Reach::Public })
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
        // 100.64.0.0/10 is shared address space (RFC 6598): providers use it inside their networks.
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

/// Likely reasons for a failure `code` of a camera at `place`, likeliest first; empty where the failure says it all.
#[must_use]
pub fn probable_causes(code: CauseCode, place: &Place) -> Vec<String> {
    match code {
        CauseCode::FeedNameNotFound => name_not_found(place),
        CauseCode::FeedConnectionRefused => refused(place),
        CauseCode::FeedNoAnswer | CauseCode::FeedUnreachable => no_answer(place),
        CauseCode::FeedProtocol => not_rtsp(place),
        CauseCode::FeedWrongPassword => vec![
            "The password was changed in the camera, or belongs to another account.".to_owned(),
            "The camera is fresh from its box: it lets nobody in until a password is set on its web page, or still has the one it was delivered with."
                .to_owned(),
            "The camera keeps separate accounts for its web page and for its streams.".to_owned(),
            "The camera has locked the account after failed sign-ins; that passes in 5 to 30 minutes."
                .to_owned(),
        ],
        CauseCode::FeedForbidden => vec![
            "The account may sign in but not view this stream.".to_owned(),
            "The camera has locked the account after failed sign-ins; that passes in 5 to 30 minutes."
                .to_owned(),
        ],
        CauseCode::FeedNoSuchStream => vec![
            "The path belongs to another model or firmware.".to_owned(),
            "The recorder has no camera on this channel, or counts channels from another number.".to_owned(),
            "The stream is switched off in the camera (often the sub stream).".to_owned(),
        ],
        CauseCode::FeedTooManyViewers => vec![
            "A recorder or another viewer holds the camera's streams; many cameras serve two to five."
                .to_owned(),
            "Sessions that broke off are still counted; that passes within a minute.".to_owned(),
        ],
        CauseCode::FeedStalled => vec![
            "A firewall lets the connection through but not the media: try the other transport.".to_owned(),
            "The camera's encoder has stopped; restarting the camera helps.".to_owned(),
        ],
        CauseCode::FeedUnreadable => vec![
            "The firmware packs its video in a form that no receiver has to know; a newer one may not.".to_owned(),
            "A \"smart\" or vendor codec is switched on; plain H.264 or H.265 helps.".to_owned(),
        ],
        CauseCode::FeedNoKeyframe => vec![
            "The camera's keyframe interval is very long, or it uses a saving mode that leaves keyframes out."
                .to_owned(),
        ],
        _ => Vec::new(),
    }
}

fn name_not_found(place: &Place) -> Vec<String> {
    let mut reasons = Vec::new();
    if place.host.to_ascii_lowercase().ends_with(".local") {
        reasons.push(
            "Names that end in .local are known only within the camera's own network segment.".to_owned(),
        );
    }
    if !place.host.contains('.') {
        reasons.push("The name has no domain: only the site's own name server may know it.".to_owned());
    }
    reasons.push("The name is misspelt, or its registration has run out.".to_owned());
    reasons.push("A dynamic name was not renewed by the site's router.".to_owned());
    reasons
}

fn refused(place: &Place) -> Vec<String> {
    let mut reasons = Vec::new();
    let switched_off = "RTSP is switched off in the camera's settings, or the device has none.";
    let other_port = match place.port {
        554 | 322 => "The camera serves RTSP on another port, often 8554.".to_owned(),
        port => format!("The camera serves RTSP on another port than {port}; the usual one is 554."),
    };
    match place.reach() {
        Some(Reach::Public) => {
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
        Some(Reach::Here) => reasons.push("The address is this machine itself.".to_owned()),
        Some(Reach::SameSegment | Reach::PrivateElsewhere) | None => {}
    }
    reasons.push(switched_off.to_owned());
    reasons.push(other_port);
    reasons
}

fn no_answer(place: &Place) -> Vec<String> {
    let (host, address, port) = (&place.host, place.first_address(), place.port);
    let mut reasons = Vec::new();
    match place.reach() {
        Some(Reach::PrivateElsewhere) => {
            reasons.push(format!(
                "{address} is a private address outside this machine's networks: it can be reached only from within its site, or through a tunnel."
            ));
            reasons.push(
                "The camera is in another network segment, and no route leads there from here.".to_owned(),
            );
        }
        Some(Reach::SameSegment | Reach::Here) => {
            reasons.push("The camera has no power or no network.".to_owned());
            reasons.push(
                "The camera was given another address: look for it with `yonder feed find`.".to_owned(),
            );
        }
        Some(Reach::Public) => {
            reasons.push(format!("Port {port} is not forwarded to the camera, or a firewall drops it."));
            reasons.push(if place.is_name() {
                format!("{host} leads to {address}, which is no longer the site's address.")
            } else {
                "The site was given another address by its provider.".to_owned()
            });
            reasons.push("The site's internet connection is down.".to_owned());
        }
        None => {}
    }
    reasons
}

fn not_rtsp(place: &Place) -> Vec<String> {
    let mut reasons = Vec::new();
    if matches!(place.port, 80 | 443 | 8080 | 8443) {
        reasons
            .push(format!("Port {} is usually the camera's web page; RTSP is usually at 554.", place.port));
    }
    reasons.push("The port is forwarded to another device.".to_owned());
    reasons
        .push("The port wants TLS (rtsps://), or the address asks for TLS and the port has none.".to_owned());
    reasons
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn place(host: &str, port: u16, address: Option<&str>) -> Place {
        Place {
            host: host.into(),
            port,
            addresses: address.into_iter().map(|address| address.parse().unwrap()).collect(),
            own: vec![("10.20.0.5".parse().unwrap(), 24), ("fd00:1::5".parse().unwrap(), 64)],
        }
    }

    #[rstest]
    #[case::itself("127.0.0.1", Reach::Here)]
    #[case::own_address("10.20.0.5", Reach::Here)]
    #[case::same_segment("10.20.0.77", Reach::SameSegment)]
    #[case::same_segment_v6("fd00:1::77", Reach::SameSegment)]
    #[case::next_segment("10.20.1.77", Reach::PrivateElsewhere)]
    #[case::home("192.168.77.20", Reach::PrivateElsewhere)]
    #[case::provider("100.70.1.1", Reach::PrivateElsewhere)]
    #[case::internet("198.51.100.9", Reach::Public)]
    #[case::internet_v6("2001:db8::9", Reach::Public)]
    fn addresses_are_placed(#[case] address: &str, #[case] reach: Reach) {
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
    fn reasons_fit_the_place(#[case] code: CauseCode, #[case] place: Place, #[case] words: &str) {
        let reasons = probable_causes(code, &place);
        assert!(reasons.iter().any(|reason| reason.contains(words)), "{reasons:?}");
        assert!(reasons.iter().all(|reason| reason.ends_with('.')), "{reasons:?}");
    }

    #[test]
    fn a_failure_that_says_it_all_gets_no_guesses() {
        assert!(probable_causes(CauseCode::FeedCodecUnsupported, &Place::default()).is_empty());
    }
}
