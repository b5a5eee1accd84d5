//! Hosts that have offered Digest authentication since the service started.
//!
//! A device that takes over a camera's address could request the password in clear (Basic). It is not sent to a host that has
//! offered Digest before.

use std::collections::HashSet;
use std::sync::Arc;

use parking_lot::Mutex;

/// Host and port.
type Host = (String, u16);

/// Maximum hosts; further ones are not remembered.
const MAX_HOSTS: usize = 4_096;

/// Hosts that have offered Digest to one engine. Clones share the set.
#[derive(Debug, Clone, Default)]
pub(crate) struct DigestHosts(Arc<Mutex<HashSet<Host>>>);

impl DigestHosts {
    /// Remembers that a host has offered Digest.
    pub(super) fn remember(&self, host: &Host) {
        let mut hosts = self.0.lock();
        if hosts.len() < MAX_HOSTS {
            hosts.insert(host.clone());
        }
    }

    /// Forgets a host, after a change of its camera's settings.
    pub(crate) fn forget(&self, host: &Host) {
        self.0.lock().remove(host);
    }

    /// Returns true for a host that has offered Digest.
    pub(super) fn contains(&self, host: &Host) -> bool {
        self.0.lock().contains(host)
    }
}
