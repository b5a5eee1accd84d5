//! SOAP 1.2 envelopes and faults.

use crate::security::DeviceAccount;
use crate::xml::Element;

/// SOAP fault.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("the device refused: {reason}")]
pub struct Fault {
    /// Innermost code, such as `NotAuthorized`.
    pub code: String,
    /// Reason, as sent by the device.
    pub reason: String,
}

impl Fault {
    /// Returns the fault of a response, if it is one.
    #[must_use]
    pub fn of(answer: &Element) -> Option<Self> {
        let fault = answer.find("Fault")?;
        let innermost = fault.find("Subcode").and_then(|subcode| subcode.text_at(&["Value"]));
        let code = innermost.or_else(|| fault.text_at(&["Code", "Value"])).unwrap_or_default();
        let reason = fault.text_at(&["Reason", "Text"]).or_else(|| fault.text_at(&["faultstring"]));
        Some(Self {
            code: code.rsplit(':').next().unwrap_or_default().chars().take(64).collect(),
            reason: reason.unwrap_or("without a reason").chars().take(200).collect(),
        })
    }

    /// Returns true if the device requires authentication.
    #[must_use]
    pub fn wants_sign_in(&self) -> bool {
        self.code == "NotAuthorized" || self.code == "FailedAuthentication"
    }
}

/// Returns an envelope around `body`, with a security header for the account, if given.
#[must_use]
pub fn envelope(body: &str, account: Option<&DeviceAccount>) -> String {
    let header = account.map(DeviceAccount::header).unwrap_or_default();
    format!(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\
         <s:Envelope xmlns:s=\"http://www.w3.org/2003/05/soap-envelope\">\
         <s:Header>{header}</s:Header><s:Body>{body}</s:Body></s:Envelope>"
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn fault_has_the_innermost_code_and_the_reason() {
        let answer = "<e:Envelope><e:Body><e:Fault><e:Code><e:Value>e:Sender</e:Value><e:Subcode>\
            <e:Value>ter:NotAuthorized</e:Value></e:Subcode></e:Code><e:Reason><e:Text>who are you</e:Text>\
            </e:Reason></e:Fault></e:Body></e:Envelope>";
        let fault = Fault::of(&Element::parse(answer.as_bytes()).unwrap()).unwrap();
        assert_eq!((fault.code.as_str(), fault.reason.as_str()), ("NotAuthorized", "who are you"));
        assert!(fault.wants_sign_in());
        assert_eq!(Fault::of(&Element::parse(b"<a/>").unwrap()), None);
    }
}
