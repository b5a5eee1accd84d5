//! Access units of a loop, with rising timestamps.

use std::sync::Arc;

use yonder_media::{AccessUnit, Payload, StreamHeaders, TICKS_PER_SECOND, Track};

use crate::media::LoopMedia;

/// Endless media of a loop. Times are in ticks of 1/90 000 s and begin at `base`.
#[derive(Debug)]
pub(super) struct Source {
    media: Arc<LoopMedia>,
    base: i64,
    /// Video frames so far, over all rounds.
    frames: i64,
    /// Audio frames so far.
    audio_frames: i64,
    /// Delay of presentation, so that reordered frames are never shown before they are decoded.
    delay: i64,
}

impl Source {
    pub(super) fn new(media: Arc<LoopMedia>, base: i64) -> Self {
        let ahead =
            (0_i64..).zip(&media.frames).map(|(at, frame)| at - frame.shown).max().unwrap_or_default();
        let delay = media.picture_time(ahead);
        Self { media, base, frames: 0, audio_frames: 0, delay }
    }

    pub(super) fn headers(&self) -> StreamHeaders {
        let audio = self.media.audio.as_ref().map(|audio| audio.config.clone());
        StreamHeaders { video: Some(self.media.video.clone()), audio }
    }

    /// Returns the decoding time of the next unit, relative to the beginning.
    pub(super) fn next_time(&self) -> i64 {
        self.audio_time().into_iter().fold(self.video_time(), i64::min)
    }

    fn video_time(&self) -> i64 {
        self.media.picture_time(self.frames)
    }

    fn audio_time(&self) -> Option<i64> {
        let audio = self.media.audio.as_ref()?;
        let ticks = i64::from(audio.samples) * TICKS_PER_SECOND;
        Some(self.audio_frames * ticks / i64::from(audio.config.sample_rate()))
    }

    /// Moves all later timestamps.
    pub(super) fn jump(&mut self, ticks: i64) {
        self.base += ticks;
    }

    /// Skips to the first keyframe at `time` or later, as after an interruption.
    pub(super) fn skip_to(&mut self, time: i64) {
        while self.video_time() < time || !self.frame().0.keyframe {
            self.frames += 1;
        }
        while self.audio_time().is_some_and(|audio| audio < self.video_time()) {
            self.audio_frames += 1;
        }
    }

    /// Returns the next video frame, and the number of the round's first one.
    fn frame(&self) -> (&crate::media::LoopFrame, i64) {
        let length = i64::try_from(self.media.frames.len()).unwrap_or(1);
        let at = usize::try_from(self.frames % length).unwrap_or_default();
        (&self.media.frames[at], self.frames - self.frames % length)
    }

    /// Returns the next unit in decoding order.
    pub(super) fn next_unit(&mut self) -> AccessUnit {
        if self.audio_time().is_some_and(|audio| audio < self.video_time())
            && let Some(unit) = self.next_audio()
        {
            return unit;
        }
        let (frame, round) = self.frame();
        let unit = AccessUnit {
            track: Track::Video,
            dts: self.base + self.video_time(),
            pts: self.base + self.media.picture_time(round + frame.shown) + self.delay,
            keyframe: frame.keyframe,
            payload: Payload::Nals(frame.nals.clone()),
        };
        self.frames += 1;
        unit
    }

    fn next_audio(&mut self) -> Option<AccessUnit> {
        let time = self.base + self.audio_time()? + self.delay;
        let frames = &self.media.audio.as_ref()?.frames;
        let length = i64::try_from(frames.len()).ok()?;
        let data = frames.get(usize::try_from(self.audio_frames % length).ok()?)?.clone();
        self.audio_frames += 1;
        let payload = Payload::Frame(data);
        Some(AccessUnit { track: Track::Audio, dts: time, pts: time, keyframe: true, payload })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::railway_feeds;

    #[test]
    fn units_of_a_loop_with_reordered_frames_rise_and_are_decoded_before_they_are_shown() {
        let feed = railway_feeds().into_iter().find(|feed| feed.name == "Bandstand").unwrap();
        let mut source = Source::new(Arc::new(feed.main()), 500);
        let units: Vec<AccessUnit> = (0..3_000).map(|_| source.next_unit()).collect();
        for track in [Track::Video, Track::Audio] {
            let times: Vec<i64> =
                units.iter().filter(|unit| unit.track == track).map(|unit| unit.dts).collect();
            assert!(times.windows(2).all(|pair| pair[1] > pair[0]), "{track:?}");
        }
        assert!(units.iter().all(|unit| unit.pts >= unit.dts));
        assert!(units[0].keyframe && units[0].dts == 500);
        source.skip_to(60 * TICKS_PER_SECOND);
        let next = source.next_unit();
        assert!(next.keyframe && next.dts >= 500 + 60 * TICKS_PER_SECOND);
    }
}
