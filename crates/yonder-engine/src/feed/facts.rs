//! Facts of a feed for the choice of renditions.

use yonder_codec::can_decode;
use yonder_core::SourceKind;
use yonder_core::preflight::FeedFacts;
use yonder_core::{MeasuredAudio, MeasuredVideo};
use yonder_media::{FrameRate, StreamHeaders};

use crate::spec::FeedSpec;

/// Returns the facts of the stream with these headers, completed by the last measurement if that was of the same stream.
pub(super) fn facts(spec: &FeedSpec, headers: &StreamHeaders) -> FeedFacts {
    let measured = spec.measured.as_ref();
    let video = headers.video.as_ref().map(|video| {
        let now = video.facts();
        let measured = measured.and_then(|measured| measured.video.clone());
        let is_same = |other: &MeasuredVideo| {
            other.codec == now.codec.name() && (other.width, other.height) == (now.width, now.height)
        };
        let fps = now.frame_rate.map(FrameRate::fps);
        measured
            .filter(is_same)
            .unwrap_or_else(|| MeasuredVideo::declared(now.codec.name(), now.width, now.height, fps))
    });
    let audio = headers.audio.as_ref().map(|audio| {
        let (codec, rate_hz, channels) = (audio.codec_name(), audio.sample_rate(), audio.channels().into());
        let measured = measured.and_then(|measured| measured.audio.as_ref());
        let is_same = |other: &&MeasuredAudio| other.codec == codec && other.rate_hz == rate_hz;
        let kbps = measured.filter(is_same).and_then(|measured| measured.kbps);
        MeasuredAudio { codec: codec.to_owned(), rate_hz, channels, kbps, is_decodable: can_decode(audio) }
    });
    FeedFacts { name: spec.name.clone(), source: SourceKind::default(), cause: None, video, audio }
}

#[cfg(test)]
mod tests {
    use yonder_media::AudioConfig;
    use yonder_media::g711::Law;
    use yonder_rtsp::CameraUrl;

    use crate::spec::{RtspSpec, SourceSpec, TransportChoice};

    use super::*;

    fn spec(measured: Option<FeedFacts>) -> FeedSpec {
        FeedSpec {
            name: "Summit Station".into(),
            source: SourceSpec::Rtsp(RtspSpec {
                url: CameraUrl::parse("rtsp://192.0.2.4/main").unwrap().0,
                credentials: None,
                secret_lost: false,
                transport: TransportChoice::Auto,
                pin: None,
            }),
            history: yonder_core::History::default(),
            measured,
        }
    }

    #[test]
    fn audio_without_a_decoder_is_a_fact() {
        // AAC Main, 44.1 kHz, stereo.
        let audio = AudioConfig::aac(vec![0x0a, 0x10].into()).unwrap();
        let now = facts(&spec(None), &StreamHeaders { video: None, audio: Some(audio) });
        assert!(!now.audio.unwrap().is_decodable);
    }

    #[test]
    fn measured_rates_count_for_the_same_stream_only() {
        let audio = AudioConfig::G711 { law: Law::A, sample_rate: 8_000, channels: 1 };
        let headers = StreamHeaders { video: None, audio: Some(audio) };
        let now = facts(&spec(None), &headers);
        assert_eq!((now.video, now.audio.clone().unwrap().kbps), (None, None));
        let measured = |codec: &str| {
            let audio = MeasuredAudio {
                codec: codec.into(),
                rate_hz: 8_000,
                channels: 1,
                kbps: Some(64),
                is_decodable: true,
            };
            FeedFacts {
                name: String::new(),
                source: SourceKind::default(),
                cause: None,
                video: None,
                audio: Some(audio),
            }
        };
        let kbps = |codec| facts(&spec(Some(measured(codec))), &headers).audio.unwrap().kbps;
        assert_eq!((kbps("G.711 A-law"), kbps("AAC")), (Some(64), None));
    }
}
