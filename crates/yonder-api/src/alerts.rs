//! Alerts, and who is told.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::secret::Secret;

/// How mail travels to its server.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum MailSecurity {
    /// TLS from the first byte.
    #[default]
    Tls,
    /// TLS after a word in clear.
    Starttls,
    /// In clear: within a machine or a network of one's own.
    None,
}

/// Where and how somebody is told. Without any secret.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "by", rename_all = "lowercase", deny_unknown_fields)]
pub enum Way {
    /// A JSON document is posted, signed with the receiver's secret.
    Web {
        /// `https://` or `http://` address.
        url: String,
    },
    /// A mail is sent.
    Mail {
        /// Mail server, as `host` or `host:port`.
        server: String,
        /// How the mail travels there.
        #[serde(default)]
        security: MailSecurity,
        /// Who it comes from.
        from: String,
        /// Who it goes to.
        to: Vec<String>,
        /// Who signs in to the mail server, if anybody; the receiver's secret is the password.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        user: Option<String>,
    },
}

/// A receiver to be added.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewReceiver {
    /// Name, unique among receivers.
    pub name: String,
    /// Where and how.
    pub way: Way,
    /// What web messages are signed with (one is made where none is given), or the mail server's password.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub secret: Option<Secret>,
    /// Hours from one sign of life to the next, the first at each start; none where nothing is said, or for 0.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sign_of_life_h: Option<u32>,
}

/// A change of a receiver; what is left out stays.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ReceiverChange {
    /// New name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// Where and how.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub way: Option<Way>,
    /// Another secret.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub secret: Option<Secret>,
    /// Hours from one sign of life to the next; 0 for none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sign_of_life_h: Option<u32>,
}

/// A receiver.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Receiver {
    /// Name.
    pub name: String,
    /// Stable id: it stays when the name changes.
    #[serde(default)]
    pub id: String,
    /// Number that each change raises. A change with `If-Match: "<revision>"` is refused (412) once it is another one.
    #[serde(default)]
    pub revision: i64,
    /// Where and how.
    pub way: Way,
    /// There is a secret.
    pub has_secret: bool,
    /// The stored secret cannot be opened and has to be set again; until then nothing is delivered.
    #[serde(default)]
    pub secret_lost: bool,
    /// Hours from one sign of life to the next.
    #[serde(default)]
    pub sign_of_life_h: Option<u32>,
    /// Notifications that wait for delivery.
    #[serde(default)]
    pub undelivered: usize,
}

/// A receiver that was added, with the secret that was made for it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AddedReceiver {
    /// The receiver.
    pub receiver: Receiver,
    /// What its messages are signed with; shown this once, and only if it was made here.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub secret: Option<Secret>,
}

/// An alert to be added.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewAlert {
    /// Name, unique among alerts.
    pub name: String,
    /// What it is raised for, like `down 60s`, `rate-below 500kbit/s 30s`, `disk-low` or `backup-old 7d`.
    pub when: String,
    /// Only about the relay, feed, destination or uplink of this name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub about: Option<String>,
    /// Names of those who are told; all where nothing is said.
    #[serde(default)]
    pub to: Vec<String>,
    /// While it goes on, it is told again after so many seconds; 14 400 where nothing is said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub repeat_s: Option<u32>,
}

/// A change of an alert; what is left out stays.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct AlertChange {
    /// New name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// What it is raised for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub when: Option<String>,
    /// Only about this name; empty for everything.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub about: Option<String>,
    /// Names of those who are told; none for all.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<Vec<String>>,
    /// While it goes on, it is told again after so many seconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub repeat_s: Option<u32>,
}

/// An alert.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Alert {
    /// Name.
    pub name: String,
    /// Stable id: it stays when the name changes.
    #[serde(default)]
    pub id: String,
    /// Number that each change raises. A change with `If-Match: "<revision>"` is refused (412) once it is another one.
    #[serde(default)]
    pub revision: i64,
    /// What it is raised for.
    pub when: String,
    /// Only about this name.
    pub about: Option<String>,
    /// Names of those who are told; none for all.
    pub to: Vec<String>,
    /// While it goes on, it is told again after so many seconds.
    pub repeat_s: u32,
    /// What it goes on about now.
    pub open: Vec<OpenAlert>,
    /// End of a mute, during which no notification is sent.
    #[serde(default)]
    pub muted_until: Option<String>,
}

/// Acknowledgement of an open alert.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Acknowledge {
    /// Subject to acknowledge; all open subjects of the alert by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub subject: Option<String>,
}

/// Duration of a mute.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Mute {
    /// Seconds; 0 notifies again, 2 678 400 (31 days) at most.
    pub for_s: u32,
}

/// An alert that goes on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct OpenAlert {
    /// What it is about.
    pub subject: String,
    /// What was said last.
    pub message: String,
    /// When it was raised.
    pub since: String,
    /// A person has acknowledged it: it is not repeated.
    #[serde(default)]
    pub acknowledged: bool,
}

/// What a web receiver is sent.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AlertMessage {
    /// `raised`, `still`, `over`, `alive`, `test`, or `several` for notifications that had to wait and are joined.
    pub kind: String,
    /// Name of the alert.
    pub alert: String,
    /// What it is about.
    pub subject: String,
    /// One or two sentences.
    pub message: String,
    /// When it was raised.
    pub since: String,
    /// When this was sent.
    pub at: String,
    /// The notifications that are joined in this one.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[schema(no_recursion)]
    pub messages: Vec<Self>,
}
