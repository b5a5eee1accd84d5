//! The store: one connection behind a lock. Calls block for a moment; they belong on threads that may block.

use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use rusqlite::{Connection, Transaction, TransactionBehavior};

use crate::error::StoreError;
use crate::migrations::migrate;
use crate::seal::MasterKey;

/// How long to wait for somebody else who holds the file.
const BUSY_TIMEOUT: Duration = Duration::from_secs(5);

/// The records and the key that their secrets are sealed under.
#[derive(Debug)]
pub struct Store {
    connection: Mutex<Connection>,
    pub(crate) master_key: MasterKey,
}

impl Store {
    /// Opens the records at `path`, makes them where there are none, and brings them to this version.
    ///
    /// # Errors
    /// [`StoreError`] when the file cannot be used.
    pub fn open(path: &Path, master_key: MasterKey) -> Result<Self, StoreError> {
        Self::prepare(Connection::open(path)?, master_key)
    }

    /// Records that vanish with the value; for tests.
    ///
    /// # Errors
    /// [`StoreError`] when SQLite fails.
    pub fn open_in_memory(master_key: MasterKey) -> Result<Self, StoreError> {
        Self::prepare(Connection::open_in_memory()?, master_key)
    }

    fn prepare(mut connection: Connection, master_key: MasterKey) -> Result<Self, StoreError> {
        connection.busy_timeout(BUSY_TIMEOUT)?;
        connection.pragma_update(None, "journal_mode", "WAL")?;
        // What was answered as done must outlive a power cut.
        connection.pragma_update(None, "synchronous", "FULL")?;
        connection.pragma_update(None, "foreign_keys", true)?;
        // Pages of removed secrets are overwritten, sealed as they are.
        connection.pragma_update(None, "secure_delete", true)?;
        migrate(&mut connection)?;
        Ok(Self { connection: Mutex::new(connection), master_key })
    }

    /// The folder that the records lie in; `None` for those in memory.
    #[must_use]
    pub fn folder(&self) -> Option<PathBuf> {
        let connection = self.lock();
        let path = Path::new(connection.path().filter(|path| !path.is_empty())?);
        path.parent().map(Path::to_owned)
    }

    pub(crate) fn read<T>(
        &self,
        read: impl FnOnce(&Connection) -> Result<T, StoreError>,
    ) -> Result<T, StoreError> {
        read(&self.lock())
    }

    /// Runs `write` in a transaction that is undone when it fails.
    pub(crate) fn write<T>(
        &self,
        write: impl FnOnce(&Transaction<'_>) -> Result<T, StoreError>,
    ) -> Result<T, StoreError> {
        let mut connection = self.lock();
        let transaction = connection.transaction_with_behavior(TransactionBehavior::Immediate)?;
        let value = write(&transaction)?;
        transaction.commit()?;
        Ok(value)
    }

    fn lock(&self) -> MutexGuard<'_, Connection> {
        // A panic inside a transaction has rolled it back.
        self.connection.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// Turns a broken uniqueness rule into `taken`.
pub(crate) fn unless_taken(error: rusqlite::Error, taken: impl FnOnce() -> StoreError) -> StoreError {
    match error.sqlite_error().map(|error| error.extended_code) {
        Some(rusqlite::ffi::SQLITE_CONSTRAINT_UNIQUE) => taken(),
        _ => error.into(),
    }
}
