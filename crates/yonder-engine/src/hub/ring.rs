//! The ring of entries.

use std::collections::VecDeque;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Weak};

use yonder_media::ts::Chunk;
use yonder_media::{PerTrack, TICKS_PER_SECOND, Track};

use super::{Cursor, Entry, Taken};

/// A reader further behind than this skips to the last keyframe; nothing older is kept for it.
const MAX_BACKLOG_TICKS: i64 = 3 * TICKS_PER_SECOND;
/// Payload held at most, whatever the keyframe interval: four seconds at 64 Mbit/s.
const MAX_BYTES: usize = 32 * 1024 * 1024;

/// An entry, with its transport packets once somebody wanted them.
#[derive(Debug)]
struct Slot {
    entry: Arc<Entry>,
    packets: Option<Chunk>,
}

/// Entries by running number.
#[derive(Debug, Default)]
pub(super) struct Ring {
    slots: VecDeque<Slot>,
    /// Number of the first entry.
    first: u64,
    last_keyframe: Option<u64>,
    /// Decoding times of the newest units.
    newest: PerTrack<Option<i64>>,
    bytes: usize,
    /// Number of the entry that each reader takes next. They change only while the ring is locked.
    readers: Vec<Weak<AtomicU64>>,
}

impl Ring {
    /// Adds an entry and returns the number of the one after it.
    pub(super) fn push(&mut self, entry: Arc<Entry>) -> u64 {
        let number = self.end();
        if entry.unit.track == Track::Video && entry.unit.keyframe {
            self.last_keyframe = Some(number);
        }
        *self.newest.get_mut(entry.unit.track) = Some(entry.unit.dts);
        self.bytes += entry.unit.payload.len();
        self.slots.push_back(Slot { entry, packets: None });
        self.prune();
        self.end()
    }

    pub(super) fn bytes(&self) -> usize {
        self.bytes
    }

    pub(super) fn newest_dts(&self) -> Option<i64> {
        self.newest.video.or(self.newest.audio)
    }

    pub(super) fn take(&mut self, cursor: &mut Cursor) -> Taken {
        let place = cursor.next.as_ref().map(|next| next.load(Ordering::Relaxed));
        let (next, skipped) = match (place, self.last_keyframe) {
            (Some(next), Some(keyframe)) if next < keyframe && self.is_too_far(next) => {
                (keyframe, self.pictures_between(next, keyframe))
            }
            (Some(next), _) => (next, 0),
            (None, Some(keyframe)) => (keyframe, 0),
            (None, None) => return Taken::Nothing,
        };
        let Some(entry) = self.get(next).map(Arc::clone) else { return Taken::Nothing };
        match &cursor.next {
            Some(place) => place.store(next + 1, Ordering::Relaxed),
            None => cursor.next = Some(self.admit(next + 1)),
        }
        Taken::Entry { entry, number: next, skipped }
    }

    /// The entries from `first` up to before `end`, if all of them are still held; none otherwise.
    pub(super) fn range(&self, first: u64, end: u64) -> Vec<(u64, Arc<Entry>)> {
        let all: Option<Vec<_>> =
            (first..end).map(|number| self.get(number).map(|entry| (number, Arc::clone(entry)))).collect();
        if first < self.first { Vec::new() } else { all.unwrap_or_default() }
    }

    /// The place of a new reader.
    fn admit(&mut self, next: u64) -> Arc<AtomicU64> {
        let place = Arc::new(AtomicU64::new(next));
        self.readers.retain(|reader| reader.strong_count() > 0);
        self.readers.push(Arc::downgrade(&place));
        place
    }

    /// The number of the entry that the last of the readers takes next.
    fn slowest(&self) -> u64 {
        let places = self.readers.iter().filter_map(Weak::upgrade);
        places.map(|place| place.load(Ordering::Relaxed)).min().unwrap_or(u64::MAX)
    }

    fn end(&self) -> u64 {
        self.first + u64::try_from(self.slots.len()).unwrap_or_default()
    }

    /// The transport packets of an entry, where they were made.
    pub(super) fn packets(&self, number: u64) -> Option<Chunk> {
        self.slots.get(self.index(number)?)?.packets.clone()
    }

    /// Keeps the transport packets of an entry, if that is still held.
    pub(super) fn keep_packets(&mut self, number: u64, packets: Chunk) {
        if let Some(slot) = self.index(number).and_then(|at| self.slots.get_mut(at)) {
            slot.packets = Some(packets);
        }
    }

    fn index(&self, number: u64) -> Option<usize> {
        usize::try_from(number.checked_sub(self.first)?).ok()
    }

    fn get(&self, number: u64) -> Option<&Arc<Entry>> {
        Some(&self.slots.get(self.index(number)?)?.entry)
    }

    fn is_too_far(&self, next: u64) -> bool {
        // Already dropped from the ring, or too old.
        self.get(next).is_none_or(|entry| self.is_old(entry))
    }

    /// Compares with the same track: audio that runs ahead of the video makes nothing old.
    fn is_old(&self, entry: &Entry) -> bool {
        self.newest.get(entry.unit.track).is_some_and(|newest| newest - entry.unit.dts > MAX_BACKLOG_TICKS)
    }

    /// Pictures from `next` up to `keyframe`, as far as they are still there; each of the others counts as
    /// one, since nobody knows any more what they were.
    fn pictures_between(&self, next: u64, keyframe: u64) -> u64 {
        let gone = self.first.saturating_sub(next).min(keyframe - next);
        let known = (next.max(self.first)..keyframe)
            .filter_map(|number| self.get(number))
            .filter(|entry| entry.unit.track == Track::Video)
            .count();
        gone + u64::try_from(known).unwrap_or_default()
    }

    /// Drops what nobody can want any more: what lies before the last keyframe and behind every reader, or too far
    /// behind the newest for a reader to be given it.
    fn prune(&mut self) {
        // All readers are asked once, and only where there is something before the keyframe. Without a keyframe nothing
        // can be taken yet, and the newest tells how far the stream has come.
        let slowest = match self.last_keyframe {
            Some(keyframe) if self.first < keyframe => self.slowest(),
            _ => 0,
        };
        while let Some(Slot { entry: front, .. }) = self.slots.front() {
            let before_keyframe = self.last_keyframe.is_none_or(|keyframe| self.first < keyframe);
            let old = self.first < slowest || self.is_old(front);
            if !(before_keyframe && old) && self.bytes <= MAX_BYTES {
                return;
            }
            if self.last_keyframe == Some(self.first) {
                self.last_keyframe = None;
            }
            self.bytes -= front.unit.payload.len();
            self.slots.pop_front();
            self.first += 1;
        }
    }
}
