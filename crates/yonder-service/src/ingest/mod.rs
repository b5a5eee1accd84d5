//! Feeds that encoders publish to: their stream keys, and the access of encoders.

use std::collections::HashSet;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use parking_lot::{Mutex, RwLock};
use tokio::sync::mpsc;
use tokio::time::sleep;
use yonder_api::{IngestListeners, RevealedIngest, RtmpAccess, Secret, SrtAccess};
use yonder_engine::Engine;
use yonder_ingest::{FeedAccess, IngestAddresses, IngestRegistry};
use yonder_records::{IngestKeys, Records, ServiceError, run_blocking, time};
use yonder_store::{RecordKind, StoreError};

use crate::journal::Journal;

use addresses::srt_address;
use wrong_keys::WrongKeys;

mod addresses;
mod wrong_keys;

pub use addresses::{external_host, reachable};

/// Application of RTMP addresses.
const APP: &str = "live";
/// Interval of the checks for expired keys and for wrong ones.
const INTERVAL: Duration = Duration::from_secs(5);

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
        if let Some(detail) = self.wrong_keys.lock().take_unlogged(self.registry.counts()) {
            self.journal.log_own("encoder-refused", RecordKind::Service, "ingest", &detail);
        }
    }

    /// Returns a message if encoders with wrong keys were refused repeatedly within the last minutes.
    pub(crate) fn wrong_keys(&self, now_ms: i64) -> Option<String> {
        self.wrong_keys.lock().alert(self.registry.counts(), now_ms)
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
            address.map(|address| format!("{scheme}://{}{path}", reachable(address)))
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
            let host = endpoints.host.clone().unwrap_or_else(|| external_host(address.ip()));
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
