//! The store: one connection that writes, and some that read. Calls block for a moment; they belong on threads that may block.

use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use parking_lot::{Mutex, ReentrantMutex};
use rusqlite::{Connection, Transaction, TransactionBehavior};

use crate::error::{Kind, StoreError};
use crate::migrations::migrate;
use crate::relays::UnsavedStates;
use crate::seal::MasterKey;
use crate::sealed::Keyring;
use crate::sessions::UnsavedSessions;

/// How long to wait for another program that holds the file.
pub(crate) const BUSY_TIMEOUT: Duration = Duration::from_secs(5);
/// The same once a write has waited so long in vain: queued writes must not each wait as long.
pub(crate) const STILL_BUSY_TIMEOUT: Duration = Duration::from_millis(100);
/// Prepared statements that a connection keeps: more than there are, so that none is prepared twice.
const PREPARED_STATEMENTS: usize = 256;
/// Reading connections that are kept open. More readers at a time open connections of their own.
const MAX_IDLE_READERS: usize = 4;

/// The records and the key that their secrets are sealed under.
#[derive(Debug)]
pub struct Store {
    /// The connection that writes. Re-entrant, so that a group of writes is made of the same calls as single ones.
    pub(crate) writer: ReentrantMutex<Connection>,
    /// Connections that read, without waiting for the writer; none for records in memory, which have one connection alone.
    readers: Option<Readers>,
    /// The last write found the file held by another program.
    is_busy: AtomicBool,
    pub(crate) keyring: Mutex<Keyring>,
    pub(crate) unsaved: Mutex<UnsavedStates>,
    pub(crate) unsaved_sessions: Mutex<UnsavedSessions>,
    #[cfg(debug_assertions)]
    pub(crate) hang: crate::hang::Hang,
}

/// Idle connections that read.
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

/// Opens a connection that cannot write.
pub(crate) fn open_reader(path: &Path) -> Result<Connection, StoreError> {
    let connection = Connection::open(path)?;
    connection.busy_timeout(BUSY_TIMEOUT)?;
    connection.set_prepared_statement_cache_capacity(PREPARED_STATEMENTS);
    connection.pragma_update(None, "query_only", true)?;
    Ok(connection)
}

impl Store {
    /// Opens the records at `path`, makes them where there are none, and brings them to this version.
    ///
    /// # Errors
    /// [`StoreError::ForeignMasterKey`] when the records were sealed under another key, or why the file cannot be used.
    pub fn open(path: &Path, master_key: MasterKey) -> Result<Self, StoreError> {
        let store = Self::open_file(path, master_key)?;
        store.check_master_key()?;
        store.fill_secret_facts()?;
        store.clean_backup_servers()?;
        store.seal_addresses()?;
        Ok(store)
    }

    /// Opens the records at `path`, and ties them to a master key that is not theirs: every secret in them is lost, and has to be
    /// set again.
    ///
    /// # Errors
    /// [`StoreError`] when the file cannot be used.
    pub fn open_with_foreign_key(path: &Path, master_key: MasterKey) -> Result<Self, StoreError> {
        let store = Self::open_file(path, master_key)?;
        store.adopt_master_key()?;
        Ok(store)
    }

    /// Records that vanish with the value; for tests.
    ///
    /// # Errors
    /// [`StoreError`] when SQLite fails.
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
        // Acknowledged writes must outlive a power cut.
        connection.pragma_update(None, "synchronous", "FULL")?;
        connection.pragma_update(None, "foreign_keys", true)?;
        // Pages of removed secrets are overwritten, sealed as they are.
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

    /// The folder that the records lie in; `None` for those in memory.
    #[must_use]
    pub fn folder(&self) -> Option<PathBuf> {
        self.path()?.parent().map(Path::to_owned)
    }

    /// File of the records; `None` for those in memory.
    #[must_use]
    pub fn path(&self) -> Option<&Path> {
        self.readers.as_ref().map(|readers| readers.path.as_path())
    }

    /// Reads and writes as one: whatever `act` wrote is kept or undone as a whole. Others read what was there before until it is
    /// kept, and write once it has ended. Groups may stand within groups; an inner one that is undone leaves the outer one as it
    /// was.
    ///
    /// # Errors
    /// The error of `act`, or the store's failure; then nothing of it is kept.
    pub fn together<T, E: From<StoreError>>(&self, act: impl FnOnce() -> Result<Fate<T>, E>) -> Result<T, E> {
        let connection = self.writer.lock();
        self.group(&connection, || {
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

    /// Lets the disk hang for as long as a test says so. Not part of release builds.
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
            // A writer reads its own uncommitted changes.
            Some(readers) if !self.writer.is_owned_by_current_thread() => readers.with(read),
            _ => read(&self.writer.lock()),
        }
    }

    /// Runs `write` in a transaction, or within the group that is open, and undoes it when it fails.
    pub(crate) fn write<T>(
        &self,
        write: impl FnOnce(&Connection) -> Result<T, StoreError>,
    ) -> Result<T, StoreError> {
        let connection = self.writer.lock();
        self.group(&connection, || Ok((true, write(&connection)?)))
    }

    /// Begins a transaction that writes.
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

    /// Runs `act` in a transaction, or in a savepoint within one, and keeps what it wrote if it says so.
    fn group<T>(
        &self,
        connection: &Connection,
        act: impl FnOnce() -> Result<(bool, T), StoreError>,
    ) -> Result<T, StoreError> {
        // A panic drops the transaction, or the one around the savepoint, which undoes it.
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
