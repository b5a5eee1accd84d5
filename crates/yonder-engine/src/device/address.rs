//! Addresses of device services.

use url::Url;

/// Default path of the device service (ONVIF Core, 5.1.1).
const DEFAULT_PATH: &str = "/onvif/device_service";

/// Returns the default address of the device service of a host.
pub(crate) fn default_service(host: &str, port: Option<u16>) -> String {
    let authority = if host.contains(':') { format!("[{host}]") } else { host.to_owned() };
    let port = port.map(|port| format!(":{port}")).unwrap_or_default();
    format!("http://{authority}{port}{DEFAULT_PATH}")
}

/// Replaces the host of a web address; `None` for anything else.
pub(crate) fn with_host(address: &str, host: &str) -> Option<String> {
    let mut url = Url::parse(address).ok().filter(Url::has_host)?;
    let host = if host.contains(':') { format!("[{host}]") } else { host.to_owned() };
    url.set_host(Some(&host)).ok()?;
    Some(url.into())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("http://192.168.77.20/onvif/device", "192.0.2.7", "http://192.0.2.7/onvif/device")]
    #[case("http://192.168.77.20:8080/x", "192.0.2.7", "http://192.0.2.7:8080/x")]
    #[case("http://[fe80::1]:8080/x", "192.0.2.7", "http://192.0.2.7:8080/x")]
    #[case("https://cam.local", "2001:db8::7", "https://[2001:db8::7]/")]
    fn host_is_replaced_and_port_is_kept(#[case] reported: &str, #[case] host: &str, #[case] here: &str) {
        assert_eq!(with_host(reported, host).as_deref(), Some(here));
    }
}
