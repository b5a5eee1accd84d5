//! The holding picture: what a broadcast shows while its feed is away, or while a person wants it.
//!
//! H.264 feeds get a still picture, compressed once as one short round of pictures that is then sent over and over.
//! There is no encoder for H.265 here: such feeds repeat their last keyframe, in their own parameter sets. Sound of
//! AAC and G.711 goes on as silence.

mod card;
mod compress;
mod picture;
mod repeat;
mod round;

use std::io::Cursor;
use std::sync::Arc;
use std::time::SystemTime;

use image::ImageFormat;
use yonder_media::VideoCodec;

use crate::hub::Entry;

pub use picture::{Picture, PictureError};
pub(crate) use round::{Round, Sequence};

/// Frame rates that a holding picture is sent at.
const FRAME_RATES: (f64, f64) = (5.0, 60.0);
/// Frame rate where the feed's is not known.
const USUAL_FRAME_RATE: f64 = 25.0;
/// Seconds from keyframe to keyframe: what every platform takes.
const ROUND_SECONDS: f64 = 2.0;

/// What a holding picture is made from.
#[derive(Debug, Clone)]
pub(crate) struct Wanted {
    /// The feed's last keyframe, with its headers.
    pub(crate) keyframe: Arc<Entry>,
    /// Its frame rate.
    pub(crate) fps: Option<f64>,
    /// Name of the relay.
    pub(crate) name: String,
    /// Since when the feed is away; `None` when a person wants the picture.
    pub(crate) away_since: Option<SystemTime>,
    /// A picture of the user's own.
    pub(crate) picture: Option<Arc<Picture>>,
}

/// Why there is no holding picture.
#[derive(Debug, thiserror::Error)]
pub(crate) enum HoldError {
    /// The feed has no picture yet.
    #[error("the feed's picture is not known")]
    NoPicture,
    /// The encoder refused it.
    #[error("the encoder refused the picture ({0})")]
    Encoder(#[from] openh264::Error),
    /// What came out of the encoder is no stream.
    #[error("the encoder made no stream")]
    NoStream,
}

/// What would be shown, as a PNG of 1280×720.
#[must_use]
pub fn holding_preview(name: &str, picture: Option<&Picture>) -> Option<Vec<u8>> {
    let (width, height) = (1_280, 720);
    let image = match picture {
        Some(picture) => picture.fitted(width, height),
        None => card::draw(width, height, name, Some(SystemTime::now())),
    };
    let mut file = Cursor::new(Vec::new());
    image.write_to(&mut file, ImageFormat::Png).ok()?;
    Some(file.into_inner())
}

/// Makes the round of pictures. Takes up to a second of a processor; never to be called on a media task.
pub(crate) fn make(wanted: &Wanted) -> Result<Round, HoldError> {
    let headers = &wanted.keyframe.headers;
    let video = headers.video.as_ref().ok_or(HoldError::NoPicture)?;
    let facts = video.facts();
    let declared = facts.frame_rate.map(|(rate, per)| f64::from(rate) / f64::from(per.max(1)));
    let fps = wanted.fps.or(declared).unwrap_or(USUAL_FRAME_RATE).clamp(FRAME_RATES.0, FRAME_RATES.1);
    if facts.codec == VideoCodec::H265 {
        return repeat::keyframe(&wanted.keyframe);
    }
    // Half of the samples of each direction carry colour: sizes are even.
    let (width, height) = (facts.width & !1, facts.height & !1);
    let image = match &wanted.picture {
        Some(picture) => picture.fitted(width, height),
        None => card::draw(width, height, &wanted.name, wanted.away_since),
    };
    compress::round(&image, fps, ROUND_SECONDS, headers.audio.as_ref())
}
