//! The hub: a bounded ring of access units that always holds the last keyframe onward, read by each listener at its
//! own pace. A feed has one, for those who watch it; each relay has one, for its pushes.

mod ring;

use std::fmt;
use std::sync::atomic::AtomicU64;
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError, Weak};

use tokio::sync::watch;
use yonder_media::flv::Body;
use yonder_media::ts::{Chunk, Muxer};
use yonder_media::{AccessUnit, StreamHeaders};

use ring::Ring;

/// An access unit in the hub, with the headers that apply to it.
#[derive(Debug)]
pub struct Entry {
    /// The unit.
    pub unit: AccessUnit,
    /// The stream's headers from this unit on.
    pub headers: Arc<StreamHeaders>,
    body: OnceLock<Body>,
}

impl Entry {
    /// A unit under the given headers.
    #[must_use]
    pub fn new(unit: AccessUnit, headers: Arc<StreamHeaders>) -> Self {
        Self { unit, headers, body: OnceLock::new() }
    }

    /// The unit as a tag body: made once, shared by all pushes.
    pub fn body(&self) -> &Body {
        self.body.get_or_init(|| Body::of_unit(&self.unit, &self.headers))
    }
}

/// What a cursor found.
#[derive(Debug)]
pub enum Taken {
    /// The next entry, and how many pictures were skipped to get there.
    Entry {
        /// The entry.
        entry: Arc<Entry>,
        /// Its running number.
        number: u64,
        /// Pictures skipped.
        skipped: u64,
    },
    /// Nothing new yet.
    Nothing,
}

/// A reader's place in a hub. The hub keeps what a reader is yet to take for as long as its cursor exists, up to the
/// bound from which on it skips.
#[derive(Debug, Default)]
pub struct Cursor {
    /// Number of the entry to take next, once there was one.
    next: Option<Arc<AtomicU64>>,
}

/// The muxer of a hub, and the number of the entry that it writes next.
#[derive(Debug, Default)]
struct Transport {
    muxer: Muxer,
    next: u64,
}

/// A reader that takes entries the moment they are published, on the time of whoever publishes them. That costs a call,
/// where to wake a task costs more than most do with an entry.
pub(crate) trait Listener: fmt::Debug + Send + Sync {
    /// Something was published. It must neither wait nor publish.
    fn handle_published(&self);
}

/// A ring and its readers. The ring is locked for a few instructions only, never across an await, nor while a listener
/// is called.
#[derive(Debug)]
pub struct Hub {
    ring: Mutex<Ring>,
    transport: Mutex<Transport>,
    head: watch::Sender<u64>,
    listeners: Mutex<Vec<Weak<dyn Listener>>>,
}

impl Default for Hub {
    fn default() -> Self {
        Self {
            ring: Mutex::default(),
            transport: Mutex::default(),
            head: watch::Sender::new(0),
            listeners: Mutex::default(),
        }
    }
}

impl Hub {
    /// Adds an entry, calls the listeners, and wakes the other readers.
    pub fn publish(&self, entry: Arc<Entry>) {
        let head = self.lock().push(entry);
        let mut gone = false;
        let mut listeners = self.listeners();
        for listener in &*listeners {
            match listener.upgrade() {
                Some(listener) => listener.handle_published(),
                None => gone = true,
            }
        }
        if gone {
            listeners.retain(|listener| listener.strong_count() > 0);
        }
        drop(listeners);
        self.head.send_replace(head);
    }

    /// Calls `listener` at each entry from now on, for as long as somebody else holds it.
    pub(crate) fn listen(&self, listener: &Arc<dyn Listener>) {
        self.listeners().push(Arc::downgrade(listener));
    }

    fn listeners(&self) -> MutexGuard<'_, Vec<Weak<dyn Listener>>> {
        self.listeners.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Changes whenever an entry is added.
    #[must_use]
    pub fn head(&self) -> watch::Receiver<u64> {
        self.head.subscribe()
    }

    /// Takes the next entry for `cursor`. A new cursor begins at the last keyframe; one that fell too far
    /// behind skips to it.
    pub fn take(&self, cursor: &mut Cursor) -> Taken {
        self.lock().take(cursor)
    }

    /// Decoding time of the newest video frame, or of the newest audio frame where there is no video, in ticks.
    #[must_use]
    pub fn newest_dts(&self) -> Option<i64> {
        self.lock().newest_dts()
    }

    /// Payload bytes held.
    #[must_use]
    pub fn bytes(&self) -> usize {
        self.lock().bytes()
    }

    /// The transport packets of the entry `number`: made once, shared by all pushes. One muxer writes all of a
    /// hub's units in their order, so that its counters and clock fit whoever follows.
    pub fn packets(&self, number: u64, entry: &Entry) -> Chunk {
        if let Some(packets) = self.lock().packets(number) {
            return packets;
        }
        let mut transport = self.transport.lock().unwrap_or_else(PoisonError::into_inner);
        // Somebody else may have made them meanwhile.
        if let Some(packets) = self.lock().packets(number) {
            return packets;
        }
        // What lies between belongs to a push that is behind this one; it will want it as well.
        let between = self.lock().range(transport.next, number);
        for (at, earlier) in between {
            let packets = transport.muxer.write(&earlier.unit, &earlier.headers);
            self.lock().keep_packets(at, packets);
        }
        let packets = transport.muxer.write(&entry.unit, &entry.headers);
        self.lock().keep_packets(number, packets.clone());
        transport.next = transport.next.max(number + 1);
        packets
    }

    fn lock(&self) -> MutexGuard<'_, Ring> {
        // The ring is consistent between any two of its methods.
        self.ring.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

#[cfg(test)]
mod tests;
