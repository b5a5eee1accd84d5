//! Self-check: records, disk, and system limits.

use yonder_api::Check;
use yonder_core::preflight::CheckStatus;
use yonder_engine::count_authorities;

use super::Service;
use crate::process::{ProcessStats, open_files};
use crate::stats::ServiceStats;
use yonder_records::LOW_BYTES;

/// Free space below which the check fails, in bytes.
const TOO_LITTLE_BYTES: u64 = 100 * 1024 * 1024;
/// Open files needed by the service itself, per feed and per push.
const FILES: (u64, u64, u64) = (64, 6, 2);

impl Service {
    /// Returns the statistics for metrics, without blocking on the disk.
    #[must_use]
    pub fn stats(&self) -> ServiceStats {
        let (running, feeds) = self.engine.running();
        ServiceStats {
            version: env!("CARGO_PKG_VERSION").to_owned(),
            process: ProcessStats::read(&self.engine, self.supervisor.restarts()),
            relays: self.records.relays(),
            running,
            feeds,
            ingest: self.ingest.registry().counts(),
            signposts: self.sharing.stats(),
            alerts: self.notifications.alert_stats(),
            unwritten: self.history.unwritten().map(|notes| notes + self.journal.waiting()),
            disk: self.notifications.disk_stats(),
            scheduled_backup: self.backups.newest_known(),
            backup_failed: self.backups.failure().is_some(),
        }
    }

    /// Runs the self-check.
    #[must_use]
    pub fn selfcheck(&self) -> Vec<Check> {
        vec![
            self.check_records(),
            self.check_secrets(),
            self.check_disk(),
            self.check_backups(),
            self.check_files(),
            check_authorities(),
        ]
    }

    fn check_records(&self) -> Check {
        match self.records.store.check() {
            Ok(()) => pass("records", "The records are sound.".to_owned()),
            Err(error) => fail(
                "records",
                format!("The records are not sound: {error}."),
                "Stop the service and restore the last backup with `yonder restore`.",
            ),
        }
    }

    fn check_secrets(&self) -> Check {
        let lost = match self.records.store.verify_secrets() {
            Ok(lost) => lost,
            Err(error) => {
                let hint = "Look at the records first.";
                return fail("secrets", format!("Secrets cannot be read: {error}."), hint);
            }
        };
        if lost.is_empty() {
            return pass("secrets", "All secrets can be decrypted with the master key.".to_owned());
        }
        let named: Vec<String> = lost
            .iter()
            .map(|lost| format!("the {} of {} {}", lost.secret.replace('_', " "), lost.kind, lost.name))
            .collect();
        fail(
            "secrets",
            format!("Not every secret can be opened: {}.", named.join(", ")),
            "Set them again: `yonder feed edit --password-file`, `yonder feed rekey`, `yonder destination rekey`, `yonder contact edit`.",
        )
    }

    fn check_disk(&self) -> Check {
        let Some(folder) = self.records.store.folder() else {
            return pass("disk", "The records are not kept on disk.".to_owned());
        };
        match fs4::available_space(&folder) {
            Ok(free) if free >= LOW_BYTES => {
                pass("disk", format!("{} MB are free for the records.", free / 1_000_000))
            }
            Ok(free) => {
                let said = format!("Only {} MB are free for the records.", free / 1_000_000);
                let hint = "Make room: without it the record has holes and changes are refused.";
                if free >= TOO_LITTLE_BYTES { warn("disk", said, hint) } else { fail("disk", said, hint) }
            }
            Err(error) => {
                warn("disk", format!("The free space is not known: {error}."), "Look at it by hand.")
            }
        }
    }

    fn check_backups(&self) -> Check {
        let Some(plan) = self.backups.plan() else {
            let hint =
                "Start the service without --no-backups, or make them by `yonder backup` from a timer.";
            return match self.records.store.folder() {
                Some(_) => warn("backup", "No backups are scheduled.".to_owned(), hint),
                None => pass("backup", "The records are not kept on disk.".to_owned()),
            };
        };
        let folder = plan.folder.display();
        if let Some(failure) = self.backups.failure() {
            let hint = "Make room in the folder of the backups, or name another one by --backup-folder.";
            return fail("backup", format!("The last backup failed: {failure}."), hint);
        }
        match self.backups.newest().map(|newest| newest.elapsed().unwrap_or_default().as_secs() / 3_600) {
            Some(hours) => pass("backup", format!("The last backup is {hours} h old, in {folder}.")),
            None => pass("backup", format!("The first backup is being made, in {folder}.")),
        }
    }

    fn check_files(&self) -> Check {
        let relays = self.records.stored_relays();
        let pushes: usize = relays.iter().map(|relay| relay.destinations.len()).sum();
        let count = |number: usize| u64::try_from(number).unwrap_or(u64::MAX);
        let needed = FILES.0 + FILES.1 * count(relays.len()) + FILES.2 * count(pushes);
        let limit = rlimit::getrlimit(rlimit::Resource::NOFILE).map_or(u64::MAX, |(soft, _)| soft);
        let open = open_files();
        let said =
            format!("{open} of at most {limit} files are open; all relays together need about {needed}.");
        if needed <= limit {
            return pass("open-files", said);
        }
        fail("open-files", said, "Raise the limit: LimitNOFILE= in the systemd unit, or `ulimit -n`.")
    }
}

fn check_authorities() -> Check {
    let known = count_authorities();
    if known > 0 {
        return pass("authorities", format!("{known} certificate authorities of the system are trusted."));
    }
    warn(
        "authorities",
        "The system has no certificate authorities: no RTMPS platform will be trusted.".to_owned(),
        "Install the system's CA certificates, or give destinations an authority of their own.",
    )
}

fn check(check: &str, level: CheckStatus, reason: String, next_step: Option<&str>) -> Check {
    let check = check.to_owned();
    Check {
        subject: "service".to_owned(),
        check,
        level,
        reason,
        next_step: next_step.map(str::to_owned),
        adapt: None,
        tune: false,
    }
}

fn pass(word: &str, reason: String) -> Check {
    check(word, CheckStatus::Pass, reason, None)
}

fn warn(word: &str, reason: String, hint: &str) -> Check {
    check(word, CheckStatus::Warn, reason, Some(hint))
}

fn fail(word: &str, reason: String, hint: &str) -> Check {
    check(word, CheckStatus::Fail, reason, Some(hint))
}
