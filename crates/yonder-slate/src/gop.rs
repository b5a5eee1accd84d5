//! Encoded slate, and the sequence of its access units.

use std::sync::Arc;

use bytes::Bytes;
use yonder_media::aac::{SAMPLES_PER_FRAME, silent_frame};
use yonder_media::{AccessUnit, AudioConfig, Payload, StreamHeaders, TICKS_PER_SECOND, Track};

/// Frames of G.711 silence per second.
const G711_FRAMES: u32 = 50;

/// One video frame of a slate.
#[derive(Debug, Clone)]
pub(crate) struct SlateFrame {
    pub(crate) payload: Payload,
    pub(crate) keyframe: bool,
}

/// Silent audio frame.
#[derive(Debug, Clone)]
pub(crate) struct Silence {
    frame: Bytes,
    samples: i64,
    rate: i64,
}

impl Silence {
    /// Returns silence in the codec of `audio`; `None` for an unsupported AAC configuration.
    pub(crate) fn of(audio: &AudioConfig) -> Option<Self> {
        let rate = i64::from(audio.sample_rate());
        match audio {
            AudioConfig::Aac { facts, .. } => {
                Some(Self { frame: silent_frame(facts)?, samples: i64::from(SAMPLES_PER_FRAME), rate })
            }
            AudioConfig::G711 { law, sample_rate, channels } => {
                let samples = sample_rate / G711_FRAMES;
                let bytes = usize::try_from(samples).ok()? * usize::from(*channels);
                Some(Self { frame: vec![law.silence(); bytes].into(), samples: i64::from(samples), rate })
            }
        }
    }
}

/// GOP of a slate, which is repeated, and a silent audio frame.
#[derive(Debug, Clone)]
pub struct SlateGop {
    /// Headers of the stream.
    pub headers: Arc<StreamHeaders>,
    pub(crate) frames: Vec<SlateFrame>,
    pub(crate) frame_ticks: i64,
    pub(crate) silence: Option<Silence>,
}

/// Endless sequence of a slate's access units in decoding order.
#[derive(Debug)]
pub struct SlatePlayer {
    gop: SlateGop,
    /// Decoding time of the first frame, in ticks.
    start: i64,
    video_frames: i64,
    audio_frames: i64,
}

impl SlateGop {
    /// Creates a slate without audio that repeats one keyframe every `frame_ticks`.
    #[must_use]
    pub fn repeating(keyframe: &yonder_media::Frame, frame_ticks: i64) -> Self {
        let frame = SlateFrame { payload: keyframe.unit.payload.clone(), keyframe: true };
        Self { headers: Arc::clone(&keyframe.headers), frames: vec![frame], frame_ticks, silence: None }
    }
}

impl SlatePlayer {
    /// Creates a player whose keyframe is due at `start`, in ticks of the service's clock.
    pub fn new(gop: SlateGop, start: i64) -> Self {
        Self { gop, start, video_frames: 0, audio_frames: 0 }
    }

    /// Returns the headers of the stream.
    #[must_use]
    pub fn headers(&self) -> &Arc<StreamHeaders> {
        &self.gop.headers
    }

    fn video_dts(&self) -> i64 {
        self.start + self.video_frames * self.gop.frame_ticks
    }

    /// Computed from the start, so that rounding errors do not add up.
    fn audio_dts(&self) -> Option<i64> {
        let Silence { samples, rate, .. } = self.gop.silence.as_ref()?;
        Some(self.start + self.audio_frames * samples * TICKS_PER_SECOND / rate)
    }

    /// Returns the decoding time of the next unit, at which it is due.
    pub fn next_dts(&self) -> i64 {
        let video = self.video_dts();
        self.audio_dts().map_or(video, |audio| audio.min(video))
    }

    /// Returns the next unit.
    pub fn next_unit(&mut self) -> AccessUnit {
        let dts = self.next_dts();
        if let Some(silence) = self.gop.silence.as_ref().filter(|_| dts < self.video_dts()) {
            self.audio_frames += 1;
            let payload = Payload::Frame(silence.frame.clone());
            return AccessUnit { track: Track::Audio, dts, pts: dts, keyframe: true, payload };
        }
        let at = usize::try_from(self.video_frames).unwrap_or_default() % self.gop.frames.len().max(1);
        self.video_frames += 1;
        // A GOP has at least one frame.
        let (payload, keyframe) = self
            .gop
            .frames
            .get(at)
            .map_or((Payload::Nals(Vec::new()), false), |frame| (frame.payload.clone(), frame.keyframe));
        AccessUnit { track: Track::Video, dts, pts: dts, keyframe, payload }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use yonder_media::g711::Law;

    fn sequence(audio: Option<&AudioConfig>) -> SlatePlayer {
        let frame =
            |keyframe| SlateFrame { payload: Payload::Nals(vec![Bytes::from_static(&[1])]), keyframe };
        let gop = SlateGop {
            headers: Arc::default(),
            frames: vec![frame(true), frame(false), frame(false)],
            frame_ticks: 3_600,
            silence: audio.and_then(Silence::of),
        };
        SlatePlayer::new(gop, 10_000)
    }

    #[test]
    fn gop_is_repeated_at_its_frame_rate() {
        let mut sequence = sequence(None);
        let units: Vec<AccessUnit> = (0..7).map(|_| sequence.next_unit()).collect();
        let keyframes: Vec<bool> = units.iter().map(|unit| unit.keyframe).collect();
        assert_eq!(keyframes, [true, false, false, true, false, false, true]);
        assert!(units.iter().zip(0..).all(|(unit, at)| unit.dts == 10_000 + at * 3_600));
    }

    #[test]
    fn silence_does_not_drift_from_video() {
        let audio = AudioConfig::aac(Bytes::from_static(&[0x12, 0x10])).unwrap();
        let mut sequence = sequence(Some(&audio));
        let mut last = None;
        let mut audio_frames = 0_i64;
        while sequence.next_dts() < 10_000 + 3_600 * TICKS_PER_SECOND {
            let unit = sequence.next_unit();
            assert!(last.is_none_or(|last| unit.dts >= last));
            last = Some(unit.dts);
            audio_frames += i64::from(unit.track == Track::Audio);
        }
        // An hour of 44 100 samples a second, in frames of 1 024.
        assert_eq!(audio_frames, (3_600 * 44_100 + 1_023) / 1_024);
    }

    #[test]
    fn g711_is_silent_in_its_own_law() {
        let audio = AudioConfig::G711 { law: Law::A, sample_rate: 8_000, channels: 1 };
        let silence = Silence::of(&audio).unwrap();
        assert_eq!((silence.frame.len(), silence.frame[0]), (160, 0xd5));
    }
}
