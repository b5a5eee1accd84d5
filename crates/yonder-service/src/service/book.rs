//! Application of site books in one transaction.

use yonder_api::{BookChange, BookOutcome, BookRequest};
use yonder_core::Role;
use yonder_store::{Outcome, RecordKind};

use super::Service;
use super::execute::RecordChange;
use yonder_records::JobContext;
use yonder_records::ServiceError;
use yonder_records::Transaction;
use yonder_records::{Actor, Change, Origin};

impl Service {
    /// Applies a book, or returns what it would change. Relays with unchanged parts are not touched.
    ///
    /// # Errors
    /// [`ServiceError::StaleBook`] if the records do not have the expected revision, [`ServiceError::BookRefused`] with
    /// all faults, or if the records cannot be read or written; nothing is changed then.
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
            Ok(if look_only { Outcome::Rollback(outcome) } else { Outcome::Commit(outcome) })
        };
        let outcome = self.records.transaction(within, |outcome, actions| {
            let is_removed = outcome.changes.iter().any(|change| change.what == "removed");
            self.apply(RecordKind::Relay, &RecordChange { renamed: None, is_removed }, actions);
        })?;
        self.events.publish_log_lines();
        Ok(outcome)
    }

    /// Adds an audit entry for each record changed by a book.
    fn audit_book(&self, changes: &[BookChange], actor: &Actor) -> Result<(), ServiceError> {
        for change in changes {
            let Some(kind) = RecordKind::from_name(&change.kind) else { continue };
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
