//! States of a record before and after a change, for its audit entry.

use serde_json::{Map, Value, json};
use yonder_api::FieldChange;
use yonder_store::{Identity, RecordKind, SealedSecret};

use super::Records;
use super::book::{differences, table};

use crate::error::ServiceError;
use crate::views::role_facts;

/// Settings of a record, and its sealed secrets.
#[derive(Debug)]
pub struct Snapshot {
    /// ID and revision.
    pub identity: Option<Identity>,
    fields: Map<String, Value>,
    secrets: Vec<(&'static str, Option<SealedSecret>)>,
}

impl Snapshot {
    /// Returns the name of the record.
    pub fn name(&self) -> Option<String> {
        self.fields.get("name").and_then(Value::as_str).map(str::to_owned)
    }

    /// Returns the fields that differ between two states; secrets by name only.
    pub fn differences(before: Option<&Self>, after: Option<&Self>) -> Vec<FieldChange> {
        if before.is_none() && after.is_none() {
            return Vec::new();
        }
        let empty = Map::new();
        let new_secrets = new_secrets(before, after);
        let fields = after.map_or(&empty, |after| &after.fields);
        let mut fields = differences(before.map(|before| &before.fields), fields, &new_secrets);
        fields.extend(renamed(before, after));
        fields
    }
}

impl Records {
    /// Returns a record without its secrets; `None` if it does not exist, and for kinds without settings.
    ///
    /// # Errors
    /// If the records cannot be read.
    pub fn snapshot(&self, kind: RecordKind, name: &str) -> Result<Option<Snapshot>, ServiceError> {
        let identity = self.store.identity(kind, name)?;
        if identity.is_none() && kind != RecordKind::Invitation {
            return Ok(None);
        }
        let mut secrets = Vec::new();
        let fields = match kind {
            RecordKind::Feed => {
                let stored = self.store.feed(name)?;
                secrets.push(("password", stored.password));
                secrets.push(("address", stored.address_secrets));
                table(&self.exported_feed(name)?)?
            }
            RecordKind::Destination => {
                let stored = self.store.destination(name)?;
                secrets.push(("key", stored.key.map(|key| key.secret)));
                secrets.push(("passphrase", stored.passphrase));
                secrets.push(("address", stored.address_secrets));
                table(&self.exported_destination(name)?)?
            }
            RecordKind::Relay => {
                let stored = self.store.relay(name)?;
                let mut fields = table(&self.exported_relay(name)?)?;
                fields.insert("wanted".to_owned(), json!(stored.wanted.as_str()));
                fields.insert("holding_picture".to_owned(), json!(stored.has_picture));
                fields
            }
            RecordKind::Person => {
                let mut fields = Map::new();
                fields.insert("role".to_owned(), json!(role_facts(self.store.person(name)?.role)));
                fields
            }
            RecordKind::Pattern => table(&self.exported_pattern(name)?)?,
            RecordKind::Platform => match self.exported_platform(name)? {
                Some(sheet) => table(&sheet)?,
                None => return Ok(None),
            },
            RecordKind::Uplink => table(&self.exported_uplink(name)?)?,
            RecordKind::Signpost => table(&self.exported_signpost(name)?)?,
            RecordKind::Alert => table(&self.exported_alert(name)?)?,
            RecordKind::Contact => {
                let stored = self.store.contact(name)?;
                secrets.push(("secret", stored.secret));
                secrets.push(("address", stored.address));
                table(&self.exported_contact(name)?)?
            }
            RecordKind::Token | RecordKind::Invitation | RecordKind::Session | RecordKind::Service => {
                Map::new()
            }
        };
        Ok(Some(Snapshot { identity, fields, secrets }))
    }
}

/// Returns the names of changed secrets.
fn new_secrets(before: Option<&Snapshot>, after: Option<&Snapshot>) -> Vec<&'static str> {
    let Some(after) = after else { return Vec::new() };
    let known = |name: &str| {
        let mut secrets = before.into_iter().flat_map(|before| &before.secrets);
        secrets.find(|(other, _)| *other == name).and_then(|(_, secret)| secret.as_ref())
    };
    let is_new = |(name, secret): &&(&'static str, Option<SealedSecret>)| secret.as_ref() != known(name);
    after.secrets.iter().filter(is_new).map(|(name, _)| *name).collect()
}

/// Returns the new name of a renamed record.
fn renamed(before: Option<&Snapshot>, after: Option<&Snapshot>) -> Option<FieldChange> {
    let (before, after) = (before?.name()?, after?.name()?);
    let field = "name".to_owned();
    (before != after).then_some(FieldChange { field, before: Some(before), after: Some(after) })
}
