//! Media of a publisher, for any container.

use bytes::{Bytes, BytesMut};
use yonder_core::grade::{AudioHeaders, FrameInfo, VideoHeaders};
use yonder_media::aac::SAMPLES_PER_FRAME;
use yonder_media::flv::{self, BodyError, Content};
use yonder_media::ticks::{from_millis, of_samples};
use yonder_media::ts::{Demuxer, TsEvent};
use yonder_media::{AudioConfig, ParameterSets, VideoCodec};

use crate::stream_info;

/// Event of a publisher's stream.
#[derive(Debug)]
pub enum MediaEvent {
    /// Video headers; `None` if they cannot be parsed.
    VideoHeaders(Option<VideoHeaders>),
    /// Audio headers.
    AudioHeaders(AudioHeaders),
    /// A video frame.
    Video {
        /// Times and size.
        frame: FrameInfo,
        /// NAL units in decoding order.
        nals: Vec<Bytes>,
    },
    /// An audio frame.
    Audio {
        /// Presentation time in ticks of 1/90 000 s.
        pts: i64,
        /// The frame.
        frame: Bytes,
    },
    /// Media that cannot be parsed, with the reason.
    Unreadable(String),
}

/// Media of an RTMP publisher.
#[derive(Debug, Default)]
pub struct RtmpMedia {
    last_ms: Option<i64>,
}

impl RtmpMedia {
    /// Parses a video message, and appends its events.
    pub fn read_video(&mut self, timestamp: u32, body: Bytes, events: &mut Vec<MediaEvent>) {
        self.read(timestamp, body, flv::read_video, events);
    }

    /// Parses an audio message, and appends its events.
    pub fn read_audio(&mut self, timestamp: u32, body: Bytes, events: &mut Vec<MediaEvent>) {
        self.read(timestamp, body, flv::read_audio, events);
    }

    fn read(
        &mut self,
        timestamp: u32,
        body: Bytes,
        read: fn(Bytes) -> Result<Content, BodyError>,
        events: &mut Vec<MediaEvent>,
    ) {
        let bytes = u64::try_from(body.len()).unwrap_or_default();
        let dts = from_millis(self.unwrap_time(timestamp));
        let event = match read(body) {
            Ok(Content::VideoHeaders { codec, record }) => {
                MediaEvent::VideoHeaders(stream_info::of_record(codec, &record))
            }
            Ok(Content::VideoFrame { composition_ms, keyframe, nals }) => {
                let pts = dts + from_millis(i64::from(composition_ms));
                MediaEvent::Video { frame: FrameInfo { dts, pts, keyframe, bytes }, nals }
            }
            Ok(Content::AudioHeaders(specific)) => match AudioConfig::aac(specific) {
                Some(config) => MediaEvent::AudioHeaders(stream_info::of_audio(&config)),
                None => MediaEvent::Unreadable("an AAC configuration".to_owned()),
            },
            Ok(Content::AudioFrame(frame)) => MediaEvent::Audio { pts: dts, frame },
            Ok(Content::G711 { law, samples }) => {
                // G.711 has no headers: each message contains its format.
                let config = AudioConfig::G711 { law, sample_rate: 8_000, channels: 1 };
                events.push(MediaEvent::AudioHeaders(stream_info::of_audio(&config)));
                MediaEvent::Audio { pts: dts, frame: samples }
            }
            Ok(Content::VideoEnd) => return,
            Err(error) => MediaEvent::Unreadable(error.to_string()),
        };
        events.push(event);
    }

    /// Unwraps a 32-bit timestamp in milliseconds.
    fn unwrap_time(&mut self, timestamp: u32) -> i64 {
        let time = match self.last_ms {
            None => i64::from(timestamp),
            Some(last) => {
                let apart = (i64::from(timestamp) - last + (1 << 31)).rem_euclid(1 << 32) - (1 << 31);
                last + apart
            }
        };
        self.last_ms = Some(time);
        time
    }
}

/// Media of a publisher that sends an MPEG transport stream.
#[derive(Debug, Default)]
pub struct TsMedia {
    demuxer: Demuxer,
    input: BytesMut,
    sets: Option<(VideoCodec, ParameterSets)>,
}

impl TsMedia {
    /// Parses a payload, and appends its events.
    pub fn read(&mut self, payload: &[u8], events: &mut Vec<MediaEvent>) {
        self.input.extend_from_slice(payload);
        self.demuxer.handle_input(&mut self.input);
        while let Some(event) = self.demuxer.poll_event() {
            match event {
                TsEvent::Program { video, .. } => {
                    self.sets = video.map(|codec| (codec, ParameterSets::new(codec)));
                }
                TsEvent::VideoFrame { dts, pts, random_access, nals } => {
                    events.extend(self.read_headers(&nals));
                    let bytes: usize = nals.iter().map(Bytes::len).sum();
                    let bytes = u64::try_from(bytes).unwrap_or_default();
                    let frame = FrameInfo { dts, pts, keyframe: random_access, bytes };
                    events.push(MediaEvent::Video { frame, nals });
                }
                TsEvent::AudioFrames { pts, config, frames } => {
                    // Frames of one packet follow each other without a gap (ISO/IEC 13818-1, 2.7.5).
                    let frame_ticks =
                        |at| of_samples(at * i64::from(SAMPLES_PER_FRAME), config.sample_rate());
                    events.push(MediaEvent::AudioHeaders(stream_info::of_audio(&config)));
                    events.extend(
                        frames
                            .into_iter()
                            .zip(0..)
                            .map(|(frame, at)| MediaEvent::Audio { pts: pts + frame_ticks(at), frame }),
                    );
                }
                TsEvent::Problem(problem) => events.push(MediaEvent::Unreadable(problem.to_string())),
                TsEvent::Clock(_) => {}
            }
        }
    }

    /// Returns the headers if they have changed: they are in-band.
    fn read_headers(&mut self, nals: &[Bytes]) -> Option<MediaEvent> {
        let (_, sets) = self.sets.as_mut()?;
        let mut is_changed = false;
        for nal in nals {
            is_changed |= sets.take(nal);
        }
        let config = sets.config().filter(|_| is_changed)?;
        Some(MediaEvent::VideoHeaders(Some(stream_info::of_video(&config))))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn timestamps_continue_across_the_wrap() {
        let mut media = RtmpMedia::default();
        assert_eq!(media.unwrap_time(u32::MAX - 9), i64::from(u32::MAX) - 9);
        assert_eq!(media.unwrap_time(30), i64::from(u32::MAX) + 31);
        assert_eq!(media.unwrap_time(u32::MAX), i64::from(u32::MAX));
    }

    #[test]
    fn unreadable_media_is_reported() {
        let mut events = Vec::new();
        RtmpMedia::default().read_video(0, Bytes::from_static(&[0xff]), &mut events);
        TsMedia::default().read(&[0; 188], &mut events);
        assert!(!events.is_empty() && events.iter().all(|event| matches!(event, MediaEvent::Unreadable(_))));
    }
}
