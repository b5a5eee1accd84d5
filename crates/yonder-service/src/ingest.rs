//! Encoders that publish: which keys lead to which feed, and the addresses that they get.

use std::collections::{HashSet, VecDeque};
use std::net::{IpAddr, Ipv4Addr, SocketAddr, UdpSocket};
use std::sync::Arc;
use std::time::Duration;

use parking_lot::{Mutex, RwLock};
use secrecy::SecretString;
use tokio::sync::mpsc;
use tokio::time::sleep;
use url::Url;
use yonder_api::{IngestListeners, RevealedIngest, RtmpAccess, Secret, SrtAccess};
use yonder_engine::Engine;
use yonder_ingest::{FeedAccess, IngestAddresses, IngestRegistry};
use yonder_records::{IngestKeys, Records, ServiceError, run_blocking, time};
use yonder_store::{RecordKind, StoreError};

use crate::journal::Journal;

/// Application of RTMP addresses.
const APP: &str = "live";
/// Interval of the checks for expired keys and for wrong ones.
const INTERVAL: Duration = Duration::from_secs(5);
/// Remote address (documentation range) by which the source address of the default route is determined. Connecting a UDP socket
/// sends no packet.
const ROUTE_PROBE: (Ipv4Addr, u16) = (Ipv4Addr::new(192, 0, 2, 1), 9);

/// Listeners for encoders, as started.
#[derive(Debug, Clone, Default)]
pub struct IngestEndpoints {
    /// Addresses of the sockets.
    pub addresses: IngestAddresses,
    /// Host that encoders should use; `None` derives it from the address.
    pub host: Option<String>,
    /// Fingerprint of a self-signed certificate.
    pub certificate: Option<String>,
}

/// Period over which wrong keys are counted, in milliseconds: 10 minutes.
const WRONG_KEYS_MS: i64 = 10 * 60_000;
/// Wrong keys within the period that are reported.
const MIN_WRONG_KEYS: u64 = 5;

/// Wrong keys in the last minutes.
#[derive(Debug, Default)]
struct WrongKeys {
    /// Times in milliseconds since 1970, and counts.
    recent: VecDeque<(i64, u64)>,
    /// Count since the start of the service, as last seen.
    seen: u64,
    /// Count as last written to the logbook.
    logged: u64,
}

/// Feeds that encoders publish to.
#[derive(Debug)]
pub struct Ingest {
    records: Arc<Records>,
    engine: Engine,
    registry: IngestRegistry,
    endpoints: RwLock<IngestEndpoints>,
    /// Feeds that the engine runs for encoders.
    feeds: Mutex<HashSet<String>>,
    journal: Arc<Journal>,
    wrong_keys: Mutex<WrongKeys>,
}

impl Ingest {
    pub(crate) fn new(records: Arc<Records>, engine: Engine, journal: Arc<Journal>) -> Self {
        let (registry, endpoints) = (IngestRegistry::default(), RwLock::default());
        let (feeds, wrong_keys) = (Mutex::default(), Mutex::default());
        Self { records, engine, registry, endpoints, feeds, journal, wrong_keys }
    }

    /// Returns the registry for the listeners.
    #[must_use]
    pub fn registry(&self) -> &IngestRegistry {
        &self.registry
    }

    /// Sets the listeners, after they have been started.
    pub fn set_endpoints(&self, endpoints: IngestEndpoints) {
        *self.endpoints.write() = endpoints;
    }

    /// Starts all feeds that encoders publish to. Failures are logged and do not affect the others.
    pub(crate) fn resume(&self) {
        let names = self.records.published_feeds().unwrap_or_else(|error| {
            tracing::error!(%error, "feeds of encoders cannot be read");
            Vec::new()
        });
        for name in names {
            if let Err(error) = self.apply(&name) {
                tracing::error!(feed = name, %error, "a feed of an encoder cannot be started");
            }
        }
    }

    /// Applies the stored settings of a feed. Without effect for one that is pulled.
    pub(crate) fn apply(&self, name: &str) -> Result<(), ServiceError> {
        let feed = match self.records.store.feed(name) {
            Ok(feed) => feed,
            // Removed in the same transaction.
            Err(StoreError::NotFound { .. }) => return Ok(()),
            Err(error) => return Err(error.into()),
        };
        if feed.settings.ingest_key_bits.is_none() {
            return Ok(());
        }
        let name = feed.settings.name.clone();
        self.engine.listen(self.records.feed_spec(&feed)?);
        let IngestKeys { keys, passphrase } = self.records.ingest_keys(&feed);
        let (publishers, mut accepted) = mpsc::unbounded_channel();
        self.registry.set(&name, FeedAccess { keys, passphrase, publishers });
        self.feeds.lock().insert(name.clone());
        let engine = self.engine.clone();
        // Ends when the access of the feed is replaced or removed.
        self.engine.runtime().spawn(async move {
            while let Some(publisher) = accepted.recv().await {
                engine.publish(&name, publisher);
            }
        });
        Ok(())
    }

    /// Ends a feed that encoders publish to, with its connection.
    pub(crate) fn end(&self, name: &str) {
        self.registry.remove(name);
        self.engine.stop_listening(name);
        self.feeds.lock().remove(name);
    }

    /// Removes former stream keys at the end of their grace period, and writes wrong keys to the logbook. Never ends.
    ///
    /// # Cancel safety
    /// Safe.
    pub(crate) async fn run(self: Arc<Self>) {
        loop {
            sleep(INTERVAL).await;
            self.log_wrong_keys();
            let ingest = Arc::clone(&self);
            if let Err(error) = run_blocking(move || ingest.expire(time::now_s())).await {
                tracing::debug!(%error, "former stream keys could not be removed");
            }
        }
    }

    /// Writes the wrong keys since the last call to the logbook, in one line.
    fn log_wrong_keys(&self) {
        let counts = self.registry.counts();
        let mut wrong_keys = self.wrong_keys.lock();
        let new = counts.wrong_key - wrong_keys.logged;
        let Some(from) = counts.last_wrong_key.filter(|_| new > 0) else { return };
        wrong_keys.logged = counts.wrong_key;
        drop(wrong_keys);
        let detail = format!("{new} with a wrong stream key or passphrase, the last from {from}");
        self.journal.log_own("encoder-refused", RecordKind::Service, "ingest", &detail);
    }

    /// Returns a message if encoders with wrong keys were refused repeatedly within the last minutes.
    pub(crate) fn wrong_keys(&self, now_ms: i64) -> Option<String> {
        let counts = self.registry.counts();
        let mut wrong_keys = self.wrong_keys.lock();
        let new = counts.wrong_key - wrong_keys.seen;
        wrong_keys.seen = counts.wrong_key;
        if new > 0 {
            wrong_keys.recent.push_back((now_ms, new));
        }
        wrong_keys.recent.retain(|(at_ms, _)| now_ms - at_ms < WRONG_KEYS_MS);
        let sum: u64 = wrong_keys.recent.iter().map(|(_, count)| count).sum();
        let from = counts.last_wrong_key.filter(|_| sum >= MIN_WRONG_KEYS)?;
        Some(format!(
            "Encoders with a wrong stream key or passphrase were refused {sum} times within 10 minutes, the last from {from}."
        ))
    }

    fn expire(&self, now_s: i64) -> Result<(), ServiceError> {
        if self.feeds.lock().is_empty() {
            return Ok(());
        }
        for name in self.records.store.remove_expired_ingest_keys(now_s)? {
            tracing::info!(feed = name, "the former stream key has expired");
            self.apply(&name)?;
        }
        Ok(())
    }

    /// Returns the addresses for clients on this machine; `None` without listeners.
    #[must_use]
    pub fn local_listeners(&self) -> Option<IngestListeners> {
        let IngestAddresses { rtmp, rtmps, srt } = self.endpoints.read().addresses;
        let text = |address: Option<SocketAddr>, scheme: &str, path: &str| {
            address.map(|address| format!("{scheme}://{}{path}", local(address)))
        };
        let path = format!("/{APP}");
        let listeners = IngestListeners {
            rtmp: text(rtmp, "rtmp", &path),
            rtmps: text(rtmps, "rtmps", &path),
            srt: text(srt, "srt", ""),
        };
        (listeners != IngestListeners::default()).then_some(listeners)
    }

    /// Returns what is typed into an encoder, with the secrets in clear. The caller must audit it.
    ///
    /// # Errors
    /// As [`Records::ingest_secrets`].
    pub fn reveal(&self, name: &str) -> Result<RevealedIngest, ServiceError> {
        let secrets = self.records.ingest_secrets(name)?;
        let endpoints = self.endpoints.read().clone();
        let key = secrets.key.expose();
        let authority = |address: SocketAddr| {
            let host = endpoints.host.clone().unwrap_or_else(|| host_of(address.ip()));
            format!("{host}:{}", address.port())
        };
        let rtmp = |address: SocketAddr, scheme: &str| {
            let server = format!("{scheme}://{}/{APP}", authority(address));
            RtmpAccess { joined: format!("{server}/{key}").into(), server, key: key.to_owned().into() }
        };
        let srt = |address: SocketAddr| SrtAccess {
            address: srt_address(&authority(address), key, secrets.passphrase.as_ref(), secrets.key_bits),
            passphrase: secrets.passphrase.clone().map(Secret::from),
            key_length: secrets.passphrase.as_ref().map(|_| secrets.key_bits),
        };
        let IngestAddresses { rtmp: plain, rtmps, srt: datagrams } = endpoints.addresses;
        Ok(RevealedIngest {
            rtmp: plain.map(|address| rtmp(address, "rtmp")),
            rtmps: rtmps.map(|address| rtmp(address, "rtmps")),
            srt: datagrams.map(srt),
            key: key.to_owned().into(),
            certificate: endpoints.certificate.filter(|_| rtmps.is_some()),
        })
    }
}

/// Returns an SRT address with the key as stream ID; the passphrase is given apart.
fn srt_address(authority: &str, key: &str, passphrase: Option<&SecretString>, key_bits: u16) -> Secret {
    let length = passphrase.map(|_| format!("&pbkeylen={}", key_bits / 8)).unwrap_or_default();
    let text = format!("srt://{authority}?streamid={key}{length}");
    debug_assert!(Url::parse(&text).is_ok(), "stream keys need no percent-encoding");
    text.into()
}

/// Returns an address that clients on this machine can use.
fn local(mut address: SocketAddr) -> SocketAddr {
    if address.ip().is_unspecified() {
        address.set_ip(if address.is_ipv4() {
            Ipv4Addr::LOCALHOST.into()
        } else {
            std::net::Ipv6Addr::LOCALHOST.into()
        });
    }
    address
}

/// Returns the host by which other machines reach a listener. For one on all addresses it is that of the default route.
fn host_of(ip: IpAddr) -> String {
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
        assert_eq!(host_of("192.0.2.7".parse().unwrap()), "192.0.2.7");
        assert_eq!(host_of("2001:db8::7".parse().unwrap()), "[2001:db8::7]");
        assert_ne!(host_of("0.0.0.0".parse().unwrap()), "0.0.0.0");
        assert_eq!(local("0.0.0.0:1935".parse().unwrap()).to_string(), "127.0.0.1:1935");
    }
}
