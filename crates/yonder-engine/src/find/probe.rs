//! WS-Discovery probes, by multicast in the local networks or by unicast to hosts.

use std::collections::HashMap;
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::time::Duration;

use tokio::net::UdpSocket;
use tokio::task::JoinSet;
use tokio::time::{Instant, timeout_at};
use uuid::Uuid;
use yonder_onvif::{Found, MULTICAST_ADDRESS, MULTICAST_PORT, ProbeType, probe, read_matches};

use crate::connect;
use crate::device::{default_service, with_host};

/// Times of the repetitions of a probe, since datagrams may be lost.
const REPEATS: [Duration; 3] = [Duration::ZERO, Duration::from_millis(150), Duration::from_millis(500)];
/// Maximum size of a response.
const MAX_ANSWER: usize = 64 * 1024;

/// Device to be queried.
#[derive(Debug, Clone)]
pub(super) struct Candidate {
    /// Host that answered, or was given.
    pub(super) host: String,
    /// Addresses of the device service, the likeliest first.
    pub(super) services: Vec<String>,
    pub(super) name: Option<String>,
    pub(super) hardware: Option<String>,
}

impl Candidate {
    /// Creates a candidate at the default address of a host.
    pub(super) fn with_default_port(host: &str, port: Option<u16>) -> Self {
        let services = vec![default_service(host, port)];
        Self { host: host.to_owned(), services, name: None, hardware: None }
    }

    /// Creates a candidate from a response of `from`. Its services are used at that address, whatever host they name: a
    /// device must not direct requests, and with them credentials, to another host.
    fn answered(found: Found, from: IpAddr) -> Self {
        let host = from.to_string();
        let mut services = Vec::new();
        for named in &found.services {
            let here = with_host(named, &host).filter(|here| !services.contains(here));
            services.extend(here);
        }
        Self { host, services, name: found.name, hardware: found.hardware }
    }
}

/// Probes all networks of this machine.
pub(super) async fn in_networks(wait: Duration) -> std::io::Result<Vec<Candidate>> {
    let group: Ipv4Addr = MULTICAST_ADDRESS.parse().unwrap_or(Ipv4Addr::BROADCAST);
    let target = SocketAddr::from((group, MULTICAST_PORT));
    let mut probes = JoinSet::new();
    let mut failure = None;
    for own in connect::read_own_networks().into_iter().filter_map(|(own, _)| match own {
        IpAddr::V4(own) => Some(own),
        IpAddr::V6(_) => None,
    }) {
        match open(own) {
            Ok(socket) => {
                probes.spawn(ask(socket, vec![target], wait, Vec::new()));
            }
            Err(error) => failure = Some(error),
        }
    }
    if probes.is_empty() {
        return Err(failure.unwrap_or_else(|| std::io::Error::other("this machine is in no network")));
    }
    let mut found = HashMap::new();
    while let Some(answers) = probes.join_next().await {
        for (id, candidate) in answers.unwrap_or_default() {
            found.entry(id).or_insert(candidate);
        }
    }
    Ok(found.into_values().collect())
}

/// Probes the given hosts.
pub(super) async fn at(targets: Vec<SocketAddr>, wait: Duration) -> std::io::Result<Vec<Candidate>> {
    let any: SocketAddr = match targets.first() {
        Some(SocketAddr::V6(_)) => (std::net::Ipv6Addr::UNSPECIFIED, 0).into(),
        _ => (Ipv4Addr::UNSPECIFIED, 0).into(),
    };
    let socket = UdpSocket::bind(any).await?;
    let hosts = targets.iter().map(SocketAddr::ip).collect();
    Ok(ask(socket, targets, wait, hosts).await.into_values().collect())
}

/// Opens a socket whose multicast goes to the network of `own`.
fn open(own: Ipv4Addr) -> std::io::Result<UdpSocket> {
    let socket = socket2::Socket::new(socket2::Domain::IPV4, socket2::Type::DGRAM, None)?;
    socket.set_nonblocking(true)?;
    socket.set_multicast_if_v4(&own)?;
    socket.bind(&SocketAddr::from((own, 0)).into())?;
    UdpSocket::from_std(socket.into())
}

/// Sends probes of every type, and collects the devices that answer from `hosts`; from any host if that is empty.
async fn ask(
    socket: UdpSocket,
    targets: Vec<SocketAddr>,
    wait: Duration,
    hosts: Vec<IpAddr>,
) -> HashMap<String, Candidate> {
    let probes = ProbeType::ALL.map(|kind| (kind, Uuid::new_v4().to_string()));
    let begun = Instant::now();
    let mut found = HashMap::new();
    let mut buffer = vec![0; MAX_ANSWER];
    for (at, after) in REPEATS.iter().enumerate() {
        for target in &targets {
            for (kind, id) in &probes {
                // A network without multicast has no cameras that could be found this way.
                if let Err(error) = socket.send_to(probe(*kind, id).as_bytes(), target).await {
                    tracing::debug!(%error, %target, "probe not sent");
                }
            }
        }
        let until = begun + REPEATS.get(at + 1).map_or(wait, |next| (*next).max(*after));
        while let Ok(Ok((length, from))) = timeout_at(until, socket.recv_from(&mut buffer)).await {
            if !hosts.is_empty() && !hosts.contains(&from.ip()) {
                continue;
            }
            let answer = buffer.get(..length).unwrap_or_default();
            for device in probes.iter().flat_map(|(_, id)| read_matches(answer, id).unwrap_or_default()) {
                let key = device.id.clone();
                found.entry(key).or_insert_with(|| Candidate::answered(device, from.ip()));
            }
        }
    }
    found
}
