//! Finding cameras: by a probe into the local networks, or at one address; then each is asked what it streams.

mod ask;
mod probe;

use std::net::SocketAddr;
use std::time::Duration;

use yonder_address::Authority;
use yonder_onvif::{DeviceFacts, MULTICAST_PORT, Profile};
use yonder_rtsp::Credentials;

use crate::dial;

use ask::Conversation;
use probe::Candidate;

/// Cameras that are asked, at most.
const MAX_CAMERAS: usize = 256;
/// Cameras that are asked at a time.
const MAX_CONCURRENT: usize = 16;

/// Cameras that a search asks.
#[derive(Debug, Clone)]
pub enum FindTarget {
    /// Every device in the networks of this machine that answers a probe. They are asked without credentials: any host can
    /// answer.
    Networks,
    /// Hosts that a person has named.
    Hosts {
        /// Hosts, with the port of their web service where that is not 80.
        hosts: Vec<String>,
        /// User name and password for them.
        credentials: Option<Credentials>,
    },
}

/// Parameters of a search.
#[derive(Debug, Clone)]
pub struct FindRequest {
    /// Cameras to ask.
    pub target: FindTarget,
    /// How long answers are waited for.
    pub wait: Duration,
}

/// A camera that was found.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct FoundCamera {
    /// Name by its own word, else its host.
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
    /// Reason for which the information is missing or incomplete.
    pub problem: Option<String>,
    /// It asks for a user name and password, or refused those given.
    pub needs_sign_in: bool,
}

/// One of a camera's streams.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct FoundStream {
    /// Profile with its facts, as the camera tells them.
    pub profile: Profile,
    /// Address with the host that was asked.
    pub address: String,
    /// Address as the camera reported it, where that names another host.
    pub told: Option<String>,
}

/// Why nothing could be looked for.
#[derive(Debug, thiserror::Error)]
pub enum FindError {
    /// The host was not found.
    #[error("{0:?} is no host that can be found")]
    Host(String),
    /// No probe could be sent.
    #[error("no probe could be sent ({0})")]
    Network(#[from] std::io::Error),
}

/// Looks for cameras.
///
/// # Errors
/// [`FindError`] when nothing could be asked at all.
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

/// Finds the devices at hosts, a few at a time.
async fn at_hosts(hosts: &[String], wait: Duration) -> Result<Vec<Candidate>, FindError> {
    let mut candidates = Vec::new();
    for group in hosts.chunks(MAX_CONCURRENT) {
        for found in futures_util::future::join_all(group.iter().map(|host| at_host(host, wait))).await {
            candidates.extend(found?);
        }
    }
    Ok(candidates)
}

/// One host: it is probed directly, and asked at its usual address when it does not answer that.
async fn at_host(at: &str, wait: Duration) -> Result<Vec<Candidate>, FindError> {
    let at = at.trim();
    let Authority { host, port } = Authority::parse(at).map_err(|_| FindError::Host(at.to_owned()))?;
    let addresses = dial::resolve(&host, MULTICAST_PORT).await;
    let addresses = addresses.map_err(|_| FindError::Host(at.to_owned()))?;
    let usual = Candidate::usual(&host, port);
    if port.is_some() {
        // A named port needs no probe.
        return Ok(vec![usual]);
    }
    let probed = probe::at(addresses.first().copied().into_iter().collect::<Vec<SocketAddr>>(), wait).await?;
    Ok(if probed.is_empty() { vec![usual] } else { probed })
}
