//! Specifications of feeds, relays and pushes.

use std::net::IpAddr;
use std::sync::Arc;
use std::time::Duration;

use yonder_address::{KeyLength, Passphrase, ServerAddress, StreamKey};
use yonder_core::platform::RuleSheet;
use yonder_core::preflight::FeedFacts;
use yonder_core::rendition::{Adapt, Limit, Requirements};
use yonder_core::{History, RefusalRule, ServerRole};
use yonder_rtsp::{CameraUrl, Credentials};

use crate::tls::{Fingerprint, PrivateAuthority};
use yonder_slate::Picture;

/// Specification of a feed.
#[derive(Debug, Clone)]
pub struct FeedSpec {
    /// Name, unique among feeds.
    pub name: String,
    /// Source.
    pub source: SourceSpec,
    /// Parts that have worked since they were set.
    pub history: History,
    /// Last measurement of the stream, if there is one.
    pub measured: Option<FeedFacts>,
}

/// Source of a feed.
#[derive(Debug, Clone)]
pub enum SourceSpec {
    /// Stream of a camera, which is pulled.
    Rtsp(RtspSpec),
    /// Encoder that publishes to this service.
    Publisher,
}

/// Stream of a camera.
#[derive(Debug, Clone)]
pub struct RtspSpec {
    /// Address of the stream.
    pub url: CameraUrl,
    /// User name and password.
    pub credentials: Option<Credentials>,
    /// The stored password could not be decrypted: the camera is not dialed, and the feed is blocked.
    pub secret_lost: bool,
    /// Transport of RTP packets.
    pub transport: TransportChoice,
    /// SHA-256 of the only trusted certificate; `None` trusts the system's authorities.
    pub pin: Option<Fingerprint>,
}

/// Transport of RTP packets.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum TransportChoice {
    /// Interleaved; UDP if the camera refuses that, or no media arrives.
    #[default]
    Auto,
    /// Interleaved.
    Tcp,
    /// UDP.
    Udp,
}

/// Specification of a push.
#[derive(Debug, Clone)]
pub struct PushSpec {
    /// Name of the destination.
    pub destination: String,
    /// Server.
    pub server: ServerAddress,
    /// Backup server.
    pub backup: Option<ServerAddress>,
    /// How long a better route must be reachable before the push returns to it.
    pub failback_delay: Duration,
    /// Stream key; optional for SRT.
    pub key: Option<StreamKey>,
    /// SRT passphrase and key length.
    pub encryption: Option<(Passphrase, KeyLength)>,
    /// The stored key or passphrase could not be decrypted: the platform is not dialed, and the push is blocked.
    pub secret_lost: bool,
    /// Private certificate authority for TLS.
    pub authority: Option<PrivateAuthority>,
    /// Uplinks that it is bound to, the preferred one first; empty leaves the choice to the system.
    pub uplinks: Vec<UplinkSpec>,
    /// Meanings of the platform's refusals that differ from the built-in table.
    pub refusals: Arc<[RefusalRule]>,
    /// Parts that have worked since they were set.
    pub history: History,
    /// Adaptation of the feed.
    pub adaptation: Adaptation,
}

/// Adaptation of a feed for a push.
#[derive(Debug, Clone, PartialEq)]
pub struct Adaptation {
    /// Permission to adapt.
    pub adapt: Adapt,
    /// Limits set by a person.
    pub limit: Limit,
    /// Rules of the platform, if they are known.
    pub rules: Option<Arc<RuleSheet>>,
    /// Video bit rate that the uplink has left for the push, in kilobits per second.
    pub available_kbps: Option<u32>,
}

impl Adaptation {
    /// The feed is sent as it is.
    pub const NONE: Self = Self {
        adapt: Adapt::None,
        limit: Limit { lines: None, fps: None, kbps: None },
        rules: None,
        available_kbps: None,
    };
}

/// Uplink of this machine.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct UplinkSpec {
    /// Name.
    pub name: String,
    /// Binding of its connections.
    pub binding: Binding,
}

/// Binding of a connection to an uplink.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Binding {
    /// Local address; the system's routing rules select the route.
    Source(IpAddr),
    /// Network interface.
    Interface(String),
}

/// Route to the platform: a server reached over an uplink.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Route {
    pub(crate) role: ServerRole,
    pub(crate) server: ServerAddress,
    pub(crate) uplink: Option<UplinkSpec>,
}

/// Holding picture of a relay.
#[derive(Debug, Clone, Default)]
pub struct HoldSpec {
    /// An operator requests the hold.
    pub wanted: bool,
    /// Absence of the feed after which the holding picture is sent; `None` for never.
    pub after: Option<Duration>,
    /// Picture; `None` for the default card with the relay's name.
    pub picture: Option<Arc<Picture>>,
}

/// Relay: a feed and its pushes.
#[derive(Debug, Clone)]
pub struct RelaySpec {
    /// Name, unique among relays.
    pub name: String,
    /// Feed.
    pub feed: FeedSpec,
    /// Pushes, in the order of the relay's destinations.
    pub pushes: Vec<PushSpec>,
    /// Holding picture.
    pub hold: HoldSpec,
    /// An HLS stream is made for viewers with browsers.
    pub hls: bool,
}

impl FeedSpec {
    /// Returns the stream of a camera; `None` for a published feed.
    #[must_use]
    pub fn rtsp(&self) -> Option<&RtspSpec> {
        match &self.source {
            SourceSpec::Rtsp(rtsp) => Some(rtsp),
            SourceSpec::Publisher => None,
        }
    }

    /// Returns the address of the stream; empty for a published feed.
    #[must_use]
    pub fn address(&self) -> String {
        self.rtsp().map(|rtsp| rtsp.url.to_string()).unwrap_or_default()
    }

    /// Returns true if both have the same source with the same settings.
    pub(crate) fn is_same(&self, other: &Self) -> bool {
        match (&self.source, &other.source) {
            (SourceSpec::Rtsp(own), SourceSpec::Rtsp(other)) => own.is_same(other),
            (SourceSpec::Publisher, SourceSpec::Publisher) => self.name == other.name,
            (SourceSpec::Rtsp(_), SourceSpec::Publisher) | (SourceSpec::Publisher, SourceSpec::Rtsp(_)) => {
                false
            }
        }
    }
}

impl RtspSpec {
    /// Returns true if both pull the same stream with the same settings.
    fn is_same(&self, other: &Self) -> bool {
        use secrecy::ExposeSecret as _;
        let account = |spec: &Self| {
            spec.credentials.as_ref().map(|c| (c.user.clone(), c.password.expose_secret().to_owned()))
        };
        self.url == other.url
            && self.transport == other.transport
            && self.pin == other.pin
            && self.secret_lost == other.secret_lost
            && account(self) == account(other)
    }
}

impl PushSpec {
    /// Returns all routes to the platform, the preferred one first: both servers over each uplink in turn.
    pub(crate) fn routes(&self) -> Vec<Route> {
        let uplinks: Vec<Option<&UplinkSpec>> =
            if self.uplinks.is_empty() { vec![None] } else { self.uplinks.iter().map(Some).collect() };
        let backup = self.backup.as_ref().map(|backup| (ServerRole::Backup, backup));
        let servers: Vec<_> = std::iter::once((ServerRole::Main, &self.server)).chain(backup).collect();
        let mut routes = Vec::new();
        for uplink in uplinks {
            for (role, server) in &servers {
                routes.push(Route { role: *role, server: (*server).clone(), uplink: uplink.cloned() });
            }
        }
        routes
    }

    /// Returns the requirements for the choice of a rendition.
    pub(crate) fn requirements(&self) -> Requirements<'_> {
        let Adaptation { limit, rules, available_kbps, .. } = &self.adaptation;
        let (protocol, rules) = (self.server.protocol(), rules.as_deref());
        Requirements { protocol, rules, limit: *limit, available_kbps: *available_kbps }
    }

    /// Returns true if a running push can apply the servers, uplinks and delays of `other` without a reconnect: keys
    /// and trust are the same.
    pub(crate) fn has_same_identity(&self, other: &Self) -> bool {
        let key = |spec: &Self| spec.key.as_ref().map(|key| key.expose().to_owned());
        let encryption = |spec: &Self| {
            spec.encryption.as_ref().map(|(phrase, length)| (phrase.expose().to_owned(), *length))
        };
        let authority = |spec: &Self| spec.authority.as_ref().map(|authority| authority.pem().to_owned());
        key(self) == key(other)
            && encryption(self) == encryption(other)
            && self.secret_lost == other.secret_lost
            && authority(self) == authority(other)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn both_servers_are_tried_over_one_uplink_before_the_next() {
        let read = |url: &str| yonder_address::read_server(url).unwrap().0;
        let uplink = |name: &str| UplinkSpec { name: name.into(), binding: Binding::Interface(name.into()) };
        let mut push = PushSpec {
            destination: "Bramble".into(),
            server: read("rtmp://main.example.net/live"),
            backup: Some(read("rtmp://spare.example.net/live")),
            failback_delay: Duration::from_secs(120),
            key: None,
            encryption: None,
            secret_lost: false,
            authority: None,
            uplinks: vec![uplink("fibre"), uplink("radio")],
            refusals: Arc::default(),
            history: History::default(),
            adaptation: Adaptation::NONE,
        };
        let routes = |push: &PushSpec| -> Vec<(&'static str, Option<String>)> {
            push.routes()
                .into_iter()
                .map(|route| (route.role.as_str(), route.uplink.map(|uplink| uplink.name)))
                .collect()
        };
        let over = |role, uplink: &str| (role, Some(uplink.to_owned()));
        let expected =
            [over("main", "fibre"), over("backup", "fibre"), over("main", "radio"), over("backup", "radio")];
        assert_eq!(routes(&push), expected);
        let free = PushSpec { uplinks: Vec::new(), ..push.clone() };
        assert_eq!(routes(&free), [("main", None), ("backup", None)]);
        assert!(push.has_same_identity(&free), "other routes need no other push");
        push.backup = None;
        assert_eq!(routes(&push), [over("main", "fibre"), over("main", "radio")]);
    }
}
