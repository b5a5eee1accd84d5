//! Encoder configurations of a stand-in device: they are read, changed, and applied to the streams of its camera. A device
//! may have the quirks of real ones.

use parking_lot::Mutex;
use yonder_onvif::Element;

use super::DeviceProfile;
use super::quirk::EncoderQuirk;
use crate::camera::CameraEncoders;
use crate::encoding::{StreamSettings, whole};

/// Frame sizes that an encoder offers, unless they are larger than its own.
const SIZES: [(u32, u32); 4] = [(1_920, 1_080), (1_280, 720), (640, 360), (320, 180)];
/// Divisors of the frame rate that an encoder offers.
const FRAME_DIVISORS: [u32; 4] = [1, 2, 3, 5];
/// Range of bit rates, in kilobits per second.
const KBPS: (u32, u32) = (128, 16_384);
/// Range of keyframe intervals, in frames.
const KEYFRAME_EVERY: (u32, u32) = (1, 600);

/// Encoder of a profile.
#[derive(Debug, Clone)]
struct Encoder {
    /// Token of its profile, of which that of the configurations is made.
    profile: String,
    path: String,
    /// Settings of the stream as recorded.
    own: StreamSettings,
    /// Settings as configured.
    configured: StreamSettings,
}

/// Encoders of a device.
#[derive(Debug)]
pub(super) struct Encoders {
    encoders: Mutex<Vec<Encoder>>,
    camera: Option<CameraEncoders>,
    quirk: Mutex<EncoderQuirk>,
}

impl Encoders {
    pub(super) fn new(
        profiles: &[DeviceProfile],
        camera: Option<CameraEncoders>,
        quirk: EncoderQuirk,
    ) -> Self {
        let encoder = |profile: &DeviceProfile| {
            let settings = profile.settings();
            let path =
                profile.address.split_once("://").and_then(|(_, rest)| rest.find('/').map(|at| &rest[at..]));
            Encoder {
                profile: profile.token.clone(),
                path: path.unwrap_or_default().to_owned(),
                own: settings.clone(),
                configured: settings,
            }
        };
        Self {
            encoders: Mutex::new(profiles.iter().map(encoder).collect()),
            camera,
            quirk: Mutex::new(quirk),
        }
    }

    pub(super) fn set_quirk(&self, quirk: EncoderQuirk) {
        *self.quirk.lock() = quirk;
    }

    /// Returns the settings of a profile as configured.
    pub(super) fn settings(&self, profile: &str) -> Option<StreamSettings> {
        let encoders = self.encoders.lock();
        encoders.iter().find(|encoder| encoder.profile == profile).map(|encoder| encoder.configured.clone())
    }

    /// Applies all configurations to the streams, as a restart does.
    pub(super) fn restart(&self) {
        for encoder in self.encoders.lock().clone() {
            self.apply(encoder.path, encoder.configured);
        }
    }

    /// Answers a request for, or a change of a configuration; `None` for other requests.
    pub(super) fn reply(&self, asked: &Element, is_media2: bool) -> Option<String> {
        let token = asked.text_at(&["ConfigurationToken"]).unwrap_or_default();
        let encoders = self.encoders.lock().clone();
        let find = |kind: &str| encoders.iter().find(|encoder| token == token_of(kind, &encoder.profile));
        let name = asked.name.as_str();
        let content: String = match name {
            "GetVideoEncoderConfigurations" => encoders
                .iter()
                .map(|encoder| {
                    video_configuration("Configurations", &encoder.profile, &encoder.configured, is_media2)
                })
                .collect(),
            "GetAudioEncoderConfigurations" => {
                let audio = encoders.iter().filter_map(|encoder| {
                    audio_configuration("Configurations", &encoder.profile, &encoder.configured, is_media2)
                });
                audio.collect()
            }
            "GetVideoEncoderConfigurationOptions" => video_options(find("video")?, is_media2),
            "GetAudioEncoderConfigurationOptions" => audio_options(find("audio")?, is_media2),
            "SetVideoEncoderConfiguration" | "SetAudioEncoderConfiguration"
                if *self.quirk.lock() == EncoderQuirk::ReadOnly =>
            {
                return Some(NOT_AUTHORIZED.to_owned());
            }
            "SetVideoEncoderConfiguration" | "SetAudioEncoderConfiguration" => {
                return Some(match self.set(asked.child("Configuration")?, is_media2) {
                    Ok(()) => format!("<{name}Response/>"),
                    Err(reason) => fault(&reason),
                });
            }
            _ => return None,
        };
        Some(format!("<{name}Response>{content}</{name}Response>"))
    }

    fn set(&self, configuration: &Element, is_media2: bool) -> Result<(), String> {
        let quirk = *self.quirk.lock();
        if quirk == EncoderQuirk::Refuses {
            return Err("The encoder is locked by the administrator".to_owned());
        }
        let token = configuration.attribute("token").unwrap_or_default();
        let mut encoders = self.encoders.lock();
        let at = encoders.iter().position(|encoder| {
            token == token_of("video", &encoder.profile) || token == token_of("audio", &encoder.profile)
        });
        let at = at.ok_or_else(|| "No such configuration".to_owned())?;
        let mut settings = encoders[at].configured.clone();
        if token.starts_with("video") {
            read_video(configuration, is_media2, &mut settings)?;
        } else {
            settings.audio = Some(read_audio(configuration)?);
        }
        check(&encoders[at], &settings)?;
        if quirk == EncoderQuirk::Ignores {
            return Ok(());
        }
        if quirk == EncoderQuirk::Rounds {
            settings.kbps = (settings.kbps + 512) / 1_024 * 1_024;
            let second = whole(settings.fps).max(1);
            settings.keyframe_every = ((settings.keyframe_every + second / 2) / second * second).max(second);
        }
        let count = encoders.len();
        let is_elsewhere = matches!(quirk, EncoderQuirk::OtherProfile | EncoderQuirk::OtherProfileOnce);
        let target = if is_elsewhere { (at + 1) % count } else { at };
        if quirk == EncoderQuirk::OtherProfileOnce {
            self.set_quirk(EncoderQuirk::None);
        }
        let encoder = &mut encoders[target];
        if is_elsewhere {
            settings = StreamSettings { kbps: settings.kbps, ..encoder.configured.clone() };
        }
        encoder.configured = settings.clone();
        let path = encoder.path.clone();
        drop(encoders);
        if quirk != EncoderQuirk::NeedsRestart {
            self.apply(path, settings);
        }
        Ok(())
    }

    /// Encodes a stream in the background. The device answers before that is done, like real ones.
    fn apply(&self, path: String, settings: StreamSettings) {
        let Some(camera) = self.camera.clone() else { return };
        tokio::task::spawn_blocking(move || {
            if let Err(error) = camera.set(&path, &settings) {
                tracing::warn!(path, %error, "stream not encoded");
            }
        });
    }
}

/// Returns the token of a configuration.
fn token_of(kind: &str, profile: &str) -> String {
    format!("{kind}-{profile}")
}

/// Fault for a request that the account may not make (ONVIF Core Specification, 5.8.2.3).
pub(super) const NOT_AUTHORIZED: &str = "<e:Fault><e:Code><e:Value>e:Sender</e:Value><e:Subcode><e:Value>t:NotAuthorized</e:Value></e:Subcode></e:Code>\
     <e:Reason><e:Text>Sender not authorized</e:Text></e:Reason></e:Fault>";

/// Returns a fault with a reason.
pub(super) fn fault(reason: &str) -> String {
    format!(
        "<e:Fault><e:Code><e:Value>e:Sender</e:Value></e:Code><e:Reason><e:Text>{reason}</e:Text></e:Reason></e:Fault>"
    )
}

/// Returns the configuration of a video encoder, in an element of this name.
pub(super) fn video_configuration(
    element: &str,
    profile: &str,
    settings: &StreamSettings,
    is_media2: bool,
) -> String {
    let StreamSettings { codec, width, height, fps, kbps, keyframe_every, .. } = settings;
    let token = token_of("video", profile);
    let size = format!("<Resolution><Width>{width}</Width><Height>{height}</Height></Resolution>");
    if is_media2 {
        return format!(
            "<{element} token=\"{token}\" GovLength=\"{keyframe_every}\" Profile=\"Main\"><Name>{profile}</Name><UseCount>1</UseCount>\
             <Encoding>{codec}</Encoding>{size}<RateControl><FrameRateLimit>{fps}</FrameRateLimit>\
             <BitrateLimit>{kbps}</BitrateLimit></RateControl><Quality>5</Quality></{element}>"
        );
    }
    format!(
        "<{element} token=\"{token}\"><Name>{profile}</Name><UseCount>1</UseCount><Encoding>{codec}</Encoding>{size}\
         <Quality>5</Quality><RateControl><FrameRateLimit>{fps:.0}</FrameRateLimit><EncodingInterval>1</EncodingInterval>\
         <BitrateLimit>{kbps}</BitrateLimit></RateControl><H264><GovLength>{keyframe_every}</GovLength>\
         <H264Profile>Main</H264Profile></H264><SessionTimeout>PT60S</SessionTimeout></{element}>"
    )
}

/// Returns the configuration of an audio encoder; `None` without audio.
pub(super) fn audio_configuration(
    element: &str,
    profile: &str,
    settings: &StreamSettings,
    is_media2: bool,
) -> Option<String> {
    let audio = settings.audio.as_deref()?;
    let (token, encoding) = (token_of("audio", profile), audio_name(audio, is_media2));
    let (kbps, rate) = if audio == "AAC" { (32, 16) } else { (64, 8) };
    Some(format!(
        "<{element} token=\"{token}\"><Name>{profile}</Name><UseCount>1</UseCount><Encoding>{encoding}</Encoding>\
         <Bitrate>{kbps}</Bitrate><SampleRate>{rate}</SampleRate></{element}>"
    ))
}

/// Returns the name of an audio codec in one of the services.
fn audio_name(audio: &str, is_media2: bool) -> &str {
    match (audio, is_media2) {
        ("AAC", true) => "MP4A-LATM",
        ("G711", true) => "PCMU",
        (name, _) => name,
    }
}

fn sizes_of(own: &StreamSettings) -> Vec<(u32, u32)> {
    let mut sizes = vec![(own.width, own.height)];
    let smaller = |size: &(u32, u32)| size.0 <= own.width && size.1 <= own.height && *size != sizes[0];
    let others: Vec<_> = SIZES.into_iter().filter(smaller).collect();
    sizes.extend(others);
    sizes
}

fn rates_of(own: &StreamSettings) -> Vec<f64> {
    FRAME_DIVISORS.iter().map(|divisor| own.fps / f64::from(*divisor)).filter(|fps| *fps >= 1.0).collect()
}

fn video_options(encoder: &Encoder, is_media2: bool) -> String {
    let own = &encoder.own;
    let ((min_kbps, max_kbps), (min_gov, max_gov)) = (KBPS, KEYFRAME_EVERY);
    let size = |(width, height): (u32, u32)| {
        format!(
            "<ResolutionsAvailable><Width>{width}</Width><Height>{height}</Height></ResolutionsAvailable>"
        )
    };
    let sizes: String = sizes_of(own).into_iter().map(size).collect();
    let rates: Vec<String> = rates_of(own).iter().map(ToString::to_string).collect();
    let bit_rates = format!("<BitrateRange><Min>{min_kbps}</Min><Max>{max_kbps}</Max></BitrateRange>");
    if is_media2 {
        let mut codecs = vec!["H264"];
        if own.codec == "H265" {
            codecs.push("H265");
        }
        let options = codecs.iter().map(|codec| {
            format!(
                "<Options GovLengthRange=\"{min_gov} {max_gov}\" FrameRatesSupported=\"{}\" ProfilesSupported=\"Main\">\
                 <Encoding>{codec}</Encoding><QualityRange><Min>1</Min><Max>10</Max></QualityRange>{sizes}{bit_rates}</Options>",
                rates.join(" ")
            )
        });
        return options.collect();
    }
    let gov = format!("<GovLengthRange><Min>{min_gov}</Min><Max>{max_gov}</Max></GovLengthRange>");
    let fps = format!("<FrameRateRange><Min>1</Min><Max>{:.0}</Max></FrameRateRange>", own.fps);
    format!(
        "<Options><QualityRange><Min>1</Min><Max>10</Max></QualityRange><H264>{sizes}{gov}{fps}</H264>\
         <Extension><H264>{sizes}{gov}{fps}{bit_rates}</H264></Extension></Options>"
    )
}

fn audio_options(encoder: &Encoder, is_media2: bool) -> String {
    let mut codecs = vec![("AAC", 32, 16)];
    if encoder.own.audio.as_deref() == Some("G711") {
        codecs.push(("G711", 64, 8));
    }
    let option = |(codec, kbps, rate): (&str, u32, u32)| {
        let encoding = audio_name(codec, is_media2);
        format!(
            "<Options><Encoding>{encoding}</Encoding><BitrateList><Items>{kbps}</Items></BitrateList>\
             <SampleRateList><Items>{rate}</Items></SampleRateList></Options>"
        )
    };
    let options: String = codecs.into_iter().map(option).collect();
    if is_media2 { options } else { format!("<Options>{options}</Options>") }
}

fn read_video(configuration: &Element, is_media2: bool, settings: &mut StreamSettings) -> Result<(), String> {
    let missing = |what: &str| format!("{what} is missing");
    let number = |path: &[&str]| configuration.number_at(path).ok_or_else(|| missing(path[path.len() - 1]));
    let codec = configuration.text_at(&["Encoding"]).ok_or_else(|| missing("Encoding"))?;
    settings.codec = codec.to_owned();
    settings.width = whole(number(&["Resolution", "Width"])?);
    settings.height = whole(number(&["Resolution", "Height"])?);
    let fps = number(&["RateControl", "FrameRateLimit"])?;
    // The first service has whole numbers: the present rate is meant.
    if is_media2 || (fps - settings.fps).abs() >= 0.5 {
        settings.fps = fps;
    }
    settings.kbps = whole(number(&["RateControl", "BitrateLimit"])?);
    settings.keyframe_every = if is_media2 {
        let length = configuration.attribute("GovLength").ok_or_else(|| missing("GovLength"))?;
        length.parse().map_err(|_| "GovLength is no number".to_owned())?
    } else {
        whole(number(&["H264", "GovLength"])?)
    };
    Ok(())
}

fn read_audio(configuration: &Element) -> Result<String, String> {
    match configuration.text_at(&["Encoding"]) {
        Some("AAC" | "MP4A-LATM") => Ok("AAC".to_owned()),
        Some("G711" | "PCMU") => Ok("G711".to_owned()),
        _ => Err("Audio encoding not supported".to_owned()),
    }
}

/// Checks that an encoder offers the settings.
fn check(encoder: &Encoder, settings: &StreamSettings) -> Result<(), String> {
    let own = &encoder.own;
    let has_fps = rates_of(own).iter().any(|fps| (fps - settings.fps).abs() < 0.05);
    let is_own_codec = settings.codec == own.codec;
    let is_unchanged = StreamSettings { audio: own.audio.clone(), ..settings.clone() } == *own;
    let is_codec_possible = settings.codec == "H264" || is_own_codec && is_unchanged;
    let is_offered = is_codec_possible
        && sizes_of(own).contains(&(settings.width, settings.height))
        && has_fps
        && (KBPS.0..=KBPS.1).contains(&settings.kbps)
        && (KEYFRAME_EVERY.0..=KEYFRAME_EVERY.1).contains(&settings.keyframe_every)
        && (settings.audio.is_some() == own.audio.is_some());
    if is_offered { Ok(()) } else { Err("Configuration parameters are not supported".to_owned()) }
}
