//! WS-Discovery 1.1 (OASIS; the 2005 edition on the wire, as ONVIF Core, 7.3 requires): probes and probe matches.

use percent_encoding::percent_decode_str;

use crate::xml::{Element, XmlError};

/// Multicast group of probes (2.4).
pub const MULTICAST_ADDRESS: &str = "239.255.255.250";
/// Port of probes, for unicast as well.
pub const MULTICAST_PORT: u16 = 3702;
/// Maximum addresses of one device.
const MAX_ADDRESSES: usize = 8;
/// Maximum length of a name or address.
const MAX_TEXT: usize = 300;

/// Device from a probe match.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Found {
    /// Endpoint reference, the same in each of its responses.
    pub id: String,
    /// Name from its scopes.
    pub name: Option<String>,
    /// Hardware from its scopes.
    pub hardware: Option<String>,
    /// Location from its scopes.
    pub place: Option<String>,
    /// Addresses of the device service.
    pub services: Vec<String>,
}

/// Device type of a probe. Many devices answer only one of them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ProbeType {
    /// `tdn:NetworkVideoTransmitter` (ONVIF Core, 7.3.2).
    VideoTransmitter,
    /// `tds:Device` (ONVIF Core, 7.3.2).
    Device,
}

impl ProbeType {
    /// All types.
    pub const ALL: [Self; 2] = [Self::VideoTransmitter, Self::Device];

    fn namespace_and_name(self) -> (&'static str, &'static str) {
        match self {
            Self::VideoTransmitter => ("http://www.onvif.org/ver10/network/wsdl", "NetworkVideoTransmitter"),
            Self::Device => ("http://www.onvif.org/ver10/device/wsdl", "Device"),
        }
    }
}

/// Returns a probe for a device type. `message_id` is a random UUID.
#[must_use]
pub fn probe(kind: ProbeType, message_id: &str) -> String {
    let (namespace, name) = kind.namespace_and_name();
    format!(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\
         <s:Envelope xmlns:s=\"http://www.w3.org/2003/05/soap-envelope\" \
         xmlns:a=\"http://schemas.xmlsoap.org/ws/2004/08/addressing\" \
         xmlns:d=\"http://schemas.xmlsoap.org/ws/2005/04/discovery\" \
         xmlns:n=\"{namespace}\">\
         <s:Header><a:Action>http://schemas.xmlsoap.org/ws/2005/04/discovery/Probe</a:Action>\
         <a:MessageID>uuid:{message_id}</a:MessageID>\
         <a:To>urn:schemas-xmlsoap-org:ws:2005:04:discovery</a:To></s:Header>\
         <s:Body><d:Probe><d:Types>n:{name}</d:Types></d:Probe></s:Body></s:Envelope>"
    )
}

/// Parses the devices of a response to the probe `message_id`; none for another probe.
///
/// # Errors
/// [`XmlError`] for an invalid document.
pub fn read_matches(answer: &[u8], message_id: &str) -> Result<Vec<Found>, XmlError> {
    let root = Element::parse(answer)?;
    let related = root.find("RelatesTo").map(|element| element.text.to_ascii_lowercase());
    // Some devices omit the reference; a response to another probe is ignored.
    if related.is_some_and(|related| !related.ends_with(&message_id.to_ascii_lowercase())) {
        return Ok(Vec::new());
    }
    let Some(matches) = root.find("ProbeMatches") else { return Ok(Vec::new()) };
    Ok(matches.all("ProbeMatch").filter_map(found).take(64).collect())
}

fn found(element: &Element) -> Option<Found> {
    let services: Vec<String> = element
        .text_at(&["XAddrs"])
        .unwrap_or_default()
        .split_whitespace()
        .filter(|address| address.starts_with("http://") || address.starts_with("https://"))
        .filter(|address| address.len() <= MAX_TEXT)
        .take(MAX_ADDRESSES)
        .map(str::to_owned)
        .collect();
    if services.is_empty() {
        return None;
    }
    let id = element.text_at(&["EndpointReference", "Address"]).unwrap_or_default();
    let scopes: Vec<&str> = element.text_at(&["Scopes"]).unwrap_or_default().split_whitespace().collect();
    let scope = |kind: &str| scope_value(scopes.iter().copied(), kind);
    Some(Found {
        id: if id.is_empty() { services.concat() } else { id.to_owned() },
        name: scope("name"),
        hardware: scope("hardware"),
        place: scope("location"),
        services,
    })
}

/// Returns the value of the first scope of a kind: `name`, `hardware` or `location` (ONVIF Core, 7.3.2.2).
pub(crate) fn scope_value<'a>(mut scopes: impl Iterator<Item = &'a str>, kind: &str) -> Option<String> {
    let prefix = format!("onvif://www.onvif.org/{kind}/");
    let value = scopes.find_map(|scope| scope.strip_prefix(prefix.as_str()))?;
    let text = percent_decode_str(value).decode_utf8_lossy();
    Some(text.chars().take(MAX_TEXT).collect::<String>()).filter(|text| !text.is_empty())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const ID: &str = "0a6dc791-2be6-4991-9af1-454778a1917a";

    fn answer(relates: &str, addresses: &str) -> String {
        format!(
            "<e:Envelope><e:Header><w:RelatesTo>{relates}</w:RelatesTo></e:Header><e:Body><d:ProbeMatches><d:ProbeMatch>\
             <w:EndpointReference><w:Address>urn:uuid:77</w:Address></w:EndpointReference>\
             <d:Scopes>onvif://www.onvif.org/type/video onvif://www.onvif.org/name/Summit%20Mast \
             onvif://www.onvif.org/hardware/Fellside%202</d:Scopes><d:XAddrs>{addresses}</d:XAddrs>\
             </d:ProbeMatch></d:ProbeMatches></e:Body></e:Envelope>"
        )
    }

    #[test]
    fn probe_has_its_type_and_message_id() {
        for (kind, name) in ProbeType::ALL.into_iter().zip(["n:NetworkVideoTransmitter", "n:Device"]) {
            let root = Element::parse(probe(kind, ID).as_bytes()).unwrap();
            assert_eq!(root.text_at(&["Header", "MessageID"]), Some(format!("uuid:{ID}").as_str()));
            assert_eq!(root.text_at(&["Body", "Probe", "Types"]), Some(name));
        }
    }

    #[test]
    fn probe_match_has_name_hardware_and_addresses() {
        let text = answer(&format!("uuid:{ID}"), "http://192.0.2.7/onvif/device ftp://192.0.2.7/");
        let found = read_matches(text.as_bytes(), ID).unwrap();
        assert_eq!(found[0].name.as_deref(), Some("Summit Mast"));
        assert_eq!(found[0].hardware.as_deref(), Some("Fellside 2"));
        assert_eq!((found[0].id.as_str(), found[0].place.as_ref()), ("urn:uuid:77", None));
        assert_eq!(found[0].services, ["http://192.0.2.7/onvif/device"]);
    }

    #[test]
    fn matches_of_other_probes_or_without_an_address_are_ignored() {
        assert_eq!(read_matches(answer("uuid:other", "http://192.0.2.7/").as_bytes(), ID), Ok(Vec::new()));
        assert_eq!(read_matches(answer(&format!("urn:uuid:{ID}"), "").as_bytes(), ID), Ok(Vec::new()));
    }

    proptest! {
        #[test]
        fn any_bytes_are_parsed_or_refused(data: Vec<u8>) {
            let _ = read_matches(&data, ID);
        }
    }
}
