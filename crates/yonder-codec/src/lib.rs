//! Codecs of renditions: decoding, scaling and encoding of video, decoding, resampling and encoding of audio.
//!
//! [`RenditionTranscoder`] converts the frames of a feed to those of a rendition. [`AudioTranscoder`] converts the audio of a
//! feed to AAC-LC on one continuous sample clock, and [`VideoTranscoder`] its video to H.264. They perform no I/O, read no
//! clock and start no thread; their owner runs them on a thread of its own, since encoding takes longer than a media thread
//! may be occupied.
//!
//! # Example
//!
//! ```
//! use yonder_codec::{AudioTarget, AudioTranscoder};
//! use yonder_media::AudioConfig;
//! use yonder_media::g711::Law;
//!
//! let source = AudioConfig::G711 { law: Law::A, sample_rate: 8_000, channels: 1 };
//! let target = AudioTarget { sample_rate: 48_000, channels: 1, kbps: 64 };
//! let mut transcoder = AudioTranscoder::new(target)?;
//! transcoder.set_source(Some(&source))?;
//! for packet in 0..50 {
//!     // 20 ms of silence, at times in ticks of 1/90 000 s.
//!     transcoder.push(packet * 1_800, &[Law::A.silence(); 160])?;
//! }
//! let frame = transcoder.next_frame().ok_or("no frame")?;
//! assert!(!frame.data.is_empty());
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

#![deny(clippy::disallowed_methods, reason = "no clock is read and no thread sleeps in this crate")]
#![deny(
    clippy::as_conversions,
    clippy::expect_used,
    clippy::indexing_slicing,
    clippy::panic,
    clippy::unwrap_used
)]
#![cfg_attr(
    test,
    allow(
        clippy::as_conversions,
        clippy::cast_possible_truncation,
        clippy::cast_precision_loss,
        clippy::cast_sign_loss,
        clippy::indexing_slicing,
        clippy::unwrap_used,
        reason = "tests compute signals"
    )
)]

mod audio;
mod error;
mod interleaver;
mod rendition;
mod video;

pub use audio::{AudioTarget, AudioTranscoder, EncodedFrame, can_decode};
pub use error::CodecError;
pub use rendition::{RenditionTarget, RenditionTranscoder};
pub use video::{EncodedPicture, VideoTarget, VideoTranscoder, encode_sample, is_h265_available};
