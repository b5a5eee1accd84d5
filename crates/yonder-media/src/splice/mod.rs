//! Splicing of sources into one output.
//!
//! A [`Splice`] owns the time of one output. Sources (the feed, a slate) bring timestamps of their own; the splice adds
//! an offset, so that the output's decoding times rise without a gap or a collapse across every change of source. A
//! source is *placed* at its first keyframe and never refused, however early or late its timestamps are.
//!
//! The offset decays towards zero by at most [`DECAY_PPM`], so that the output returns to the source's own timestamps
//! without a visible or audible step.
//!
//! The splice performs no I/O and reads no clock: `now` is an argument, in ticks.

use crate::ticks::TICKS_PER_SECOND;
use crate::timeline::Timestamps;
use crate::unit::{AccessUnit, PerTrack, Track};

/// Largest change of the offset, in parts per million of the source's time.
pub const DECAY_PPM: i64 = 500;
const MILLION: i64 = 1_000_000;
/// Frame duration assumed before two frames were seen, in ticks.
const DEFAULT_FRAME_TICKS: i64 = TICKS_PER_SECOND / 25;
/// Largest frame duration that is taken from the output's own frames, in ticks. A longer distance is an absence.
const MAX_FRAME_TICKS: i64 = TICKS_PER_SECOND;

/// State of a splice: passing units on, or waiting for a keyframe of the new source.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
enum State {
    /// Waiting for a keyframe of the new source; units before it are dropped.
    #[default]
    Joining,
    /// The source is on the output.
    Joined,
}

/// Difference between output time and source time, as a function of source time.
#[derive(Debug, Clone, Copy, Default)]
struct Offset {
    /// Offset at the joint, in ticks.
    ticks: i64,
    /// Source time of the joint.
    joined_at: i64,
}

impl Offset {
    /// Offset for a unit with source time `dts`. The slope is below 1, so output times rise where source times do.
    fn at(self, dts: i64) -> i64 {
        let since = dts.saturating_sub(self.joined_at).max(0);
        let decayed = since / (MILLION / DECAY_PPM);
        if self.ticks >= 0 { (self.ticks - decayed).max(0) } else { (self.ticks + decayed).min(0) }
    }
}

/// Durations of the last two video frames, in ticks.
#[derive(Debug, Clone, Copy, Default)]
struct LastDurations {
    earlier: Option<i64>,
    later: Option<i64>,
}

impl LastDurations {
    fn push(&mut self, ticks: i64) {
        *self = Self { earlier: self.later, later: Some(ticks) };
    }
}

/// Timestamps of one output, across all of its sources.
#[derive(Debug, Default)]
pub struct Splice {
    state: State,
    offset: Offset,
    /// Decoding times of the units placed last.
    last: PerTrack<Option<i64>>,
    /// Last two distances between video frames of the output, in ticks. The smaller one is taken as the frame duration,
    /// so that a single gap does not count.
    frame_durations: LastDurations,
    /// When the last video frame was placed, in ticks.
    placed_at: i64,
}

impl Splice {
    /// Changes the source: units are dropped up to its first keyframe, which is placed right after the last unit.
    pub fn cut(&mut self) {
        self.state = State::Joining;
    }

    /// Returns true once a keyframe of the present source was placed.
    #[must_use]
    pub fn is_joined(&self) -> bool {
        self.state == State::Joined
    }

    /// Returns output time minus source time at source time `dts`, in ticks.
    #[must_use]
    pub fn offset(&self, dts: i64) -> i64 {
        self.offset.at(dts)
    }

    /// Returns the decoding time of the last unit placed on `track`, in ticks.
    #[must_use]
    pub fn last_dts(&self, track: Track) -> Option<i64> {
        *self.last.get(track)
    }

    /// Places a unit of the present source and returns its timestamps on the output.
    ///
    /// `None` if the unit must be dropped: it precedes the first keyframe, or it is audio that overlaps with audio
    /// placed before. `now` is the time of arrival, in ticks of any monotonic clock.
    pub fn place(&mut self, unit: &AccessUnit, now: i64) -> Option<Timestamps> {
        if self.state == State::Joining {
            if unit.track == Track::Audio || !unit.keyframe {
                return None;
            }
            self.join(unit.dts, now);
        }
        let last = self.last.get_mut(unit.track);
        let wanted = unit.dts.saturating_add(self.offset.at(unit.dts));
        let dts = match *last {
            Some(last) if wanted <= last => match unit.track {
                // Audio decodes frame by frame: an overlap is cut off.
                Track::Audio => return None,
                // Later frames depend on this one.
                Track::Video => last.saturating_add(1),
            },
            _ => wanted,
        };
        if let (Track::Video, Some(last)) = (unit.track, *last)
            && dts - last <= MAX_FRAME_TICKS
        {
            self.frame_durations.push(dts - last);
        }
        *last = Some(dts);
        if unit.track == Track::Video {
            self.placed_at = now;
        }
        let composition = unit.pts.saturating_sub(unit.dts).max(0);
        Some(Timestamps { dts, pts: dts.saturating_add(composition) })
    }

    fn frame_ticks(&self) -> i64 {
        match self.frame_durations {
            LastDurations { earlier: Some(earlier), later: Some(later) } => earlier.min(later),
            LastDurations { earlier: None, later: Some(only) } => only.min(DEFAULT_FRAME_TICKS),
            LastDurations { .. } => DEFAULT_FRAME_TICKS,
        }
    }

    /// Chooses the offset: the source begins where its own time says, but at least one frame after the last frame, and
    /// at most the elapsed time after it.
    fn join(&mut self, dts: i64, now: i64) {
        let target = match self.last.video {
            Some(last) => {
                let frame = self.frame_ticks();
                let passed = now.saturating_sub(self.placed_at);
                dts.clamp(last.saturating_add(frame), last.saturating_add(passed.max(frame)))
            }
            None => dts,
        };
        self.offset = Offset { ticks: target.saturating_sub(dts), joined_at: dts };
        self.state = State::Joined;
    }
}

#[cfg(test)]
mod tests;
