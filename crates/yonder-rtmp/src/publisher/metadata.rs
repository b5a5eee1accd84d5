//! `onMetaData` (FLV 10.1, E.5).

use bytes::{Bytes, BytesMut};
use yonder_media::g711::Law;
use yonder_media::{AudioConfig, FrameRate, StreamHeaders, VideoCodec};

use crate::amf0::Value;

use super::MeasuredRates;

/// `CodecID` of AVC (E.4.3.1).
const AVC: f64 = 7.0;
/// The `FourCC` of `hvc1` as a number (Enhanced RTMP v1, "Enhancing onMetaData").
const HEVC: f64 = 1_752_589_105.0;
/// `AudioFormat`s (E.4.2.1).
const AAC: f64 = 10.0;
const A_LAW: f64 = 7.0;
const MU_LAW: f64 = 8.0;

/// Maximum relative difference of the measured from the declared frame rate. Some cameras declare fields instead of
/// frames, a factor of two.
const MAX_DEVIATION: f64 = 0.1;

/// Returns the declared frame rate unless the measurement contradicts it.
fn true_rate(declared: Option<f64>, measured: Option<f64>) -> Option<f64> {
    match (declared, measured) {
        (Some(declared), Some(measured)) if (declared - measured).abs() <= declared * MAX_DEVIATION => {
            Some(declared)
        }
        (declared, measured) => measured.or(declared),
    }
}

/// Returns the data message for the given headers.
pub(super) fn payload(headers: &StreamHeaders, rates: MeasuredRates) -> Bytes {
    let mut members: Vec<(String, Value)> = Vec::new();
    let mut put = |name: &str, value: Value| members.push((name.to_owned(), value));
    if let Some(video) = &headers.video {
        let facts = video.facts();
        put("width", f64::from(facts.width).into());
        put("height", f64::from(facts.height).into());
        let declared = facts.frame_rate.map(FrameRate::fps);
        if let Some(fps) = true_rate(declared, rates.fps) {
            put("framerate", fps.into());
        }
        if let Some(kbps) = rates.video_kbps {
            put("videodatarate", kbps.into());
        }
        let codec = match facts.codec {
            VideoCodec::H264 => AVC,
            VideoCodec::H265 => HEVC,
        };
        put("videocodecid", codec.into());
    }
    if let Some(audio) = &headers.audio {
        let codec = match audio {
            AudioConfig::Aac { .. } => AAC,
            AudioConfig::G711 { law: Law::A, .. } => A_LAW,
            AudioConfig::G711 { law: Law::Mu, .. } => MU_LAW,
        };
        put("audiocodecid", codec.into());
        if let Some(kbps) = rates.audio_kbps {
            put("audiodatarate", kbps.into());
        }
        put("audiosamplerate", f64::from(audio.sample_rate()).into());
        put("audiosamplesize", 16.0.into());
        put("stereo", Value::Boolean(audio.channels() > 1));
    }
    put("encoder", concat!("Yonder Relay ", env!("CARGO_PKG_VERSION")).into());
    let mut out = BytesMut::new();
    Value::from("@setDataFrame").encode(&mut out);
    Value::from("onMetaData").encode(&mut out);
    Value::Array(members).encode(&mut out);
    out.freeze()
}
