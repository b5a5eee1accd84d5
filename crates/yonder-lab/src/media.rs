//! Files that stand-in cameras play in a loop.

use bytes::Bytes;
use yonder_media::AudioConfig;
use yonder_media::aac::{AdtsError, split_adts};
use yonder_media::h264::{self, NalKind, PictureOrder, SliceStart, Sps};

/// Why a file cannot be played.
#[derive(Debug, thiserror::Error)]
pub enum MediaError {
    /// There is no sequence parameter set that can be read.
    #[error("the picture has no readable sequence parameter set")]
    NoParameterSet,
    /// There is no picture.
    #[error("the file holds no picture that begins with a keyframe")]
    NoPicture,
    /// The sound is no ADTS file.
    #[error("the sound cannot be read: {0}")]
    Sound(#[from] AdtsError),
}

/// One picture of a loop, in decoding order.
#[derive(Debug, Clone)]
pub struct LoopFrame {
    /// NAL units.
    pub nals: Vec<Bytes>,
    /// Its place on screen, counted in frames from the loop's start.
    pub shown: i64,
    /// Decoding may start here.
    pub keyframe: bool,
}

/// A loop of pictures, with sound or without.
#[derive(Debug, Clone)]
pub struct LoopMedia {
    /// Frames per second as numerator and denominator.
    pub frame_rate: (u32, u32),
    /// Sequence parameter set.
    pub sps: Bytes,
    /// Picture parameter set.
    pub pps: Bytes,
    /// Pictures in decoding order.
    pub frames: Vec<LoopFrame>,
    /// Sound: its configuration and frames.
    pub sound: Option<(AudioConfig, Vec<Bytes>)>,
}

impl LoopMedia {
    /// Reads a loop from an Annex B file and, where there is sound, an ADTS file.
    ///
    /// # Errors
    /// [`MediaError`] when the files hold nothing that can be played.
    pub fn parse(picture: &Bytes, sound: Option<&Bytes>) -> Result<Self, MediaError> {
        let nals = h264::split_nals(picture);
        let first = |kind| nals.iter().find(|nal| h264::kind_of(nal) == kind).cloned();
        let sps = first(NalKind::Sps).ok_or(MediaError::NoParameterSet)?;
        let pps = first(NalKind::Pps).ok_or(MediaError::NoParameterSet)?;
        let facts = Sps::parse(&sps).map_err(|_| MediaError::NoParameterSet)?;
        let frames = frames(&h264::split_access_units(&nals), &facts);
        if !frames.first().is_some_and(|frame| frame.keyframe) {
            return Err(MediaError::NoPicture);
        }
        let frame_rate = facts.frame_rate.unwrap_or((25, 1));
        Ok(Self { frame_rate, sps, pps, frames, sound: sound.map(split_adts).transpose()? })
    }

    /// RTP time of a picture shown at `shown` frames from the start, at 90 kHz.
    #[must_use]
    pub fn picture_time(&self, shown: i64) -> i64 {
        let (rate, per) = self.frame_rate;
        shown * i64::from(per) * 90_000 / i64::from(rate)
    }
}

fn frames(units: &[Vec<Bytes>], facts: &Sps) -> Vec<LoopFrame> {
    let mut order = PictureOrder::default();
    let mut group = 0_i64;
    let mut frames = Vec::with_capacity(units.len());
    for (at, nals) in (0_i64..).zip(units) {
        let keyframe = nals.iter().any(|nal| h264::kind_of(nal) == NalKind::IdrSlice);
        if keyframe {
            group = at;
        }
        let slice = nals
            .iter()
            .find(|nal| h264::kind_of(nal).is_picture())
            .and_then(|nal| SliceStart::parse(nal, facts).ok());
        let shown = match slice.filter(|slice| slice.order_lsb.is_some()) {
            // The order count rises by two a frame (8.2.1).
            Some(slice) => group + order.next(&slice, facts) / 2,
            None => at,
        };
        frames.push(LoopFrame { nals: nals.clone(), shown, keyframe });
    }
    frames
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::railway_feeds;

    #[test]
    fn every_scene_of_the_railway_loops_on_screen_without_hole_or_repeat() {
        for feed in railway_feeds() {
            let media = feed.main();
            let mut shown: Vec<i64> = media.frames.iter().map(|frame| frame.shown).collect();
            shown.sort_unstable();
            let expected: Vec<i64> = (0..).take(media.frames.len()).collect();
            assert_eq!(shown, expected, "{}", feed.name);
        }
    }

    #[test]
    fn the_bandstand_reorders_its_pictures_and_has_sound() {
        let feed = railway_feeds().into_iter().find(|feed| feed.name == "Bandstand").unwrap();
        let media = feed.main();
        assert!(media.frames.windows(2).any(|pair| pair[1].shown < pair[0].shown));
        let (config, frames) = media.sound.unwrap();
        assert_eq!((config.facts.sample_rate, frames.len()), (48_000, 375));
    }

    #[test]
    fn files_without_a_picture_are_refused() {
        let none = LoopMedia::parse(&Bytes::from_static(b"no start code"), None);
        assert!(matches!(none, Err(MediaError::NoParameterSet)));
    }
}
