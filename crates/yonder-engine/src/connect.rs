//! TCP and UDP connections to a host. Names are resolved at each connection, since addresses change.

use std::io::{self, ErrorKind};
use std::net::{IpAddr, SocketAddr, SocketAddrV6};
use std::time::Duration;

use futures_util::StreamExt as _;
use futures_util::stream::FuturesUnordered;
use if_addrs::IfAddr;
use socket2::{SockRef, TcpKeepalive};
use tokio::net::{TcpSocket, TcpStream, UdpSocket};
use tokio::time::{Instant, sleep, timeout};
use yonder_resolver::Resolver;

use crate::spec::{Binding, UplinkSpec};

/// Timeout of one connection attempt.
const CONNECT_TIMEOUT: Duration = Duration::from_secs(5);
/// Delay between two attempts (RFC 8305, 8: "Connection Attempt Delay").
const ATTEMPT_DELAY: Duration = Duration::from_millis(250);
/// Time without an acknowledgement after which a connection is dropped (`TCP_USER_TIMEOUT`).
const USER_TIMEOUT: Duration = Duration::from_secs(10);

/// Error for a connection that could not be established.
#[derive(Debug)]
pub(crate) enum DialError {
    NameNotFound(String),
    Refused,
    NoAnswer(Duration),
    Unreachable(String),
    /// The interface or address of the uplink is unavailable.
    UplinkAway {
        uplink: String,
        detail: String,
    },
}

/// Maximum unsent bytes in the system's send buffer (`TCP_NOTSENT_LOWAT`). It is small, so that a backlog is in the
/// ring, where it can be evaluated.
const UNSENT_BYTES: u32 = 128 * 1024;

/// Resolves `host`.
///
/// # Errors
/// [`DialError::NameNotFound`] with the reason.
///
/// # Cancel safety
/// Safe: nothing is lost.
pub(crate) async fn resolve(host: &str, port: u16) -> Result<Vec<SocketAddr>, DialError> {
    if let Some((address, zone)) = host.split_once('%') {
        return link_local(address, zone, port).map(|address| vec![address]);
    }
    let found = Resolver::shared().resolve(host).await;
    let found = found.map_err(|error| DialError::NameNotFound(error.to_string()))?;
    Ok(found.iter().map(|address| SocketAddr::new(*address, port)).collect())
}

/// Returns a link-local socket address, whose zone is the name or the index of an interface (RFC 4007, 11.2).
fn link_local(address: &str, zone: &str, port: u16) -> Result<SocketAddr, DialError> {
    let no_zone = || DialError::Unreachable(format!("this machine has no interface {zone}"));
    let address =
        address.parse().map_err(|_| DialError::NameNotFound(format!("{address} is no IPv6 address")))?;
    let index = match zone.parse() {
        Ok(index) => index,
        Err(_) => {
            let interfaces = if_addrs::get_if_addrs().map_err(|_| no_zone())?;
            let found = interfaces.into_iter().find(|interface| interface.name == zone);
            found.and_then(|interface| interface.index).ok_or_else(no_zone)?
        }
    };
    Ok(SocketAddrV6::new(address, port, 0, index).into())
}

/// Connects to one of `addresses`, over `uplink` if given: attempts start [`ATTEMPT_DELAY`] apart, or as soon as the
/// previous one has failed, and the first connection wins (RFC 8305, 5).
///
/// # Errors
/// The failure of the last attempt.
///
/// # Cancel safety
/// When dropped, all attempts are canceled.
pub(crate) async fn connect(
    addresses: &[SocketAddr],
    uplink: Option<&UplinkSpec>,
) -> Result<TcpStream, DialError> {
    let mut last = DialError::NoAnswer(CONNECT_TIMEOUT);
    let mut waiting = interleave_families(addresses).into_iter();
    let mut attempts = FuturesUnordered::new();
    let mut next = waiting.next();
    loop {
        if let Some(address) = next.take() {
            attempts.push(attempt(address, uplink));
        }
        let has_more = waiting.len() > 0;
        tokio::select! {
            Some(attempt) = attempts.next() => match attempt {
                Ok(stream) => {
                    prepare(&stream);
                    return Ok(stream);
                }
                Err(error) => {
                    last = error;
                    next = waiting.next();
                    if next.is_none() && attempts.is_empty() {
                        return Err(last);
                    }
                }
            },
            () = sleep(ATTEMPT_DELAY), if has_more => next = waiting.next(),
            else => return Err(last),
        }
    }
}

async fn attempt(address: SocketAddr, uplink: Option<&UplinkSpec>) -> Result<TcpStream, DialError> {
    let socket = bound_stream(address, uplink)?;
    match timeout(CONNECT_TIMEOUT, socket.connect(address)).await {
        Ok(connected) => connected.map_err(|error| connect_error(&error)),
        Err(_) => Err(DialError::NoAnswer(CONNECT_TIMEOUT)),
    }
}

/// Interleaves the address families, beginning with that of the first address (RFC 8305, 4).
fn interleave_families(addresses: &[SocketAddr]) -> Vec<SocketAddr> {
    let is_first_family =
        |address: &&SocketAddr| addresses.first().is_some_and(|first| first.is_ipv4() == address.is_ipv4());
    let (first, second): (Vec<&SocketAddr>, Vec<&SocketAddr>) = addresses.iter().partition(is_first_family);
    let mut ordered = Vec::with_capacity(addresses.len());
    let (mut first, mut second) = (first.into_iter(), second.into_iter());
    loop {
        let pair = [first.next(), second.next()];
        if pair.iter().all(Option::is_none) {
            return ordered;
        }
        ordered.extend(pair.into_iter().flatten());
    }
}

/// Returns a socket for a connection to `to`, bound to `uplink`.
fn bound_stream(to: SocketAddr, uplink: Option<&UplinkSpec>) -> Result<TcpSocket, DialError> {
    let socket = if to.is_ipv4() { TcpSocket::new_v4() } else { TcpSocket::new_v6() };
    let socket = socket.map_err(|error| connect_error(&error))?;
    let Some(uplink) = uplink else { return Ok(socket) };
    let bound = match &uplink.binding {
        Binding::Source(source) => own_address(*source, to).and_then(|own| socket.bind(own)),
        Binding::Interface(interface) => socket.bind_device(Some(interface.as_bytes())),
    };
    bound.map_err(|error| uplink_away(uplink, &error))?;
    Ok(socket)
}

/// Returns a UDP socket connected to `to`, so that the system reports closed ports.
pub(crate) async fn datagrams(to: SocketAddr, uplink: Option<&UplinkSpec>) -> Result<UdpSocket, DialError> {
    let any: SocketAddr = if to.is_ipv4() { ([0, 0, 0, 0], 0).into() } else { ([0_u16; 8], 0).into() };
    let bind = async |own: SocketAddr| UdpSocket::bind(own).await;
    let socket = match uplink.map(|uplink| (uplink, &uplink.binding)) {
        None => bind(any).await.map_err(|error| connect_error(&error))?,
        Some((uplink, Binding::Source(source))) => {
            let own = own_address(*source, to).map_err(|error| uplink_away(uplink, &error))?;
            bind(own).await.map_err(|error| uplink_away(uplink, &error))?
        }
        Some((uplink, Binding::Interface(interface))) => {
            let socket = bind(any).await.map_err(|error| connect_error(&error))?;
            socket.bind_device(Some(interface.as_bytes())).map_err(|error| uplink_away(uplink, &error))?;
            socket
        }
    };
    socket.connect(to).await.map_err(|error| connect_error(&error))?;
    Ok(socket)
}

/// Returns the local address for a connection to `to`.
fn own_address(source: IpAddr, to: SocketAddr) -> io::Result<SocketAddr> {
    if source.is_ipv4() == to.is_ipv4() {
        return Ok(SocketAddr::new(source, 0));
    }
    let family = if to.is_ipv4() { "IPv4" } else { "IPv6" };
    Err(io::Error::new(ErrorKind::AddrNotAvailable, format!("the platform is reached by {family}")))
}

fn uplink_away(uplink: &UplinkSpec, error: &io::Error) -> DialError {
    let detail = match (&uplink.binding, error.kind()) {
        (Binding::Source(source), ErrorKind::AddrNotAvailable) if error.raw_os_error().is_some() => {
            format!("this machine does not have the address {source}")
        }
        (Binding::Source(source), _) => format!("the address {source} cannot be used: {}", first_line(error)),
        (Binding::Interface(interface), _) => {
            format!("the interface {interface} cannot be used: {}", first_line(error))
        }
    };
    DialError::UplinkAway { uplink: uplink.name.clone(), detail }
}

pub(crate) fn connect_error(error: &io::Error) -> DialError {
    match error.kind() {
        ErrorKind::ConnectionRefused | ErrorKind::ConnectionReset => DialError::Refused,
        ErrorKind::TimedOut => DialError::NoAnswer(CONNECT_TIMEOUT),
        _ => DialError::Unreachable(first_line(error)),
    }
}

/// Sets socket options: small messages are sent at once, and a vanished peer is detected in seconds. Failures are
/// ignored, since a system without one of the options still works.
fn prepare(stream: &TcpStream) {
    let socket = SockRef::from(stream);
    let keepalive =
        TcpKeepalive::new().with_time(Duration::from_secs(10)).with_interval(Duration::from_secs(5));
    let options = [
        socket.set_tcp_nodelay(true),
        socket.set_tcp_keepalive(&keepalive),
        socket.set_tcp_user_timeout(Some(USER_TIMEOUT)),
        socket.set_tcp_notsent_lowat(UNSENT_BYTES),
    ];
    for error in options.into_iter().filter_map(Result::err) {
        tracing::debug!(%error, "socket option not set");
    }
}

fn first_line(error: &io::Error) -> String {
    error.to_string().lines().next().unwrap_or_default().to_owned()
}

/// Own addresses with their prefix lengths.
type Networks = Vec<(IpAddr, u8)>;

/// Time for which the list of own addresses is cached.
const OWN_NETWORKS_TTL: Duration = Duration::from_secs(10);

/// Returns this machine's own addresses with their prefix lengths. Reading them blocks, so it happens on another
/// thread, for all callers at once, and the result is cached.
///
/// # Cancel safety
/// Safe: the next caller reads the addresses.
pub(crate) async fn own_networks() -> Networks {
    static CACHE: tokio::sync::Mutex<Option<(Instant, Networks)>> = tokio::sync::Mutex::const_new(None);
    let mut cache = CACHE.lock().await;
    if let Some((read_at, networks)) = &*cache
        && read_at.elapsed() < OWN_NETWORKS_TTL
    {
        return networks.clone();
    }
    let networks = tokio::task::spawn_blocking(read_own_networks).await.unwrap_or_default();
    *cache = Some((Instant::now(), networks.clone()));
    networks
}

/// Reads this machine's own addresses with their prefix lengths. Blocks.
pub(crate) fn read_own_networks() -> Networks {
    let interfaces = if_addrs::get_if_addrs().unwrap_or_default();
    interfaces
        .into_iter()
        .map(|interface| match interface.addr {
            IfAddr::V4(v4) => (IpAddr::V4(v4.ip), v4.prefixlen),
            IfAddr::V6(v6) => (IpAddr::V6(v6.ip), v6.prefixlen),
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use tokio::net::TcpListener;

    fn address(text: &str) -> SocketAddr {
        text.parse().unwrap()
    }

    #[tokio::test]
    async fn zone_of_a_link_local_address_is_an_interface() {
        let found = resolve("fe80::1%lo", 554).await.unwrap();
        assert!(
            matches!(found[..], [SocketAddr::V6(address)] if address.scope_id() > 0 && address.port() == 554)
        );
        let SocketAddr::V6(numbered) = resolve("fe80::1%7", 554).await.unwrap()[0] else {
            panic!("not IPv6")
        };
        assert_eq!(numbered.scope_id(), 7);
        let error = resolve("fe80::1%no-such", 554).await.unwrap_err();
        assert!(matches!(error, DialError::Unreachable(detail) if detail.contains("no-such")));
    }

    #[test]
    fn families_take_turns() {
        let addresses = ["[2001:db8::1]:1", "[2001:db8::2]:1", "[2001:db8::3]:1", "192.0.2.1:1"].map(address);
        let ordered: Vec<String> = interleave_families(&addresses).iter().map(ToString::to_string).collect();
        assert_eq!(ordered, ["[2001:db8::1]:1", "192.0.2.1:1", "[2001:db8::2]:1", "[2001:db8::3]:1"]);
    }

    #[tokio::test]
    async fn unresponsive_address_delays_the_next_by_a_quarter_of_a_second() {
        // A listener with a full backlog does not answer further connections.
        let full = socket2::Socket::new(socket2::Domain::IPV4, socket2::Type::STREAM, None).unwrap();
        full.bind(&address("127.0.0.1:0").into()).unwrap();
        full.listen(0).unwrap();
        let swallows = full.local_addr().unwrap().as_socket().unwrap();
        let mut filling = Vec::new();
        for _ in 0..4 {
            let socket = TcpSocket::new_v4().unwrap();
            filling.push(timeout(Duration::from_millis(200), socket.connect(swallows)).await);
        }
        assert!(filling.iter().any(Result::is_err), "the backlog is not full");
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let answers = listener.local_addr().unwrap();
        let began = Instant::now();
        let stream = connect(&[swallows, answers], None).await.unwrap();
        assert_eq!(stream.peer_addr().unwrap(), answers);
        let took = began.elapsed();
        assert!(took >= ATTEMPT_DELAY && took < Duration::from_secs(2), "{took:?}");
    }

    #[tokio::test]
    async fn refused_address_is_followed_by_the_next_at_once() {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let answers = listener.local_addr().unwrap();
        let closed = TcpListener::bind("127.0.0.1:0").await.unwrap().local_addr().unwrap();
        let began = Instant::now();
        let stream = connect(&[closed, closed, answers], None).await.unwrap();
        assert_eq!(stream.peer_addr().unwrap(), answers);
        assert!(began.elapsed() < ATTEMPT_DELAY);
        assert!(matches!(connect(&[closed, closed], None).await, Err(DialError::Refused)));
        assert!(connect(&[], None).await.is_err());
    }
}
