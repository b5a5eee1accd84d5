//! Message authentication by a user name token (WS-Security `UsernameToken` Profile 1.0, `PasswordDigest`).
//!
//! The digest contains a creation time, and devices refuse one that deviates from their own clock. So the device's
//! clock, which needs no authentication, is requested first.

use quick_xml::escape::escape;
use std::fmt;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use secrecy::{ExposeSecret as _, SecretString};
use sha1::{Digest as _, Sha1};

/// Clock of a device, relative to ours.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Clock {
    /// Seconds by which the device's clock is ahead.
    pub ahead_s: i64,
}

/// Credentials and creation time of a message.
#[derive(Clone)]
pub struct DeviceAccount {
    /// User name.
    pub user: String,
    /// Password.
    pub password: SecretString,
    /// Creation time by the device's clock, in seconds since 1970.
    pub device_time_s: i64,
    /// Random nonce of the message.
    pub nonce: [u8; 16],
}

impl fmt::Debug for DeviceAccount {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("DeviceAccount").field("user", &self.user).finish_non_exhaustive()
    }
}

impl DeviceAccount {
    /// Returns the security header.
    pub(crate) fn header(&self) -> String {
        let created = text_of(self.device_time_s);
        let digest = password_digest(&self.nonce, &created, self.password.expose_secret());
        format!(
            "<w:Security s:mustUnderstand=\"true\" xmlns:w=\"http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd\">\
             <w:UsernameToken><w:Username>{}</w:Username>\
             <w:Password Type=\"http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-username-token-profile-1.0#PasswordDigest\">{digest}</w:Password>\
             <w:Nonce EncodingType=\"http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-soap-message-security-1.0#Base64Binary\">{}</w:Nonce>\
             <u:Created xmlns:u=\"http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-utility-1.0.xsd\">{created}</u:Created>\
             </w:UsernameToken></w:Security>",
            escape(self.user.as_str()),
            STANDARD.encode(self.nonce)
        )
    }
}

/// Returns Base64 ( SHA-1 ( nonce + created + password ) ), section 3.1.
#[must_use]
pub fn password_digest(nonce: &[u8], created: &str, password: &str) -> String {
    let mut hash = Sha1::new();
    hash.update(nonce);
    hash.update(created.as_bytes());
    hash.update(password.as_bytes());
    STANDARD.encode(hash.finalize())
}

/// Formats seconds since 1970 as UTC; times out of range become 1970.
fn text_of(seconds: i64) -> String {
    jiff::Timestamp::from_second(seconds).unwrap_or_default().to_string()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// ONVIF Application Programmer's Guide, 6.1.1.3.
    #[test]
    fn the_guides_example_digest_is_made() {
        let nonce = STANDARD.decode("LKqI6G/AikKCQrN0zqZFlg==").unwrap();
        let made = password_digest(&nonce, "2010-09-16T07:50:45Z", "userpassword");
        assert_eq!(made, "tuOSpGlFlIXsozq4HFNeeGeFLEI=");
    }

    #[test]
    fn the_header_carries_the_devices_time_and_never_the_password() {
        let account = DeviceAccount {
            user: "rail & road".into(),
            password: "planted-word".into(),
            device_time_s: 1_284_623_445,
            nonce: [7; 16],
        };
        let header = account.header();
        assert!(header.contains("2010-09-16T07:50:45Z") && header.contains("rail &amp; road"), "{header}");
        assert!(!format!("{header}{account:?}").contains("planted"));
    }
}
