//! Depacketizer of a track, for all codecs.

use bytes::Bytes;
use smallvec::{SmallVec, smallvec};
use yonder_media::{Payload, VideoCodec};

use super::aac::{AacDepacketizer, AacFrame, AacFrames};
use super::latm::LatmDepacketizer;
use super::packet::RtpPacket;
use super::payload::DropCounts;
use super::video::VideoDepacketizer;

/// Video or audio frame from the depacketizer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TrackUnit {
    /// RTP time.
    pub timestamp: u32,
    /// Decoding can start here (always true for audio).
    pub keyframe: bool,
    /// Payload.
    pub payload: Payload,
}

/// Depacketizer of one track.
#[derive(Debug)]
pub enum Depacketizer {
    /// H.264 or H.265.
    VideoUnit(Box<VideoDepacketizer>),
    /// AAC by RFC 3640.
    Aac(AacDepacketizer),
    /// AAC by RFC 6416.
    Latm(LatmDepacketizer),
    /// Plain samples (G.711, RFC 3551, 4.5.14).
    Samples,
}

impl Depacketizer {
    /// Returns the video codec; `None` for audio.
    #[must_use]
    pub fn video_codec(&self) -> Option<VideoCodec> {
        match self {
            Self::VideoUnit(picture) => Some(picture.format().codec()),
            Self::Aac(_) | Self::Latm(_) | Self::Samples => None,
        }
    }

    /// Handles a gap before the next packet.
    pub fn handle_loss(&mut self) {
        match self {
            Self::VideoUnit(picture) => picture.handle_loss(),
            Self::Aac(aac) => aac.handle_loss(),
            Self::Latm(latm) => latm.handle_loss(),
            Self::Samples => {}
        }
    }

    /// Resets the state after a restart of the camera.
    pub fn restart(&mut self) {
        match self {
            Self::VideoUnit(picture) => picture.restart(),
            Self::Aac(aac) => aac.handle_loss(),
            Self::Latm(latm) => latm.handle_loss(),
            Self::Samples => {}
        }
    }

    /// Returns the units dropped because of packet loss, or because they depend on a dropped unit.
    #[must_use]
    pub fn dropped(&self) -> u64 {
        match self {
            Self::VideoUnit(picture) => picture.dropped(),
            Self::Aac(aac) => aac.dropped(),
            Self::Latm(latm) => latm.dropped(),
            Self::Samples => 0,
        }
    }

    /// Returns the parts of packets that were dropped, by reason.
    #[must_use]
    pub fn drops(&self) -> DropCounts {
        match self {
            Self::VideoUnit(picture) => picture.drops(),
            Self::Aac(_) | Self::Latm(_) | Self::Samples => DropCounts::default(),
        }
    }

    /// Returns the in-band `AudioSpecificConfig`.
    #[must_use]
    pub fn in_band_config(&self) -> Option<&Bytes> {
        match self {
            Self::Latm(latm) => latm.specific(),
            Self::VideoUnit(_) | Self::Aac(_) | Self::Samples => None,
        }
    }

    /// Handles a packet and returns the units that it completes.
    pub fn handle_packet<P: AsRef<[u8]>>(&mut self, packet: &RtpPacket<P>) -> SmallVec<[TrackUnit; 2]> {
        match self {
            Self::VideoUnit(picture) => picture
                .handle_packet(packet)
                .into_iter()
                .map(|unit| TrackUnit {
                    timestamp: unit.timestamp,
                    keyframe: unit.keyframe,
                    payload: Payload::Nals(unit.nals),
                })
                .collect(),
            Self::Aac(aac) => audio_units(aac.handle_packet(packet)),
            Self::Latm(latm) => audio_units(latm.handle_packet(packet)),
            Self::Samples if packet.payload.as_ref().is_empty() => SmallVec::new(),
            Self::Samples => {
                // Small payloads are copied, since they would keep the whole receive block alive.
                let data = Bytes::copy_from_slice(packet.payload.as_ref());
                audio_units(smallvec![AacFrame { timestamp: packet.timestamp, data }])
            }
        }
    }
}

fn audio_units(frames: AacFrames) -> SmallVec<[TrackUnit; 2]> {
    frames
        .into_iter()
        .map(|frame| TrackUnit {
            timestamp: frame.timestamp,
            keyframe: true,
            payload: Payload::Frame(frame.data),
        })
        .collect()
}
