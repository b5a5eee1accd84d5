//! Alerts, and the contacts that they notify.

use crate::enums::NotificationKind;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::secret::Secret;

/// Transport security of a connection to a mail server.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum MailSecurity {
    /// TLS from the first byte (RFC 8314).
    #[default]
    Tls,
    /// `STARTTLS` (RFC 3207).
    Starttls,
    /// No TLS: for a mail server on the same machine or network.
    None,
}

/// How a contact is notified. Without any secret.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "type", rename_all = "lowercase", deny_unknown_fields)]
pub enum Channel {
    /// A JSON document is posted, signed with the contact's secret.
    Webhook {
        /// `https://` or `http://` address.
        url: String,
    },
    /// An e-mail is sent.
    Email {
        /// Mail server, as `host` or `host:port`.
        server: String,
        /// Transport security of the connection to the mail server.
        #[serde(default)]
        security: MailSecurity,
        /// Sender.
        from: String,
        /// Recipients.
        to: Vec<String>,
        /// User at the mail server; the contact's secret is the password.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        user: Option<String>,
    },
}

/// A contact to be added.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewContact {
    /// Name, unique among contacts.
    pub name: String,
    /// How it is notified.
    pub channel: Channel,
    /// Key of the webhook's signature (made here by default), or the mail server's password.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub secret: Option<Secret>,
    /// Hours between signs of life, the first at each start; none by default, or for 0.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sign_of_life_h: Option<u32>,
}

/// A change of a contact; what is left out stays.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ContactChange {
    /// New name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// How it is notified.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub channel: Option<Channel>,
    /// Another secret.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub secret: Option<Secret>,
    /// Hours from one sign of life to the next; 0 for none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sign_of_life_h: Option<u32>,
}

/// A contact.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Contact {
    /// Name.
    pub name: String,
    /// Stable id: it stays when the name changes.
    #[serde(default)]
    pub id: String,
    /// Number that each change raises. A change with `If-Match: "<revision>"` is refused (412) once it is another one.
    #[serde(default)]
    pub revision: i64,
    /// How it is notified.
    pub channel: Channel,
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

/// A contact that was added, with the secret that was made for it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AddedContact {
    /// The contact.
    pub contact: Contact,
    /// Signing secret of its messages; returned once, and only if it was generated.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub secret: Option<Secret>,
}

/// An alert to be added.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewAlert {
    /// Name, unique among alerts.
    pub name: String,
    /// Condition, like `down 60s`, `rate-below 500kbit/s 30s`, `disk-low` or `backup-old 7d`.
    pub when: String,
    /// Only about the relay, feed, destination or uplink of this name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub about: Option<String>,
    /// Names of the contacts; all of them by default.
    #[serde(default)]
    pub to: Vec<String>,
    /// Seconds after which an open alert is repeated; 14 400 by default.
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
    /// Condition.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub when: Option<String>,
    /// Only about this name; empty for everything.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub about: Option<String>,
    /// Names of the contacts; empty for all of them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<Vec<String>>,
    /// Seconds after which an open alert is repeated.
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
    /// Condition.
    pub when: String,
    /// Only about this name.
    pub about: Option<String>,
    /// Names of the contacts; empty for all of them.
    pub to: Vec<String>,
    /// Seconds after which an open alert is repeated.
    pub repeat_s: u32,
    /// Open alerts of the rule.
    pub open: Vec<OpenAlert>,
    /// End of a mute, during which no notification is sent.
    #[serde(default)]
    #[schema(format = DateTime)]
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

/// Open alert.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct OpenAlert {
    /// Subject.
    pub subject: String,
    /// Last message.
    pub message: String,
    /// When it was raised.
    #[schema(format = DateTime)]
    pub since: String,
    /// A person has acknowledged it: it is not repeated.
    #[serde(default)]
    pub acknowledged: bool,
}

/// Message to a webhook.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AlertMessage {
    /// `raised`, `still`, `over`, `alive`, `test`, or `several` for notifications that had to wait and are joined.
    #[schema(value_type = NotificationKind)]
    pub kind: String,
    /// Name of the alert.
    pub alert: String,
    /// Subject.
    pub subject: String,
    /// One or two sentences.
    pub message: String,
    /// When it was raised.
    #[schema(format = DateTime)]
    pub since: String,
    /// When this was sent.
    #[schema(format = DateTime)]
    pub at: String,
    /// The notifications that are joined in this one.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[schema(no_recursion)]
    pub messages: Vec<Self>,
}
