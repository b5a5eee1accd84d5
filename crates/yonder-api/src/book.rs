//! Site book: all settings as one document.

use std::collections::BTreeMap;

use crate::enums::BookAction;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use yonder_core::DesiredState;

use crate::alerts::{NewAlert, NewContact};
use crate::destinations::NewDestination;
use crate::feeds::NewFeed;
use crate::patterns::Pattern;
use crate::platforms::NewPlatform;
use crate::record::FieldChange;
use crate::relays::NewRelay;
use crate::signposts::NewSignpost;
use crate::uplinks::NewUplink;

/// All settings. An omitted secret is kept.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SiteBook {
    /// Uplinks.
    #[serde(default)]
    pub uplinks: Vec<NewUplink>,
    /// User-defined rule sheets.
    #[serde(default)]
    pub platforms: Vec<NewPlatform>,
    /// Address patterns.
    #[serde(default)]
    pub patterns: Vec<Pattern>,
    /// Feeds.
    #[serde(default)]
    pub feeds: Vec<NewFeed>,
    /// Destinations.
    #[serde(default)]
    pub destinations: Vec<NewDestination>,
    /// Relays.
    #[serde(default)]
    pub relays: Vec<NewRelay>,
    /// Signposts.
    #[serde(default)]
    pub signposts: Vec<NewSignpost>,
    /// Contacts.
    #[serde(default)]
    pub contacts: Vec<NewContact>,
    /// Alert rules.
    #[serde(default)]
    pub alerts: Vec<NewAlert>,
    /// Desired states of relays by name: `on`, `off` or `hold`; those of omitted relays are kept.
    #[serde(default)]
    pub wanted: BTreeMap<String, String>,
    /// Secrets that the service has stored for these records. Output only.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub sealed: Vec<SealedSecret>,
}

/// Reference to a stored secret.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SealedSecret {
    /// `feed`, `destination` or `contact`.
    pub kind: String,
    /// Name of the record.
    pub name: String,
    /// Name of the field.
    pub field: String,
}

/// Book to be applied or compared.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct BookRequest {
    /// Book.
    pub book: SiteBook,
    /// Remove records that the book does not contain.
    #[serde(default)]
    pub prune: bool,
    /// Only return the changes, without making them.
    #[serde(default)]
    pub look_only: bool,
    /// Expected revision of the records: with another one nothing is changed (412).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub expected_revision: Option<String>,
}

/// Changes by a book.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
pub struct BookOutcome {
    /// Changes, in the order in which they are made.
    pub changes: Vec<BookChange>,
    /// The changes were made.
    pub applied: bool,
    /// Relays that are off and should be on or on hold: they are started one by one, each after its preflight.
    pub to_start: Vec<ToStart>,
    /// Revision of the records before the changes.
    #[serde(default)]
    pub revision: String,
}

/// Changed record.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct BookChange {
    /// Kind of the record, such as `feed`.
    pub kind: String,
    /// Name of the record.
    pub name: String,
    /// `added`, `changed` or `removed`.
    #[schema(value_type = BookAction)]
    pub what: String,
    /// Changed fields.
    pub fields: Vec<FieldChange>,
}

/// Relay to be started.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ToStart {
    /// Name of the relay.
    pub relay: String,
    /// `on` or `hold`.
    pub wanted: DesiredState,
}

/// Refused record of a book.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct BookFault {
    /// Kind of the record.
    pub kind: String,
    /// Name of the record.
    pub name: String,
    /// Stable code.
    pub code: String,
    /// Message, in one sentence.
    pub detail: String,
    /// Next step.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hint: Option<String>,
    /// Refused field, if it is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub field: Option<String>,
}
