//! Site books: brought into effect as one change.

use yonder_api::{BookChange, BookOutcome, BookRequest};
use yonder_core::Role;
use yonder_store::{Fate, Kind};

use super::Service;
use super::execute::Outcome;
use crate::change::{Actor, Change, Origin};
use crate::error::ServiceError;
use crate::jobs::JobContext;
use crate::records::Transaction;

impl Service {
    /// Brings a book into effect, or returns what it would change. Relays whose parts do not change are not touched.
    ///
    /// # Errors
    /// [`ServiceError::StaleBook`] if the records are not of the expected revision,
    /// [`ServiceError::BookRefused`] with all that is wrong, or when the records cannot be read or written; then
    /// nothing is changed.
    pub fn apply_book(
        &self,
        request: BookRequest,
        actor: &Actor,
        context: &JobContext,
    ) -> Result<BookOutcome, ServiceError> {
        let BookRequest { book, prune, look_only, expected_revision } = request;
        let within = |transaction: &Transaction<'_>| {
            let revision = transaction.store.revision()?;
            if expected_revision.is_some_and(|expected| expected != revision) {
                return Err(ServiceError::StaleBook);
            }
            let (changes, to_start) = transaction.put_book(book, prune, context)?;
            if !look_only {
                self.audit_book(&changes, actor)?;
            }
            let outcome = BookOutcome { changes, applied: !look_only, to_start, revision };
            Ok(if look_only { Fate::Undo(outcome) } else { Fate::Keep(outcome) })
        };
        let outcome = self.records.transaction(within, |outcome, effects| {
            let is_removed = outcome.changes.iter().any(|change| change.what == "removed");
            self.apply(Kind::Relay, &Outcome { renamed: None, is_removed }, effects);
        })?;
        self.events.publish_log_lines();
        Ok(outcome)
    }

    /// Adds an audit entry for each record that a book has changed.
    fn audit_book(&self, changes: &[BookChange], actor: &Actor) -> Result<(), ServiceError> {
        for change in changes {
            let Some(kind) = Kind::from_word(&change.kind) else { continue };
            let action = match change.what.as_str() {
                "added" => "added",
                "removed" => "removed",
                _ => "changed",
            };
            let actor = Actor { origin: Origin::SiteBook, ..actor.clone() };
            let name = change.name.clone();
            let request = Change { actor, needs: Role::Admin, action, kind, name, expected_revision: None };
            self.journal.audit_fields(&request, &change.fields)?;
        }
        Ok(())
    }
}
