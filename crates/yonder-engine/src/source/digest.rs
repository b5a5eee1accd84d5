//! Hosts that have offered Digest authentication since the service started.
//!
//! A device that takes over a camera's address could ask for the password in clear (Basic). It is not sent to a host that has offered
//! Digest before.

use std::collections::HashSet;
use std::sync::{Mutex, OnceLock};

use crate::sync::lock;

/// Host and port.
type Host = (String, u16);

/// Hosts kept; beyond that no more are remembered.
const MAX_HOSTS: usize = 4_096;

fn hosts() -> &'static Mutex<HashSet<Host>> {
    static HOSTS: OnceLock<Mutex<HashSet<Host>>> = OnceLock::new();
    HOSTS.get_or_init(Mutex::default)
}

/// Remembers that a host has offered Digest.
pub(super) fn remember(host: &Host) {
    let mut hosts = lock(hosts());
    if hosts.len() < MAX_HOSTS {
        hosts.insert(host.clone());
    }
}

/// Forgets a host: a person has changed what is known of its camera.
pub(crate) fn forget(host: &Host) {
    lock(hosts()).remove(host);
}

/// Returns true for a host that has offered Digest.
pub(super) fn is_known(host: &Host) -> bool {
    lock(hosts()).contains(host)
}
