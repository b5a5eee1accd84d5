//! Feeds that may be published to: their keys, and who publishes now.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use parking_lot::Mutex;
use sha2::{Digest as _, Sha256};
use tokio::sync::{mpsc, watch};
use tokio::time::Instant;
use yonder_address::{Passphrase, StreamKey};

use super::limits::{IngestCounts, Limits};
use super::publisher::{Publisher, PublisherInfo, PublisherMessage, QUEUE};

/// Silence of a publisher after which another one with the same key takes over.
const TAKEOVER_AFTER: Duration = Duration::from_secs(3);

/// Access of publishers to a feed.
#[derive(Debug, Clone)]
pub struct FeedAccess {
    /// Stream keys: the present one, and former ones during a grace period.
    pub keys: Vec<StreamKey>,
    /// Passphrase of SRT publishers; without one they must not encrypt.
    pub passphrase: Option<Passphrase>,
    /// Receiver of accepted publishers.
    pub publishers: mpsc::UnboundedSender<Publisher>,
}

/// Hash of a stream key. Keys are looked up by their hashes, so that the time of a lookup tells nothing about them.
type KeyHash = [u8; 32];

fn hash(key: &StreamKey) -> KeyHash {
    Sha256::digest(key.expose().as_bytes()).into()
}

/// Publisher of a feed.
#[derive(Debug)]
struct Current {
    number: u64,
    /// Time of its last media, in milliseconds since the registry's epoch.
    last_media_ms: Arc<AtomicU64>,
    /// Set when another publisher takes over.
    replaced: watch::Sender<bool>,
}

#[derive(Debug)]
struct Entry {
    access: FeedAccess,
    current: Option<Current>,
}

#[derive(Debug, Default)]
struct State {
    feeds: HashMap<String, Entry>,
    keys: HashMap<KeyHash, String>,
    last_number: u64,
    limits: Limits,
}

/// Registry of feeds, shared by all listeners.
#[derive(Debug, Clone)]
pub struct IngestRegistry {
    epoch: Instant,
    state: Arc<Mutex<State>>,
}

impl Default for IngestRegistry {
    fn default() -> Self {
        Self { epoch: Instant::now(), state: Arc::default() }
    }
}

/// Reason for refusing a publisher.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum AccessError {
    /// No feed has this key.
    UnknownKey,
    /// Another publisher is sending.
    Busy,
    /// Too many publishers.
    Full,
}

impl IngestRegistry {
    /// Allows publishers of a feed, or changes their access. A running publisher stays, also if its key is not valid any
    /// more; its next connection needs a valid one.
    pub fn set(&self, feed: &str, access: FeedAccess) {
        let mut state = self.state.lock();
        state.keys.retain(|_, owner| owner != feed);
        for key in &access.keys {
            state.keys.insert(hash(key), feed.to_owned());
        }
        let current = state.feeds.remove(feed).and_then(|entry| entry.current);
        state.feeds.insert(feed.to_owned(), Entry { access, current });
    }

    /// Forbids publishers of a feed, and ends the running one.
    pub fn remove(&self, feed: &str) {
        let mut state = self.state.lock();
        state.keys.retain(|_, owner| owner != feed);
        if let Some(current) = state.feeds.remove(feed).and_then(|entry| entry.current) {
            current.replaced.send_replace(true);
        }
    }

    /// Returns the publishers, and the refused peers since the start.
    #[must_use]
    pub fn counts(&self) -> IngestCounts {
        self.state.lock().limits.counts
    }

    fn now(&self) -> Duration {
        self.epoch.elapsed()
    }

    /// Returns the feed that has one of these keys.
    pub(super) fn feed_of(&self, keys: &[StreamKey]) -> Option<String> {
        let state = self.state.lock();
        keys.iter().find_map(|key| state.keys.get(&hash(key)).cloned())
    }

    /// Returns the passphrase of a feed.
    pub(super) fn passphrase_of(&self, feed: &str) -> Option<Passphrase> {
        self.state.lock().feeds.get(feed).and_then(|entry| entry.access.passphrase.clone())
    }

    /// Returns the delay of a refusal for a wrong key or passphrase, which is counted.
    pub(super) fn count_wrong_key(&self, from: IpAddr) -> Duration {
        let now = self.now();
        self.state.lock().limits.record_wrong_key(from, now)
    }

    /// Counts a connection without a key, until the returned value is dropped; `None` if it is one too many.
    pub(super) fn admit(&self, from: IpAddr) -> Option<Pending> {
        let is_admitted = self.state.lock().limits.admit(from);
        is_admitted.then(|| Pending { registry: self.clone(), from, is_known: false })
    }

    /// Begins to publish, with the facts of the publisher.
    ///
    /// # Errors
    /// [`AccessError`].
    pub(super) fn begin(&self, feed: &str, info: PublisherInfo) -> Result<Session, AccessError> {
        let now = self.now();
        let mut state = self.state.lock();
        let State { feeds, last_number, limits, .. } = &mut *state;
        let entry = feeds.get_mut(feed).ok_or(AccessError::UnknownKey)?;
        if let Some(current) = &entry.current {
            let silent =
                now.saturating_sub(Duration::from_millis(current.last_media_ms.load(Ordering::Relaxed)));
            if silent < TAKEOVER_AFTER {
                limits.counts.busy += 1;
                return Err(AccessError::Busy);
            }
        }
        if !limits.add_publisher() {
            return Err(AccessError::Full);
        }
        limits.forgive(info.from.ip());
        if let Some(current) = entry.current.take() {
            tracing::info!(feed, from = %info.from, "another publisher takes over");
            current.replaced.send_replace(true);
        }
        *last_number += 1;
        let number = *last_number;
        let last_media_ms = Arc::new(AtomicU64::new(millis(now)));
        let (replaced, is_replaced) = watch::channel(false);
        entry.current = Some(Current { number, last_media_ms: Arc::clone(&last_media_ms), replaced });
        let (messages, receiver) = mpsc::channel(QUEUE);
        // Without a receiver the session ends with its first message.
        let _unused = entry.access.publishers.send(Publisher { info, messages: receiver });
        drop(state);
        Ok(Session {
            registry: self.clone(),
            feed: feed.to_owned(),
            number,
            last_media_ms,
            is_replaced,
            messages,
        })
    }
}

fn millis(time: Duration) -> u64 {
    u64::try_from(time.as_millis()).unwrap_or(u64::MAX)
}

/// Connection without an accepted key, counted until it is dropped.
#[derive(Debug)]
pub(super) struct Pending {
    registry: IngestRegistry,
    from: IpAddr,
    is_known: bool,
}

impl Pending {
    /// Ends the count, since the peer has shown what it wants.
    pub(super) fn conclude(mut self) {
        self.is_known = true;
    }
}

impl Drop for Pending {
    fn drop(&mut self) {
        let mut state = self.registry.state.lock();
        state.limits.release(self.from);
        state.limits.counts.without_key += u64::from(!self.is_known);
    }
}

/// Publisher's side of an accepted session. Dropping it ends the session.
#[derive(Debug)]
pub(super) struct Session {
    registry: IngestRegistry,
    pub(super) feed: String,
    number: u64,
    last_media_ms: Arc<AtomicU64>,
    pub(super) is_replaced: watch::Receiver<bool>,
    pub(super) messages: mpsc::Sender<PublisherMessage>,
}

impl Session {
    /// Records that media has arrived.
    pub(super) fn note_media(&self) {
        self.last_media_ms.store(millis(self.registry.now()), Ordering::Relaxed);
    }
}

impl Drop for Session {
    fn drop(&mut self) {
        let mut state = self.registry.state.lock();
        state.limits.remove_publisher();
        if let Some(entry) = state.feeds.get_mut(&self.feed) {
            entry.current.take_if(|current| current.number == self.number);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::publisher::IngestProtocol;
    use super::*;

    fn key(text: &str) -> StreamKey {
        StreamKey::from_stored(text.to_owned().into())
    }

    fn info() -> PublisherInfo {
        PublisherInfo {
            protocol: IngestProtocol::Rtmp,
            from: "192.0.2.7:4000".parse().unwrap(),
            software: None,
            is_encrypted: false,
        }
    }

    fn registry(keys: &[&str]) -> (IngestRegistry, mpsc::UnboundedReceiver<Publisher>) {
        let (publishers, accepted) = mpsc::unbounded_channel();
        let registry = IngestRegistry::default();
        let keys = keys.iter().map(|text| key(text)).collect();
        registry.set("Bandstand", FeedAccess { keys, passphrase: None, publishers });
        (registry, accepted)
    }

    #[tokio::test(start_paused = true)]
    async fn second_publisher_takes_over_after_three_seconds_of_silence() {
        let (registry, mut accepted) = registry(&["key-1"]);
        let first = registry.begin("Bandstand", info()).unwrap();
        let publisher = accepted.try_recv().unwrap();
        tokio::time::advance(Duration::from_millis(2_900)).await;
        assert_eq!(registry.begin("Bandstand", info()).unwrap_err(), AccessError::Busy);
        first.note_media();
        tokio::time::advance(Duration::from_millis(2_900)).await;
        assert_eq!(registry.begin("Bandstand", info()).unwrap_err(), AccessError::Busy);
        tokio::time::advance(Duration::from_millis(200)).await;
        let second = registry.begin("Bandstand", info()).unwrap();
        assert!(*first.is_replaced.borrow() && !*second.is_replaced.borrow());
        // The end of the first does not free the place of the second.
        drop((first, publisher));
        assert_eq!(registry.begin("Bandstand", info()).unwrap_err(), AccessError::Busy);
        drop(second);
        assert!(registry.begin("Bandstand", info()).is_ok());
        assert_eq!(registry.counts().busy, 3);
    }

    #[test]
    fn feed_is_found_by_its_keys_alone() {
        let (registry, _accepted) = registry(&["key-2", "key-1"]);
        assert_eq!(registry.feed_of(&[key("nothing"), key("key-1")]).as_deref(), Some("Bandstand"));
        assert_eq!(registry.feed_of(&[key("key")]), None);
        let (publishers, _receiver) = mpsc::unbounded_channel();
        registry.set("Bandstand", FeedAccess { keys: vec![key("key-3")], passphrase: None, publishers });
        assert_eq!(
            (registry.feed_of(&[key("key-1")]), registry.feed_of(&[key("key-3")]).is_some()),
            (None, true)
        );
        registry.remove("Bandstand");
        assert_eq!(registry.feed_of(&[key("key-3")]), None);
    }

    #[test]
    fn removed_feed_ends_its_publisher() {
        let (registry, _accepted) = registry(&["key-1"]);
        let session = registry.begin("Bandstand", info()).unwrap();
        registry.remove("Bandstand");
        assert!(*session.is_replaced.borrow());
        assert_eq!(registry.begin("Bandstand", info()).unwrap_err(), AccessError::UnknownKey);
    }

    #[test]
    fn connections_that_show_nothing_are_counted() {
        let (registry, _accepted) = registry(&[]);
        let from = info().from.ip();
        registry.admit(from).unwrap().conclude();
        drop(registry.admit(from).unwrap());
        assert_eq!(registry.counts().without_key, 1);
    }
}
