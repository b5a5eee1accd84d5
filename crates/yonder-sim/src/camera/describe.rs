//! Session descriptions (SDP) of stand-in cameras, with deviations.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use bytes::Bytes;
use yonder_media::g711::Law;
use yonder_media::{AudioConfig, FrameRate, VideoCodec, VideoConfig};

use super::faults::CameraFaults;
use crate::media::LoopMedia;

/// Control attributes of the two tracks.
pub(super) const PICTURE: &str = "picture";
pub(super) const SOUND: &str = "sound";

/// Returns the session description of `media` at the address `base`.
pub(super) fn description(media: &LoopMedia, faults: &CameraFaults, base: &str) -> String {
    let bent = &faults.description;
    let control = |name: &str| {
        if bent.absolute_controls { format!("{base}/{name}?track={name}") } else { name.to_owned() }
    };
    let mut lines = ["v=0", "o=- 1 1 IN IP4 192.0.2.7", "s=Hollow Fell", "t=0 0", "a=control:*"]
        .map(str::to_owned)
        .to_vec();
    lines.extend(picture_lines(&media.video, faults));
    let FrameRate { frames: rate, per } = media.frame_rate;
    lines.push(format!("a=framerate:{:.2}", f64::from(rate) / f64::from(per)));
    lines.push(format!("a=control:{}", control(PICTURE)));
    if let Some(audio) = &media.audio {
        lines.extend(audio_lines(&audio.config, faults));
        lines.push(format!("a=control:{}", control(SOUND)));
    }
    if bent.extra_tracks {
        let extra = [
            "m=audio 0 RTP/AVP 111",
            "a=rtpmap:111 opus/48000/2",
            "a=control:second-sound",
            "m=application 0 RTP/AVP 107",
            "a=rtpmap:107 vnd.onvif.metadata/90000",
            "a=control:metadata",
        ];
        lines.extend(extra.map(str::to_owned));
    }
    let end = if bent.bare_line_ends { "\n" } else { "\r\n" };
    lines.iter().map(|line| format!("{line}{end}")).collect()
}

fn base64(sets: &[Bytes]) -> String {
    sets.iter().map(|set| STANDARD.encode(set)).collect::<Vec<_>>().join(",")
}

fn picture_lines(video: &VideoConfig, faults: &CameraFaults) -> Vec<String> {
    let bent = &faults.description;
    let comma = if bent.trailing_comma { "," } else { "" };
    let (name, parameters, sets) = match video {
        VideoConfig::H264(config) => {
            let profile: String =
                config.sps.iter().flatten().skip(1).take(3).map(|byte| format!("{byte:02X}")).collect();
            let sets = format!("sprop-parameter-sets={},{}{comma}", base64(&config.sps), base64(&config.pps));
            ("H264", format!("packetization-mode=1;profile-level-id={profile}"), sets)
        }
        VideoConfig::H265(config) => {
            let [vps, sps, pps] = [&config.vps, &config.sps, &config.pps].map(|sets| base64(sets));
            let sets = format!("sprop-vps={vps}{comma};sprop-sps={sps}{comma};sprop-pps={pps}{comma}");
            ("H265", "tx-mode=SRST".to_owned(), sets)
        }
    };
    let sets = if bent.no_parameter_sets { String::new() } else { format!(";{sets}") };
    vec![
        "m=video 0 RTP/AVP 96".to_owned(),
        format!("a=rtpmap:96 {name}/90000"),
        format!("a=fmtp:96 {parameters}{sets}"),
    ]
}

/// Returns the payload type of the audio.
pub(super) fn sound_type(config: &AudioConfig) -> u8 {
    match config {
        AudioConfig::Aac { .. } => 97,
        AudioConfig::G711 { law: Law::Mu, .. } => 0,
        AudioConfig::G711 { law: Law::A, .. } => 8,
    }
}

fn audio_lines(config: &AudioConfig, faults: &CameraFaults) -> Vec<String> {
    let payload_type = sound_type(config);
    let (rate, channels) = (config.sample_rate(), config.channels());
    let mut lines = vec![format!("m=audio 0 RTP/AVP {payload_type}")];
    match config {
        AudioConfig::Aac { specific, .. } if faults.latm => {
            let mux = hex::encode(latm_config(specific));
            lines.push(format!("a=rtpmap:97 MP4A-LATM/{rate}/{channels}"));
            lines.push(format!("a=fmtp:97 profile-level-id=15;object=2;cpresent=0;config={mux}"));
        }
        AudioConfig::Aac { specific, .. } => {
            let specific = hex::encode(specific);
            lines.push(format!("a=rtpmap:97 MPEG4-GENERIC/{rate}/{channels}"));
            lines.push(format!(
                "a=fmtp:97 streamtype=5;profile-level-id=1;mode=AAC-hbr;config={specific};sizelength=13;indexlength=3;indexdeltalength=3"
            ));
        }
        AudioConfig::G711 { .. } if faults.description.static_types => {}
        AudioConfig::G711 { law, .. } => {
            let name = if *law == Law::A { "PCMA" } else { "PCMU" };
            lines.push(format!("a=rtpmap:{payload_type} {name}/{rate}"));
        }
    }
    lines
}

/// Returns the `StreamMuxConfig` (ISO/IEC 14496-3, 1.7.3.2.3) of one stream with one frame per element, around a
/// two-byte configuration.
fn latm_config(specific: &[u8]) -> Vec<u8> {
    // 0 1 000000 0000 000, the configuration, frame length type 000, fullness 11111111, no other data, no CRC.
    let mut bits: Vec<bool> = "010000000000000".chars().map(|bit| bit == '1').collect();
    bits.extend(specific.iter().flat_map(|byte| (0..8).map(move |at| byte >> (7 - at) & 1 == 1)));
    bits.extend("0001111111100".chars().map(|bit| bit == '1'));
    bits.chunks(8)
        .map(|chunk| chunk.iter().enumerate().fold(0, |byte, (at, bit)| byte | u8::from(*bit) << (7 - at)))
        .collect()
}

/// Returns the video codec.
pub(super) fn codec(media: &LoopMedia) -> VideoCodec {
    media.video.codec()
}
