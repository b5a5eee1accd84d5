//! Audit log for the API.

use yonder_api::{AuditEntry, AuditRequest};
use yonder_store::{AuditEntry as StoredEntry, AuditFilter};

use super::Journal;
use yonder_records::ServiceError;
use yonder_records::time;

/// Default and maximum number of entries.
const DEFAULT_LIMIT: u32 = 100;
const MAX_LIMIT: u32 = 1_000;

impl Journal {
    /// Returns entries of the audit log, the latest first.
    ///
    /// # Errors
    /// [`ServiceError::Invalid`] for too many, or if the records cannot be read.
    pub fn audit_trail(&self, request: &AuditRequest) -> Result<Vec<AuditEntry>, ServiceError> {
        let limit = request.limit.unwrap_or(DEFAULT_LIMIT);
        if !(1..=MAX_LIMIT).contains(&limit) {
            return Err(ServiceError::Invalid {
                field: "limit",
                detail: format!("{limit} is not from 1 to {MAX_LIMIT}"),
                hint: "Ask for the next page with `before`.",
            });
        }
        let filter = AuditFilter {
            before: request.before,
            kind: request.kind.clone(),
            about: request.about.clone(),
            who: request.who.clone(),
            limit,
        };
        Ok(self.records.store.audit(&filter)?.into_iter().map(shown).collect())
    }
}

fn shown(entry: StoredEntry) -> AuditEntry {
    AuditEntry {
        number: entry.id,
        at: time::text(time::from_millis(entry.at_ms)),
        who: entry.who,
        origin: entry.origin,
        address: entry.address,
        action: entry.action,
        kind: entry.kind,
        name: entry.name,
        id: entry.uid,
        fields: serde_json::from_str(&entry.fields).unwrap_or_default(),
    }
}
