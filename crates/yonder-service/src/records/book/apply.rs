//! A site book brought into effect: all of it, or nothing.

use std::collections::{BTreeMap, HashSet};

use serde::Serialize;
use yonder_api::{BookChange, BookFault, FieldChange, NewUplink, SiteBook, ToStart};
use yonder_store::{DesiredState, Fate, Kind, StoreError};

use super::compare::{differences, table};
use super::entry::NewSecrets;
use crate::error::ServiceError;
use crate::jobs::JobContext;
use crate::records::Transaction;

/// Progress of an application.
#[derive(Debug, Default)]
struct Progress {
    changes: Vec<BookChange>,
    faults: Vec<BookFault>,
    /// Records of the book, by kind and name in small letters.
    named: HashSet<(Kind, String)>,
    /// Those that are refused.
    refused: HashSet<(Kind, String)>,
    /// The job, and the number of records.
    job: Option<(JobContext, usize)>,
}

impl Progress {
    /// Shows the progress of the job; an error if the job is to end.
    fn begin_record(&self) -> Result<(), ServiceError> {
        let Some((context, records)) = &self.job else { return Ok(()) };
        context.set_progress("comparing the records", self.named.len(), *records);
        context.check_canceled()
    }

    fn refuse(&mut self, kind: Kind, name: &str, error: &ServiceError) {
        // A refused record is not reported again by the records that refer to it.
        let is_told = matches!(error, ServiceError::NotFound { kind: missing, name: missed, .. }
            if self.refused.contains(&(*missing, missed.to_lowercase())));
        self.refused.insert((kind, name.to_lowercase()));
        if is_told {
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

    /// A field of a relay that was, or was not, changed otherwise.
    fn add_to_relay(&mut self, name: &str, field: FieldChange) {
        let kind = Kind::Relay.to_string();
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
    /// Brings the records to a book. Returns the changes, and the relays that are to be started.
    ///
    /// # Errors
    /// [`ServiceError::BookRefused`] with all that is wrong, or when the records cannot be read or written.
    pub(crate) fn put_book(
        &self,
        book: SiteBook,
        prune: bool,
        context: &JobContext,
    ) -> Result<(Vec<BookChange>, Vec<ToStart>), ServiceError> {
        let records = records(&book).len();
        let mut progress = Progress { job: Some((context.clone(), records)), ..Progress::default() };
        let named = if prune { Some(names(&book)) } else { None };
        let wanted = book.wanted.clone();
        // Removals make room for changes; records that are in use until then are removed last.
        if let Some(named) = &named {
            self.remove_unnamed(named, &mut progress, false)?;
        }
        self.put_records(book, &mut progress)?;
        if let Some(named) = &named {
            self.remove_unnamed(named, &mut progress, true)?;
        }
        let to_start = self.put_wishes(&wanted, &mut progress)?;
        if progress.faults.is_empty() {
            return Ok((progress.changes, to_start));
        }
        Err(ServiceError::BookRefused(progress.faults))
    }

    fn put_records(&self, book: SiteBook, progress: &mut Progress) -> Result<(), ServiceError> {
        let SiteBook { uplinks, platforms, patterns, feeds, destinations, relays, contacts, alerts, .. } =
            book;
        let mut later = Vec::new();
        for new in uplinks {
            // A destination may be about to let go of it.
            if self.would_bind_nothing(&new)? { later.push(new) } else { self.put_one_uplink(new, progress)? }
        }
        for new in platforms {
            let name = &new.name;
            let look = || {
                let missing =
                    || ServiceError::NotFound { kind: Kind::Platform, name: name.clone(), nearest: None };
                self.booked_platform(name)?.ok_or_else(missing)
            };
            self.put(progress, (Kind::Platform, name), look, |_| self.put_platform(&new))?;
        }
        for new in patterns {
            let name = new.name.clone();
            let look = || self.booked_pattern(&name);
            self.put(progress, (Kind::Pattern, &name), look, |is_there| self.put_pattern(new, is_there))?;
        }
        for new in feeds {
            let name = new.name.clone();
            let look = || self.booked_feed(&name);
            self.put(progress, (Kind::Feed, &name), look, |is_there| self.put_feed(new, is_there))?;
        }
        for new in destinations {
            let name = new.name.clone();
            let look = || self.booked_destination(&name);
            self.put(progress, (Kind::Destination, &name), look, |is_there| {
                self.put_destination(new, is_there)
            })?;
        }
        for new in later {
            self.put_one_uplink(new, progress)?;
        }
        for new in relays {
            let name = new.name.clone();
            let look = || self.booked_relay(&name);
            self.put(progress, (Kind::Relay, &name), look, |is_there| self.put_relay(new, is_there))?;
        }
        for new in contacts {
            let name = new.name.clone();
            let look = || self.booked_contact(&name);
            self.put(progress, (Kind::Contact, &name), look, |is_there| self.put_contact(new, is_there))?;
        }
        for new in alerts {
            let name = new.name.clone();
            let look = || self.booked_alert(&name);
            self.put(progress, (Kind::Alert, &name), look, |is_there| self.put_alert(new, is_there))?;
        }
        Ok(())
    }

    fn put_one_uplink(&self, new: NewUplink, progress: &mut Progress) -> Result<(), ServiceError> {
        let name = new.name.clone();
        let look = || self.booked_uplink(&name);
        self.put(progress, (Kind::Uplink, &name), look, |is_there| self.put_uplink(new, is_there))
    }

    /// An uplink that loses what binds destinations to it.
    fn would_bind_nothing(&self, new: &NewUplink) -> Result<bool, ServiceError> {
        let binds_nothing = new.source.is_none() && new.interface.is_none();
        Ok(binds_nothing && !self.store.destinations_by(&new.name)?.is_empty())
    }

    /// Brings one record to what the book says. One that says what is kept already is left as it was: nothing about it
    /// is checked, dialed or dated again.
    fn put<T: Serialize>(
        &self,
        progress: &mut Progress,
        (kind, name): (Kind, &str),
        look: impl Fn() -> Result<T, ServiceError>,
        put: impl FnOnce(bool) -> Result<NewSecrets, ServiceError>,
    ) -> Result<(), ServiceError> {
        progress.begin_record()?;
        if !progress.named.insert((kind, name.to_lowercase())) {
            let error = ServiceError::from(StoreError::NameTaken { kind, name: name.to_owned() });
            progress.refuse(kind, name, &error);
            return Ok(());
        }
        let before = match look() {
            Ok(before) => Some(table(&before)?),
            Err(ServiceError::NotFound { .. }) => None,
            Err(error) => return Err(error),
        };
        let done = self.store.together(|| {
            let secrets = put(before.is_some())?;
            let fields = differences(before.as_ref(), &table(&look()?)?, &secrets);
            Ok(if before.is_some() && fields.is_empty() { Fate::Undo(fields) } else { Fate::Keep(fields) })
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

    /// Removes what the book does not name: what uses something goes before it. What is in use is refused the last
    /// time, and left for that before.
    fn remove_unnamed(
        &self,
        named: &HashSet<(Kind, String)>,
        progress: &mut Progress,
        last: bool,
    ) -> Result<(), ServiceError> {
        let mut kept = records(&self.book()?);
        kept.retain(|(kind, name)| !named.contains(&(*kind, name.to_lowercase())));
        for (kind, name) in kept {
            let removed = match kind {
                Kind::Relay => self.remove_relay(&name),
                Kind::Alert => self.remove_alert(&name),
                Kind::Contact => self.remove_contact(&name),
                Kind::Destination => self.remove_destination(&name),
                Kind::Feed => self.remove_feed(&name),
                Kind::Pattern => self.remove_pattern(&name),
                Kind::Platform => self.remove_platform(&name),
                Kind::Uplink => self.remove_uplink(&name),
                // Permissions are not in the book.
                Kind::Person | Kind::Invitation | Kind::Token | Kind::Session | Kind::Service => Ok(()),
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

    /// Applies the desired states of relays. Returns those that are to be started.
    fn put_wishes(
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
                progress.refuse(Kind::Relay, relay, &error);
                continue;
            };
            let before = self.store.relay(relay).map(|relay| (relay.name, relay.wanted));
            match before.map_err(|error| self.explain(error)) {
                Err(error) => progress.refuse(Kind::Relay, relay, &error),
                Ok((_, before)) if before == wish => {}
                Ok((name, before)) => {
                    if self.put_wanted(&name, wish)? {
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

/// All records of a book: what uses something comes before it.
fn records(book: &SiteBook) -> Vec<(Kind, String)> {
    let mut records: Vec<(Kind, String)> = Vec::new();
    records.extend(book.relays.iter().map(|one| (Kind::Relay, one.name.clone())));
    records.extend(book.alerts.iter().map(|one| (Kind::Alert, one.name.clone())));
    records.extend(book.contacts.iter().map(|one| (Kind::Contact, one.name.clone())));
    records.extend(book.destinations.iter().map(|one| (Kind::Destination, one.name.clone())));
    records.extend(book.feeds.iter().map(|one| (Kind::Feed, one.name.clone())));
    records.extend(book.patterns.iter().map(|one| (Kind::Pattern, one.name.clone())));
    records.extend(book.platforms.iter().map(|one| (Kind::Platform, one.name.clone())));
    records.extend(book.uplinks.iter().map(|one| (Kind::Uplink, one.name.clone())));
    records
}

/// The same in small letters.
fn names(book: &SiteBook) -> HashSet<(Kind, String)> {
    records(book).into_iter().map(|(kind, name)| (kind, name.to_lowercase())).collect()
}
