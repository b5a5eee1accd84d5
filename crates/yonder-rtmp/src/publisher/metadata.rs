//! `onMetaData` (FLV 10.1, E.5): what a player may want to know before the first picture.

use bytes::{Bytes, BytesMut};
use yonder_media::StreamHeaders;

use crate::amf0::Value;

/// `CodecID` of AVC (E.4.3.1).
const AVC: f64 = 7.0;
/// `SoundFormat` of AAC (E.4.2.1).
const AAC: f64 = 10.0;

/// The data message for the given headers.
pub(super) fn payload(headers: &StreamHeaders) -> Bytes {
    let mut members: Vec<(String, Value)> = Vec::new();
    let mut put = |name: &str, value: Value| members.push((name.to_owned(), value));
    if let Some(video) = &headers.video {
        put("width", f64::from(video.facts.width).into());
        put("height", f64::from(video.facts.height).into());
        if let Some(fps) = video.facts.fps() {
            put("framerate", fps.into());
        }
        put("videocodecid", AVC.into());
    }
    if let Some(audio) = &headers.audio {
        put("audiocodecid", AAC.into());
        put("audiosamplerate", f64::from(audio.facts.sample_rate).into());
        put("audiosamplesize", 16.0.into());
        put("stereo", Value::Boolean(audio.facts.channels > 1));
    }
    put("encoder", concat!("Yonder Relay ", env!("CARGO_PKG_VERSION")).into());
    let mut out = BytesMut::new();
    Value::from("@setDataFrame").encode(&mut out);
    Value::from("onMetaData").encode(&mut out);
    Value::Array(members).encode(&mut out);
    out.freeze()
}
