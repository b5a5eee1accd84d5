//! Media files that stand-in cameras play in a loop.

use bytes::Bytes;
use yonder_media::aac::{AdtsError, SAMPLES_PER_FRAME, split_adts};
use yonder_media::g711::Law;
use yonder_media::{
    AudioConfig, FrameRate, NalRole, ParameterSets, PictureOrder, VideoCodec, VideoConfig, h264, h265,
    split_access_units, split_nals,
};

/// Samples per second of G.711.
const G711_RATE: u32 = 8_000;
/// Samples in one packet of G.711: 20 ms, the default of RFC 3551, 4.2.
const G711_SAMPLES: u32 = 160;

/// Error for a file that cannot be played.
#[derive(Debug, thiserror::Error)]
pub enum MediaError {
    /// The parameter sets are missing or cannot be read.
    #[error("the video has no readable parameter sets")]
    NoParameterSet,
    /// There is no video frame.
    #[error("the file contains no access unit that begins with a keyframe")]
    NoPicture,
    /// The audio is not an ADTS file.
    #[error("the audio cannot be read: {0}")]
    Sound(#[from] AdtsError),
}

/// Video frame of a loop.
#[derive(Debug, Clone)]
pub struct LoopFrame {
    /// NAL units.
    pub nals: Vec<Bytes>,
    /// Position in presentation order, in frames from the start of the loop.
    pub shown: i64,
    /// Decoding may start here.
    pub keyframe: bool,
}

/// Audio of a loop.
#[derive(Debug, Clone)]
pub struct LoopAudio {
    /// Codec configuration.
    pub config: AudioConfig,
    /// Frames in order.
    pub frames: Vec<Bytes>,
    /// Samples in a frame.
    pub samples: u32,
}

/// Loop of video frames, with or without audio.
#[derive(Debug, Clone)]
pub struct LoopMedia {
    /// Frame rate as numerator and denominator.
    pub frame_rate: FrameRate,
    /// Video configuration.
    pub video: VideoConfig,
    /// Video frames in decoding order.
    pub frames: Vec<LoopFrame>,
    /// Audio.
    pub audio: Option<LoopAudio>,
}

impl LoopMedia {
    /// Parses a loop from an Annex B file and, for audio, an ADTS file.
    ///
    /// # Errors
    /// [`MediaError`] for files that cannot be played.
    pub fn parse(codec: VideoCodec, picture: &Bytes, audio: Option<&Bytes>) -> Result<Self, MediaError> {
        let nals = split_nals(picture);
        let mut sets = ParameterSets::new(codec);
        for nal in &nals {
            sets.take(nal);
        }
        let video = sets.config().ok_or(MediaError::NoParameterSet)?;
        let frames = frames(&nals, &video);
        if !frames.first().is_some_and(|frame| frame.keyframe) {
            return Err(MediaError::NoPicture);
        }
        let frame_rate = video.facts().frame_rate.unwrap_or(FrameRate { frames: 25, per: 1 });
        let audio = audio.map(split_adts).transpose()?;
        let audio = audio.map(|(config, frames)| LoopAudio { config, frames, samples: SAMPLES_PER_FRAME });
        Ok(Self { frame_rate, video, frames, audio })
    }

    /// Returns the loop with a low tone in G.711.
    #[must_use]
    pub fn with_g711(mut self, law: Law) -> Self {
        let FrameRate { frames: rate, per } = self.frame_rate;
        let length = u32::try_from(self.frames.len()).unwrap_or(1);
        let samples = u64::from(length) * u64::from(per) * u64::from(G711_RATE) / u64::from(rate);
        let config = AudioConfig::G711 { law, sample_rate: G711_RATE, channels: 1 };
        let count = u32::try_from(samples).unwrap_or_default() / G711_SAMPLES;
        let frame = |at: u32| (0..G711_SAMPLES).map(|i| hum(law, at * G711_SAMPLES + i)).collect::<Vec<u8>>();
        let frames = (0..count).map(|at| Bytes::from(frame(at))).collect();
        self.audio = Some(LoopAudio { config, frames, samples: G711_SAMPLES });
        self
    }

    /// Returns the RTP timestamp of the frame at position `shown`, in ticks of 1/90 000 s.
    #[must_use]
    pub fn picture_time(&self, shown: i64) -> i64 {
        let FrameRate { frames: rate, per } = self.frame_rate;
        shown * i64::from(per) * 90_000 / i64::from(rate)
    }
}

/// Returns a sample of a quiet square wave.
fn hum(law: Law, at: u32) -> u8 {
    let up = (at / 40).is_multiple_of(2);
    law.silence() ^ if up { 0x10 } else { 0x90 }
}

fn frames(nals: &[Bytes], video: &VideoConfig) -> Vec<LoopFrame> {
    let role: fn(&[u8]) -> NalRole = match video.codec() {
        VideoCodec::H264 => h264::role_of,
        VideoCodec::H265 => h265::role_of,
    };
    let units = split_access_units(nals, role);
    let mut order = PictureOrder::default();
    let mut group = 0_i64;
    let mut frames = Vec::with_capacity(units.len());
    for (at, nals) in (0_i64..).zip(units) {
        let keyframe = video.codec().is_random_access(&nals);
        if keyframe {
            group = at;
        }
        let first = nals.iter().find(|nal| matches!(role(nal), NalRole::Picture { begins: true }));
        let shown = first.and_then(|nal| shown_in_group(nal, video, &mut order));
        frames.push(LoopFrame { shown: shown.map_or(at, |shown| group + shown), nals, keyframe });
    }
    frames
}

/// Returns the presentation position of a frame within its GOP, from the picture order count.
fn shown_in_group(nal: &[u8], video: &VideoConfig, order: &mut PictureOrder) -> Option<i64> {
    match video {
        // The count rises by two a frame (H.264, 8.2.1).
        VideoConfig::H264(config) => {
            let slice = h264::SliceStart::parse(nal, &config.facts).ok()?;
            Some(order.next(slice.order_lsb?, config.facts.order_lsb_bits, slice.idr) / 2)
        }
        VideoConfig::H265(config) => {
            let pps = h265::Pps::parse(config.pps.first()?).ok()?;
            let slice = h265::SliceStart::parse(nal, &config.facts, &pps).ok()??;
            Some(order.next(slice.order_lsb, config.facts.order_lsb_bits, slice.idr))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{railway_feeds, tunnel_media};

    #[test]
    fn every_scene_loops_on_screen_without_hole_or_repeat() {
        let railway = railway_feeds().map(|feed| (feed.name, feed.main()));
        for (name, media) in railway.into_iter().chain([("Tunnel", tunnel_media())]) {
            let mut shown: Vec<i64> = media.frames.iter().map(|frame| frame.shown).collect();
            shown.sort_unstable();
            let expected: Vec<i64> = (0..).take(media.frames.len()).collect();
            assert_eq!(shown, expected, "{name}");
        }
    }

    #[test]
    fn the_bandstand_reorders_its_pictures_and_has_sound() {
        let feed = railway_feeds().into_iter().find(|feed| feed.name == "Bandstand").unwrap();
        let media = feed.main();
        assert!(media.frames.windows(2).any(|pair| pair[1].shown < pair[0].shown));
        let audio = media.audio.unwrap();
        assert_eq!((audio.config.sample_rate(), audio.frames.len()), (48_000, 375));
    }

    #[test]
    fn the_tunnel_is_h265_with_slices_reordering_and_g711() {
        let media = tunnel_media();
        assert_eq!(media.video.codec(), VideoCodec::H265);
        assert!(media.frames.windows(2).any(|pair| pair[1].shown < pair[0].shown));
        let slices = media.frames[1].nals.iter().filter(|nal| h265::kind_of(nal).is_picture()).count();
        assert_eq!(slices, 2);
        let audio = media.audio.unwrap();
        assert_eq!((audio.config.sample_rate(), audio.frames.len()), (8_000, 400));
    }

    #[test]
    fn files_without_a_picture_are_refused() {
        let none = LoopMedia::parse(VideoCodec::H264, &Bytes::from_static(b"no start code"), None);
        assert!(matches!(none, Err(MediaError::NoParameterSet)));
    }
}
