//! Backups, rotation of the master key, and disk space.

use std::path::Path;

use serde_json::{Value, json};

use super::Records;
use crate::error::ServiceError;
use crate::jobs::JobContext;

/// Free space below which there is a warning, in bytes.
pub const LOW_BYTES: u64 = 1024 * 1024 * 1024;

impl Records {
    /// Returns a backup of all records, with sealed secrets.
    ///
    /// # Errors
    /// If the records cannot be copied.
    pub fn backup(&self) -> Result<Vec<u8>, ServiceError> {
        Ok(self.store.backup()?)
    }

    /// Writes a backup of all records, with sealed secrets, to a file attached to the job.
    ///
    /// # Errors
    /// If the records cannot be copied.
    pub fn backup_to_file(&self, context: &JobContext) -> Result<Value, ServiceError> {
        context.set_step("copying the records");
        let folder = self.store.folder().unwrap_or_else(std::env::temp_dir);
        let path = folder.join(format!("backup-{}.draft", context.id()));
        context.attach(&path);
        let bytes = self.store.backup_to(&path)?;
        context.check_canceled()?;
        Ok(json!({ "bytes": bytes }))
    }

    /// Seals every secret with a new master key, and returns their number.
    ///
    /// # Errors
    /// If the key file or the records cannot be written; the present key then stays.
    pub fn rotate_master_key(&self) -> Result<usize, ServiceError> {
        let _changing = self.lock_changes();
        Ok(self.store.rotate_master_key()?)
    }

    /// Returns the size of the database and its write-ahead log, in bytes; 0 for an in-memory database.
    pub fn bytes(&self) -> u64 {
        let Some(path) = self.store.path() else { return 0 };
        let mut log = path.as_os_str().to_owned();
        log.push("-wal");
        let size = |path: &Path| std::fs::metadata(path).map_or(0, |file| file.len());
        size(path) + size(Path::new(&log))
    }

    /// Returns the free disk space, in bytes.
    pub fn free_bytes(&self) -> Option<u64> {
        fs4::available_space(self.store.folder()?).ok()
    }

    /// Returns a message if free disk space is low.
    pub fn disk_low(&self) -> Option<String> {
        let free = self.free_bytes()?;
        (free < LOW_BYTES).then(|| format!("Only {} MB are free for the records.", free / 1_000_000))
    }
}
