//! The one path of every change: role, revision, transaction with its audit entry, then effects on what runs.
//!
//! The API, the site book and the schedule all come this way. A change and its audit entry are stored together or not at all;
//! the engine is updated only afterwards. Stop and hold act on the engine first, and are not lost on a full disk.

use std::sync::Arc;
use std::time::SystemTime;

use serde_json::{Map, Value, json};
use yonder_api::FieldChange;
use yonder_core::Role;
use yonder_store::{AuditEntry, Deed, Fate, Identity, Kind, SealedSecret, StoreError};

use super::book::{differences, table};
use super::people::role_facts;
use super::preflights::run_blocking;
use super::rename::Rename;
use super::{Service, lock};
use crate::error::ServiceError;
use crate::time;

/// Audit entries that may wait in memory for the disk. Those beyond that are in the log alone.
const MAX_UNWRITTEN: usize = 10_000;

/// Origin of a change.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Origin {
    /// The web console.
    Console,
    /// The command line.
    CommandLine,
    /// Another program, by the API.
    Api,
    /// A site book.
    SiteBook,
    /// An on-air window.
    Schedule,
}

impl Origin {
    /// Returns the name used in the API and the records.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Console => "console",
            Self::CommandLine => "command-line",
            Self::Api => "api",
            Self::SiteBook => "site-book",
            Self::Schedule => "schedule",
        }
    }
}

/// Author and origin of a change.
#[derive(Debug, Clone)]
pub struct Actor {
    /// Name of the person, or of the token.
    pub name: String,
    /// Person who is responsible: oneself, or the maker of the token. `None` for the local token and the service.
    pub person: Option<String>,
    /// Role, which limits the changes.
    pub role: Role,
    /// Origin.
    pub origin: Origin,
    /// Network address.
    pub address: Option<String>,
}

impl Actor {
    /// The service itself, for what its clock does.
    pub(crate) fn schedule() -> Self {
        Self {
            name: "schedule".to_owned(),
            person: None,
            role: Role::Keeper,
            origin: Origin::Schedule,
            address: None,
        }
    }
}

/// A change that is asked for.
#[derive(Debug, Clone)]
pub struct Change {
    /// Author.
    pub actor: Actor,
    /// Role that it needs.
    pub needs: Role,
    /// Action, like `changed`.
    pub action: &'static str,
    /// Kind of the record.
    pub kind: Kind,
    /// Name of the record.
    pub name: String,
    /// Revision that the record must have; `None` changes whatever is there.
    pub expected_revision: Option<i64>,
}

/// A record at one moment: its settings, and its secrets as they are stored.
#[derive(Debug)]
struct Snapshot {
    identity: Option<Identity>,
    fields: Map<String, Value>,
    secrets: Vec<(&'static str, Option<SealedSecret>)>,
}

impl Snapshot {
    fn name(&self) -> Option<String> {
        self.fields.get("name").and_then(Value::as_str).map(str::to_owned)
    }
}

impl Service {
    /// Makes a change of a record.
    ///
    /// # Errors
    /// [`ServiceError::RoleNeeded`], [`ServiceError::Stale`] for a record of another revision, what `act` failed with, or when
    /// the records cannot be written; then nothing is changed.
    pub fn execute<T>(
        &self,
        change: &Change,
        act: impl FnOnce(&Self) -> Result<T, ServiceError>,
    ) -> Result<T, ServiceError> {
        check_role(change)?;
        // As names are stored.
        let asked = change.name.trim();
        let _changing = self.change();
        let mut is_removed = false;
        let mut names = None;
        let value = self.together(|| {
            let before = self.snapshot(change.kind, asked)?;
            check_revision(change, before.as_ref())?;
            let value = act(self)?;
            let uid = before.as_ref().and_then(|before| before.identity.as_ref());
            let name = match uid {
                Some(identity) => self.store.name_of(change.kind, &identity.uid)?,
                None => None,
            };
            let after = self.snapshot(change.kind, name.as_deref().unwrap_or(asked))?;
            is_removed = before.is_some() && after.is_none();
            names = before.as_ref().and_then(Snapshot::name).zip(after.as_ref().and_then(Snapshot::name));
            self.add_audit(&audit_entry(change, before.as_ref(), after.as_ref()))?;
            Ok(Fate::Keep(value))
        })?;
        if let Some((old, new)) = names.filter(|(old, new)| old != new) {
            self.follow_rename(Rename { kind: change.kind, old: &old, new: &new });
        }
        if matches!(change.kind, Kind::Person | Kind::Token | Kind::Session | Kind::Invitation) {
            self.forget_sign_ins();
        }
        log(change);
        if is_removed {
            self.follow_removal(change.kind);
        }
        self.tell_lines();
        Ok(value)
    }

    /// Makes a change that protects: `act` works on the engine first. What the disk does not take is kept in memory by
    /// `remember`, and its audit entry is stored later.
    ///
    /// # Errors
    /// As [`Service::execute`], but for a disk that is full or locked.
    pub fn execute_protective<T>(
        &self,
        change: &Change,
        act: impl FnOnce(&Self) -> Result<T, ServiceError>,
        remember: impl FnOnce(&Self) -> Result<T, ServiceError>,
    ) -> Result<T, ServiceError> {
        match self.execute(change, act) {
            Err(ServiceError::Store(error)) if error.is_of_disk() => {
                tracing::error!(%error, name = change.name, action = change.action, "change kept in memory");
                let value = remember(self)?;
                self.keep_in_memory(audit_entry(change, None, None));
                log(change);
                Ok(value)
            }
            done => done,
        }
    }

    /// Checks role and revision of a change before something that cannot be undone is done for it. Records that cannot be read stop
    /// nothing.
    ///
    /// # Errors
    /// [`ServiceError::RoleNeeded`], [`ServiceError::Stale`].
    pub fn check_before(&self, change: &Change) -> Result<(), ServiceError> {
        check_role(change)?;
        let Some(expected) = change.expected_revision else { return Ok(()) };
        let present = self.store.identity(change.kind, change.name.trim()).ok().flatten();
        if present.is_none_or(|present| present.revision == expected) {
            return Ok(());
        }
        Err(ServiceError::Stale { kind: change.kind, name: change.name.clone() })
    }

    /// Records something that changes no record, like a revealed key: in the audit trail and the logbook.
    pub fn audit(&self, change: &Change) {
        self.keep_audit_of_fields(change, &[]);
    }

    /// The same from an async task.
    ///
    /// # Cancel safety
    /// When dropped, it is recorded all the same.
    pub async fn audit_in_background(self: &Arc<Self>, change: Change) {
        let service = Arc::clone(self);
        let audited = run_blocking(move || {
            service.audit(&change);
            Ok(())
        });
        if let Err(error) = audited.await {
            tracing::error!(%error, "an audit entry is lost");
        }
    }

    /// Records a change that was made within a site book, in the transaction of that book.
    pub(super) fn audit_fields(&self, change: &Change, fields: &[FieldChange]) -> Result<(), ServiceError> {
        let mut entry = audit_entry(change, None, None);
        entry.uid = self.store.identity(change.kind, &change.name)?.map(|identity| identity.uid);
        entry.fields = serde_json::to_string(fields).unwrap_or_default();
        self.add_audit(&entry)?;
        log(change);
        Ok(())
    }

    /// Stores an audit entry outside a transaction of a change, with the fields that were changed.
    pub(super) fn keep_audit_of_fields(&self, change: &Change, fields: &[FieldChange]) {
        let mut entry = audit_entry(change, None, None);
        let identity = self.store.identity(change.kind, &change.name).ok().flatten();
        entry.uid = identity.map(|identity| identity.uid);
        entry.fields = serde_json::to_string(fields).unwrap_or_default();
        self.keep_audit(entry);
    }

    /// Stores an audit entry; what the disk does not take is stored later.
    pub(super) fn keep_audit(&self, entry: AuditEntry) {
        tracing::info!(who = entry.who, action = entry.action, kind = entry.kind, name = entry.name, "audit");
        if let Err(error) = self.store.together(|| self.add_audit(&entry).map(Fate::Keep)) {
            tracing::error!(%error, "an audit entry is kept in memory");
            self.keep_in_memory(entry);
        }
        if !self.postpones() {
            self.tell_lines();
        }
    }

    fn keep_in_memory(&self, entry: AuditEntry) {
        let mut entries = lock(&self.unwritten_audit);
        if entries.len() >= MAX_UNWRITTEN {
            let AuditEntry { who, action, kind, name, .. } = entries.remove(0);
            tracing::error!(
                who,
                action,
                kind,
                name,
                "too many audit entries wait for the disk, the oldest is lost"
            );
        }
        entries.push(entry);
    }

    fn add_audit(&self, entry: &AuditEntry) -> Result<(), StoreError> {
        self.store.add_audit(entry)?;
        self.store.record_deed(&Deed {
            at_ms: entry.at_ms,
            who: Some(entry.who.clone()),
            what: entry.action.clone(),
            kind: Kind::from_word(&entry.kind).unwrap_or(Kind::Service),
            name: entry.name.clone(),
            detail: entry.detail.clone(),
        })
    }

    /// Stores what the disk did not take before: desired states, and audit entries.
    ///
    /// # Errors
    /// When the records cannot be written; then it stays in memory.
    pub(super) fn write_kept_changes(&self) -> Result<(), ServiceError> {
        if self.store.save_wanted()? > 0 {
            tracing::info!("desired states have been stored");
            self.refresh_relays()?;
        }
        let entries = std::mem::take(&mut *lock(&self.unwritten_audit));
        if entries.is_empty() {
            return Ok(());
        }
        let written = self.store.together(|| {
            entries.iter().try_for_each(|entry| self.add_audit(entry))?;
            Ok::<_, StoreError>(Fate::Keep(()))
        });
        if written.is_err() {
            let mut later = lock(&self.unwritten_audit);
            let since = std::mem::replace(&mut *later, entries);
            later.extend(since);
        } else {
            self.tell_lines();
        }
        Ok(written?)
    }

    /// Returns a record without its secrets; `None` for one that is not there, and for kinds without settings.
    fn snapshot(&self, kind: Kind, name: &str) -> Result<Option<Snapshot>, ServiceError> {
        let identity = self.store.identity(kind, name)?;
        if identity.is_none() && kind != Kind::Invitation {
            return Ok(None);
        }
        let mut secrets = Vec::new();
        let fields = match kind {
            Kind::Feed => {
                let stored = self.store.feed(name)?;
                secrets.push(("password", stored.password));
                secrets.push(("address", stored.address_secrets));
                table(&self.booked_feed(name)?)?
            }
            Kind::Destination => {
                let stored = self.store.destination(name)?;
                secrets.push(("key", stored.key.map(|key| key.secret)));
                secrets.push(("passphrase", stored.passphrase));
                secrets.push(("address", stored.address_secrets));
                table(&self.booked_destination(name)?)?
            }
            Kind::Relay => {
                let stored = self.store.relay(name)?;
                let mut fields = table(&self.booked_relay(name)?)?;
                fields.insert("wanted".to_owned(), json!(stored.wanted.as_str()));
                fields.insert("holding_picture".to_owned(), json!(stored.has_picture));
                fields
            }
            Kind::Person => {
                let mut fields = Map::new();
                fields.insert("role".to_owned(), json!(role_facts(self.store.person(name)?.role)));
                fields
            }
            Kind::Pattern => table(&self.booked_pattern(name)?)?,
            Kind::Platform => match self.booked_platform(name)? {
                Some(sheet) => table(&sheet)?,
                None => return Ok(None),
            },
            Kind::Uplink => table(&self.booked_uplink(name)?)?,
            Kind::Alert => table(&self.booked_alert(name)?)?,
            Kind::Receiver => {
                let stored = self.store.receiver(name)?;
                secrets.push(("secret", stored.secret));
                secrets.push(("address", stored.address));
                table(&self.booked_receiver(name)?)?
            }
            Kind::Token | Kind::Invitation | Kind::Session | Kind::Service => Map::new(),
        };
        Ok(Some(Snapshot { identity, fields, secrets }))
    }
}

fn log(change: &Change) {
    let Change { actor, action, kind, name, .. } = change;
    tracing::info!(who = actor.name, origin = actor.origin.as_str(), action, %kind, name, "change");
}

fn check_role(change: &Change) -> Result<(), ServiceError> {
    let has = change.actor.role;
    if has >= change.needs { Ok(()) } else { Err(ServiceError::RoleNeeded { has, needs: change.needs }) }
}

/// Refuses a change that was made against another revision than the present one.
fn check_revision(change: &Change, before: Option<&Snapshot>) -> Result<(), ServiceError> {
    let Some(expected) = change.expected_revision else { return Ok(()) };
    // One that is not there is refused by the change itself.
    let Some(present) = before.and_then(|before| before.identity.as_ref()) else { return Ok(()) };
    if present.revision == expected {
        return Ok(());
    }
    Err(ServiceError::Stale { kind: change.kind, name: change.name.clone() })
}

/// Returns the audit entry of a change from one state of a record to another.
fn audit_entry(change: &Change, before: Option<&Snapshot>, after: Option<&Snapshot>) -> AuditEntry {
    let Change { actor, action, kind, name, .. } = change;
    let empty = Map::new();
    let fields = match (before, after) {
        (None, None) => Vec::new(),
        (before, after) => {
            let new_secrets = new_secrets(before, after);
            let renamed = renamed(before, after);
            let after = after.map_or(&empty, |after| &after.fields);
            let mut fields = differences(before.map(|before| &before.fields), after, &new_secrets);
            fields.extend(renamed);
            fields
        }
    };
    let identity = after.or(before).and_then(|snapshot| snapshot.identity.as_ref());
    AuditEntry {
        id: 0,
        at_ms: time::millis(SystemTime::now()),
        who: actor.name.clone(),
        origin: actor.origin.as_str().to_owned(),
        address: actor.address.clone(),
        action: (*action).to_owned(),
        kind: kind.to_string(),
        name: name.clone(),
        uid: identity.map(|identity| identity.uid.clone()),
        fields: serde_json::to_string(&fields).unwrap_or_default(),
        detail: String::new(),
    }
}

/// Names of the secrets that are other ones than before.
fn new_secrets(before: Option<&Snapshot>, after: Option<&Snapshot>) -> Vec<&'static str> {
    let Some(after) = after else { return Vec::new() };
    let known = |name: &str| {
        let mut secrets = before.into_iter().flat_map(|before| &before.secrets);
        secrets.find(|(other, _)| *other == name).and_then(|(_, secret)| secret.as_ref())
    };
    let is_new = |(name, secret): &&(&'static str, Option<SealedSecret>)| secret.as_ref() != known(name);
    after.secrets.iter().filter(is_new).map(|(name, _)| *name).collect()
}

/// Returns the new name of a record.
fn renamed(before: Option<&Snapshot>, after: Option<&Snapshot>) -> Option<FieldChange> {
    let (before, after) = (before?.name()?, after?.name()?);
    let field = "name".to_owned();
    (before != after).then_some(FieldChange { field, before: Some(before), after: Some(after) })
}
