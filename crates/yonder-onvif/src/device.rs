//! Device service (ONVIF Core, 8): clock, device information, and addresses of the media services.

use jiff::civil::DateTime;
use jiff::tz::TimeZone;

use crate::discovery::scope_value;
use crate::security::Clock;
use crate::soap::Fault;
use crate::xml::Element;

/// Returns the request for the clock, which every device answers without authentication (8.3.11).
#[must_use]
pub fn clock_request() -> String {
    "<GetSystemDateAndTime xmlns=\"http://www.onvif.org/ver10/device/wsdl\"/>".to_owned()
}

/// Parses the clock of a response relative to ours; `now_s` is our time in seconds since 1970. `None` without a valid time.
#[must_use]
pub fn read_clock(answer: &Element, now_s: i64) -> Option<Clock> {
    let utc = answer.find("UTCDateTime")?;
    let number = |path: [&str; 2]| utc.text_at(&path)?.parse::<i16>().ok();
    let small = |path: [&str; 2]| i8::try_from(number(path)?).ok();
    // A leap second is replaced by the second before.
    let second = small(["Time", "Second"])?.min(59);
    let time = DateTime::new(
        number(["Date", "Year"])?,
        small(["Date", "Month"])?,
        small(["Date", "Day"])?,
        small(["Time", "Hour"])?,
        small(["Time", "Minute"])?,
        second,
        0,
    );
    let device_s = TimeZone::UTC.to_timestamp(time.ok()?).ok()?.as_second();
    Some(Clock { ahead_s: device_s - now_s })
}

/// Device information.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct DeviceFacts {
    /// Manufacturer.
    pub maker: String,
    /// Model.
    pub model: String,
    /// Firmware version.
    pub firmware: String,
}

/// Returns the request for the device information (8.3.1).
#[must_use]
pub fn facts_request() -> String {
    "<GetDeviceInformation xmlns=\"http://www.onvif.org/ver10/device/wsdl\"/>".to_owned()
}

/// Parses the device information.
///
/// # Errors
/// SOAP fault of the device.
pub fn read_facts(answer: &Element) -> Result<DeviceFacts, Fault> {
    if let Some(fault) = Fault::of(answer) {
        return Err(fault);
    }
    let facts = answer.find("GetDeviceInformationResponse");
    let text = |name: &str| -> String {
        facts.and_then(|facts| facts.text_at(&[name])).unwrap_or_default().chars().take(100).collect()
    };
    Ok(DeviceFacts { maker: text("Manufacturer"), model: text("Model"), firmware: text("FirmwareVersion") })
}

/// Returns the request for the scopes (8.3.13), which contain the device's name.
#[must_use]
pub fn scopes_request() -> String {
    "<GetScopes xmlns=\"http://www.onvif.org/ver10/device/wsdl\"/>".to_owned()
}

/// Returns the device's name from its scopes, if present.
#[must_use]
pub fn read_name(answer: &Element) -> Option<String> {
    let scopes = answer.find("GetScopesResponse")?;
    scope_value(scopes.all("Scopes").filter_map(|scope| scope.text_at(&["ScopeItem"])), "name")
}

/// Addresses of the media services of a device.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Capabilities {
    /// Media service.
    pub media: Option<String>,
    /// Media2 service, which has H.265 as well.
    pub media2: Option<String>,
}

/// Returns the request for all services (8.1.2.1).
#[must_use]
pub fn services_request() -> String {
    "<GetServices xmlns=\"http://www.onvif.org/ver10/device/wsdl\">\
     <IncludeCapability>false</IncludeCapability></GetServices>"
        .to_owned()
}

/// Returns the request for the capabilities (8.1.2.3), for devices before ONVIF 2.1.
#[must_use]
pub fn capabilities_request() -> String {
    "<GetCapabilities xmlns=\"http://www.onvif.org/ver10/device/wsdl\"><Category>All</Category></GetCapabilities>"
        .to_owned()
}

/// Parses the media services of a response to [`capabilities_request`].
///
/// # Errors
/// SOAP fault of the device.
pub fn read_capabilities(answer: &Element) -> Result<Capabilities, Fault> {
    if let Some(fault) = Fault::of(answer) {
        return Err(fault);
    }
    let capabilities = answer.find("GetCapabilitiesResponse").and_then(|answer| answer.child("Capabilities"));
    let address = |path: &[&str]| capabilities.and_then(|found| found.text_at(path)).map(str::to_owned);
    Ok(Capabilities {
        media: address(&["Media", "XAddr"]),
        media2: address(&["Extension", "Media2", "XAddr"]),
    })
}

/// Parses the media services of a response to [`services_request`].
///
/// # Errors
/// SOAP fault of the device.
pub fn read_services(answer: &Element) -> Result<Capabilities, Fault> {
    if let Some(fault) = Fault::of(answer) {
        return Err(fault);
    }
    let mut found = Capabilities::default();
    let Some(services) = answer.find("GetServicesResponse") else { return Ok(found) };
    for service in services.all("Service") {
        let address = service.text_at(&["XAddr"]).map(str::to_owned);
        match service.text_at(&["Namespace"]) {
            Some("http://www.onvif.org/ver10/media/wsdl") => found.media = address,
            Some("http://www.onvif.org/ver20/media/wsdl") => found.media2 = address,
            _ => {}
        }
    }
    Ok(found)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn clock(second: &str) -> Element {
        let text = format!(
            "<E><B><R><SystemDateAndTime><UTCDateTime><Time><Hour>7</Hour><Minute>50</Minute><Second>{second}</Second>\
             </Time><Date><Year>2010</Year><Month>9</Month><Day>16</Day></Date></UTCDateTime></SystemDateAndTime></R></B></E>"
        );
        Element::parse(text.as_bytes()).unwrap()
    }

    #[test]
    fn clock_is_relative_to_ours() {
        assert_eq!(read_clock(&clock("45"), 1_284_623_400), Some(Clock { ahead_s: 45 }));
        assert_eq!(read_clock(&clock("60"), 1_284_623_400), Some(Clock { ahead_s: 59 }));
        assert_eq!(read_clock(&clock("x"), 0), None);
        assert_eq!(read_clock(&Element::default(), 0), None);
    }

    #[test]
    fn both_media_services_are_found_by_their_namespaces() {
        let text = "<E><GetServicesResponse>\
            <Service><Namespace>http://www.onvif.org/ver10/media/wsdl</Namespace><XAddr>http://h/m1</XAddr></Service>\
            <Service><Namespace>http://www.onvif.org/ver20/media/wsdl</Namespace><XAddr>http://h/m2</XAddr></Service>\
            <Service><Namespace>http://www.onvif.org/ver20/ptz/wsdl</Namespace><XAddr>http://h/p</XAddr></Service>\
            </GetServicesResponse></E>";
        let found = read_services(&Element::parse(text.as_bytes()).unwrap()).unwrap();
        let expected = Capabilities { media: Some("http://h/m1".into()), media2: Some("http://h/m2".into()) };
        assert_eq!(found, expected);
    }

    #[test]
    fn media_service_is_found_in_the_capabilities() {
        let text = "<E><GetCapabilitiesResponse><Capabilities><Device><XAddr>http://h/d</XAddr></Device>\
            <Media><XAddr>http://h/m1</XAddr></Media></Capabilities></GetCapabilitiesResponse></E>";
        let found = read_capabilities(&Element::parse(text.as_bytes()).unwrap()).unwrap();
        assert_eq!(found, Capabilities { media: Some("http://h/m1".into()), media2: None });
        assert_eq!(read_capabilities(&Element::default()), Ok(Capabilities::default()));
    }

    #[test]
    fn name_is_in_the_scopes() {
        let text = "<E><GetScopesResponse><Scopes><ScopeDef>Fixed</ScopeDef><ScopeItem>onvif://www.onvif.org/type/video</ScopeItem>\
            </Scopes><Scopes><ScopeItem>onvif://www.onvif.org/name/Summit%20Mast</ScopeItem></Scopes></GetScopesResponse></E>";
        assert_eq!(read_name(&Element::parse(text.as_bytes()).unwrap()).as_deref(), Some("Summit Mast"));
        assert_eq!(read_name(&Element::default()), None);
    }

    #[test]
    fn device_information_is_optional() {
        let text =
            "<E><GetDeviceInformationResponse><Model>Fellside 2</Model></GetDeviceInformationResponse></E>";
        let facts = read_facts(&Element::parse(text.as_bytes()).unwrap()).unwrap();
        assert_eq!((facts.model.as_str(), facts.maker.as_str()), ("Fellside 2", ""));
    }
}
