//! The site book: everything that is kept, as one document.

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
use crate::relays::NewRelay;
use crate::uplinks::NewUplink;

/// Everything that is kept. A secret that is left out stays as it is.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SiteBook {
    /// Uplinks.
    #[serde(default)]
    pub uplinks: Vec<NewUplink>,
    /// Rule sheets of one's own.
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
    /// Contacts.
    #[serde(default)]
    pub contacts: Vec<NewContact>,
    /// Alert rules.
    #[serde(default)]
    pub alerts: Vec<NewAlert>,
    /// Desired states of relays by name: `on`, `off` or `hold`; relays that are left out keep theirs.
    #[serde(default)]
    pub wanted: BTreeMap<String, String>,
    /// Secrets that the service keeps of these records. Output only.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub sealed: Vec<SealedSecret>,
}

/// A secret that the service keeps.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SealedSecret {
    /// `feed`, `destination` or `contact`.
    pub kind: String,
    /// Name of the record.
    pub name: String,
    /// Name of the field.
    pub field: String,
}

/// A book to be brought into effect, or only looked at.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct BookRequest {
    /// The book.
    pub book: SiteBook,
    /// Remove what is kept and not in the book.
    #[serde(default)]
    pub prune: bool,
    /// Change nothing, and tell what would be changed.
    #[serde(default)]
    pub look_only: bool,
    /// Revision of the records that the plan was made against: with another one nothing is changed (412).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub expected_revision: Option<String>,
}

/// Changes by a book.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
pub struct BookOutcome {
    /// The changes, in the order in which they are made.
    pub changes: Vec<BookChange>,
    /// They were made.
    pub applied: bool,
    /// Relays that are off, and wanted on or on hold: they are started one by one, each after its preflight.
    pub to_start: Vec<ToStart>,
    /// Revision of the records before these changes.
    #[serde(default)]
    pub revision: String,
}

/// One record that is changed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct BookChange {
    /// Kind of record, like `feed`.
    pub kind: String,
    /// Its name.
    pub name: String,
    /// `added`, `changed` or `removed`.
    #[schema(value_type = BookAction)]
    pub what: String,
    /// Fields that are different.
    pub fields: Vec<FieldChange>,
}

/// A field that is different.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FieldChange {
    /// Its name.
    pub field: String,
    /// Value before; null for none, and for a secret.
    pub before: Option<String>,
    /// Value after; null for none, and for a secret.
    pub after: Option<String>,
}

/// A relay to be started.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ToStart {
    /// Its name.
    pub relay: String,
    /// `on` or `hold`.
    pub wanted: DesiredState,
}

/// A record of a book that is refused.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct BookFault {
    /// Kind of record.
    pub kind: String,
    /// Its name.
    pub name: String,
    /// Stable code.
    pub code: String,
    /// One sentence.
    pub detail: String,
    /// Next step.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hint: Option<String>,
    /// The field that was refused, where it is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub field: Option<String>,
}
