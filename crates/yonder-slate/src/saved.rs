//! Slate sources on disk: a relay that was running when the service ended has a slate at once after a restart, without
//! the camera.
//!
//! A file contains the feed's last keyframe as an Annex B stream (ITU-T H.264 and H.265) after a line with the codecs.
//! It is removed when the relay is stopped by an operator.

use std::fs;
use std::io::{self, Write as _};
use std::os::unix::fs::{DirBuilderExt as _, OpenOptionsExt as _};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use bytes::Bytes;
use yonder_media::g711::Law;
use yonder_media::{
    AccessUnit, AudioConfig, Payload, StreamHeaders, Track, VideoCodec, VideoConfig, h264, h265, split_nals,
};

use yonder_media::Frame;

/// First word of a file, with the format version.
const MAGIC: &str = "yonder-slate-1";
/// Separator of relay and version in a file name; encoded names do not contain it.
const VERSION: char = '+';
/// Maximum size of a file to load.
const MAX_BYTES: u64 = 16 * 1024 * 1024;

/// Name of a slate source: a relay, and the version of its feed.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct SlateKey {
    /// Name of the relay.
    pub relay: String,
    /// Version of the feed; empty for the feed as received.
    pub version: String,
}

/// Folder with the slate sources of relays.
#[derive(Debug, Clone)]
pub struct SlateFolder(Arc<Path>);

impl SlateFolder {
    /// Returns the folder at this path, which is created with the first slate.
    #[must_use]
    pub fn new(folder: PathBuf) -> Self {
        Self(folder.into())
    }

    fn path(&self, key: &SlateKey) -> PathBuf {
        let relay = encoded(&key.relay);
        self.0.join(if key.version.is_empty() {
            relay
        } else {
            format!("{relay}{VERSION}{}", encoded(&key.version))
        })
    }

    /// Saves a slate source, replacing the previous one. Blocks.
    ///
    /// # Errors
    /// If the file cannot be written.
    pub fn save(&self, key: &SlateKey, keyframe: &Frame) -> io::Result<()> {
        let Some(bytes) = encode(keyframe) else { return Ok(()) };
        // Images of a site are private, like the rest of the data directory.
        fs::DirBuilder::new().recursive(true).mode(0o700).create(&self.0)?;
        let path = self.path(key);
        let new = path.with_extension("new");
        let mut file =
            fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&new)?;
        file.write_all(&bytes)?;
        file.sync_all()?;
        fs::rename(&new, &path)
    }

    /// Loads a slate source; `None` if there is no valid one. Blocks.
    pub fn load(&self, key: &SlateKey) -> Option<Arc<Frame>> {
        let path = self.path(key);
        if fs::metadata(&path).ok()?.len() > MAX_BYTES {
            return None;
        }
        decode(fs::read(&path).ok()?.into()).map(Arc::new)
    }

    /// Removes all slate sources of a relay. Blocks.
    pub fn remove(&self, relay: &str) {
        // Without a folder nothing was saved, and a file may be gone already.
        let Ok(entries) = fs::read_dir(&self.0) else { return };
        let name = encoded(relay);
        for entry in entries.flatten() {
            let file = entry.file_name();
            let of_relay =
                file.to_str().map(|file| file.split_once(VERSION).map_or(file, |(relay, _)| relay));
            if of_relay == Some(&name) {
                let _removed = fs::remove_file(entry.path());
            }
        }
    }
}

/// Encodes special characters, since names may contain any.
fn encoded(text: &str) -> String {
    let is_plain = |byte: u8| byte.is_ascii_alphanumeric() || matches!(byte, b'-' | b'_');
    let encode =
        |byte: u8| if is_plain(byte) { char::from(byte).to_string() } else { format!("%{byte:02x}") };
    text.bytes().map(encode).collect()
}

fn encode(keyframe: &Frame) -> Option<Vec<u8>> {
    let video = keyframe.headers.video.as_ref()?;
    let Payload::Nals(nals) = &keyframe.unit.payload else { return None };
    let codec = match video.codec() {
        VideoCodec::H264 => "h264",
        VideoCodec::H265 => "h265",
    };
    let audio = match &keyframe.headers.audio {
        None => "none".to_owned(),
        Some(AudioConfig::Aac { specific, .. }) => {
            format!("aac:{}", hex::encode(specific))
        }
        Some(AudioConfig::G711 { law, sample_rate, channels }) => {
            let law = if *law == Law::A { "alaw" } else { "ulaw" };
            format!("{law}:{sample_rate}:{channels}")
        }
    };
    let mut bytes = format!("{MAGIC} {codec} {audio}\n").into_bytes();
    for nal in video.parameter_sets().chain(nals) {
        bytes.extend_from_slice(&[0, 0, 0, 1]);
        bytes.extend_from_slice(nal);
    }
    Some(bytes)
}

fn decode(mut bytes: Bytes) -> Option<Frame> {
    let end = bytes.iter().position(|byte| *byte == b'\n')?;
    let line = bytes.split_to(end + 1);
    let mut words = std::str::from_utf8(&line).ok()?.split_whitespace();
    if words.next()? != MAGIC {
        return None;
    }
    let (codec, audio) = (words.next()?, words.next()?);
    let mut frame = Vec::new();
    let video = match codec {
        "h264" => {
            let mut sets = h264::ParameterSets::default();
            for nal in split_nals(&bytes) {
                match h264::kind_of(&nal) {
                    h264::NalKind::Sps | h264::NalKind::Pps => {
                        sets.take(&nal);
                    }
                    _ => frame.push(nal),
                }
            }
            VideoConfig::H264(sets.config()?)
        }
        "h265" => {
            let mut sets = h265::ParameterSets::default();
            for nal in split_nals(&bytes) {
                match h265::kind_of(&nal) {
                    h265::NalKind::Vps | h265::NalKind::Sps | h265::NalKind::Pps => {
                        sets.take(&nal);
                    }
                    _ => frame.push(nal),
                }
            }
            VideoConfig::H265(sets.config()?)
        }
        _ => return None,
    };
    if frame.is_empty() {
        return None;
    }
    let headers = StreamHeaders { video: Some(video), audio: decode_audio(audio) };
    let payload = Payload::Nals(frame);
    let unit = AccessUnit { track: Track::Video, dts: 0, pts: 0, keyframe: true, payload };
    Some(Frame::new(unit, Arc::new(headers)))
}

fn decode_audio(text: &str) -> Option<AudioConfig> {
    let (kind, rest) = text.split_once(':')?;
    if kind == "aac" {
        let digit = |at: usize| u8::from_str_radix(rest.get(at..at + 2)?, 16).ok();
        let config: Option<Vec<u8>> = (0..rest.len()).step_by(2).map(digit).collect();
        return AudioConfig::aac(config?.into());
    }
    let law = match kind {
        "alaw" => Law::A,
        "ulaw" => Law::Mu,
        _ => return None,
    };
    let (rate, channels) = rest.split_once(':')?;
    let sample_rate = rate.parse().ok().filter(|rate| (4_000..=192_000).contains(rate))?;
    let channels = channels.parse().ok().filter(|channels| (1..=8).contains(channels))?;
    Some(AudioConfig::G711 { law, sample_rate, channels })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn key(relay: &str, version: &str) -> SlateKey {
        SlateKey { relay: relay.to_owned(), version: version.to_owned() }
    }

    fn keyframe(audio: Option<AudioConfig>) -> Frame {
        let mut sets = h264::ParameterSets::default();
        sets.take(&Bytes::from_static(&[0x67, 0x42, 0x00, 0x1e, 0xda, 0x02, 0x80, 0xf6, 0x40]));
        sets.take(&Bytes::from_static(&[0x68, 0xce, 0x3c, 0x80]));
        let headers = StreamHeaders { video: Some(VideoConfig::H264(sets.config().unwrap())), audio };
        let payload = Payload::Nals(vec![Bytes::from_static(&[0x65, 7, 8, 9])]);
        let unit = AccessUnit { track: Track::Video, dts: 77, pts: 77, keyframe: true, payload };
        Frame::new(unit, Arc::new(headers))
    }

    #[rstest]
    #[case::without_audio(None)]
    #[case::aac(AudioConfig::aac(Bytes::from_static(&[0x11, 0x90])))]
    #[case::g711(Some(AudioConfig::G711 { law: Law::Mu, sample_rate: 8_000, channels: 1 }))]
    fn slate_source_survives_a_restart(#[case] audio: Option<AudioConfig>) {
        let folder = tempfile::tempdir().unwrap();
        let slates = SlateFolder::new(folder.path().join("slates"));
        let key = key("Hollow Fell / summit, №1", "");
        slates.remove(&key.relay);
        assert!(slates.load(&key).is_none());
        let entry = keyframe(audio);
        slates.save(&key, &entry).unwrap();
        let loaded = slates.load(&key).unwrap();
        assert_eq!((&loaded.headers, &loaded.unit.payload), (&entry.headers, &entry.unit.payload));
    }

    #[test]
    fn versions_are_separate_and_removed_with_their_relay() {
        let folder = tempfile::tempdir().unwrap();
        let slates = SlateFolder::new(folder.path().to_owned());
        let keys =
            [key("Summit", ""), key("Summit", "AAC, 48000 Hz"), key("Summit+AAC", ""), key("Summi", "t")];
        let aac = AudioConfig::aac(Bytes::from_static(&[0x11, 0x90]));
        for (key, audio) in keys.iter().zip([None, aac, None, None]) {
            slates.save(key, &keyframe(audio)).unwrap();
        }
        let audio = |key: &SlateKey| slates.load(key).map(|frame| frame.headers.audio.is_some());
        assert_eq!(keys.each_ref().map(audio), [Some(false), Some(true), Some(false), Some(false)]);
        slates.remove("Summit");
        assert_eq!(keys.each_ref().map(audio), [None, None, Some(false), Some(false)]);
    }

    #[test]
    fn damaged_files_are_ignored() {
        let whole = encode(&keyframe(AudioConfig::aac(Bytes::from_static(&[0x11, 0x90])))).unwrap();
        for length in 0..whole.len() {
            // A truncated frame is still a frame; all data before it is required.
            let _cut = decode(Bytes::copy_from_slice(&whole[..length]));
            let mut flipped = whole.clone();
            flipped[length] ^= 0x55;
            let _flipped = decode(flipped.into());
        }
        assert!(decode(Bytes::from_static(b"yonder-slate-1 h264 none\n")).is_none());
        assert!(decode(Bytes::from_static(b"something else\n")).is_none());
    }
}
