//! The store: one connection behind a lock. Calls block for a moment; they belong on threads that may block.

use std::path::{Path, PathBuf};
use std::time::Duration;

use parking_lot::ReentrantMutex;
use rusqlite::{Connection, Transaction, TransactionBehavior};

use crate::error::{Kind, StoreError};
use crate::migrations::migrate;
use crate::seal::MasterKey;

/// How long to wait for somebody else who holds the file.
const BUSY_TIMEOUT: Duration = Duration::from_secs(5);

/// The records and the key that their secrets are sealed under.
#[derive(Debug)]
pub struct Store {
    /// Re-entrant, so that a group of writes is made of the same calls as single ones.
    connection: ReentrantMutex<Connection>,
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
        Ok(Self { connection: ReentrantMutex::new(connection), master_key })
    }

    /// The folder that the records lie in; `None` for those in memory.
    #[must_use]
    pub fn folder(&self) -> Option<PathBuf> {
        let connection = self.connection.lock();
        let path = Path::new(connection.path().filter(|path| !path.is_empty())?);
        path.parent().map(Path::to_owned)
    }

    /// Reads and writes as one: whatever `act` wrote is kept or undone as a whole, and nobody else reads or writes in
    /// between. Groups may stand within groups; an inner one that is undone leaves the outer one as it was.
    ///
    /// # Errors
    /// What `act` failed with, or the store's failure; then nothing of it is kept.
    pub fn together<T, E: From<StoreError>>(&self, act: impl FnOnce() -> Result<Fate<T>, E>) -> Result<T, E> {
        let connection = self.connection.lock();
        Self::group(&connection, || {
            Ok(match act() {
                Ok(Fate::Keep(value)) => (true, Ok(value)),
                Ok(Fate::Undo(value)) => (false, Ok(value)),
                Err(error) => (false, Err(error)),
            })
        })?
    }

    /// Names of all records of a kind that has names of its own, in order; none of other kinds.
    ///
    /// # Errors
    /// The store's failure.
    pub fn names(&self, kind: Kind) -> Result<Vec<String>, StoreError> {
        if matches!(kind, Kind::Service | Kind::Session) {
            return Ok(Vec::new());
        }
        self.read(|connection| {
            // Each kind's table is called by its word.
            let mut statement =
                connection.prepare_cached(&format!("SELECT name FROM {kind} ORDER BY name"))?;
            Ok(statement.query_map([], |row| row.get(0))?.collect::<Result<Vec<_>, _>>()?)
        })
    }

    pub(crate) fn read<T>(
        &self,
        read: impl FnOnce(&Connection) -> Result<T, StoreError>,
    ) -> Result<T, StoreError> {
        read(&self.connection.lock())
    }

    /// Runs `write` in a transaction, or within the group that is open, and undoes it when it fails.
    pub(crate) fn write<T>(
        &self,
        write: impl FnOnce(&Connection) -> Result<T, StoreError>,
    ) -> Result<T, StoreError> {
        let connection = self.connection.lock();
        Self::group(&connection, || Ok((true, write(&connection)?)))
    }

    /// Runs `act` in a transaction, or in a savepoint within one, and keeps what it wrote if it says so.
    fn group<T>(
        connection: &Connection,
        act: impl FnOnce() -> Result<(bool, T), StoreError>,
    ) -> Result<T, StoreError> {
        // A panic drops the transaction, or the one around the savepoint, which undoes it.
        if connection.is_autocommit() {
            let transaction = Transaction::new_unchecked(connection, TransactionBehavior::Immediate)?;
            let (keep, value) = act()?;
            if keep {
                transaction.commit()?;
            } else {
                transaction.rollback()?;
            }
            return Ok(value);
        }
        connection.execute_batch("SAVEPOINT part")?;
        let done = act();
        if !matches!(done, Ok((true, _))) {
            connection.execute_batch("ROLLBACK TO part")?;
        }
        connection.execute_batch("RELEASE part")?;
        done.map(|(_, value)| value)
    }
}

/// What becomes of a group of writes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fate<T> {
    /// All of it is kept.
    Keep(T),
    /// All of it is undone.
    Undo(T),
}

/// Turns a broken uniqueness rule into `taken`.
pub(crate) fn unless_taken(error: rusqlite::Error, taken: impl FnOnce() -> StoreError) -> StoreError {
    match error.sqlite_error().map(|error| error.extended_code) {
        Some(rusqlite::ffi::SQLITE_CONSTRAINT_UNIQUE) => taken(),
        _ => error.into(),
    }
}
