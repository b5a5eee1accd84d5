//! Depacketizer of a track, for every codec.

use bytes::Bytes;
use smallvec::{SmallVec, smallvec};
use yonder_media::{Payload, VideoCodec};

use super::aac::{AacDepacketiser, AacFrame, AacFrames};
use super::latm::LatmDepacketiser;
use super::packet::RtpPacket;
use super::payload::DropCounts;
use super::picture::PictureDepacketiser;

/// A picture or a frame of sound, as it came.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TrackUnit {
    /// RTP time.
    pub timestamp: u32,
    /// Decoding may start here (always true for sound).
    pub keyframe: bool,
    /// The bytes.
    pub payload: Payload,
}

/// The depacketiser of one track.
#[derive(Debug)]
pub enum Depacketiser {
    /// H.264 or H.265.
    Picture(Box<PictureDepacketiser>),
    /// AAC after RFC 3640.
    Aac(AacDepacketiser),
    /// AAC after RFC 6416.
    Latm(LatmDepacketiser),
    /// Samples that stand for themselves (G.711, RFC 3551, 4.5.14).
    Samples,
}

impl Depacketiser {
    /// Codec of the picture, if it is one.
    #[must_use]
    pub fn video_codec(&self) -> Option<VideoCodec> {
        match self {
            Self::Picture(picture) => Some(picture.format().codec()),
            Self::Aac(_) | Self::Latm(_) | Self::Samples => None,
        }
    }

    /// Packets are missing before the next one.
    pub fn handle_loss(&mut self) {
        match self {
            Self::Picture(picture) => picture.handle_loss(),
            Self::Aac(aac) => aac.handle_loss(),
            Self::Latm(latm) => latm.handle_loss(),
            Self::Samples => {}
        }
    }

    /// Resets the state after a restart of the camera.
    pub fn restart(&mut self) {
        match self {
            Self::Picture(picture) => picture.restart(),
            Self::Aac(aac) => aac.handle_loss(),
            Self::Latm(latm) => latm.handle_loss(),
            Self::Samples => {}
        }
    }

    /// Units dropped so far because a piece of them, or of what they depend on, was lost.
    #[must_use]
    pub fn dropped(&self) -> u64 {
        match self {
            Self::Picture(picture) => picture.dropped(),
            Self::Aac(aac) => aac.dropped(),
            Self::Latm(latm) => latm.dropped(),
            Self::Samples => 0,
        }
    }

    /// Parts of packets that were not used, by reason.
    #[must_use]
    pub fn drops(&self) -> DropCounts {
        match self {
            Self::Picture(picture) => picture.drops(),
            Self::Aac(_) | Self::Latm(_) | Self::Samples => DropCounts::default(),
        }
    }

    /// The `AudioSpecificConfig` where it comes with the packets.
    #[must_use]
    pub fn in_band_config(&self) -> Option<&Bytes> {
        match self {
            Self::Latm(latm) => latm.specific(),
            Self::Picture(_) | Self::Aac(_) | Self::Samples => None,
        }
    }

    /// Handles a packet and returns the units that it completes.
    pub fn handle_packet<P: AsRef<[u8]>>(&mut self, packet: &RtpPacket<P>) -> SmallVec<[TrackUnit; 2]> {
        match self {
            Self::Picture(picture) => picture
                .handle_packet(packet)
                .into_iter()
                .map(|unit| TrackUnit {
                    timestamp: unit.timestamp,
                    keyframe: unit.keyframe,
                    payload: Payload::Nals(unit.nals),
                })
                .collect(),
            Self::Aac(aac) => sound(aac.handle_packet(packet)),
            Self::Latm(latm) => sound(latm.handle_packet(packet)),
            Self::Samples if packet.payload.as_ref().is_empty() => SmallVec::new(),
            Self::Samples => {
                // Copied, as all that is small: it would keep the whole block that the socket was read into.
                let data = Bytes::copy_from_slice(packet.payload.as_ref());
                sound(smallvec![AacFrame { timestamp: packet.timestamp, data }])
            }
        }
    }
}

fn sound(frames: AacFrames) -> SmallVec<[TrackUnit; 2]> {
    frames
        .into_iter()
        .map(|frame| TrackUnit {
            timestamp: frame.timestamp,
            keyframe: true,
            payload: Payload::Frame(frame.data),
        })
        .collect()
}
