//! Conversion between encoder configurations of ONVIF and the formats of the core.

use yonder_core::tuning::{CameraOptions, EncoderFormat, EncoderSettings, FrameSize, VideoOptions};
use yonder_onvif::{
    AudioEncoder, AudioEncoderOptions, VideoEncoder, VideoEncoderChange, VideoEncoderOptions,
};

/// Returns the usual name of a video codec.
fn video_codec(name: &str) -> String {
    match name {
        "H264" => "H.264",
        "H265" => "H.265",
        other => other,
    }
    .to_owned()
}

/// Returns the name of a video codec in ONVIF.
fn onvif_codec(codec: &str) -> String {
    codec.replace('.', "")
}

/// Returns the usual name of an audio codec, which both services name differently.
pub(super) fn audio_codec(name: &str) -> String {
    match name.to_ascii_uppercase().as_str() {
        "G711" | "PCMU" | "PCMA" => "G.711".to_owned(),
        "G726" => "G.726".to_owned(),
        "AAC" | "MP4A-LATM" | "MPEG4-GENERIC" => "AAC".to_owned(),
        _ => name.to_owned(),
    }
}

/// Returns the format of the encoders of a profile.
pub(super) fn format(video: &VideoEncoder, audio: Option<&AudioEncoder>) -> EncoderFormat {
    EncoderFormat {
        codec: video_codec(&video.codec),
        width: video.width,
        height: video.height,
        fps: video.fps,
        kbps: video.kbps,
        keyframe_interval_s: video.keyframe_every.zip(video.fps).map(|(frames, fps)| f64::from(frames) / fps),
        audio: audio.map(|audio| audio_codec(&audio.encoding)),
    }
}

/// Returns what the encoders of a profile offer.
pub(super) fn options(video: &[VideoEncoderOptions], audio: &[AudioEncoderOptions]) -> CameraOptions {
    let size = |(width, height): &(u32, u32)| FrameSize { width: *width, height: *height };
    let video = video.iter().map(|options| {
        let mut sizes: Vec<FrameSize> = options.sizes.iter().map(size).collect();
        sizes.sort_by_key(|size| {
            std::cmp::Reverse((u64::from(size.width) * u64::from(size.height), size.width))
        });
        let mut fps = options.fps.clone();
        fps.sort_by(f64::total_cmp);
        VideoOptions {
            codec: video_codec(&options.codec),
            sizes,
            fps,
            kbps: options.kbps.clone().map(Into::into),
            keyframe_frames: options.keyframe_every.clone().map(Into::into),
        }
    });
    let mut codecs: Vec<String> = Vec::new();
    for codec in audio.iter().map(|options| audio_codec(&options.encoding)) {
        if !codecs.contains(&codec) {
            codecs.push(codec);
        }
    }
    CameraOptions { video: video.collect(), audio: codecs }
}

/// Returns the change of a video encoder; `None` if its settings stay. A keyframe interval is kept in seconds when the frame
/// rate changes.
pub(super) fn video_change(
    settings: &EncoderSettings,
    present: &EncoderFormat,
) -> Option<VideoEncoderChange> {
    let after = present.with(settings);
    let frames = after.keyframe_frames();
    let change = VideoEncoderChange {
        codec: settings.codec.as_deref().map(onvif_codec),
        size: settings.size.map(|size| (size.width, size.height)),
        fps: settings.fps,
        kbps: settings.kbps,
        keyframe_every: frames.filter(|_| frames != present.keyframe_frames()),
    };
    (change != VideoEncoderChange::default()).then_some(change)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn present() -> EncoderFormat {
        EncoderFormat {
            codec: "H.264".into(),
            width: 1_280,
            height: 720,
            fps: Some(25.0),
            kbps: Some(4_000),
            keyframe_interval_s: Some(2.0),
            audio: None,
        }
    }

    #[test]
    fn keyframe_interval_in_seconds_is_kept_at_another_frame_rate() {
        let settings = EncoderSettings { fps: Some(12.5), ..EncoderSettings::default() };
        let change = video_change(&settings, &present()).unwrap();
        assert_eq!((change.fps, change.keyframe_every), (Some(12.5), Some(25)));
    }

    #[test]
    fn audio_alone_changes_no_video() {
        let settings = EncoderSettings { audio: Some("AAC".into()), ..EncoderSettings::default() };
        assert_eq!(video_change(&settings, &present()), None);
    }

    #[test]
    fn names_of_both_services_are_one_codec() {
        let named =
            |name: &str| AudioEncoderOptions { encoding: name.into(), ..AudioEncoderOptions::default() };
        let offered = options(&[], &[named("PCMU"), named("PCMA"), named("mp4a-latm")]);
        assert_eq!(offered.audio, ["G.711", "AAC"]);
        assert_eq!(onvif_codec("H.265"), "H265");
    }
}
