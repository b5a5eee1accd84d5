//! Camera discovery: by probes of the local networks, or at given hosts; then the streams of each device are requested.

mod ask;
mod probe;

use std::net::SocketAddr;
use std::time::Duration;

use yonder_address::Authority;
use yonder_onvif::{DeviceFacts, MULTICAST_PORT, Profile};
use yonder_rtsp::Credentials;

use crate::connect;

use ask::Conversation;
use probe::Candidate;

/// Maximum devices.
const MAX_CAMERAS: usize = 256;
/// Maximum concurrent requests.
const MAX_CONCURRENT: usize = 16;

/// Devices to find.
#[derive(Debug, Clone)]
pub enum FindTarget {
    /// All devices in this machine's networks that answer a probe. No credentials are sent to them, since any host can
    /// answer.
    Networks,
    /// Hosts given by a user.
    Hosts {
        /// Hosts, with the port of their web service unless it is 80.
        hosts: Vec<String>,
        /// Credentials for them.
        credentials: Option<Credentials>,
    },
}

/// Parameters of a discovery.
#[derive(Debug, Clone)]
pub struct FindRequest {
    /// Devices to find.
    pub target: FindTarget,
    /// Time to wait for probe matches.
    pub wait: Duration,
}

/// Camera found by a discovery.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct FoundCamera {
    /// Name from the device, or its host.
    pub name: String,
    /// Host that answered.
    pub host: String,
    /// Address of its device service.
    pub service: String,
    /// Device information.
    pub facts: DeviceFacts,
    /// Seconds by which its clock is ahead of ours.
    pub clock_ahead_s: Option<i64>,
    /// Streams.
    pub streams: Vec<FoundStream>,
    /// Reason for missing or incomplete information.
    pub problem: Option<String>,
    /// Authentication is required, or has failed.
    pub needs_sign_in: bool,
}

/// Stream of a camera.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct FoundStream {
    /// Media profile.
    pub profile: Profile,
    /// Address, with the host of the request.
    pub address: String,
    /// Address as reported by the camera, if its host differs.
    pub reported_address: Option<String>,
}

/// Error of a discovery.
#[derive(Debug, thiserror::Error)]
pub enum FindError {
    /// The host was not found.
    #[error("{0:?} is no host that can be found")]
    Host(String),
    /// No probe could be sent.
    #[error("no probe could be sent ({0})")]
    Network(#[from] std::io::Error),
}

/// Discovers cameras.
///
/// # Errors
/// [`FindError`] if no request could be sent at all.
pub(crate) async fn find(request: FindRequest) -> Result<Vec<FoundCamera>, FindError> {
    let (candidates, credentials) = match request.target {
        FindTarget::Networks => (probe::in_networks(request.wait).await?, None),
        FindTarget::Hosts { hosts, credentials } => (at_hosts(&hosts, request.wait).await?, credentials),
    };
    let mut found = Vec::new();
    let mut waiting = candidates.into_iter().take(MAX_CAMERAS).collect::<Vec<_>>().into_iter();
    let mut asking = tokio::task::JoinSet::new();
    loop {
        while asking.len() < MAX_CONCURRENT
            && let Some(candidate) = waiting.next()
        {
            let credentials = credentials.clone();
            asking.spawn_blocking(move || Conversation::new(credentials).about(candidate));
        }
        match asking.join_next().await {
            Some(Ok(camera)) => found.push(camera),
            Some(Err(error)) => tracing::warn!(%error, "a camera could not be asked"),
            None => break,
        }
    }
    found.sort_by(|a, b| a.name.cmp(&b.name).then_with(|| a.host.cmp(&b.host)));
    Ok(found)
}

/// Finds the devices at the given hosts, a few at a time.
async fn at_hosts(hosts: &[String], wait: Duration) -> Result<Vec<Candidate>, FindError> {
    let mut candidates = Vec::new();
    for group in hosts.chunks(MAX_CONCURRENT) {
        for found in futures_util::future::join_all(group.iter().map(|host| at_host(host, wait))).await {
            candidates.extend(found?);
        }
    }
    Ok(candidates)
}

/// Returns the possible addresses of the device service at a host.
///
/// # Errors
/// [`FindError`].
pub(crate) async fn services_at(host: &str, wait: Duration) -> Result<Vec<String>, FindError> {
    Ok(at_host(host, wait).await?.into_iter().flat_map(|candidate| candidate.services).collect())
}

/// Finds the device at one host: by a unicast probe, or at the default address.
async fn at_host(at: &str, wait: Duration) -> Result<Vec<Candidate>, FindError> {
    let at = at.trim();
    let Authority { host, port } = Authority::parse(at).map_err(|_| FindError::Host(at.to_owned()))?;
    let addresses = connect::resolve(&host, MULTICAST_PORT).await;
    let addresses = addresses.map_err(|_| FindError::Host(at.to_owned()))?;
    let candidate = Candidate::with_default_port(&host, port);
    if port.is_some() {
        // A host with a port needs no probe.
        return Ok(vec![candidate]);
    }
    let probed = probe::at(addresses.first().copied().into_iter().collect::<Vec<SocketAddr>>(), wait).await?;
    Ok(if probed.is_empty() { vec![candidate] } else { probed })
}
