//! Metric families of uplinks, records and the process.

use std::time::{Duration, SystemTime};

use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::registry::{Registry, Unit};
use yonder_api::UplinkBudget;
use yonder_service::{ProcessStats, ServiceStats};

use super::labels::{NoLabels, UplinkLabels};
use super::values::{BYTES_PER_S_OF_KBPS, Float, signed};

/// Metric families of uplinks.
#[derive(Default)]
pub(super) struct UplinkFamilies {
    capacity: Family<UplinkLabels, Gauge>,
    usage: Family<UplinkLabels, Gauge>,
    allowance: Family<UplinkLabels, Gauge>,
    month: Family<UplinkLabels, Gauge>,
    projected: Family<UplinkLabels, Gauge>,
}

impl UplinkFamilies {
    pub(super) fn register(&self, registry: &mut Registry) {
        let per_second = || Unit::Other("bytes_per_second".to_owned());
        registry.register_with_unit(
            "uplink_capacity",
            "Rate of the uplink",
            per_second(),
            self.capacity.clone(),
        );
        registry.register_with_unit(
            "uplink_usage",
            "Rate that the running relays need on the uplink",
            per_second(),
            self.usage.clone(),
        );
        registry.register_with_unit(
            "uplink_allowance",
            "Monthly allowance",
            Unit::Bytes,
            self.allowance.clone(),
        );
        registry.register_with_unit(
            "uplink_month",
            "Bytes sent in this month",
            Unit::Bytes,
            self.month.clone(),
        );
        registry.register_with_unit(
            "uplink_month_projected",
            "Bytes that this month will have come to",
            Unit::Bytes,
            self.projected.clone(),
        );
    }

    pub(super) fn set(&self, stats: &ServiceStats) {
        for UplinkBudget { uplink, sum_kbps, projected_bytes, .. } in &stats.disk.uplinks {
            let label = UplinkLabels { uplink: uplink.name.clone() };
            self.capacity.get_or_create(&label).set(signed(uplink.up_kbps * BYTES_PER_S_OF_KBPS));
            self.usage.get_or_create(&label).set(signed(sum_kbps * BYTES_PER_S_OF_KBPS));
            self.month.get_or_create(&label).set(signed(uplink.sent_bytes));
            self.projected.get_or_create(&label).set(signed(*projected_bytes));
            if let Some(bytes) = uplink.allowance_bytes {
                self.allowance.get_or_create(&label).set(signed(bytes));
            }
        }
    }
}

/// Metrics without labels. A family that is not set is absent.
/// Metric families of records and the process.
#[derive(Default)]
pub(super) struct ServiceFamilies {
    resident: Gauge,
    open_files: Gauge,
    tasks: Gauge,
    heartbeat_age: Float,
    loop_restarts: Counter,
    unwritten: Family<NoLabels, Gauge>,
    records_blocked: Gauge,
    disk_free: Family<NoLabels, Gauge>,
    records: Gauge,
    last_backup: Family<NoLabels, Gauge>,
    backup_failed: Gauge,
}

impl ServiceFamilies {
    pub(super) fn register(&self, registry: &mut Registry) {
        registry.register_with_unit(
            "process_resident_memory",
            "Resident memory of the process",
            Unit::Bytes,
            self.resident.clone(),
        );
        registry.register("process_open_files", "Open files and sockets", self.open_files.clone());
        registry.register(
            "process_tasks",
            "Tasks of the engine: pulls, pushes and their supervision",
            self.tasks.clone(),
        );
        registry.register_with_unit(
            "media_thread_heartbeat_age",
            "Age of the oldest heartbeat of a media thread; above 5 s one is blocked",
            Unit::Seconds,
            self.heartbeat_age.clone(),
        );
        registry.register(
            "service_loop_restarts",
            "Background loops restarted after a panic",
            self.loop_restarts.clone(),
        );
        registry.register(
            "records_unwritten",
            "Entries of logbook, history and audit trail that wait for the disk",
            self.unwritten.clone(),
        );
        registry.register(
            "records_blocked",
            "A write of the records does not return",
            self.records_blocked.clone(),
        );
        registry.register_with_unit("records_size", "Size of the records", Unit::Bytes, self.records.clone());
        registry.register_with_unit(
            "disk_free",
            "Free space on the disk of the records",
            Unit::Bytes,
            self.disk_free.clone(),
        );
        registry.register_with_unit(
            "last_backup_timestamp",
            "Time of the last backup, since 1970",
            Unit::Seconds,
            self.last_backup.clone(),
        );
        registry.register(
            "scheduled_backup_failed",
            "The last scheduled backup failed",
            self.backup_failed.clone(),
        );
    }

    pub(super) fn set(&self, stats: &ServiceStats) {
        let ProcessStats { resident_bytes, open_files, tasks, heartbeat_age_ms, loop_restarts } =
            stats.process;
        self.resident.set(signed(resident_bytes));
        self.open_files.set(signed(open_files));
        self.tasks.set(signed(tasks));
        self.heartbeat_age.set(Duration::from_millis(heartbeat_age_ms).as_secs_f64());
        self.loop_restarts.inc_by(loop_restarts);
        match stats.unwritten {
            Some(count) => {
                self.unwritten
                    .get_or_create(&NoLabels {})
                    .set(signed(u64::try_from(count).unwrap_or(u64::MAX)));
            }
            None => {
                self.records_blocked.set(1);
            }
        }
        self.records.set(signed(stats.disk.records_bytes));
        if let Some(free) = stats.disk.free_bytes {
            self.disk_free.get_or_create(&NoLabels {}).set(signed(free));
        }
        let scheduled = stats.scheduled_backup.and_then(|at| at.duration_since(SystemTime::UNIX_EPOCH).ok());
        let scheduled_s = scheduled.map(|since| signed(since.as_secs()));
        let last_s = stats.disk.last_backup_ms.map(|at_ms| at_ms / 1_000);
        if let Some(at_s) = scheduled_s.max(last_s) {
            self.last_backup.get_or_create(&NoLabels {}).set(at_s);
        }
        self.backup_failed.set(i64::from(stats.backup_failed));
    }
}
