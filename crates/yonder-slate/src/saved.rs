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
/// Maximum size of a file to load.
const MAX_BYTES: u64 = 16 * 1024 * 1024;

/// Folder with the slate sources of relays.
#[derive(Debug, Clone)]
pub struct SlateFolder(Arc<Path>);

impl SlateFolder {
    /// Returns the folder at this path, which is created with the first slate.
    #[must_use]
    pub fn new(folder: PathBuf) -> Self {
        Self(folder.into())
    }

    /// Names may contain any character; special ones are encoded.
    fn path(&self, relay: &str) -> PathBuf {
        let plain = |byte: u8| byte.is_ascii_alphanumeric() || matches!(byte, b'-' | b'_');
        let name: String = relay
            .bytes()
            .map(|byte| if plain(byte) { char::from(byte).to_string() } else { format!("%{byte:02x}") })
            .collect();
        self.0.join(name)
    }

    /// Saves the slate source of a relay, replacing the previous one. Blocks.
    ///
    /// # Errors
    /// If the file cannot be written.
    pub fn save(&self, relay: &str, keyframe: &Frame) -> io::Result<()> {
        let Some(bytes) = encode(keyframe) else { return Ok(()) };
        // Images of a site are private, like the rest of the data directory.
        fs::DirBuilder::new().recursive(true).mode(0o700).create(&self.0)?;
        let path = self.path(relay);
        let new = path.with_extension("new");
        let mut file =
            fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&new)?;
        file.write_all(&bytes)?;
        file.sync_all()?;
        fs::rename(&new, &path)
    }

    /// Loads the slate source of a relay; `None` if there is no valid one. Blocks.
    pub fn load(&self, relay: &str) -> Option<Arc<Frame>> {
        let path = self.path(relay);
        if fs::metadata(&path).ok()?.len() > MAX_BYTES {
            return None;
        }
        decode(fs::read(&path).ok()?.into()).map(Arc::new)
    }

    /// Removes the slate source of a relay. Blocks.
    pub fn remove(&self, relay: &str) {
        // The file may not exist.
        let _removed = fs::remove_file(self.path(relay));
    }
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
        let name = "Hollow Fell / summit, №1";
        assert!(slates.load(name).is_none());
        let entry = keyframe(audio);
        slates.save(name, &entry).unwrap();
        let loaded = slates.load(name).unwrap();
        assert_eq!((&loaded.headers, &loaded.unit.payload), (&entry.headers, &entry.unit.payload));
        assert!(slates.load("another").is_none());
        slates.remove(name);
        assert!(slates.load(name).is_none());
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
