//! Transcoder of a feed's video to H.264 of a fixed size, frame rate and bit rate.

use std::collections::VecDeque;

use bytes::Bytes;
use yonder_media::{AccessUnit, Payload, TICKS_PER_SECOND, VideoConfig};

use crate::error::CodecError;

use super::decoder::VideoDecoder;
use super::decoders::decoder_of;
use super::encoder::H264Encoder;
use super::picture::PictureRef;
use super::scaler::Scaler;
use super::target::VideoTarget;

/// Distance of two pictures, in ticks, after which the second one is a keyframe: a joint in the feed.
const MAX_FRAME_TICKS: i64 = TICKS_PER_SECOND;
/// Consecutive damaged keyframes after which the stream counts as undecodable.
const MAX_DAMAGED_KEYFRAMES: u32 = 3;
const START_CODE: [u8; 4] = [0, 0, 0, 1];

/// Encoded picture.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EncodedPicture {
    /// Presentation time, in ticks of the feed's clock. It is also the decoding time, since there are no B-frames.
    pub pts: i64,
    /// Decoding can start here.
    pub is_keyframe: bool,
    /// NAL units without parameter sets.
    pub nals: Vec<Bytes>,
}

/// Decoder of the present stream.
#[derive(Debug)]
struct Source {
    config: VideoConfig,
    decoder: Box<dyn VideoDecoder>,
    /// Frames are dropped up to the next keyframe.
    waits: bool,
    damaged_keyframes: u32,
}

/// Encoding half of the transcoder.
#[derive(Debug)]
struct Output {
    target: VideoTarget,
    scaler: Scaler,
    encoder: Option<H264Encoder>,
    pictures: VecDeque<EncodedPicture>,
    /// Decoded pictures, for the reduction of the frame rate.
    decoded: u64,
    /// Presentation time of the first picture.
    begin: Option<i64>,
    last: Option<i64>,
    last_keyframe: Option<i64>,
}

/// Transcoder of one stream. It continues over changes, gaps and restarts of its source.
#[derive(Debug)]
pub struct VideoTranscoder {
    source: Option<Source>,
    output: Output,
    /// Annex B stream of one access unit, reused.
    stream: Vec<u8>,
}

impl VideoTranscoder {
    /// Creates a transcoder.
    #[must_use]
    pub fn new(target: VideoTarget) -> Self {
        let side = |side: u32| usize::try_from(side).unwrap_or_default();
        let output = Output {
            target,
            scaler: Scaler::new(side(target.width), side(target.height)),
            encoder: None,
            pictures: VecDeque::new(),
            decoded: 0,
            begin: None,
            last: None,
            last_keyframe: None,
        };
        Self { source: None, output, stream: Vec::new() }
    }

    /// Returns the configuration of the encoded video, once the first picture was encoded.
    #[must_use]
    pub fn config(&self) -> Option<&VideoConfig> {
        self.output.encoder.as_ref()?.config()
    }

    /// Sets the source. Pictures of the previous one that wait for others are encoded.
    ///
    /// # Errors
    /// [`CodecError::MissingLibrary`], [`CodecError::VideoEncoder`] and [`CodecError::Scaler`].
    pub fn set_source(&mut self, config: &VideoConfig) -> Result<(), CodecError> {
        if self.source.as_ref().is_some_and(|source| source.config == *config) {
            return Ok(());
        }
        self.flush()?;
        let decoder = decoder_of(config.codec())?;
        self.source = Some(Source { config: config.clone(), decoder, waits: true, damaged_keyframes: 0 });
        Ok(())
    }

    fn flush(&mut self) -> Result<(), CodecError> {
        let (Some(source), output) = (&mut self.source, &mut self.output) else { return Ok(()) };
        source.decoder.flush(&mut |pts, picture| output.encode(pts, &picture))
    }

    /// Decodes an access unit, and encodes the pictures that are complete. A damaged one is dropped, with all up to the next
    /// keyframe.
    ///
    /// # Errors
    /// [`CodecError::Decoder`] if several keyframes in a row cannot be decoded, and the errors of the encoder. The transcoder
    /// should be replaced then.
    pub fn push(&mut self, unit: &AccessUnit) -> Result<(), CodecError> {
        let Some(source) = &mut self.source else { return Ok(()) };
        let Payload::Nals(nals) = &unit.payload else { return Ok(()) };
        if source.waits && !unit.keyframe {
            return Ok(());
        }
        self.stream.clear();
        let sets = source.config.parameter_sets().filter(|_| unit.keyframe);
        for nal in sets.chain(nals) {
            self.stream.extend_from_slice(&START_CODE);
            self.stream.extend_from_slice(nal);
        }
        source.waits = false;
        let output = &mut self.output;
        let mut encoded = Ok(());
        let decoded = source.decoder.decode(&self.stream, unit.pts, &mut |pts, picture| {
            encoded = output.encode(pts, &picture);
            Ok(())
        });
        encoded?;
        match decoded {
            Ok(()) if unit.keyframe => source.damaged_keyframes = 0,
            Ok(()) => {}
            Err(error) => {
                source.waits = true;
                source.damaged_keyframes += u32::from(unit.keyframe);
                if source.damaged_keyframes >= MAX_DAMAGED_KEYFRAMES {
                    return Err(error);
                }
            }
        }
        Ok(())
    }

    /// Changes the bit rate, in kilobits per second.
    ///
    /// # Errors
    /// [`CodecError::VideoEncoder`].
    pub fn set_kbps(&mut self, kbps: u32) -> Result<(), CodecError> {
        self.output.target.kbps = kbps;
        self.output.encoder.as_mut().map_or(Ok(()), |encoder| encoder.set_kbps(kbps))
    }

    /// Returns the next encoded picture.
    pub fn next_picture(&mut self) -> Option<EncodedPicture> {
        self.output.pictures.pop_front()
    }
}

impl Output {
    /// Scales and encodes a picture, unless the frame rate is reduced.
    fn encode(&mut self, pts: i64, picture: &PictureRef<'_>) -> Result<(), CodecError> {
        let number = self.decoded;
        self.decoded += 1;
        if !number.is_multiple_of(u64::from(self.target.frame_divisor.max(1))) {
            return Ok(());
        }
        // Times rise even if the feed's clock steps back.
        if self.last.is_some_and(|last| pts <= last) {
            return Ok(());
        }
        let begin = *self.begin.get_or_insert(pts);
        let is_keyframe_due = self.is_keyframe_due(pts);
        let encoder = match &mut self.encoder {
            Some(encoder) => encoder,
            None => self.encoder.insert(H264Encoder::new(&self.target, picture.height)?),
        };
        let scaled = self.scaler.scale(picture)?;
        let encoded = encoder.encode(&scaled.as_ref(), pts - begin, is_keyframe_due)?;
        self.last = Some(pts);
        if let Some(encoded) = encoded {
            if encoded.is_keyframe {
                self.last_keyframe = Some(pts);
            }
            let (is_keyframe, nals) = (encoded.is_keyframe, encoded.nals);
            self.pictures.push_back(EncodedPicture { pts, is_keyframe, nals });
        }
        Ok(())
    }

    fn is_keyframe_due(&self, pts: i64) -> bool {
        #[expect(
            clippy::as_conversions,
            clippy::cast_possible_truncation,
            reason = "some seconds, and a frame duration"
        )]
        let (interval, half_frame) = (
            (self.target.keyframe_interval_s * 90_000.0) as i64,
            (45_000.0 / self.target.fps.max(1.0)) as i64,
        );
        let is_joint = self.last.is_some_and(|last| pts - last > MAX_FRAME_TICKS);
        is_joint || self.last_keyframe.is_none_or(|last| pts - last >= interval - half_frame)
    }
}

#[cfg(test)]
mod tests;
