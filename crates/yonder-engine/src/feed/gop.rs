//! Cache of the current GOP of a feed, for relays and viewers that join.

use std::sync::Arc;

use yonder_media::Frame;

/// Maximum payload: four seconds at 64 Mbit/s. A longer GOP cannot be joined.
const MAX_BYTES: usize = 32 * 1024 * 1024;

/// Current GOP.
#[derive(Debug, Default)]
pub(crate) struct GopCache {
    frames: Vec<Arc<Frame>>,
    bytes: usize,
}

impl GopCache {
    /// Adds a frame. A keyframe replaces all earlier frames.
    pub(crate) fn push(&mut self, frame: &Arc<Frame>) {
        if frame.is_keyframe() {
            self.clear();
        } else if self.frames.is_empty() {
            return;
        }
        self.bytes += frame.unit.payload.len();
        if self.bytes > MAX_BYTES {
            self.clear();
            return;
        }
        self.frames.push(Arc::clone(frame));
    }

    fn clear(&mut self) {
        self.frames.clear();
        self.bytes = 0;
    }

    /// Returns the frames, beginning with the keyframe.
    pub(crate) fn frames(&self) -> &[Arc<Frame>] {
        &self.frames
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use bytes::Bytes;
    use yonder_media::{AccessUnit, Payload, Track};

    fn frame(dts: i64, keyframe: bool, bytes: usize) -> Arc<Frame> {
        let payload = Payload::Nals(vec![Bytes::from(vec![1; bytes])]);
        let unit = AccessUnit { track: Track::Video, dts, pts: dts, keyframe, payload };
        Arc::new(Frame::new(unit, Arc::default()))
    }

    #[test]
    fn cache_has_the_frames_from_the_last_keyframe_on() {
        let mut gop = GopCache::default();
        for (dts, keyframe) in [(0, false), (1, true), (2, false), (3, true), (4, false), (5, false)] {
            gop.push(&frame(dts, keyframe, 10));
        }
        let held: Vec<i64> = gop.frames().iter().map(|frame| frame.unit.dts).collect();
        assert_eq!(held, [3, 4, 5]);
    }

    #[test]
    fn gop_that_is_too_long_is_dropped_until_the_next_keyframe() {
        let mut gop = GopCache::default();
        gop.push(&frame(0, true, MAX_BYTES));
        gop.push(&frame(1, false, 1));
        gop.push(&frame(2, false, 1));
        assert!(gop.frames().is_empty());
        gop.push(&frame(3, true, 1));
        assert_eq!(gop.frames().len(), 1);
    }
}
