//! Media services (ONVIF Media, 5; ONVIF Media2, 5): profiles and stream addresses.

use crate::configuration::whole;
use crate::soap::Fault;
use crate::xml::Element;
use quick_xml::escape::escape;

/// Maximum number of profiles: a recorder with 64 channels has 192.
const MAX_PROFILES: usize = 512;

/// Version of the media service.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MediaService {
    /// Media: H.264 and older codecs.
    Media,
    /// Media2: H.265 as well.
    Media2,
}

impl MediaService {
    pub(crate) fn namespace(self) -> &'static str {
        match self {
            Self::Media => "http://www.onvif.org/ver10/media/wsdl",
            Self::Media2 => "http://www.onvif.org/ver20/media/wsdl",
        }
    }
}

/// Media profile.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Profile {
    /// Token.
    pub token: String,
    /// Name.
    pub name: String,
    /// Token of the video source, shared by all profiles of one lens or channel.
    pub source: String,
    /// Codec, like `H264` or `H265`.
    pub codec: String,
    /// Width in samples.
    pub width: u32,
    /// Height in lines.
    pub height: u32,
    /// Maximum frame rate.
    pub fps: Option<f64>,
    /// Maximum bit rate, in kilobits per second.
    pub kbps: Option<u32>,
    /// Frames between keyframes.
    pub keyframe_every: Option<u32>,
    /// Audio codec.
    pub audio: Option<String>,
    /// Token of the video encoder configuration.
    pub video_encoder: String,
    /// Token of the audio encoder configuration.
    pub audio_encoder: Option<String>,
}

impl Profile {
    /// Returns the keyframe interval in seconds, if known.
    #[must_use]
    pub fn keyframe_interval_s(&self) -> Option<f64> {
        let (frames, fps) = (self.keyframe_every?, self.fps.filter(|fps| *fps > 0.0)?);
        Some(f64::from(frames) / fps)
    }
}

/// Returns the request for all profiles.
#[must_use]
pub fn profiles_request(service: MediaService) -> String {
    let namespace = service.namespace();
    match service {
        MediaService::Media => format!("<GetProfiles xmlns=\"{namespace}\"/>"),
        MediaService::Media2 => {
            format!("<GetProfiles xmlns=\"{namespace}\"><Type>All</Type></GetProfiles>")
        }
    }
}

/// Parses the profiles of a response; those without video are omitted.
///
/// # Errors
/// SOAP fault of the device.
pub fn read_profiles(answer: &Element, service: MediaService) -> Result<Vec<Profile>, Fault> {
    if let Some(fault) = Fault::of(answer) {
        return Err(fault);
    }
    let Some(response) = answer.find("GetProfilesResponse") else { return Ok(Vec::new()) };
    Ok(response.all("Profiles").take(MAX_PROFILES).filter_map(|element| profile(element, service)).collect())
}

fn profile(element: &Element, service: MediaService) -> Option<Profile> {
    // Media2 has the configurations one level deeper, under shorter names.
    let (video, source, audio, body) = match service {
        MediaService::Media => {
            ("VideoEncoderConfiguration", "VideoSourceConfiguration", "AudioEncoderConfiguration", element)
        }
        MediaService::Media2 => {
            ("VideoEncoder", "VideoSource", "AudioEncoder", element.child("Configurations")?)
        }
    };
    let encoder = body.child(video)?;
    let codec = encoder.text_at(&["Encoding"])?.to_ascii_uppercase();
    let length = match service {
        MediaService::Media => encoder
            .number_at(&["H264", "GovLength"])
            .or_else(|| encoder.number_at(&["MPEG4", "GovLength"]))
            .and_then(whole),
        MediaService::Media2 => encoder.attribute("GovLength").and_then(|length| length.parse().ok()),
    };
    let size = |name: &str| encoder.number_at(&["Resolution", name]).and_then(whole).unwrap_or_default();
    Some(Profile {
        token: element.attribute("token")?.chars().take(128).collect(),
        name: element.text_at(&["Name"]).unwrap_or_default().chars().take(128).collect(),
        source: body.text_at(&[source, "SourceToken"]).unwrap_or_default().chars().take(128).collect(),
        codec: codec.chars().take(32).collect(),
        width: size("Width"),
        height: size("Height"),
        fps: encoder.number_at(&["RateControl", "FrameRateLimit"]).filter(|fps| *fps > 0.0),
        kbps: encoder.number_at(&["RateControl", "BitrateLimit"]).and_then(whole).filter(|kbps| *kbps > 0),
        keyframe_every: length.filter(|frames| *frames > 0),
        audio: body.child(audio).and_then(|audio| audio.text_at(&["Encoding"])).map(str::to_owned),
        video_encoder: encoder.attribute("token").unwrap_or_default().to_owned(),
        audio_encoder: body.child(audio).and_then(|audio| audio.attribute("token")).map(str::to_owned),
    })
}

/// Returns a `GetStreamUri` request.
#[must_use]
pub fn stream_request(service: MediaService, token: &str) -> String {
    let (namespace, token) = (service.namespace(), escape(token));
    match service {
        MediaService::Media => format!(
            "<GetStreamUri xmlns=\"{namespace}\"><StreamSetup>\
             <Stream xmlns=\"http://www.onvif.org/ver10/schema\">RTP-Unicast</Stream>\
             <Transport xmlns=\"http://www.onvif.org/ver10/schema\"><Protocol>RTSP</Protocol></Transport>\
             </StreamSetup><ProfileToken>{token}</ProfileToken></GetStreamUri>"
        ),
        MediaService::Media2 => format!(
            "<GetStreamUri xmlns=\"{namespace}\"><Protocol>RTSP</Protocol>\
             <ProfileToken>{token}</ProfileToken></GetStreamUri>"
        ),
    }
}

/// Parses the stream address of a response; `None` if it is missing.
///
/// # Errors
/// SOAP fault of the device.
pub fn read_stream_address(answer: &Element) -> Result<Option<String>, Fault> {
    if let Some(fault) = Fault::of(answer) {
        return Err(fault);
    }
    let address = answer.find("GetStreamUriResponse").and_then(|response| response.find("Uri"));
    Ok(address.map(|uri| uri.text.chars().take(1000).collect()).filter(|uri: &String| !uri.is_empty()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn read(text: &str, service: MediaService) -> Vec<Profile> {
        read_profiles(&Element::parse(text.as_bytes()).unwrap(), service).unwrap()
    }

    #[test]
    fn profiles_of_the_first_service_are_read() {
        let profiles = read(
            "<E><GetProfilesResponse><Profiles token='p0'><Name>main</Name>\
             <VideoSourceConfiguration><SourceToken>lens</SourceToken></VideoSourceConfiguration>\
             <VideoEncoderConfiguration token='e0'><Encoding>H264</Encoding><Resolution><Width>1280</Width><Height>720</Height></Resolution>\
             <RateControl><FrameRateLimit>25</FrameRateLimit><BitrateLimit>2048</BitrateLimit></RateControl>\
             <H264><GovLength>50</GovLength></H264></VideoEncoderConfiguration>\
             <AudioEncoderConfiguration token='a0'><Encoding>AAC</Encoding></AudioEncoderConfiguration></Profiles>\
             <Profiles token='p1'><Name>data only</Name></Profiles></GetProfilesResponse></E>",
            MediaService::Media,
        );
        let expected = Profile {
            token: "p0".into(),
            name: "main".into(),
            source: "lens".into(),
            codec: "H264".into(),
            width: 1280,
            height: 720,
            fps: Some(25.0),
            kbps: Some(2048),
            keyframe_every: Some(50),
            audio: Some("AAC".into()),
            video_encoder: "e0".into(),
            audio_encoder: Some("a0".into()),
        };
        assert_eq!(profiles, vec![expected]);
        assert_eq!(profiles[0].keyframe_interval_s(), Some(2.0));
    }

    #[test]
    fn h265_shows_in_the_second_service() {
        let profiles = read(
            "<E><GetProfilesResponse><Profiles token='q'><Name>main</Name><Configurations>\
             <VideoEncoder GovLength='100'><Encoding>H265</Encoding><Resolution><Width>3840</Width><Height>2160</Height></Resolution>\
             <RateControl><FrameRateLimit>12.5</FrameRateLimit></RateControl></VideoEncoder></Configurations></Profiles>\
             </GetProfilesResponse></E>",
            MediaService::Media2,
        );
        assert_eq!(
            (profiles[0].codec.as_str(), profiles[0].width, profiles[0].fps),
            ("H265", 3840, Some(12.5))
        );
        assert_eq!(profiles[0].keyframe_interval_s(), Some(8.0));
    }

    #[test]
    fn stream_addresses_of_both_services_are_read() {
        for text in [
            "<E><GetStreamUriResponse><MediaUri><Uri>rtsp://192.0.2.7/a?b=1&amp;c=2</Uri></MediaUri></GetStreamUriResponse></E>",
            "<E><GetStreamUriResponse><Uri>rtsp://192.0.2.7/a?b=1&amp;c=2</Uri></GetStreamUriResponse></E>",
        ] {
            let address = read_stream_address(&Element::parse(text.as_bytes()).unwrap());
            assert_eq!(address, Ok(Some("rtsp://192.0.2.7/a?b=1&c=2".to_owned())));
        }
    }

    #[test]
    fn tokens_are_escaped_in_requests() {
        assert!(
            stream_request(MediaService::Media2, "a<b&c")
                .contains("<ProfileToken>a&lt;b&amp;c</ProfileToken>")
        );
    }

    proptest! {
        #[test]
        fn any_response_is_parsed_or_refused(data in "(<[/]?(E|GetProfilesResponse|Profiles token='p'|VideoEncoderConfiguration|Encoding|Fault|Uri)>|[0-9a-z ]){0,30}") {
            if let Ok(answer) = Element::parse(format!("<E>{data}</E>").as_bytes()) {
                let _ = read_profiles(&answer, MediaService::Media);
                let _ = read_profiles(&answer, MediaService::Media2);
                let _ = read_stream_address(&answer);
            }
        }
    }
}
