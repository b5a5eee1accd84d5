//! Application of a site book: completely, or not at all.

use std::collections::{BTreeMap, HashSet};

use serde::Serialize;
use yonder_api::{BookChange, BookFault, FieldChange, NewSignpost, NewUplink, SiteBook, ToStart};
use yonder_store::{DesiredState, Outcome, RecordKind, StoreError};

use super::compare::{differences, table};
use super::entry::NewSecrets;
use crate::Transaction;
use crate::error::ServiceError;
use crate::jobs::JobContext;

/// Progress of an application.
#[derive(Debug, Default)]
struct Progress {
    changes: Vec<BookChange>,
    faults: Vec<BookFault>,
    /// Records of the book, by kind and lower-case name.
    named: HashSet<(RecordKind, String)>,
    /// Refused records.
    refused: HashSet<(RecordKind, String)>,
    /// Job, and the number of records.
    job: Option<(JobContext, usize)>,
}

impl Progress {
    /// Updates the progress of the job. Returns an error at cancellation.
    fn begin_record(&self) -> Result<(), ServiceError> {
        let Some((context, records)) = &self.job else { return Ok(()) };
        context.set_progress("comparing the records", self.named.len(), *records);
        context.check_canceled()
    }

    fn refuse(&mut self, kind: RecordKind, name: &str, error: &ServiceError) {
        // A refused record is not reported again for records that refer to it.
        let is_reported = matches!(error, ServiceError::NotFound { kind: missing, name: missed, .. }
            if self.refused.contains(&(*missing, missed.to_lowercase())));
        self.refused.insert((kind, name.to_lowercase()));
        if is_reported {
            return;
        }
        self.faults.push(BookFault {
            kind: kind.to_string(),
            name: name.to_owned(),
            code: error.code().to_owned(),
            detail: error.detail(),
            hint: error.hint(),
            field: error.field().map(str::to_owned),
        });
    }

    /// Adds or removes a changed field of a relay.
    fn add_to_relay(&mut self, name: &str, field: FieldChange) {
        let kind = RecordKind::Relay.to_string();
        match self.changes.iter_mut().find(|change| change.kind == kind && change.name == name) {
            Some(change) => change.fields.push(field),
            None => self.changes.push(BookChange {
                kind,
                name: name.to_owned(),
                what: "changed".to_owned(),
                fields: vec![field],
            }),
        }
    }
}

impl Transaction<'_> {
    /// Applies a book to the records. Returns the changes, and the relays to be started.
    ///
    /// # Errors
    /// [`ServiceError::BookRefused`] with all faults, or if the records cannot be read or written.
    pub fn put_book(
        &self,
        book: SiteBook,
        prune: bool,
        context: &JobContext,
    ) -> Result<(Vec<BookChange>, Vec<ToStart>), ServiceError> {
        let records = records(&book).len();
        let mut progress = Progress { job: Some((context.clone(), records)), ..Progress::default() };
        let named = if prune { Some(names(&book)) } else { None };
        let wanted = book.wanted.clone();
        // Removals come before changes; records that are in use until then are removed last.
        if let Some(named) = &named {
            self.remove_unnamed(named, &mut progress, false)?;
        }
        self.put_records(book, &mut progress)?;
        if let Some(named) = &named {
            self.remove_unnamed(named, &mut progress, true)?;
        }
        let to_start = self.apply_desired_states(&wanted, &mut progress)?;
        if progress.faults.is_empty() {
            return Ok((progress.changes, to_start));
        }
        Err(ServiceError::BookRefused(progress.faults))
    }

    fn put_records(&self, book: SiteBook, progress: &mut Progress) -> Result<(), ServiceError> {
        let SiteBook {
            uplinks,
            platforms,
            patterns,
            feeds,
            destinations,
            relays,
            signposts,
            contacts,
            alerts,
            ..
        } = book;
        let mut later = Vec::new();
        for new in uplinks {
            // A destination of the book may release it.
            if self.loses_binding(&new)? { later.push(new) } else { self.put_one_uplink(new, progress)? }
        }
        for new in platforms {
            let name = &new.name;
            let read_current = || {
                let missing = || ServiceError::NotFound {
                    kind: RecordKind::Platform,
                    name: name.clone(),
                    nearest: None,
                };
                self.exported_platform(name)?.ok_or_else(missing)
            };
            self.put(progress, (RecordKind::Platform, name), read_current, |_| self.put_platform(&new))?;
        }
        for new in patterns {
            let name = new.name.clone();
            let read_current = || self.exported_pattern(&name);
            self.put(progress, (RecordKind::Pattern, &name), read_current, |is_there| {
                self.put_pattern(new, is_there)
            })?;
        }
        for new in feeds {
            let name = new.name.clone();
            let read_current = || self.exported_feed(&name);
            self.put(progress, (RecordKind::Feed, &name), read_current, |is_there| {
                self.put_feed(new, is_there)
            })?;
        }
        for new in destinations {
            let name = new.name.clone();
            let read_current = || self.exported_destination(&name);
            self.put(progress, (RecordKind::Destination, &name), read_current, |is_there| {
                self.put_destination(new, is_there)
            })?;
        }
        for new in later {
            self.put_one_uplink(new, progress)?;
        }
        for new in relays {
            let name = new.name.clone();
            let read_current = || self.exported_relay(&name);
            self.put(progress, (RecordKind::Relay, &name), read_current, |is_there| {
                self.put_relay(new, is_there)
            })?;
        }
        self.put_signposts(signposts, progress)?;
        for new in contacts {
            let name = new.name.clone();
            let read_current = || self.exported_contact(&name);
            self.put(progress, (RecordKind::Contact, &name), read_current, |is_there| {
                self.put_contact(new, is_there)
            })?;
        }
        for new in alerts {
            let name = new.name.clone();
            let read_current = || self.exported_alert(&name);
            self.put(progress, (RecordKind::Alert, &name), read_current, |is_there| {
                self.put_alert(new, is_there)
            })?;
        }
        Ok(())
    }

    fn put_signposts(
        &self,
        signposts: Vec<NewSignpost>,
        progress: &mut Progress,
    ) -> Result<(), ServiceError> {
        for new in signposts {
            let name = new.name.clone();
            let read_current = || self.exported_signpost(&name);
            self.put(progress, (RecordKind::Signpost, &name), read_current, |is_there| {
                self.put_signpost(new, is_there)
            })?;
        }
        Ok(())
    }

    fn put_one_uplink(&self, new: NewUplink, progress: &mut Progress) -> Result<(), ServiceError> {
        let name = new.name.clone();
        let read_current = || self.exported_uplink(&name);
        self.put(progress, (RecordKind::Uplink, &name), read_current, |is_there| {
            self.put_uplink(new, is_there)
        })
    }

    /// Returns true for an uplink that would lose its binding while destinations are bound to it.
    fn loses_binding(&self, new: &NewUplink) -> Result<bool, ServiceError> {
        let binds_nothing = new.source.is_none() && new.interface.is_none();
        Ok(binds_nothing && !self.store.destinations_by(&new.name)?.is_empty())
    }

    /// Applies one record of the book. An unchanged record is not touched, so it is neither checked nor dialed again.
    fn put<T: Serialize>(
        &self,
        progress: &mut Progress,
        (kind, name): (RecordKind, &str),
        read_current: impl Fn() -> Result<T, ServiceError>,
        put: impl FnOnce(bool) -> Result<NewSecrets, ServiceError>,
    ) -> Result<(), ServiceError> {
        progress.begin_record()?;
        if !progress.named.insert((kind, name.to_lowercase())) {
            let error = ServiceError::from(StoreError::NameTaken { kind, name: name.to_owned() });
            progress.refuse(kind, name, &error);
            return Ok(());
        }
        let before = match read_current() {
            Ok(before) => Some(table(&before)?),
            Err(ServiceError::NotFound { .. }) => None,
            Err(error) => return Err(error),
        };
        let done = self.store.transaction(|| {
            let secrets = put(before.is_some())?;
            let fields = differences(before.as_ref(), &table(&read_current()?)?, &secrets);
            Ok(if before.is_some() && fields.is_empty() {
                Outcome::Rollback(fields)
            } else {
                Outcome::Commit(fields)
            })
        });
        match done {
            Ok(fields) if before.is_some() && fields.is_empty() => {}
            Ok(fields) => progress.changes.push(BookChange {
                kind: kind.to_string(),
                name: name.to_owned(),
                what: if before.is_some() { "changed" } else { "added" }.to_owned(),
                fields,
            }),
            Err(error @ (ServiceError::Internal(_) | ServiceError::Canceled)) => return Err(error),
            Err(error) => progress.refuse(kind, name, &error),
        }
        Ok(())
    }

    /// Removes records that the book does not contain, dependents first. Records in use are skipped, and refused in the
    /// last round.
    fn remove_unnamed(
        &self,
        named: &HashSet<(RecordKind, String)>,
        progress: &mut Progress,
        last: bool,
    ) -> Result<(), ServiceError> {
        let mut stored = records(&self.book()?);
        stored.retain(|(kind, name)| !named.contains(&(*kind, name.to_lowercase())));
        for (kind, name) in stored {
            let removed = match kind {
                RecordKind::Relay => self.remove_relay(&name),
                RecordKind::Alert => self.remove_alert(&name),
                RecordKind::Contact => self.remove_contact(&name),
                RecordKind::Destination => self.remove_destination(&name),
                RecordKind::Feed => self.remove_feed(&name),
                RecordKind::Pattern => self.remove_pattern(&name),
                RecordKind::Platform => self.remove_platform(&name),
                RecordKind::Uplink => self.remove_uplink(&name),
                RecordKind::Signpost => self.remove_signpost(&name),
                // People and permissions are not in the book.
                RecordKind::Person
                | RecordKind::Invitation
                | RecordKind::Token
                | RecordKind::Session
                | RecordKind::Service => Ok(()),
            };
            match removed {
                Ok(()) => progress.changes.push(BookChange {
                    kind: kind.to_string(),
                    name,
                    what: "removed".to_owned(),
                    fields: Vec::new(),
                }),
                Err(_) if !last => {}
                Err(error) => progress.refuse(kind, &name, &error),
            }
        }
        Ok(())
    }

    /// Applies the desired states of relays. Returns those to be started.
    fn apply_desired_states(
        &self,
        wanted: &BTreeMap<String, String>,
        progress: &mut Progress,
    ) -> Result<Vec<ToStart>, ServiceError> {
        let mut to_start = Vec::new();
        for (relay, word) in wanted {
            let Some(wish) = DesiredState::from_name(word) else {
                let error = ServiceError::Invalid {
                    field: "wanted",
                    detail: format!("{word:?} is nothing that a relay can be"),
                    hint: "Write on, off or hold.",
                };
                progress.refuse(RecordKind::Relay, relay, &error);
                continue;
            };
            let before = self.store.relay(relay).map(|relay| (relay.name, relay.wanted));
            match before.map_err(|error| self.explain(error)) {
                Err(error) => progress.refuse(RecordKind::Relay, relay, &error),
                Ok((_, before)) if before == wish => {}
                Ok((name, before)) => {
                    if self.put_desired_state(&name, wish)? {
                        to_start.push(ToStart { relay: name.clone(), wanted: wish });
                    }
                    let field = FieldChange {
                        field: "wanted".to_owned(),
                        before: Some(before.as_str().to_owned()),
                        after: Some(word.clone()),
                    };
                    progress.add_to_relay(&name, field);
                }
            }
        }
        Ok(to_start)
    }
}

/// Returns all records of a book, dependents first.
fn records(book: &SiteBook) -> Vec<(RecordKind, String)> {
    let mut records: Vec<(RecordKind, String)> = Vec::new();
    records.extend(book.signposts.iter().map(|one| (RecordKind::Signpost, one.name.clone())));
    records.extend(book.relays.iter().map(|one| (RecordKind::Relay, one.name.clone())));
    records.extend(book.alerts.iter().map(|one| (RecordKind::Alert, one.name.clone())));
    records.extend(book.contacts.iter().map(|one| (RecordKind::Contact, one.name.clone())));
    records.extend(book.destinations.iter().map(|one| (RecordKind::Destination, one.name.clone())));
    records.extend(book.feeds.iter().map(|one| (RecordKind::Feed, one.name.clone())));
    records.extend(book.patterns.iter().map(|one| (RecordKind::Pattern, one.name.clone())));
    records.extend(book.platforms.iter().map(|one| (RecordKind::Platform, one.name.clone())));
    records.extend(book.uplinks.iter().map(|one| (RecordKind::Uplink, one.name.clone())));
    records
}

/// Returns the records with lower-case names.
fn names(book: &SiteBook) -> HashSet<(RecordKind, String)> {
    records(book).into_iter().map(|(kind, name)| (kind, name.to_lowercase())).collect()
}
