//! Video encoder configurations of the media services (ONVIF Media, 5.12; ONVIF Media2, 5.3.4): options, and changes.

use std::ops::RangeInclusive;

use quick_xml::escape::escape;

use crate::configuration::{MAX_CONFIGURATIONS, MAX_OPTIONS, configuration, set_text, whole};
use crate::media::MediaService;
use crate::soap::Fault;
use crate::xml::Element;

/// Maximum number of frame sizes of one codec.
const MAX_SIZES: usize = 128;
/// Video encoder configuration of a device.
#[derive(Debug, Clone, PartialEq)]
pub struct VideoEncoder {
    /// Token.
    pub token: String,
    /// Number of profiles that use it.
    pub use_count: u32,
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
    /// The configuration as the device has sent it: everything but what is changed is sent back.
    element: Element,
}

/// Options of a device for one codec. A missing range or an empty list means that the device does not say.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct VideoEncoderOptions {
    /// Codec, like `H264` or `H265`.
    pub codec: String,
    /// Frame sizes as width and height.
    pub sizes: Vec<(u32, u32)>,
    /// Frame rates: all supported ones, or the lowest and the highest.
    pub fps: Vec<f64>,
    /// Range of bit rates in kilobits per second.
    pub kbps: Option<RangeInclusive<u32>>,
    /// Range of frames between keyframes.
    pub keyframe_every: Option<RangeInclusive<u32>>,
}

/// Change of a video encoder; what is `None` stays.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct VideoEncoderChange {
    /// Codec.
    pub codec: Option<String>,
    /// Width and height.
    pub size: Option<(u32, u32)>,
    /// Maximum frame rate.
    pub fps: Option<f64>,
    /// Maximum bit rate, in kilobits per second.
    pub kbps: Option<u32>,
    /// Frames between keyframes.
    pub keyframe_every: Option<u32>,
}

/// Returns the request for all video encoder configurations.
#[must_use]
pub fn video_encoders_request(service: MediaService) -> String {
    format!("<GetVideoEncoderConfigurations xmlns=\"{}\"/>", service.namespace())
}

/// Parses the video encoder configurations of a response.
///
/// # Errors
/// SOAP fault of the device.
pub fn read_video_encoders(answer: &Element, service: MediaService) -> Result<Vec<VideoEncoder>, Fault> {
    if let Some(fault) = Fault::of(answer) {
        return Err(fault);
    }
    let response = answer.find("GetVideoEncoderConfigurationsResponse");
    let found = response.into_iter().flat_map(|response| response.all("Configurations"));
    Ok(found.take(MAX_CONFIGURATIONS).filter_map(|element| encoder(element, service)).collect())
}

fn encoder(element: &Element, service: MediaService) -> Option<VideoEncoder> {
    let whole = |path: &[&str]| element.number_at(path).and_then(whole);
    let keyframe_every = match service {
        MediaService::Media => whole(&["H264", "GovLength"]),
        MediaService::Media2 => element.attribute("GovLength").and_then(|length| length.parse().ok()),
    };
    Some(VideoEncoder {
        token: element.attribute("token")?.to_owned(),
        use_count: whole(&["UseCount"]).unwrap_or_default(),
        codec: element.text_at(&["Encoding"])?.to_ascii_uppercase(),
        width: whole(&["Resolution", "Width"])?,
        height: whole(&["Resolution", "Height"])?,
        fps: element.number_at(&["RateControl", "FrameRateLimit"]).filter(|fps| *fps > 0.0),
        kbps: whole(&["RateControl", "BitrateLimit"]).filter(|kbps| *kbps > 0),
        keyframe_every: keyframe_every.filter(|frames| *frames > 0),
        element: element.clone(),
    })
}

/// Returns the request for the options of a video encoder configuration.
#[must_use]
pub fn video_options_request(service: MediaService, token: &str) -> String {
    format!(
        "<GetVideoEncoderConfigurationOptions xmlns=\"{}\"><ConfigurationToken>{}</ConfigurationToken>\
         </GetVideoEncoderConfigurationOptions>",
        service.namespace(),
        escape(token)
    )
}

/// Parses the options of a response, one entry for each codec.
///
/// # Errors
/// SOAP fault of the device.
pub fn read_video_options(
    answer: &Element,
    service: MediaService,
) -> Result<Vec<VideoEncoderOptions>, Fault> {
    if let Some(fault) = Fault::of(answer) {
        return Err(fault);
    }
    let Some(response) = answer.find("GetVideoEncoderConfigurationOptionsResponse") else {
        return Ok(Vec::new());
    };
    Ok(match service {
        MediaService::Media => response.child("Options").and_then(options_of_media).into_iter().collect(),
        MediaService::Media2 => {
            response.all("Options").take(MAX_OPTIONS).filter_map(options_of_media2).collect()
        }
    })
}

/// Parses H.264 of the first service. Its range of bit rates came with an extension.
fn options_of_media(options: &Element) -> Option<VideoEncoderOptions> {
    let h264 = options.child("H264")?;
    let extended = options.child("Extension").and_then(|extension| extension.child("H264"));
    let fps = h264.child("FrameRateRange");
    Some(VideoEncoderOptions {
        codec: "H264".to_owned(),
        sizes: sizes(h264),
        fps: fps
            .into_iter()
            .flat_map(|range| [range.number_at(&["Min"]), range.number_at(&["Max"])])
            .flatten()
            .collect(),
        kbps: extended.and_then(|extended| range(extended.child("BitrateRange")?)),
        keyframe_every: h264.child("GovLengthRange").and_then(range),
    })
}

fn options_of_media2(options: &Element) -> Option<VideoEncoderOptions> {
    let numbers = |name: &str| -> Vec<f64> {
        let list = options.attribute(name).unwrap_or_default();
        list.split_whitespace().filter_map(|number| number.parse().ok()).collect()
    };
    let keyframes: Vec<u32> = numbers("GovLengthRange").into_iter().filter_map(whole).collect();
    Some(VideoEncoderOptions {
        codec: options.text_at(&["Encoding"])?.to_ascii_uppercase(),
        sizes: sizes(options),
        fps: numbers("FrameRatesSupported"),
        kbps: options.child("BitrateRange").and_then(range),
        keyframe_every: match keyframes.as_slice() {
            [min, .., max] if min <= max => Some(*min..=*max),
            _ => None,
        },
    })
}

fn sizes(options: &Element) -> Vec<(u32, u32)> {
    let size = |element: &Element| {
        let side = |name| element.number_at(&[name]).and_then(whole).filter(|side| *side > 0);
        Some((side("Width")?, side("Height")?))
    };
    options.all("ResolutionsAvailable").take(MAX_SIZES).filter_map(size).collect()
}

fn range(element: &Element) -> Option<RangeInclusive<u32>> {
    let bound = |name| element.number_at(&[name]).and_then(whole);
    let (min, max) = (bound("Min")?, bound("Max")?);
    (min <= max).then_some(min..=max)
}

/// Returns the request that changes a video encoder. What the change does not mention is sent as the device has it.
#[must_use]
pub fn set_video_request(
    service: MediaService,
    encoder: &VideoEncoder,
    change: &VideoEncoderChange,
) -> String {
    let namespace = service.namespace();
    let configuration = configuration(&changed(service, encoder, change));
    let persistence = match service {
        MediaService::Media => "<ForcePersistence>true</ForcePersistence>",
        MediaService::Media2 => "",
    };
    format!(
        "<SetVideoEncoderConfiguration xmlns=\"{namespace}\">{configuration}{persistence}</SetVideoEncoderConfiguration>"
    )
}

/// Parses the response to [`set_video_request`].
///
/// # Errors
/// SOAP fault of the device.
pub fn read_set(answer: &Element) -> Result<(), Fault> {
    Fault::of(answer).map_or(Ok(()), Err)
}

/// Returns the configuration with a change applied.
fn changed(service: MediaService, encoder: &VideoEncoder, change: &VideoEncoderChange) -> Element {
    let mut element = encoder.element.clone();
    let order = order(service);
    if let Some(codec) = &change.codec {
        set_text(&mut element, order, &["Encoding"], codec);
        if *codec != encoder.codec {
            // Profiles of the other codec.
            element.attributes.retain(|(name, _)| name != "Profile");
        }
    }
    if let Some((width, height)) = change.size {
        set_text(&mut element, order, &["Resolution", "Width"], &width.to_string());
        set_text(&mut element, order, &["Resolution", "Height"], &height.to_string());
    }
    if let Some(fps) = change.fps {
        let text = match service {
            // Whole numbers in the first service.
            MediaService::Media => format!("{:.0}", fps.max(1.0)),
            MediaService::Media2 => fps.to_string(),
        };
        set_text(&mut element, order, &["RateControl", "FrameRateLimit"], &text);
    }
    if let Some(kbps) = change.kbps {
        set_text(&mut element, order, &["RateControl", "BitrateLimit"], &kbps.to_string());
    }
    if let Some(frames) = change.keyframe_every {
        match service {
            MediaService::Media => set_text(&mut element, order, &["H264", "GovLength"], &frames.to_string()),
            MediaService::Media2 => {
                element.attributes.retain(|(name, _)| name != "GovLength");
                element.attributes.push(("GovLength".to_owned(), frames.to_string()));
            }
        }
    }
    element
}

/// Returns the elements of a configuration in the order of the schema.
fn order(service: MediaService) -> &'static [&'static str] {
    match service {
        MediaService::Media => &[
            "Name",
            "UseCount",
            "Encoding",
            "Resolution",
            "Quality",
            "RateControl",
            "FrameRateLimit",
            "EncodingInterval",
            "BitrateLimit",
            "MPEG4",
            "H264",
            "Multicast",
            "SessionTimeout",
        ],
        MediaService::Media2 => &[
            "Name",
            "UseCount",
            "Encoding",
            "Resolution",
            "RateControl",
            "FrameRateLimit",
            "BitrateLimit",
            "Multicast",
            "Quality",
        ],
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    const MEDIA: &str = "<E><GetVideoEncoderConfigurationsResponse><Configurations token='v&amp;0'>\
        <tt:Name>main</tt:Name><tt:UseCount>2</tt:UseCount><tt:Encoding>H264</tt:Encoding>\
        <tt:Resolution><tt:Width>1920</tt:Width><tt:Height>1080</tt:Height></tt:Resolution><tt:Quality>4</tt:Quality>\
        <tt:RateControl><tt:FrameRateLimit>25</tt:FrameRateLimit><tt:EncodingInterval>1</tt:EncodingInterval>\
        <tt:BitrateLimit>8192</tt:BitrateLimit></tt:RateControl><tt:H264><tt:GovLength>250</tt:GovLength>\
        <tt:H264Profile>Main</tt:H264Profile></tt:H264><tt:Multicast><tt:Port>0</tt:Port></tt:Multicast>\
        <tt:SessionTimeout>PT60S</tt:SessionTimeout></Configurations></GetVideoEncoderConfigurationsResponse></E>";
    const MEDIA2: &str = "<E><GetVideoEncoderConfigurationsResponse><Configurations token='v' GovLength='100' Profile='Main'>\
        <Name>main</Name><UseCount>1</UseCount><Encoding>H265</Encoding><Resolution><Width>3840</Width><Height>2160</Height>\
        </Resolution><RateControl ConstantBitRate='true'><FrameRateLimit>12.5</FrameRateLimit><BitrateLimit>6000</BitrateLimit>\
        </RateControl><Quality>3</Quality></Configurations></GetVideoEncoderConfigurationsResponse></E>";

    fn read(text: &str, service: MediaService) -> VideoEncoder {
        let answer = Element::parse(text.as_bytes()).unwrap();
        read_video_encoders(&answer, service).unwrap().remove(0)
    }

    /// Reads the configuration of a request as the device would.
    fn sent(request: &str, service: MediaService) -> (VideoEncoder, Element) {
        let request = Element::parse(request.as_bytes()).unwrap();
        let element = request.child("Configuration").unwrap();
        (encoder(element, service).unwrap(), element.clone())
    }

    #[rstest]
    #[case::media(MEDIA, MediaService::Media, ("v&0", "H264", 1_920, Some(25.0), Some(8_192), Some(250)))]
    #[case::media2(MEDIA2, MediaService::Media2, ("v", "H265", 3_840, Some(12.5), Some(6_000), Some(100)))]
    fn configurations_of_both_services_are_read(
        #[case] text: &str,
        #[case] service: MediaService,
        #[case] expected: (&str, &str, u32, Option<f64>, Option<u32>, Option<u32>),
    ) {
        let read = read(text, service);
        let VideoEncoder { token, codec, width, fps, kbps, keyframe_every, .. } = &read;
        assert_eq!((token.as_str(), codec.as_str(), *width, *fps, *kbps, *keyframe_every), expected);
    }

    #[test]
    fn change_keeps_everything_else() {
        let before = read(MEDIA, MediaService::Media);
        let change = VideoEncoderChange {
            kbps: Some(3_000),
            keyframe_every: Some(50),
            ..VideoEncoderChange::default()
        };
        let request = set_video_request(MediaService::Media, &before, &change);
        assert!(
            request.contains("<Name xmlns=\"http://www.onvif.org/ver10/schema\">main</Name>"),
            "{request}"
        );
        assert!(request.contains("<ForcePersistence>true</ForcePersistence>"), "{request}");
        let (after, element) = sent(&request, MediaService::Media);
        assert_eq!((after.kbps, after.keyframe_every, after.width), (Some(3_000), Some(50), 1_920));
        assert_eq!(after.token, before.token);
        let names =
            |element: &Element| element.children.iter().map(|child| child.name.clone()).collect::<Vec<_>>();
        assert_eq!(names(&element), names(&before.element));
        assert_eq!(element.text_at(&["H264", "H264Profile"]), Some("Main"));
        assert_eq!(element.text_at(&["SessionTimeout"]), Some("PT60S"));
    }

    #[test]
    fn another_codec_has_no_profile_of_the_former_one() {
        let before = read(MEDIA2, MediaService::Media2);
        let change = VideoEncoderChange {
            codec: Some("H264".into()),
            size: Some((1_280, 720)),
            fps: Some(25.0),
            keyframe_every: Some(50),
            ..VideoEncoderChange::default()
        };
        let (after, element) =
            sent(&set_video_request(MediaService::Media2, &before, &change), MediaService::Media2);
        let VideoEncoder { codec, width, height, fps, keyframe_every, kbps, .. } = &after;
        assert_eq!((codec.as_str(), *width, *height, *fps), ("H264", 1_280, 720, Some(25.0)));
        assert_eq!((*keyframe_every, *kbps, element.attribute("Profile")), (Some(50), Some(6_000), None));
        let rate = element.child("RateControl").unwrap();
        assert_eq!(rate.attribute("ConstantBitRate"), Some("true"));
    }

    #[test]
    fn missing_elements_are_added_in_the_order_of_the_schema() {
        let text = "<E><GetVideoEncoderConfigurationsResponse><Configurations token='v'><Name>a</Name><Encoding>H264</Encoding>\
            <Resolution><Width>640</Width><Height>360</Height></Resolution><SessionTimeout>PT1S</SessionTimeout>\
            </Configurations></GetVideoEncoderConfigurationsResponse></E>";
        let before = read(text, MediaService::Media);
        let change =
            VideoEncoderChange { kbps: Some(500), keyframe_every: Some(20), ..VideoEncoderChange::default() };
        let (_, element) =
            sent(&set_video_request(MediaService::Media, &before, &change), MediaService::Media);
        let names: Vec<&str> = element.children.iter().map(|child| child.name.as_str()).collect();
        assert_eq!(names, ["Name", "Encoding", "Resolution", "RateControl", "H264", "SessionTimeout"]);
    }

    #[test]
    fn options_of_both_services_are_read() {
        let media = "<E><GetVideoEncoderConfigurationOptionsResponse><Options><H264>\
            <ResolutionsAvailable><Width>1920</Width><Height>1080</Height></ResolutionsAvailable>\
            <ResolutionsAvailable><Width>1280</Width><Height>720</Height></ResolutionsAvailable>\
            <GovLengthRange><Min>1</Min><Max>400</Max></GovLengthRange><FrameRateRange><Min>1</Min><Max>25</Max></FrameRateRange>\
            </H264><Extension><H264><BitrateRange><Min>32</Min><Max>16384</Max></BitrateRange></H264></Extension></Options>\
            </GetVideoEncoderConfigurationOptionsResponse></E>";
        let read = |text: &str, service| {
            read_video_options(&Element::parse(text.as_bytes()).unwrap(), service).unwrap()
        };
        let expected = VideoEncoderOptions {
            codec: "H264".into(),
            sizes: vec![(1_920, 1_080), (1_280, 720)],
            fps: vec![1.0, 25.0],
            kbps: Some(32..=16_384),
            keyframe_every: Some(1..=400),
        };
        assert_eq!(read(media, MediaService::Media), std::slice::from_ref(&expected));
        let options = |codec: &str| {
            format!(
                "<Options GovLengthRange='1 400' FrameRatesSupported='1 25'><Encoding>{codec}</Encoding>\
                 <ResolutionsAvailable><Width>1920</Width><Height>1080</Height></ResolutionsAvailable>\
                 <ResolutionsAvailable><Width>1280</Width><Height>720</Height></ResolutionsAvailable>\
                 <BitrateRange><Min>32</Min><Max>16384</Max></BitrateRange></Options>"
            )
        };
        let name = "GetVideoEncoderConfigurationOptionsResponse";
        let media2 = format!("<E><{name}>{}{}</{name}></E>", options("H264"), options("H265"));
        let h265 = VideoEncoderOptions { codec: "H265".into(), ..expected.clone() };
        assert_eq!(read(&media2, MediaService::Media2), [expected, h265]);
    }

    #[test]
    fn refusal_is_a_fault() {
        let refused = "<E><Fault><Code><Value>s:Sender</Value><Subcode><Value>ter:InvalidArgVal</Value><Subcode>\
            <Value>ter:ConfigModify</Value></Subcode></Subcode></Code><Reason><Text>no such rate</Text></Reason></Fault></E>";
        let fault = read_set(&Element::parse(refused.as_bytes()).unwrap()).unwrap_err();
        assert_eq!(fault.reason, "no such rate");
        assert_eq!(
            read_set(&Element::parse(b"<E><SetVideoEncoderConfigurationResponse/></E>").unwrap()),
            Ok(())
        );
    }

    proptest! {
        #[test]
        fn any_response_is_parsed_or_refused(data in "(<[/]?(E|GetVideoEncoderConfigurationsResponse|Configurations token='p'|Encoding|Resolution|Width|H264|Options|Fault)>|[0-9a-z ]){0,30}") {
            if let Ok(answer) = Element::parse(format!("<E>{data}</E>").as_bytes()) {
                for service in [MediaService::Media, MediaService::Media2] {
                    for encoder in read_video_encoders(&answer, service).unwrap_or_default() {
                        let change = VideoEncoderChange { kbps: Some(1), keyframe_every: Some(2), ..VideoEncoderChange::default() };
                        prop_assert!(Element::parse(set_video_request(service, &encoder, &change).as_bytes()).is_ok());
                    }
                    let _ = read_video_options(&answer, service);
                }
            }
        }
    }
}
