//! Reaching a host by TCP. Names are resolved anew at each dial: home connections change their address.

use std::io::{self, ErrorKind};
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

use if_addrs::IfAddr;
use socket2::{SockRef, TcpKeepalive};
use tokio::net::{TcpSocket, TcpStream, UdpSocket};
use tokio::time::timeout;

use crate::spec::{Binding, UplinkSpec};

/// How long name resolution and connection may take, each.
const DIAL_TIMEOUT: Duration = Duration::from_secs(5);
/// Data that nobody acknowledges for so long means that the peer is gone.
const USER_TIMEOUT: Duration = Duration::from_secs(10);

/// Why a host was not reached.
#[derive(Debug)]
pub(crate) enum DialError {
    NameNotFound(String),
    Refused,
    NoAnswer(Duration),
    Unreachable(String),
    /// What binds the connection to its uplink cannot be had.
    UplinkAway {
        uplink: String,
        detail: String,
    },
}

/// Data that waits in the system unsent. Little, so that a backlog shows here, where it can be judged, and not
/// in a buffer that nobody sees.
const UNSENT_BYTES: u32 = 128 * 1024;

/// Finds the addresses of `host`.
pub(crate) async fn resolve(host: &str, port: u16) -> Result<Vec<SocketAddr>, DialError> {
    let lookup = timeout(DIAL_TIMEOUT, tokio::net::lookup_host((host, port))).await;
    let addresses: Vec<SocketAddr> = match lookup {
        Err(_) => return Err(DialError::NameNotFound("the name server does not answer".to_owned())),
        Ok(Err(error)) => return Err(DialError::NameNotFound(first_line(&error))),
        Ok(Ok(addresses)) => addresses.collect(),
    };
    if addresses.is_empty() {
        return Err(DialError::NameNotFound("the name has no address".to_owned()));
    }
    Ok(addresses)
}

/// Connects to the first of `addresses` that answers, by `uplink` where one is given.
pub(crate) async fn connect(
    addresses: &[SocketAddr],
    uplink: Option<&UplinkSpec>,
) -> Result<TcpStream, DialError> {
    let mut last = DialError::NoAnswer(DIAL_TIMEOUT);
    for address in addresses {
        let socket = match bound_stream(*address, uplink) {
            Ok(socket) => socket,
            Err(error) => {
                last = error;
                continue;
            }
        };
        match timeout(DIAL_TIMEOUT, socket.connect(*address)).await {
            Ok(Ok(stream)) => {
                prepare(&stream);
                return Ok(stream);
            }
            Ok(Err(error)) => last = connect_error(&error),
            Err(_) => last = DialError::NoAnswer(DIAL_TIMEOUT),
        }
    }
    Err(last)
}

/// A socket for a connection to `to`, bound to `uplink`.
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

/// A socket that speaks with one address only, so that the system tells of closed ports.
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

/// Our own end of a connection to `to`.
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
        ErrorKind::TimedOut => DialError::NoAnswer(DIAL_TIMEOUT),
        _ => DialError::Unreachable(first_line(error)),
    }
}

/// Small messages go out at once, and a peer that vanished is noticed in seconds. A system that lacks one of
/// the options still carries the stream.
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

/// This machine's own addresses, each with the length of its network's prefix.
pub(crate) fn own_networks() -> Vec<(IpAddr, u8)> {
    let interfaces = if_addrs::get_if_addrs().unwrap_or_default();
    interfaces
        .into_iter()
        .map(|interface| match interface.addr {
            IfAddr::V4(v4) => (IpAddr::V4(v4.ip), v4.prefixlen),
            IfAddr::V6(v6) => (IpAddr::V6(v6.ip), v6.prefixlen),
        })
        .collect()
}
