//! The latest segments of a stream.

use std::collections::VecDeque;
use std::sync::Arc;

use crate::ticks::TICKS_PER_SECOND;

use super::segment::{InitSection, Segment, bit_rate};

/// Minimum target duration, in seconds.
const MIN_TARGET_S: u64 = 2;
/// Segments before the first playlist, from which the target duration is known.
const MIN_SEGMENTS: usize = 2;
/// Minimum number of listed segments, once there are so many.
const MIN_LISTED: usize = 5;
/// Minimum duration of the playlist, in ticks, once there is so much.
const MIN_LISTED_TICKS: i64 = 12 * TICKS_PER_SECOND;

/// Listed segments, and those that were listed until recently. Cloning shares the segments.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct LiveWindow {
    /// Number of the stream, which is part of the name of its playlist.
    id: u64,
    target_s: u64,
    /// Discontinuity sequence number of the first listed segment (4.3.3.3).
    discontinuity_sequence: u64,
    /// Oldest first; the last [`Self::listed_count`] are in the playlist.
    segments: VecDeque<Arc<Segment>>,
    listed_count: usize,
    is_ended: bool,
}

impl LiveWindow {
    /// Creates an empty window of the stream `id`.
    #[must_use]
    pub fn new(id: u64) -> Self {
        Self { id, target_s: MIN_TARGET_S, ..Self::default() }
    }

    /// Returns the number of the stream.
    #[must_use]
    pub fn id(&self) -> u64 {
        self.id
    }

    /// Adds a segment, and removes the oldest ones. `max_bytes` limits the size of all segments.
    ///
    /// The target duration of a playlist does not change (6.2.1). A segment that is too long for it begins another playlist,
    /// which has another name.
    pub fn push(&mut self, segment: Segment, max_bytes: usize) {
        let needed_s = segment.rounded_s();
        self.segments.push_back(Arc::new(segment));
        self.listed_count += 1;
        if needed_s > self.target_s {
            self.target_s = needed_s;
            if self.is_ready() {
                self.unlist_to(1);
            }
        }
        self.unlist_old();
        self.remove_old(max_bytes);
    }

    /// Marks the end of the stream.
    pub fn end(&mut self) {
        self.is_ended = true;
    }

    /// Returns true after the end of the stream.
    #[must_use]
    pub fn is_ended(&self) -> bool {
        self.is_ended
    }

    /// Returns true once there is a playlist.
    #[must_use]
    pub fn is_ready(&self) -> bool {
        self.segments.len() >= MIN_SEGMENTS
    }

    /// Returns the target duration in seconds (4.3.3.1).
    #[must_use]
    pub fn target_s(&self) -> u64 {
        self.target_s
    }

    /// Returns the discontinuity sequence number of the first listed segment.
    #[must_use]
    pub fn discontinuity_sequence(&self) -> u64 {
        self.discontinuity_sequence
    }

    /// Returns the listed segments, the oldest first.
    pub fn listed(&self) -> impl Iterator<Item = &Arc<Segment>> {
        self.segments.iter().skip(self.segments.len() - self.listed_count)
    }

    /// Returns the segment with this number, unless it was removed.
    #[must_use]
    pub fn segment(&self, number: u64) -> Option<&Arc<Segment>> {
        self.segments.iter().find(|segment| segment.number == number)
    }

    /// Returns the initialization section with this number.
    #[must_use]
    pub fn init(&self, number: u64) -> Option<&Arc<InitSection>> {
        self.segments.iter().map(|segment| &segment.init).find(|init| init.number == number)
    }

    /// Returns the newest segment.
    #[must_use]
    pub fn newest(&self) -> Option<&Arc<Segment>> {
        self.segments.back()
    }

    /// Returns the size of all segments in bytes.
    #[must_use]
    pub fn bytes(&self) -> usize {
        self.segments.iter().map(|segment| segment.len()).sum()
    }

    /// Returns the peak segment bit rate in bits per second (4.3.4.2).
    #[must_use]
    pub fn peak_rate(&self) -> u64 {
        self.segments.iter().map(|segment| segment.bit_rate()).max().unwrap_or_default()
    }

    /// Returns the average bit rate in bits per second.
    #[must_use]
    pub fn average_rate(&self) -> u64 {
        bit_rate(self.bytes(), self.segments.iter().map(|segment| segment.ticks).sum())
    }

    fn listed_ticks(&self) -> i64 {
        self.listed().map(|segment| segment.ticks).sum()
    }

    /// Removes the oldest segments from the playlist, as long as enough remain (6.2.2: three target durations).
    fn unlist_old(&mut self) {
        let target = i64::try_from(self.target_s).unwrap_or(i64::MAX).saturating_mul(TICKS_PER_SECOND);
        let needed = MIN_LISTED_TICKS.max(target.saturating_mul(3));
        while self.listed_count > MIN_LISTED {
            let Some(first) = self.listed().next() else { return };
            if self.listed_ticks() - first.ticks < needed {
                return;
            }
            self.unlist_to(self.listed_count - 1);
        }
    }

    /// Removes the oldest segments from the playlist until `count` are left.
    fn unlist_to(&mut self, count: usize) {
        while self.listed_count > count {
            if self.listed().next().is_some_and(|first| first.is_discontinuous) {
                self.discontinuity_sequence += 1;
            }
            self.listed_count -= 1;
        }
    }

    /// Removes segments that have not been listed for the duration of the playlist and of themselves (6.2.2).
    fn remove_old(&mut self, max_bytes: usize) {
        loop {
            let Some(first) = self.segments.front() else { return };
            let unlisted = self.segments.len() - self.listed_count;
            let since: i64 =
                self.segments.iter().skip(1).take(unlisted.saturating_sub(1)).map(|s| s.ticks).sum();
            let is_over = unlisted > 0 && since >= self.listed_ticks() + first.ticks;
            let is_too_large = self.segments.len() > 1 && self.bytes() > max_bytes;
            if !is_over && !is_too_large {
                return;
            }
            if unlisted == 0 {
                self.unlist_to(self.listed_count - 1);
            }
            self.segments.pop_front();
        }
    }
}
