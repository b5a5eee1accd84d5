//! Sessions that could not be written, as on a full disk.

use std::collections::HashSet;

/// Sessions that could not be written.
#[derive(Debug, Default)]
pub(crate) struct UnsavedSessions {
    pub(crate) begun: Vec<UnsavedSession>,
    /// Token hashes of stored sessions that have ended.
    pub(crate) ended: HashSet<Vec<u8>>,
}

/// Session that could not be written.
#[derive(Debug)]
pub(crate) struct UnsavedSession {
    pub(crate) token_hash: Vec<u8>,
    /// Row ID of the person.
    pub(crate) person: i64,
    pub(crate) csrf: String,
    pub(crate) agent: String,
    pub(crate) address: String,
    pub(crate) begun_s: i64,
    pub(crate) expires_s: i64,
}
