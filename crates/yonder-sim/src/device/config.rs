//! Configuration of a stand-in device: its media profiles, and how it deviates.

use secrecy::SecretString;

use crate::camera::{Camera, CameraEncoders, CameraStream};
use crate::encoding::{StreamSettings, whole};

use super::quirk::EncoderQuirk;

/// Media profile of the device.
#[derive(Debug, Clone, Default)]
pub struct DeviceProfile {
    /// Token.
    pub token: String,
    /// Token of its video source.
    pub source: String,
    /// `H264` or `H265`.
    pub codec: String,
    /// Width and height.
    pub size: (u32, u32),
    /// Frames per second.
    pub fps: f64,
    /// Kilobits per second.
    pub kbps: u32,
    /// Frames between keyframes; 0 for two seconds.
    pub keyframe_every: u32,
    /// Audio codec, like `G711`.
    pub audio: Option<String>,
    /// Token of another profile whose encoder it uses; an encoder of its own by default.
    pub encoder_of: Option<String>,
    /// Token of another profile whose audio encoder it uses.
    pub audio_encoder_of: Option<String>,
    /// Stream address, as the device reports it.
    pub address: String,
}

impl DeviceProfile {
    /// Returns the profile of a stand-in camera's stream. Streams share a video source when their paths differ in the
    /// last part alone.
    #[must_use]
    pub fn of_stream(stream: &CameraStream, camera: &Camera) -> Self {
        let settings = stream.media.settings();
        let source = stream.path.rsplit_once('/').map_or("", |(lens, _)| lens);
        Self {
            token: stream.path.trim_start_matches('/').replace('/', "-"),
            source: if source.is_empty() { stream.path.clone() } else { source.to_owned() },
            codec: settings.codec,
            size: (settings.width, settings.height),
            fps: settings.fps,
            kbps: settings.kbps,
            keyframe_every: settings.keyframe_every,
            audio: settings.audio,
            encoder_of: None,
            audio_encoder_of: None,
            address: camera.url(&stream.path),
        }
    }

    /// Returns the token of the profile that has its encoder.
    pub(super) fn encoder(&self) -> &str {
        self.encoder_of.as_ref().unwrap_or(&self.token)
    }

    /// Returns the token of the profile that has its audio encoder.
    pub(super) fn audio_encoder(&self) -> &str {
        self.audio_encoder_of.as_deref().unwrap_or_else(|| self.encoder())
    }

    /// Returns the settings of its encoders.
    pub(super) fn settings(&self) -> StreamSettings {
        let two_seconds = whole((self.fps * 2.0).max(1.0));
        StreamSettings {
            codec: self.codec.clone(),
            width: self.size.0,
            height: self.size.1,
            fps: self.fps,
            kbps: self.kbps,
            keyframe_every: if self.keyframe_every == 0 { two_seconds } else { self.keyframe_every },
            audio: self.audio.clone(),
        }
    }
}

/// Authentication of messages.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum DeviceSignIn {
    /// By a user name token in the message.
    #[default]
    Token,
    /// By HTTP Digest.
    HttpDigest,
    /// By HTTP Digest, for everything, the clock included.
    HttpDigestForAll,
    /// By HTTP Basic.
    HttpBasic,
}

/// Configuration of a device.
#[derive(Debug, Clone, Default)]
pub struct DeviceConfig {
    /// Name.
    pub name: String,
    /// Model.
    pub model: String,
    /// Media profiles.
    pub profiles: Vec<DeviceProfile>,
    /// User name and password; `None` without authentication.
    pub account: Option<(String, SecretString)>,
    /// Authentication of messages.
    pub sign_in: DeviceSignIn,
    /// Seconds by which its clock is ahead.
    pub clock_ahead_s: i64,
    /// The second media service is available; without it H.265 profiles are not listed.
    pub has_media2: bool,
    /// The device predates ONVIF 2.1: it has `GetCapabilities` instead of `GetServices`.
    pub is_old: bool,
    /// Only probes for `tds:Device` are answered.
    pub is_device_only: bool,
    /// Host in the addresses that the device reports; `None` for the right one.
    pub believes_host: Option<String>,
    /// Multicast probes are answered.
    pub answers_probes: bool,
    /// Response in place of a valid one.
    pub garbage: Option<String>,
    /// Port on loopback; 0 picks one.
    pub port: u16,
    /// Encoders of its camera, which follow the configurations; `None` for configurations without effect.
    pub encoders: Option<CameraEncoders>,
    /// Deviation when an encoder is configured.
    pub encoder_quirk: EncoderQuirk,
}
