//! Decoding times of streams with reordered frames.
//!
//! RTP carries presentation times in decoding order. With a reorder depth of `depth`, the decoding time of a frame is the
//! `depth`-th largest presentation time so far: it rises, and no frame is presented before it is decoded.

/// Maximum reorder depth of any level (`MaxDpbFrames`, ITU-T H.264, A.3.1).
const MAX_DEPTH: usize = 16;

/// Reorder window of one track.
#[derive(Debug, Default)]
pub(super) struct Reorder {
    depth: usize,
    declared: bool,
    /// Newest presentation times, ascending; `depth` of them are held.
    window: Vec<i64>,
    /// Frames since the session began, saturating.
    seen: usize,
    first: Option<i64>,
    /// Largest reorder depth observed in this session.
    seen_depth: usize,
}

impl Reorder {
    /// Sets the depth, or `None` to detect it.
    pub(super) fn declare(&mut self, depth: Option<u8>) {
        self.declared = depth.is_some();
        if let Some(depth) = depth {
            self.depth = usize::from(depth).min(MAX_DEPTH);
        }
    }

    /// Restarts for a new session. A detected depth is that of the last session, so that one unusual session does not
    /// affect all later ones.
    pub(super) fn restart(&mut self) {
        if !self.declared && self.seen > MAX_DEPTH {
            self.depth = self.seen_depth;
        }
        self.seen_depth = 0;
        self.window.clear();
        self.seen = 0;
        self.first = None;
    }

    /// Returns the maximum possible depth: the declared one, or that of any level.
    pub(super) fn max_depth(&self) -> i64 {
        i64::try_from(if self.declared { self.depth } else { MAX_DEPTH }).unwrap_or_default()
    }

    /// Returns the frames by which presentation starts after decoding.
    pub(super) fn lead(&self) -> i64 {
        i64::try_from(self.depth).unwrap_or_default()
    }

    /// Returns the decoding time of the next frame, presented at `pts`.
    pub(super) fn decode_time(&mut self, pts: i64, frame_ticks: i64) -> i64 {
        let first = *self.first.get_or_insert(pts);
        let at = self.window.partition_point(|known| *known <= pts);
        if !self.declared {
            // The depth is the number of frames presented later that were received earlier.
            self.seen_depth = self.seen_depth.max(self.window.len() - at).min(MAX_DEPTH);
            self.depth = self.depth.max(self.seen_depth);
        }
        self.window.insert(at, pts);
        self.seen = self.seen.saturating_add(1);
        if self.seen <= self.depth {
            let missing = i64::try_from(self.depth - self.seen + 1).unwrap_or_default();
            return first - missing * frame_ticks;
        }
        let keep = if self.declared { self.depth } else { MAX_DEPTH };
        let decode =
            self.window.get(self.window.len().saturating_sub(self.depth + 1)).copied().unwrap_or(pts);
        let surplus = self.window.len().saturating_sub(keep);
        self.window.drain(..surplus);
        decode
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// Feeds presentation times (in frames) to a window and returns decoding times.
    fn decode(depth: Option<u8>, shown: &[i64]) -> Vec<i64> {
        let mut reorder = Reorder::default();
        reorder.declare(depth);
        shown.iter().map(|pts| reorder.decode_time(*pts, 1)).collect()
    }

    #[rstest]
    #[case::no_reordering(0, &[0, 1, 2, 3], &[0, 1, 2, 3])]
    #[case::one_b_frame(1, &[0, 2, 1, 4, 3], &[-1, 0, 1, 2, 3])]
    #[case::pyramid(2, &[0, 4, 2, 1, 3, 8, 6, 5, 7], &[-2, -1, 0, 1, 2, 3, 4, 5, 6])]
    fn decoding_times_rise_by_one_and_stay_at_or_before_presentation(
        #[case] depth: u8,
        #[case] shown: &[i64],
        #[case] decoded: &[i64],
    ) {
        let times = decode(Some(depth), shown);
        assert_eq!(times, decoded);
        assert!(times.iter().zip(shown).all(|(dts, pts)| dts <= pts));
    }

    #[test]
    fn depth_of_one_odd_session_does_not_stay() {
        let mut reorder = Reorder::default();
        for pts in (0..40).chain(30..70) {
            reorder.decode_time(pts, 1);
        }
        assert!(reorder.lead() > 5);
        for _ in 0..2 {
            reorder.restart();
            for pts in 0..40 {
                reorder.decode_time(pts, 1);
            }
        }
        reorder.restart();
        assert_eq!(reorder.lead(), 0);
    }

    #[test]
    fn an_undeclared_depth_is_found_within_one_group() {
        let shown: Vec<i64> =
            (0..40).map(|i| if i == 0 { 0 } else { 2 * ((i + 1) / 2) - i64::from(i % 2 == 0) }).collect();
        let times = decode(None, &shown);
        for at in 4..shown.len() {
            assert!(times[at] <= shown[at], "picture {at}");
            assert_eq!(times[at] - times[at - 1], 1, "picture {at}");
        }
    }
}
