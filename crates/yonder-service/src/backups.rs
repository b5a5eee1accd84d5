//! Scheduled backups of the records.

use std::fs::{self, DirBuilder};
use std::io;
use std::os::unix::fs::DirBuilderExt as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, SystemTime};

use parking_lot::Mutex;
use thiserror::Error;
use tokio::time::{MissedTickBehavior, interval};
use yonder_core::Role;
use yonder_store::{RecordKind, StoreError};

use crate::journal::Journal;
use yonder_records::time;
use yonder_records::{Actor, Change};
use yonder_records::{LOW_BYTES, Records};

/// Maximum interval of checks for a due backup.
const MAX_CHECK_INTERVAL: Duration = Duration::from_secs(60);
/// Prefix of file names: `records-2026-11-29T16-00-00Z.backup`.
const PREFIX: &str = "records-";
const SUFFIX: &str = ".backup";
/// Name of an incomplete backup.
const DRAFT: &str = "records.draft";

/// Schedule of the backups.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BackupPlan {
    /// Folder of the backups, created with access for the owner only.
    pub folder: PathBuf,
    /// Interval of backups.
    pub every: Duration,
    /// Number of backups to keep; older ones are removed.
    pub keep: usize,
}

/// Error of a backup.
#[derive(Debug, Error)]
enum BackupError {
    #[error("{path}: {source}")]
    File { path: String, source: io::Error },
    #[error("{folder} has {free_mb} MB free; {needed_mb} MB are needed")]
    NoSpace { folder: String, free_mb: u64, needed_mb: u64 },
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// Scheduler of backups: creates one when the newest is older than the plan's interval, and removes the oldest beyond
/// the limit.
#[derive(Debug)]
pub struct Backups {
    records: Arc<Records>,
    journal: Arc<Journal>,
    plan: Option<BackupPlan>,
    /// Error of the last attempt.
    failure: Mutex<Option<String>>,
    /// Time of the newest backup at the last check.
    newest: Mutex<Option<SystemTime>>,
}

impl Backups {
    pub(crate) fn new(records: Arc<Records>, journal: Arc<Journal>, plan: Option<BackupPlan>) -> Self {
        Self { records, journal, plan, failure: Mutex::default(), newest: Mutex::default() }
    }

    /// Creates due backups until the task is dropped.
    pub(crate) async fn run(self: Arc<Self>) {
        let Some(plan) = &self.plan else { return };
        let mut ticks = interval((plan.every / 4).clamp(Duration::from_secs(1), MAX_CHECK_INTERVAL));
        ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
        loop {
            ticks.tick().await;
            let backups = Arc::clone(&self);
            let checked = tokio::task::spawn_blocking(move || backups.check(SystemTime::now())).await;
            if let Err(error) = checked {
                tracing::error!(%error, "the backup panicked");
            }
        }
    }

    /// Creates a backup if one is due at `now`. A failure is logged once, and retried at the next check.
    fn check(&self, now: SystemTime) {
        let Some(plan) = &self.plan else { return };
        let newest = backups_in(&plan.folder).into_iter().map(|(at, _)| at).rfind(|at| *at <= now);
        *self.newest.lock() = newest;
        let age = newest.and_then(|newest| now.duration_since(newest).ok());
        if age.is_some_and(|age| age < plan.every) {
            return;
        }
        let failure = self.make(plan, now).err().map(|error| error.to_string());
        let mut known = self.failure.lock();
        if let Some(error) = failure.as_ref().filter(|failure| known.as_ref() != Some(failure)) {
            tracing::error!(error, "the scheduled backup failed");
        }
        if failure.is_none() {
            *self.newest.lock() = Some(now);
        }
        *known = failure;
    }

    fn make(&self, plan: &BackupPlan, now: SystemTime) -> Result<(), BackupError> {
        let folder = &plan.folder;
        let at = |path: &Path| {
            let path = path.display().to_string();
            move |source| BackupError::File { path, source }
        };
        DirBuilder::new().recursive(true).mode(0o700).create(folder).map_err(at(folder))?;
        let needed = self.records.bytes() + LOW_BYTES;
        let free = fs4::available_space(folder).map_err(at(folder))?;
        if free < needed {
            let folder = folder.display().to_string();
            return Err(BackupError::NoSpace {
                folder,
                free_mb: free / 1_000_000,
                needed_mb: needed / 1_000_000,
            });
        }
        let draft = folder.join(DRAFT);
        // Left over from a crash.
        let _left = fs::remove_file(&draft);
        let bytes = self.records.store.backup_to(&draft)?;
        fs::File::open(&draft).and_then(|file| file.sync_all()).map_err(at(&draft))?;
        let path = folder.join(name_of(now));
        fs::rename(&draft, &path).map_err(at(&path))?;
        tracing::info!(file = %path.display(), bytes, "records backed up");
        let change = Change {
            actor: Actor::schedule(),
            needs: Role::Admin,
            action: "backed-up",
            kind: RecordKind::Service,
            name: "yonder".to_owned(),
            expected_revision: None,
        };
        self.journal.audit(&change);
        let all = backups_in(folder);
        for (_, old) in all.iter().take(all.len().saturating_sub(plan.keep)) {
            fs::remove_file(old).map_err(at(old))?;
        }
        Ok(())
    }

    /// Returns the time of the newest scheduled backup at the last check, without reading the folder.
    pub(crate) fn newest_known(&self) -> Option<SystemTime> {
        *self.newest.lock()
    }

    /// Returns the time of the newest scheduled backup.
    pub(crate) fn newest(&self) -> Option<SystemTime> {
        backups_in(&self.plan.as_ref()?.folder).last().map(|(at, _)| *at)
    }

    /// Returns the plan; `None` if no backups are scheduled.
    pub(crate) fn plan(&self) -> Option<&BackupPlan> {
        self.plan.as_ref()
    }

    /// Returns the error of the last attempt.
    pub(crate) fn failure(&self) -> Option<String> {
        self.failure.lock().clone()
    }
}

fn name_of(time: SystemTime) -> String {
    format!("{PREFIX}{}{SUFFIX}", time::text(time).replace(':', "-"))
}

/// Parses the time in the name of a backup.
fn time_of(name: &str) -> Option<SystemTime> {
    let text = name.strip_prefix(PREFIX)?.strip_suffix(SUFFIX)?;
    let (day, clock) = text.split_once('T')?;
    time::read_s(&format!("{day}T{}", clock.replace('-', ":"))).map(time::from_s)
}

/// Returns the backups in a folder, the oldest first. Other files are ignored.
fn backups_in(folder: &Path) -> Vec<(SystemTime, PathBuf)> {
    let files = fs::read_dir(folder).into_iter().flatten().flatten();
    let mut found: Vec<_> =
        files.filter_map(|file| Some((time_of(file.file_name().to_str()?)?, file.path()))).collect();
    found.sort();
    found
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::PermissionsExt as _;

    use rstest::rstest;
    use tokio::runtime::Handle;
    use yonder_engine::Engine;
    use yonder_store::{MasterKey, Store};

    use super::*;
    use crate::Service;

    const HOUR: Duration = Duration::from_secs(3_600);

    fn begin() -> SystemTime {
        SystemTime::UNIX_EPOCH + Duration::from_secs(1_795_968_000)
    }

    fn service(folder: &Path) -> Service {
        let store = Store::open(&folder.join("yonder.db"), MasterKey::from_bytes(&[1; 32])).unwrap();
        let plan = BackupPlan { folder: folder.join("backups"), every: 24 * HOUR, keep: 3 };
        Service::new(store, Engine::new(Handle::current()), "a-local-token".into())
            .unwrap()
            .with_backups(Some(plan))
    }

    fn names(folder: &Path) -> Vec<String> {
        let found = backups_in(&folder.join("backups"));
        found.iter().map(|(_, path)| path.file_name().unwrap().to_str().unwrap().to_owned()).collect()
    }

    #[tokio::test]
    async fn a_backup_is_made_when_it_is_due_and_old_ones_are_removed() {
        let folder = tempfile::tempdir().unwrap();
        let service = service(folder.path());
        let backups = service.backups();
        for hours in 0..24 * 5 {
            backups.check(begin() + hours * HOUR);
        }
        let expected: Vec<String> = (2..5).map(|day| name_of(begin() + day * 24 * HOUR)).collect();
        assert_eq!(names(folder.path()), expected);
        assert_eq!(backups.newest(), Some(begin() + 96 * HOUR));
        let newest = backups_in(&folder.path().join("backups")).pop().unwrap().1;
        assert_eq!(fs::metadata(&newest).unwrap().permissions().mode() & 0o777, 0o600);
        let copy = Store::open(&newest, MasterKey::from_bytes(&[1; 32])).unwrap();
        copy.check().unwrap();
        assert!(service.records().store.last_audit_ms("backed-up").unwrap().is_some());
    }

    #[tokio::test]
    async fn clock_set_back_neither_stops_nor_multiplies_backups() {
        let folder = tempfile::tempdir().unwrap();
        let service = service(folder.path());
        service.backups().check(begin() + 1_000 * HOUR);
        for minutes in 0..120 {
            service.backups().check(begin() + minutes * Duration::from_secs(60));
        }
        assert_eq!(names(folder.path()), [name_of(begin()), name_of(begin() + 1_000 * HOUR)]);
    }

    #[tokio::test]
    async fn a_failure_is_kept_until_a_backup_is_made() {
        let folder = tempfile::tempdir().unwrap();
        let service = service(folder.path());
        let blocking_file = folder.path().join("backups");
        fs::write(&blocking_file, "a file").unwrap();
        service.backups().check(begin());
        assert!(service.backups().failure().unwrap().contains("backups"));
        fs::remove_file(&blocking_file).unwrap();
        service.backups().check(begin() + HOUR);
        assert_eq!((service.backups().failure(), names(folder.path()).len()), (None, 1));
    }

    #[rstest]
    #[case::backup("records-2026-11-29T16-00-05Z.backup", true)]
    #[case::draft("records.draft", false)]
    #[case::copy("records-2026-11-29T16-00-05Z.backup.gz", false)]
    #[case::no_time("records-yesterday.backup", false)]
    fn only_backups_count(#[case] name: &str, #[case] counts: bool) {
        assert_eq!(time_of(name).is_some(), counts);
        if let Some(time) = time_of(name) {
            assert_eq!(name_of(time), name);
        }
    }
}
