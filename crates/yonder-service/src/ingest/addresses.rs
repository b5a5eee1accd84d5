//! Addresses that encoders and clients use for a listener.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr, UdpSocket};

use secrecy::SecretString;
use url::Url;
use yonder_api::Secret;

/// Remote address (documentation range) by which the source address of the default route is determined. Connecting a UDP socket
/// sends no packet.
const ROUTE_PROBE: (Ipv4Addr, u16) = (Ipv4Addr::new(192, 0, 2, 1), 9);

/// Returns an SRT address with the key as stream ID; the passphrase is given apart.
pub(super) fn srt_address(
    authority: &str,
    key: &str,
    passphrase: Option<&SecretString>,
    key_bits: u16,
) -> Secret {
    let length = passphrase.map(|_| format!("&pbkeylen={}", key_bits / 8)).unwrap_or_default();
    let text = format!("srt://{authority}?streamid={key}{length}");
    debug_assert!(Url::parse(&text).is_ok(), "stream keys need no percent-encoding");
    text.into()
}

/// Returns an address that clients on this machine can use.
pub fn reachable(mut address: SocketAddr) -> SocketAddr {
    if address.ip().is_unspecified() {
        address.set_ip(if address.is_ipv4() {
            Ipv4Addr::LOCALHOST.into()
        } else {
            Ipv6Addr::LOCALHOST.into()
        });
    }
    address
}

/// Returns the host by which other machines reach a listener. For one on all addresses it is that of the default route.
pub fn external_host(ip: IpAddr) -> String {
    let ip =
        if ip.is_unspecified() { own_address().unwrap_or_else(|| Ipv4Addr::LOCALHOST.into()) } else { ip };
    match ip {
        IpAddr::V4(ip) => ip.to_string(),
        IpAddr::V6(ip) => format!("[{ip}]"),
    }
}

fn own_address() -> Option<IpAddr> {
    let socket = UdpSocket::bind((Ipv4Addr::UNSPECIFIED, 0)).ok()?;
    socket.connect(ROUTE_PROBE).ok()?;
    Some(socket.local_addr().ok()?.ip())
}

#[cfg(test)]
mod tests {
    use yonder_address::read_pasted;

    use super::*;

    #[test]
    fn address_for_srt_encoders_can_be_pasted() {
        let phrase = SecretString::from("three lamps at night");
        let with = srt_address("192.0.2.7:9000", "abcd-efgh", Some(&phrase), 256);
        assert_eq!(with.expose(), "srt://192.0.2.7:9000?streamid=abcd-efgh&pbkeylen=32");
        let pasted = read_pasted(Some(with.expose()), None).unwrap();
        assert_eq!(pasted.key.unwrap().expose(), "abcd-efgh");
        let without = srt_address("[2001:db8::7]:9000", "abcd-efgh", None, 128);
        assert_eq!(without.expose(), "srt://[2001:db8::7]:9000?streamid=abcd-efgh");
    }

    #[test]
    fn hosts_are_those_of_the_listener_unless_it_is_on_all_addresses() {
        assert_eq!(external_host("192.0.2.7".parse().unwrap()), "192.0.2.7");
        assert_eq!(external_host("2001:db8::7".parse().unwrap()), "[2001:db8::7]");
        assert_ne!(external_host("0.0.0.0".parse().unwrap()), "0.0.0.0");
        assert_eq!(reachable("0.0.0.0:1935".parse().unwrap()).to_string(), "127.0.0.1:1935");
    }
}
