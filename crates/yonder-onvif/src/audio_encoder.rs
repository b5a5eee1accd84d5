//! Audio encoder configurations of the media services: options, and changes of the codec.

use quick_xml::escape::escape;

use crate::configuration::{MAX_CONFIGURATIONS, MAX_OPTIONS, configuration, set_text, whole};
use crate::media::MediaService;
use crate::soap::Fault;
use crate::xml::Element;

/// Elements of a configuration in the order of the schemas, of which only the first has a session timeout.
const ORDER: [&str; 7] =
    ["Name", "UseCount", "Encoding", "Multicast", "Bitrate", "SampleRate", "SessionTimeout"];
/// Order in the schema of the first service.
const ORDER_OF_MEDIA: [&str; 7] =
    ["Name", "UseCount", "Encoding", "Bitrate", "SampleRate", "Multicast", "SessionTimeout"];
/// Maximum bit rate that is chosen for a codec, in kilobits per second.
const MAX_KBPS: u32 = 128;
/// Maximum sampling rate that is chosen, in kilohertz.
const MAX_RATE_KHZ: u32 = 48;

/// Audio encoder configuration of a device.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AudioEncoder {
    /// Token.
    pub token: String,
    /// Codec as the device names it: `G711` and `AAC`, or `PCMU` and `MP4A-LATM`.
    pub encoding: String,
    /// Bit rate in kilobits per second.
    pub kbps: Option<u32>,
    /// Sampling rate in kilohertz.
    pub rate_khz: Option<u32>,
    /// The configuration as the device has sent it.
    element: Element,
}

/// Options of a device for one audio codec.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct AudioEncoderOptions {
    /// Codec as the device names it.
    pub encoding: String,
    /// Bit rates in kilobits per second.
    pub kbps: Vec<u32>,
    /// Sampling rates in kilohertz.
    pub rates_khz: Vec<u32>,
}

/// Change of an audio encoder; what is `None` stays.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct AudioEncoderChange {
    /// Codec as the device names it.
    pub encoding: String,
    /// Bit rate in kilobits per second.
    pub kbps: Option<u32>,
    /// Sampling rate in kilohertz.
    pub rate_khz: Option<u32>,
}

impl AudioEncoderOptions {
    /// Returns the change to this codec, at the best bit rate and sampling rate that are useful for a broadcast.
    #[must_use]
    pub fn change(&self) -> AudioEncoderChange {
        let best = |values: &[u32], max| {
            let useful = values.iter().copied().filter(|value| *value <= max).max();
            useful.or_else(|| values.iter().copied().min())
        };
        AudioEncoderChange {
            encoding: self.encoding.clone(),
            kbps: best(&self.kbps, MAX_KBPS),
            rate_khz: best(&self.rates_khz, MAX_RATE_KHZ),
        }
    }
}

impl AudioEncoder {
    /// Returns the change that restores this configuration.
    #[must_use]
    pub fn restoring_change(&self) -> AudioEncoderChange {
        let (encoding, kbps, rate_khz) = (self.encoding.clone(), self.kbps, self.rate_khz);
        AudioEncoderChange { encoding, kbps, rate_khz }
    }
}

/// Returns the request for all audio encoder configurations.
#[must_use]
pub fn audio_encoders_request(service: MediaService) -> String {
    format!("<GetAudioEncoderConfigurations xmlns=\"{}\"/>", service.namespace())
}

/// Parses the audio encoder configurations of a response.
///
/// # Errors
/// SOAP fault of the device.
pub fn read_audio_encoders(answer: &Element) -> Result<Vec<AudioEncoder>, Fault> {
    if let Some(fault) = Fault::of(answer) {
        return Err(fault);
    }
    let response = answer.find("GetAudioEncoderConfigurationsResponse");
    let found = response.into_iter().flat_map(|response| response.all("Configurations"));
    Ok(found.take(MAX_CONFIGURATIONS).filter_map(encoder).collect())
}

fn encoder(element: &Element) -> Option<AudioEncoder> {
    let number = |name| element.number_at(&[name]).and_then(whole).filter(|number| *number > 0);
    Some(AudioEncoder {
        token: element.attribute("token")?.to_owned(),
        encoding: element.text_at(&["Encoding"])?.chars().take(32).collect(),
        kbps: number("Bitrate"),
        rate_khz: number("SampleRate"),
        element: element.clone(),
    })
}

/// Returns the request for the options of an audio encoder configuration.
#[must_use]
pub fn audio_options_request(service: MediaService, token: &str) -> String {
    format!(
        "<GetAudioEncoderConfigurationOptions xmlns=\"{}\"><ConfigurationToken>{}</ConfigurationToken>\
         </GetAudioEncoderConfigurationOptions>",
        service.namespace(),
        escape(token)
    )
}

/// Parses the options of a response, one entry for each codec.
///
/// # Errors
/// SOAP fault of the device.
pub fn read_audio_options(answer: &Element) -> Result<Vec<AudioEncoderOptions>, Fault> {
    if let Some(fault) = Fault::of(answer) {
        return Err(fault);
    }
    let Some(response) = answer.find("GetAudioEncoderConfigurationOptionsResponse") else {
        return Ok(Vec::new());
    };
    // The first service has the list in one more element of the same name.
    let nested = response.all("Options").flat_map(|options| options.all("Options"));
    let all = response.all("Options").chain(nested).filter_map(options);
    Ok(all.take(MAX_OPTIONS).collect())
}

fn options(element: &Element) -> Option<AudioEncoderOptions> {
    let list = |name: &str| -> Vec<u32> {
        let items = element.child(name).into_iter().flat_map(|list| list.all("Items"));
        items.filter_map(|item| item.text.parse().ok()).take(MAX_OPTIONS).collect()
    };
    Some(AudioEncoderOptions {
        encoding: element.text_at(&["Encoding"])?.chars().take(32).collect(),
        kbps: list("BitrateList"),
        rates_khz: list("SampleRateList"),
    })
}

/// Returns the request that changes an audio encoder. What the change does not mention is sent as the device has it.
#[must_use]
pub fn set_audio_request(
    service: MediaService,
    encoder: &AudioEncoder,
    change: &AudioEncoderChange,
) -> String {
    let (order, persistence) = match service {
        MediaService::Media => (&ORDER_OF_MEDIA, "<ForcePersistence>true</ForcePersistence>"),
        MediaService::Media2 => (&ORDER, ""),
    };
    let mut element = encoder.element.clone();
    set_text(&mut element, order, &["Encoding"], &change.encoding);
    if let Some(kbps) = change.kbps {
        set_text(&mut element, order, &["Bitrate"], &kbps.to_string());
    }
    if let Some(rate) = change.rate_khz {
        set_text(&mut element, order, &["SampleRate"], &rate.to_string());
    }
    format!(
        "<SetAudioEncoderConfiguration xmlns=\"{}\">{}{persistence}</SetAudioEncoderConfiguration>",
        service.namespace(),
        configuration(&element)
    )
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    const CONFIGURATIONS: &str = "<E><GetAudioEncoderConfigurationsResponse><Configurations token='a0'><Name>audio</Name>\
        <UseCount>1</UseCount><Encoding>G711</Encoding><Bitrate>64</Bitrate><SampleRate>8</SampleRate>\
        <Multicast><Port>0</Port></Multicast><SessionTimeout>PT60S</SessionTimeout></Configurations>\
        </GetAudioEncoderConfigurationsResponse></E>";
    const NESTED: &str = "<E><GetAudioEncoderConfigurationOptionsResponse><Options><Options><Encoding>G711</Encoding>\
        <BitrateList><Items>64</Items></BitrateList><SampleRateList><Items>8</Items></SampleRateList></Options>\
        <Options><Encoding>AAC</Encoding><BitrateList><Items>32</Items><Items>64</Items><Items>256</Items></BitrateList>\
        <SampleRateList><Items>16</Items><Items>48</Items><Items>96</Items></SampleRateList></Options></Options>\
        </GetAudioEncoderConfigurationOptionsResponse></E>";
    const FLAT: &str = "<E><GetAudioEncoderConfigurationOptionsResponse><Options><Encoding>PCMU</Encoding></Options>\
        <Options><Encoding>MP4A-LATM</Encoding><BitrateList><Items>64</Items></BitrateList>\
        <SampleRateList><Items>32</Items></SampleRateList></Options></GetAudioEncoderConfigurationOptionsResponse></E>";

    fn parsed(text: &str) -> Element {
        Element::parse(text.as_bytes()).unwrap()
    }

    #[rstest]
    #[case::media(NESTED, "AAC", Some(64), Some(48))]
    #[case::media2(FLAT, "MP4A-LATM", Some(64), Some(32))]
    fn options_of_both_services_are_read(
        #[case] text: &str,
        #[case] encoding: &str,
        #[case] kbps: Option<u32>,
        #[case] rate_khz: Option<u32>,
    ) {
        let options = read_audio_options(&parsed(text)).unwrap();
        assert_eq!(options.len(), 2);
        let change = AudioEncoderChange { encoding: encoding.to_owned(), kbps, rate_khz };
        assert_eq!(options[1].change(), change);
    }

    #[rstest]
    #[case(MediaService::Media)]
    #[case(MediaService::Media2)]
    fn change_keeps_everything_else(#[case] service: MediaService) {
        let before = read_audio_encoders(&parsed(CONFIGURATIONS)).unwrap().remove(0);
        let change = read_audio_options(&parsed(NESTED)).unwrap()[1].change();
        let request = parsed(&set_audio_request(service, &before, &change));
        let after = encoder(request.child("Configuration").unwrap()).unwrap();
        assert_eq!((after.encoding.as_str(), after.kbps, after.rate_khz), ("AAC", Some(64), Some(48)));
        assert_eq!(after.element.text_at(&["SessionTimeout"]), Some("PT60S"));
        assert_eq!(after.token, before.token);
        let restored = parsed(&set_audio_request(service, &after, &before.restoring_change()));
        let restored = encoder(restored.child("Configuration").unwrap()).unwrap();
        assert_eq!(
            (restored.encoding.as_str(), restored.kbps, restored.rate_khz),
            ("G711", Some(64), Some(8))
        );
    }

    #[test]
    fn fault_is_an_error() {
        let fault = "<E><Fault><Code><Value>s:Sender</Value></Code><Reason><Text>no audio</Text></Reason></Fault></E>";
        assert_eq!(read_audio_encoders(&parsed(fault)).unwrap_err().reason, "no audio");
        assert_eq!(read_audio_options(&parsed(fault)).unwrap_err().reason, "no audio");
    }
}
