//! Encoder of a stand-in camera: encodes a loop again with other settings, when the device is configured so.

use std::collections::VecDeque;
use std::time::Duration;

use bytes::Bytes;
use yonder_codec::{AudioTarget, AudioTranscoder, CodecError, VideoTarget, VideoTranscoder};
use yonder_media::aac::SAMPLES_PER_FRAME;
use yonder_media::{AccessUnit, AudioConfig, FrameRate, Payload, TICKS_PER_SECOND, Track, VideoCodec};

use crate::media::{LoopAudio, LoopFrame, LoopMedia};

/// Sampling rate of encoded audio, in hertz.
const AUDIO_RATE_HZ: u32 = 16_000;
/// Bit rate of encoded audio, in kilobits per second.
const AUDIO_KBPS: u32 = 32;
/// Maximum duration of an encoded loop.
const MAX_DURATION: Duration = Duration::from_secs(60);
/// SEI message with user data that is not registered (H.264, D.1.7): NAL unit header, payload type.
const PADDING_HEAD: [u8; 2] = [0x06, 0x05];
/// Largest payload of one such message that is written here, in units of 255 bytes.
const MAX_PADDING_UNITS: usize = 128;

/// Settings of an encoder.
#[derive(Debug, Clone, PartialEq)]
pub struct StreamSettings {
    /// Codec as in ONVIF: `H264` or `H265`.
    pub codec: String,
    /// Width in samples.
    pub width: u32,
    /// Height in lines.
    pub height: u32,
    /// Frames per second.
    pub fps: f64,
    /// Bit rate of the video, in kilobits per second.
    pub kbps: u32,
    /// Frames between keyframes.
    pub keyframe_every: u32,
    /// Audio codec as in ONVIF: `G711` or `AAC`; `None` without audio.
    pub audio: Option<String>,
}

/// Rounds a number; 0 for one that is negative or too large.
pub(crate) fn whole(number: f64) -> u32 {
    format!("{number:.0}").parse().unwrap_or_default()
}

impl LoopMedia {
    /// Returns the frame rate.
    #[must_use]
    pub fn fps(&self) -> f64 {
        let FrameRate { frames, per } = self.frame_rate;
        f64::from(frames) / f64::from(per.max(1))
    }

    /// Returns the settings that this loop has.
    #[must_use]
    pub fn settings(&self) -> StreamSettings {
        let facts = self.video.facts();
        let fps = self.fps();
        let bytes: usize = self.frames.iter().flat_map(|frame| &frame.nals).map(Bytes::len).sum();
        let count = u32::try_from(self.frames.len()).unwrap_or(u32::MAX);
        let keyframes = self.frames.iter().filter(|frame| frame.keyframe).count().max(1);
        let kbits = f64::from(u32::try_from(bytes * 8 / 1_000).unwrap_or(u32::MAX));
        let kbps = kbits * fps / f64::from(count.max(1));
        StreamSettings {
            codec: facts.codec.name().replace('.', ""),
            width: facts.width,
            height: facts.height,
            fps,
            // A limit as a person would set it.
            kbps: whole(kbps).next_multiple_of(256),
            keyframe_every: count / u32::try_from(keyframes).unwrap_or(1),
            audio: self.audio.as_ref().map(|audio| {
                let name = if matches!(audio.config, AudioConfig::Aac { .. }) { "AAC" } else { "G711" };
                name.to_owned()
            }),
        }
    }

    /// Encodes the loop again, as H.264 with padding up to the bit rate. Settings that it has already are not touched.
    ///
    /// # Errors
    /// [`CodecError`]; H.265 cannot be encoded, only be kept.
    pub fn encoded(&self, settings: &StreamSettings) -> Result<Self, CodecError> {
        let present = self.settings();
        let video = StreamSettings { audio: present.audio.clone(), ..settings.clone() };
        let mut media = if video == present { self.clone() } else { self.with_video(settings)? };
        if settings.audio != present.audio
            && let Some(audio) = &self.audio
        {
            media.audio = Some(audio.encoded(self.duration().max(media.duration()))?);
        }
        Ok(media)
    }

    fn duration(&self) -> Duration {
        Duration::from_secs_f64(f64::from(u32::try_from(self.frames.len()).unwrap_or(1)) / self.fps())
    }

    fn with_video(&self, settings: &StreamSettings) -> Result<Self, CodecError> {
        if settings.codec != "H264" {
            return Err(CodecError::VideoEncoder(format!("{} cannot be encoded", settings.codec)));
        }
        let frame_divisor = whole((self.fps() / settings.fps.max(0.1)).max(1.0));
        let fps = self.fps() / f64::from(frame_divisor);
        let keyframe_interval_s = f64::from(settings.keyframe_every) / fps;
        let mut transcoder = VideoTranscoder::new(VideoTarget {
            width: settings.width,
            height: settings.height,
            frame_divisor,
            fps,
            kbps: settings.kbps,
            keyframe_interval_s,
        });
        transcoder.set_source(&self.video)?;
        // The loop has to be as long as the keyframe interval.
        let rounds = (keyframe_interval_s / self.duration().as_secs_f64()).ceil();
        let max_rounds = (MAX_DURATION.as_secs_f64() / self.duration().as_secs_f64()).floor().max(1.0);
        let rounds = i64::from(whole(rounds.clamp(1.0, max_rounds)));
        let count = i64::try_from(self.frames.len()).unwrap_or_default();
        let mut frames = Vec::new();
        let mut padding = Padding { kbps: settings.kbps, fps, due: 0.0 };
        for round in 0..rounds {
            for (at, frame) in (0_i64..).zip(&self.frames) {
                let unit = AccessUnit {
                    track: Track::Video,
                    dts: self.picture_time(round * count + at),
                    pts: self.picture_time(round * count + frame.shown),
                    keyframe: frame.keyframe,
                    payload: Payload::Nals(frame.nals.clone()),
                };
                transcoder.push(&unit)?;
                while let Some(picture) = transcoder.next_picture() {
                    let shown = i64::try_from(frames.len()).unwrap_or_default();
                    let mut nals = picture.nals;
                    padding.add_to(&mut nals);
                    frames.push(LoopFrame { nals, shown, keyframe: picture.is_keyframe });
                }
            }
        }
        // The loop begins again with a keyframe that is due.
        let interval = usize::try_from(settings.keyframe_every.max(1)).unwrap_or(1);
        frames.truncate((frames.len() / interval).max(1) * interval);
        let video = transcoder.config().cloned();
        let video = video.ok_or_else(|| CodecError::VideoEncoder("no picture was encoded".to_owned()))?;
        debug_assert_eq!(video.codec(), VideoCodec::H264);
        let FrameRate { frames: rate, per } = self.frame_rate;
        let frame_rate = FrameRate { frames: rate, per: per * frame_divisor };
        Ok(Self { frame_rate, video, frames, audio: self.audio.clone() })
    }
}

impl LoopAudio {
    /// Encodes audio of a duration as AAC.
    fn encoded(&self, duration: Duration) -> Result<Self, CodecError> {
        let target = AudioTarget { sample_rate: AUDIO_RATE_HZ, channels: 1, kbps: AUDIO_KBPS };
        let mut transcoder = AudioTranscoder::new(target)?;
        transcoder.set_source(Some(&self.config))?;
        let samples = i64::from(self.samples);
        let rate = i64::from(self.config.sample_rate());
        let count = duration.as_secs_f64() * f64::from(self.config.sample_rate()) / f64::from(self.samples);
        let count = i64::from(whole(count));
        let mut frames = VecDeque::new();
        for (at, frame) in (0..count).zip(self.frames.iter().cycle()) {
            transcoder.push(at * samples * TICKS_PER_SECOND / rate, frame)?;
            while let Some(encoded) = transcoder.next_frame() {
                frames.push_back(encoded.data);
            }
        }
        let config = transcoder.config().clone();
        Ok(Self { config, frames: frames.into(), samples: SAMPLES_PER_FRAME })
    }
}

/// Padding up to a constant bit rate.
struct Padding {
    kbps: u32,
    fps: f64,
    /// Bytes that are missing so far; negative after a large frame.
    due: f64,
}

impl Padding {
    /// Adds user data in front of a picture, if it is smaller than the bit rate allows.
    fn add_to(&mut self, nals: &mut Vec<Bytes>) {
        let size: usize = nals.iter().map(Bytes::len).sum();
        self.due +=
            f64::from(self.kbps) * 125.0 / self.fps - f64::from(u32::try_from(size).unwrap_or(u32::MAX));
        let mut left = usize::try_from(whole(self.due.max(0.0))).unwrap_or_default() / 256;
        while left > 0 {
            let units = left.min(MAX_PADDING_UNITS);
            // The size is a run of 255 and a rest of zero; the payload has no start code.
            let mut nal = PADDING_HEAD.to_vec();
            nal.extend(std::iter::repeat_n(0xFF, units));
            nal.push(0);
            nal.extend(std::iter::repeat_n(0x55, units * 255));
            nal.push(0x80);
            self.due -= f64::from(u32::try_from(nal.len()).unwrap_or_default());
            nals.insert(0, nal.into());
            left -= units;
        }
    }
}

#[cfg(test)]
mod tests {
    use crate::{railway_feeds, tunnel_media};

    use super::*;

    fn scene(name: &str) -> LoopMedia {
        railway_feeds().into_iter().find(|feed| feed.name == name).unwrap().main()
    }

    #[test]
    fn loop_is_encoded_with_the_settings() {
        let before = scene("Level Crossing");
        let settings =
            StreamSettings { width: 640, height: 360, kbps: 1_024, keyframe_every: 60, ..before.settings() };
        let media = before.encoded(&settings).unwrap();
        assert_eq!(media.settings(), settings);
        let back = media.encoded(&StreamSettings { keyframe_every: 12, ..settings }).unwrap();
        assert_eq!(back.settings().keyframe_every, 12);
    }

    #[test]
    fn own_settings_keep_the_media() {
        let before = scene("Viaduct");
        let same = before.encoded(&before.settings()).unwrap();
        assert_eq!(same.frames.len(), before.frames.len());
        assert_eq!(same.frames[0].nals, before.frames[0].nals);
    }

    #[test]
    fn g711_becomes_aac() {
        let before = scene("Signal Box");
        let settings = StreamSettings { audio: Some("AAC".into()), ..before.settings() };
        let media = before.encoded(&settings).unwrap();
        assert_eq!(media.settings().audio.as_deref(), Some("AAC"));
        assert_eq!(media.frames[0].nals, before.frames[0].nals);
    }

    #[test]
    fn h265_is_kept_or_becomes_h264() {
        let before = tunnel_media();
        let settings = before.settings();
        assert_eq!(settings.codec, "H265");
        assert!(before.encoded(&StreamSettings { kbps: 256, ..settings.clone() }).is_err());
        let media = before.encoded(&StreamSettings { codec: "H264".into(), ..settings }).unwrap();
        assert_eq!(media.settings().codec, "H264");
    }
}
