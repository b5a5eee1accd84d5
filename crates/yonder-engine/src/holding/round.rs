//! A round of pictures, and its units one after the other on the relay's clock.

use std::sync::Arc;

use bytes::Bytes;
use yonder_media::aac::{SAMPLES_PER_FRAME, silent_frame};
use yonder_media::{AccessUnit, AudioConfig, Payload, StreamHeaders, TICKS_PER_SECOND, Track};

/// Frames of G.711 silence in a second: what cameras send.
const G711_FRAMES: u32 = 50;

/// One picture of a round.
#[derive(Debug, Clone)]
pub(super) struct Shot {
    pub(super) payload: Payload,
    pub(super) keyframe: bool,
}

/// One frame of silence.
#[derive(Debug, Clone)]
pub(super) struct Silence {
    frame: Bytes,
    samples: i64,
    rate: i64,
}

impl Silence {
    /// Silence in the codec of a stream, where it can be written.
    pub(super) fn of(audio: &AudioConfig) -> Option<Self> {
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

/// Pictures that are sent over and over, with silence beside them.
#[derive(Debug, Clone)]
pub(crate) struct Round {
    pub(crate) headers: Arc<StreamHeaders>,
    pub(super) shots: Vec<Shot>,
    pub(super) frame_ticks: i64,
    pub(super) silence: Option<Silence>,
}

/// The units of a round in order of time, without end.
#[derive(Debug)]
pub(crate) struct Sequence {
    round: Round,
    start: i64,
    pictures: i64,
    sounds: i64,
}

impl Round {
    /// From one picture to the next.
    pub(crate) fn frame_ticks(&self) -> i64 {
        self.frame_ticks
    }
}

impl Sequence {
    /// Begins at `start` on the relay's clock, with the keyframe.
    pub(crate) fn new(round: Round, start: i64) -> Self {
        Self { round, start, pictures: 0, sounds: 0 }
    }

    pub(crate) fn headers(&self) -> &Arc<StreamHeaders> {
        &self.round.headers
    }

    fn picture_dts(&self) -> i64 {
        self.start + self.pictures * self.round.frame_ticks
    }

    /// Counted from the start, so that no rounding adds up.
    fn sound_dts(&self) -> Option<i64> {
        let Silence { samples, rate, .. } = self.round.silence.as_ref()?;
        Some(self.start + self.sounds * samples * TICKS_PER_SECOND / rate)
    }

    /// When the next unit is due.
    pub(crate) fn next_dts(&self) -> i64 {
        let picture = self.picture_dts();
        self.sound_dts().map_or(picture, |sound| sound.min(picture))
    }

    /// The next unit.
    pub(crate) fn take(&mut self) -> AccessUnit {
        let dts = self.next_dts();
        if let Some(silence) = self.round.silence.as_ref().filter(|_| dts < self.picture_dts()) {
            self.sounds += 1;
            let payload = Payload::Frame(silence.frame.clone());
            return AccessUnit { track: Track::Audio, dts, pts: dts, keyframe: true, payload };
        }
        let at = usize::try_from(self.pictures).unwrap_or_default() % self.round.shots.len().max(1);
        self.pictures += 1;
        // A round has one picture at least.
        let (payload, keyframe) = self
            .round
            .shots
            .get(at)
            .map_or((Payload::Nals(Vec::new()), false), |shot| (shot.payload.clone(), shot.keyframe));
        AccessUnit { track: Track::Video, dts, pts: dts, keyframe, payload }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use yonder_media::g711::Law;

    fn sequence(audio: Option<&AudioConfig>) -> Sequence {
        let shot = |keyframe| Shot { payload: Payload::Nals(vec![Bytes::from_static(&[1])]), keyframe };
        let round = Round {
            headers: Arc::default(),
            shots: vec![shot(true), shot(false), shot(false)],
            frame_ticks: 3_600,
            silence: audio.and_then(Silence::of),
        };
        Sequence::new(round, 10_000)
    }

    #[test]
    fn the_round_is_sent_over_and_over_at_its_frame_rate() {
        let mut sequence = sequence(None);
        let units: Vec<AccessUnit> = (0..7).map(|_| sequence.take()).collect();
        let keyframes: Vec<bool> = units.iter().map(|unit| unit.keyframe).collect();
        assert_eq!(keyframes, [true, false, false, true, false, false, true]);
        assert!(units.iter().zip(0..).all(|(unit, at)| unit.dts == 10_000 + at * 3_600));
    }

    #[test]
    fn silence_goes_on_beside_it_without_drift() {
        let audio = AudioConfig::aac(Bytes::from_static(&[0x12, 0x10])).unwrap();
        let mut sequence = sequence(Some(&audio));
        let mut last = None;
        let mut sounds = 0_i64;
        while sequence.next_dts() < 10_000 + 3_600 * TICKS_PER_SECOND {
            let unit = sequence.take();
            assert!(last.is_none_or(|last| unit.dts >= last));
            last = Some(unit.dts);
            sounds += i64::from(unit.track == Track::Audio);
        }
        // An hour of 44 100 samples a second, in frames of 1 024.
        assert_eq!(sounds, (3_600 * 44_100 + 1_023) / 1_024);
    }

    #[test]
    fn g711_is_silent_in_its_own_law() {
        let audio = AudioConfig::G711 { law: Law::A, sample_rate: 8_000, channels: 1 };
        let silence = Silence::of(&audio).unwrap();
        assert_eq!((silence.frame.len(), silence.frame[0]), (160, 0xd5));
    }
}
