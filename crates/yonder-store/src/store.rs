//! Store: one writing connection, and several reading ones. Calls block and belong on blocking threads.

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use parking_lot::{Mutex, ReentrantMutex};
use rusqlite::{Connection, Transaction, TransactionBehavior};

use yonder_core::DesiredState;

use crate::error::StoreError;
use crate::keyring::Keyring;
use crate::migrations::migrate;
use crate::record_kind::RecordKind;
use crate::seal::MasterKey;
use crate::unsaved::UnsavedSessions;

/// Busy timeout: how long to wait for another process that locks the file.
pub(crate) const BUSY_TIMEOUT: Duration = Duration::from_secs(5);
/// Busy timeout after a write that has timed out, so that queued writes do not each wait as long.
pub(crate) const STILL_BUSY_TIMEOUT: Duration = Duration::from_millis(100);
/// Capacity of the cache of prepared statements: more than there are.
const PREPARED_STATEMENTS: usize = 256;
/// Maximum idle reading connections. Additional concurrent readers open their own.
const MAX_IDLE_READERS: usize = 4;

/// Desired states, by row ID, that are only in memory.
pub(crate) type UnsavedStates = HashMap<i64, DesiredState>;

/// Records, and the key that seals their secrets.
#[derive(Debug)]
pub struct Store {
    /// Writing connection. Reentrant, so that a transaction can consist of the same calls as single writes.
    pub(crate) writer: ReentrantMutex<Connection>,
    /// Reading connections, which do not wait for the writer; `None` for an in-memory database, which has a single
    /// connection.
    readers: Option<Readers>,
    /// The last write found the file locked by another process.
    is_busy: AtomicBool,
    pub(crate) keyring: Mutex<Keyring>,
    pub(crate) unsaved: Mutex<UnsavedStates>,
    pub(crate) unsaved_sessions: Mutex<UnsavedSessions>,
    #[cfg(debug_assertions)]
    pub(crate) hang: crate::hang::Hang,
}

/// Idle reading connections.
#[derive(Debug)]
struct Readers {
    path: PathBuf,
    idle: Mutex<Vec<Connection>>,
}

impl Readers {
    /// Runs `read` on an idle connection.
    fn with<T>(&self, read: impl FnOnce(&Connection) -> Result<T, StoreError>) -> Result<T, StoreError> {
        let idle = self.idle.lock().pop();
        let connection = match idle {
            Some(connection) => connection,
            None => open_reader(&self.path)?,
        };
        let done = read(&connection);
        let mut idle = self.idle.lock();
        if idle.len() < MAX_IDLE_READERS {
            idle.push(connection);
        }
        done
    }
}

/// Opens a read-only connection.
pub(crate) fn open_reader(path: &Path) -> Result<Connection, StoreError> {
    let connection = Connection::open(path)?;
    connection.busy_timeout(BUSY_TIMEOUT)?;
    connection.set_prepared_statement_cache_capacity(PREPARED_STATEMENTS);
    connection.pragma_update(None, "query_only", true)?;
    Ok(connection)
}

impl Store {
    /// Opens the records at `path`, creates them if necessary, and migrates them.
    ///
    /// # Errors
    /// [`StoreError::ForeignMasterKey`] if the records are sealed with another key, or the error of the file.
    pub fn open(path: &Path, master_key: MasterKey) -> Result<Self, StoreError> {
        let store = Self::open_file(path, master_key)?;
        store.check_master_key()?;
        store.fill_secret_facts()?;
        store.clean_backup_servers()?;
        store.seal_addresses()?;
        Ok(store)
    }

    /// Opens the records at `path`, and binds them to another master key: all their secrets are lost and must be set again.
    ///
    /// # Errors
    /// [`StoreError`] if the file is unusable.
    pub fn open_with_foreign_key(path: &Path, master_key: MasterKey) -> Result<Self, StoreError> {
        let store = Self::open_file(path, master_key)?;
        store.adopt_master_key()?;
        Ok(store)
    }

    /// Opens an in-memory database, for tests.
    ///
    /// # Errors
    /// [`StoreError`] if SQLite fails.
    pub fn open_in_memory(master_key: MasterKey) -> Result<Self, StoreError> {
        let store = Self::prepare(Connection::open_in_memory()?, None, master_key)?;
        store.check_master_key()?;
        Ok(store)
    }

    fn open_file(path: &Path, master_key: MasterKey) -> Result<Self, StoreError> {
        let readers = Readers { path: path.to_owned(), idle: Mutex::default() };
        Self::prepare(Connection::open(path)?, Some(readers), master_key)
    }

    fn prepare(
        mut connection: Connection,
        readers: Option<Readers>,
        master_key: MasterKey,
    ) -> Result<Self, StoreError> {
        connection.busy_timeout(BUSY_TIMEOUT)?;
        connection.set_prepared_statement_cache_capacity(PREPARED_STATEMENTS);
        connection.pragma_update(None, "journal_mode", "WAL")?;
        // Acknowledged writes must survive a power failure.
        connection.pragma_update(None, "synchronous", "FULL")?;
        connection.pragma_update(None, "foreign_keys", true)?;
        // Pages of removed secrets are overwritten, although they are sealed.
        connection.pragma_update(None, "secure_delete", true)?;
        migrate(&mut connection, readers.as_ref().map(|readers| readers.path.as_path()))?;
        Ok(Self {
            writer: ReentrantMutex::new(connection),
            readers,
            is_busy: AtomicBool::new(false),
            keyring: Keyring::new(master_key),
            unsaved: Mutex::default(),
            unsaved_sessions: Mutex::default(),
            #[cfg(debug_assertions)]
            hang: crate::hang::Hang::default(),
        })
    }

    /// Returns the folder of the records; `None` for an in-memory database.
    #[must_use]
    pub fn folder(&self) -> Option<PathBuf> {
        self.path()?.parent().map(Path::to_owned)
    }

    /// Returns the file of the records; `None` for an in-memory database.
    #[must_use]
    pub fn path(&self) -> Option<&Path> {
        self.readers.as_ref().map(|readers| readers.path.as_path())
    }

    /// Runs `act` in a transaction, which is committed or rolled back as a whole. Readers see the previous state until
    /// the commit, and other writers wait. Transactions can be nested; an inner one that is rolled back does not affect
    /// the outer one.
    ///
    /// # Errors
    /// The error of `act`, or a database error; the transaction is rolled back then.
    pub fn transaction<T, E: From<StoreError>>(
        &self,
        act: impl FnOnce() -> Result<Outcome<T>, E>,
    ) -> Result<T, E> {
        let connection = self.writer.lock();
        self.run_in_transaction(&connection, || {
            Ok(match act() {
                Ok(Outcome::Commit(value)) => (true, Ok(value)),
                Ok(Outcome::Rollback(value)) => (false, Ok(value)),
                Err(error) => (false, Err(error)),
            })
        })?
    }

    /// Returns the names of all records of a kind, sorted; empty for kinds without names.
    ///
    /// # Errors
    /// A database error.
    pub fn names(&self, kind: RecordKind) -> Result<Vec<String>, StoreError> {
        if matches!(kind, RecordKind::Service | RecordKind::Session) {
            return Ok(Vec::new());
        }
        self.read(|connection| {
            // Tables are named like their kind.
            let mut statement =
                connection.prepare_cached(&format!("SELECT name FROM {kind} ORDER BY name"))?;
            Ok(statement.query_map([], |row| row.get(0))?.collect::<Result<Vec<_>, _>>()?)
        })
    }

    /// Blocks disk access while a test requests it. Not part of release builds.
    #[cfg(debug_assertions)]
    pub fn hang_while(&self, is_hanging: impl Fn(crate::hang::DiskWork) -> bool + Send + Sync + 'static) {
        self.hang.set(is_hanging);
    }

    pub(crate) fn read<T>(
        &self,
        read: impl FnOnce(&Connection) -> Result<T, StoreError>,
    ) -> Result<T, StoreError> {
        #[cfg(debug_assertions)]
        self.hang.wait(crate::hang::DiskWork::Records);
        match &self.readers {
            // Within a transaction, reads must see its uncommitted changes.
            Some(readers) if !self.writer.is_owned_by_current_thread() => readers.with(read),
            _ => read(&self.writer.lock()),
        }
    }

    /// Runs `write` in a transaction, or in the open one, and rolls it back after an error.
    pub(crate) fn write<T>(
        &self,
        write: impl FnOnce(&Connection) -> Result<T, StoreError>,
    ) -> Result<T, StoreError> {
        let connection = self.writer.lock();
        self.run_in_transaction(&connection, || Ok((true, write(&connection)?)))
    }

    /// Begins a write transaction.
    fn begin<'a>(&self, connection: &'a Connection) -> Result<Transaction<'a>, StoreError> {
        #[cfg(debug_assertions)]
        self.hang.wait(crate::hang::DiskWork::Records);
        let was_busy = self.is_busy.load(Ordering::Relaxed);
        connection.busy_timeout(if was_busy { STILL_BUSY_TIMEOUT } else { BUSY_TIMEOUT })?;
        let begun = Transaction::new_unchecked(connection, TransactionBehavior::Immediate);
        let begun = begun.map_err(StoreError::from);
        self.is_busy.store(matches!(begun, Err(StoreError::Locked)), Ordering::Relaxed);
        begun
    }

    /// Runs `act` in a transaction, or in a savepoint of the open one, and commits it if the first value is true.
    fn run_in_transaction<T>(
        &self,
        connection: &Connection,
        act: impl FnOnce() -> Result<(bool, T), StoreError>,
    ) -> Result<T, StoreError> {
        // A panic drops the transaction, which rolls it back.
        if connection.is_autocommit() {
            let transaction = self.begin(connection)?;
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

/// Outcome of a transaction.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Outcome<T> {
    /// Commit.
    Commit(T),
    /// Rollback.
    Rollback(T),
}

/// Converts a violated uniqueness constraint to `taken`.
pub(crate) fn map_unique_violation(
    error: rusqlite::Error,
    name_taken: impl FnOnce() -> StoreError,
) -> StoreError {
    match error.sqlite_error().map(|error| error.extended_code) {
        Some(rusqlite::ffi::SQLITE_CONSTRAINT_UNIQUE) => name_taken(),
        _ => error.into(),
    }
}
