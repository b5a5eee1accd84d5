//! Interleaving of the two tracks of a rendition by decoding time.

use std::collections::VecDeque;
use std::sync::Arc;

use yonder_media::{Frame, PerTrack, TICKS_PER_SECOND, Track};

/// Maximum wait of a frame for earlier ones of the other track, in ticks of its own track. It exceeds the delay of the audio
/// encoder with packets of 40 ms.
const MAX_WAIT: i64 = TICKS_PER_SECOND / 5;

/// Merges the frames of both tracks in the order of their decoding times. A track that falls behind by more than
/// [`MAX_WAIT`] is not waited for.
#[derive(Debug, Default)]
pub(crate) struct Interleaver {
    queues: PerTrack<VecDeque<Arc<Frame>>>,
    /// Decoding time of the newest frame.
    newest: PerTrack<Option<i64>>,
}

impl Interleaver {
    /// Adds a frame. Decoding times rise within each track.
    pub(crate) fn push(&mut self, frame: Arc<Frame>) {
        let track = frame.unit.track;
        *self.newest.get_mut(track) = Some(frame.unit.dts);
        self.queues.get_mut(track).push_back(frame);
    }

    /// Returns the next frame, once no earlier one can follow, or it has waited for long enough.
    pub(crate) fn next_frame(&mut self) -> Option<Arc<Frame>> {
        let front = |track| self.queues.get(track).front().map(|frame| frame.unit.dts);
        let track = match (front(Track::Video), front(Track::Audio)) {
            (Some(video), Some(audio)) => {
                if audio < video {
                    Track::Audio
                } else {
                    Track::Video
                }
            }
            (Some(video), None) if self.is_due(video, Track::Video, Track::Audio) => Track::Video,
            (None, Some(audio)) if self.is_due(audio, Track::Audio, Track::Video) => Track::Audio,
            _ => return None,
        };
        self.queues.get_mut(track).pop_front()
    }

    /// Returns true for a frame at `dts` that needs not wait for `other`.
    fn is_due(&self, dts: i64, track: Track, other: Track) -> bool {
        let newest = |track| *self.newest.get(track);
        newest(other).is_some_and(|other| other >= dts)
            || newest(track).is_some_and(|newest| newest - dts >= MAX_WAIT)
    }
}

#[cfg(test)]
mod tests {
    use bytes::Bytes;
    use yonder_media::{AccessUnit, Payload};

    use super::*;

    fn frame(track: Track, dts: i64) -> Arc<Frame> {
        let payload = Payload::Frame(Bytes::from_static(&[1]));
        Arc::new(Frame::new(AccessUnit { track, dts, pts: dts, keyframe: true, payload }, Arc::default()))
    }

    fn released(interleaver: &mut Interleaver) -> Vec<(Track, i64)> {
        std::iter::from_fn(|| interleaver.next_frame())
            .map(|frame| (frame.unit.track, frame.unit.dts))
            .collect()
    }

    #[test]
    fn frames_wait_for_earlier_ones_of_the_other_track() {
        let mut interleaver = Interleaver::default();
        interleaver.push(frame(Track::Video, 3_600));
        interleaver.push(frame(Track::Video, 7_200));
        assert!(released(&mut interleaver).is_empty());
        interleaver.push(frame(Track::Audio, 1_800));
        assert_eq!(released(&mut interleaver), [(Track::Audio, 1_800)]);
        interleaver.push(frame(Track::Audio, 5_400));
        let order = [(Track::Video, 3_600), (Track::Audio, 5_400)];
        assert_eq!(released(&mut interleaver), order, "audio up to 7200 may follow");
        interleaver.push(frame(Track::Audio, 7_200));
        assert_eq!(released(&mut interleaver), [(Track::Video, 7_200), (Track::Audio, 7_200)]);
    }

    #[test]
    fn absent_track_delays_the_other_one_by_its_maximum() {
        let mut interleaver = Interleaver::default();
        let mut times = Vec::new();
        for number in 0..20 {
            interleaver.push(frame(Track::Video, number * 3_600));
            times.extend(released(&mut interleaver).into_iter().map(|(_, dts)| number * 3_600 - dts));
        }
        assert_eq!(times, [MAX_WAIT; 15]);
        // Late audio precedes what still waits.
        interleaver.push(frame(Track::Audio, 100));
        assert_eq!(released(&mut interleaver), [(Track::Audio, 100)]);
    }
}
