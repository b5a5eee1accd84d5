//! Ring buffer of a relay's output: placed units from the last keyframe on, read by each push with its own cursor.

use std::collections::VecDeque;
use std::sync::Arc;

use yonder_media::flv::Body;
use yonder_media::timeline::Timestamps;
use yonder_media::ts::{Chunk, Muxer};
use yonder_media::{PerTrack, TICKS_PER_SECOND, Track};

use yonder_media::Frame;

/// Backlog, in ticks, beyond which a reader skips to the last keyframe; older units are not kept for it.
const MAX_BACKLOG_TICKS: i64 = 3 * TICKS_PER_SECOND;
/// Maximum payload, for any keyframe interval: four seconds at 64 Mbit/s.
const MAX_BYTES: usize = 32 * 1024 * 1024;

/// Cursor of a reader: number of the unit to be read next, once one was read.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(crate) struct Cursor(Option<u64>);

impl Cursor {
    /// Returns the number of the oldest unit that this reader needs; `None` before its first read.
    pub(crate) fn position(self) -> Option<u64> {
        self.0
    }
}

/// Result of a read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Next {
    /// Number of the unit.
    pub(crate) number: u64,
    /// Video frames skipped before it.
    pub(crate) skipped: u64,
}

/// Unit on the output. Its output formats are built once, for the first push that needs them.
#[derive(Debug)]
pub(crate) struct Slot {
    pub(crate) frame: Arc<Frame>,
    /// Timestamps on the output.
    pub(crate) times: Timestamps,
    body: Option<Body>,
    packets: Option<Chunk>,
}

impl Slot {
    /// Returns the unit as an FLV tag body.
    pub(crate) fn body(&mut self) -> &Body {
        let Frame { unit, headers } = &*self.frame;
        self.body.get_or_insert_with(|| Body::of_unit(unit, headers))
    }
}

/// Units by number, for any number of cursors.
#[derive(Debug, Default)]
pub(crate) struct Ring {
    slots: VecDeque<Slot>,
    /// Number of the first unit.
    first: u64,
    last_keyframe: Option<u64>,
    /// Decoding times of the newest units.
    newest: PerTrack<Option<i64>>,
    bytes: usize,
    /// Multiplexer of all units in order, so that continuity counters and clock references are valid for every reader.
    muxer: Muxer,
    /// Number of the next unit to be multiplexed.
    next_muxed: u64,
}

impl Ring {
    /// Adds a unit. `slowest` returns the oldest position of all readers.
    pub(super) fn push(
        &mut self,
        frame: Arc<Frame>,
        times: Timestamps,
        slowest: impl FnOnce() -> Option<u64>,
    ) {
        if frame.is_keyframe() {
            self.last_keyframe = Some(self.end());
        }
        *self.newest.get_mut(frame.unit.track) = Some(times.dts);
        self.bytes += frame.unit.payload.len();
        self.slots.push_back(Slot { frame, times, body: None, packets: None });
        self.prune(slowest);
    }

    /// Returns the decoding time of the newest video frame, or of the newest audio frame if there is no video, in ticks.
    pub(crate) fn newest_dts(&self) -> Option<i64> {
        self.newest.video.or(self.newest.audio)
    }

    /// Advances `cursor` by one unit; `None` at the end. A new cursor begins at the last keyframe; one that is too far
    /// behind skips to it.
    pub(crate) fn read(&self, cursor: &mut Cursor) -> Option<Next> {
        let (number, skipped) = match (cursor.0, self.last_keyframe) {
            (Some(next), Some(keyframe)) if next < keyframe && self.is_too_far(next) => {
                (keyframe, self.frames_between(next, keyframe))
            }
            (Some(next), _) => (next, 0),
            (None, keyframe) => (keyframe?, 0),
        };
        self.slots.get(self.index(number)?)?;
        cursor.0 = Some(number + 1);
        Some(Next { number, skipped })
    }

    /// Returns the unit with this number, unless it was dropped.
    pub(crate) fn slot(&mut self, number: u64) -> Option<&mut Slot> {
        let index = self.index(number)?;
        self.slots.get_mut(index)
    }

    /// Returns the MPEG-TS packets of the unit with this number. Units before it that this reader skipped are
    /// multiplexed first, since a slower reader needs them.
    pub(crate) fn packets(&mut self, number: u64) -> Option<Chunk> {
        let end = self.index(number)? + 1;
        let begin = self.index(self.next_muxed.max(self.first)).unwrap_or(end);
        for slot in self.slots.range_mut(begin.min(end)..end) {
            let Frame { unit, headers } = &*slot.frame;
            slot.packets = Some(self.muxer.write_at(unit, slot.times, headers));
        }
        self.next_muxed = self.next_muxed.max(number + 1);
        self.slots.get(end - 1)?.packets.clone()
    }

    fn end(&self) -> u64 {
        self.first + u64::try_from(self.slots.len()).unwrap_or_default()
    }

    fn index(&self, number: u64) -> Option<usize> {
        usize::try_from(number.checked_sub(self.first)?).ok()
    }

    fn get(&self, number: u64) -> Option<&Slot> {
        self.slots.get(self.index(number)?)
    }

    fn is_too_far(&self, next: u64) -> bool {
        // Already dropped from the ring, or too old.
        self.get(next).is_none_or(|slot| self.is_old(slot))
    }

    /// Compares with the same track: audio that runs ahead of the video does not make units old.
    fn is_old(&self, slot: &Slot) -> bool {
        let newest = self.newest.get(slot.frame.unit.track);
        newest.is_some_and(|newest| newest - slot.times.dts > MAX_BACKLOG_TICKS)
    }

    /// Returns the number of video frames from `next` up to `keyframe`. Each dropped unit counts as one frame, since
    /// its track is unknown.
    fn frames_between(&self, next: u64, keyframe: u64) -> u64 {
        let dropped = self.first.saturating_sub(next).min(keyframe - next);
        let held = (next.max(self.first)..keyframe)
            .filter_map(|number| self.get(number))
            .filter(|slot| slot.frame.unit.track == Track::Video)
            .count();
        dropped + u64::try_from(held).unwrap_or_default()
    }

    /// Drops units before the last keyframe that every reader has read, or that are too old.
    fn prune(&mut self, slowest: impl FnOnce() -> Option<u64>) {
        // The readers are only queried if there is something before the keyframe. Without a keyframe nothing can be
        // read, and the age limit is relative to the newest unit.
        let slowest = match self.last_keyframe {
            Some(keyframe) if self.first < keyframe => slowest().unwrap_or(u64::MAX),
            _ => 0,
        };
        while let Some(front) = self.slots.front() {
            let is_before_keyframe = self.last_keyframe.is_none_or(|keyframe| self.first < keyframe);
            let is_unused = self.first < slowest || self.is_old(front);
            if !(is_before_keyframe && is_unused) && self.bytes <= MAX_BYTES {
                return;
            }
            if self.last_keyframe == Some(self.first) {
                self.last_keyframe = None;
            }
            self.bytes -= front.frame.unit.payload.len();
            self.slots.pop_front();
            self.first += 1;
        }
    }

    /// Returns the payload bytes in the ring.
    #[cfg(test)]
    fn bytes(&self) -> usize {
        self.bytes
    }
}

#[cfg(test)]
#[path = "ring_tests.rs"]
mod tests;
