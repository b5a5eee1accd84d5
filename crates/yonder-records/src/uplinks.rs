//! Uplinks.

use std::collections::HashMap;
use std::net::IpAddr;

use yonder_api::{NewUplink, Uplink as UplinkFacts, UplinkChange};
use yonder_core::budget::{BitRate, Uplink, Volume};
use yonder_core::check_name;
use yonder_engine::{Binding, UplinkSpec};
use yonder_store::{Identity, RecordKind, StoreError, TrafficKey, Uplink as StoredUplink};

use super::{Records, Transaction};
use crate::error::ServiceError;
use crate::site::read_site;
use crate::time;

/// Default headroom, in percent.
pub(crate) const DEFAULT_HEADROOM: u8 = 25;

impl Records {
    /// Returns all uplinks.
    ///
    /// # Errors
    /// If the records cannot be read.
    pub fn uplinks(&self) -> Result<Vec<UplinkFacts>, ServiceError> {
        let sent = self.sent_this_month()?;
        let identities = self.store.identities(RecordKind::Uplink)?;
        let identity = |stored: &StoredUplink| identities.get(&stored.name).cloned().unwrap_or_default();
        Ok(self.store.uplinks()?.iter().map(|stored| facts(stored, identity(stored), &sent)).collect())
    }

    /// Returns an uplink.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or if the records cannot be read.
    pub fn uplink(&self, name: &str) -> Result<UplinkFacts, ServiceError> {
        let stored = self.store.uplink(name).map_err(|error| self.explain(error))?;
        let identity = self.store.identity(RecordKind::Uplink, &stored.name)?.unwrap_or_default();
        Ok(facts(&stored, identity, &self.sent_this_month()?))
    }

    /// Returns the specification of an uplink for the engine.
    pub(crate) fn uplink_spec(&self, name: &str) -> Result<UplinkSpec, ServiceError> {
        let stored = self.store.uplink(name)?;
        let source = stored.source.and_then(|source| source.parse().ok()).map(Binding::Source);
        let binding = source.or_else(|| stored.interface.map(Binding::Interface));
        let binding = binding.ok_or(ServiceError::Internal("an uplink in use binds nothing"))?;
        Ok(UplinkSpec { name: stored.name, binding })
    }

    /// Returns the stored spelling of the uplinks that a destination is bound to.
    pub(crate) fn read_uplinks(&self, names: &[String]) -> Result<Vec<String>, ServiceError> {
        let mut read: Vec<String> = Vec::new();
        for name in names {
            let stored = self.store.uplink(name).map_err(|error| self.explain(error))?;
            let invalid =
                |detail: String, hint| Err(ServiceError::Invalid { field: "uplinks", detail, hint });
            if read.contains(&stored.name) {
                return invalid(format!("{name:?} is named twice"), "Name each uplink once, the best first.");
            }
            if stored.source.is_none() && stored.interface.is_none() {
                let detail = format!("nothing binds a push to the uplink {:?}", stored.name);
                return invalid(detail, "Give the uplink a --source address or an --interface first.");
            }
            read.push(stored.name);
        }
        Ok(read)
    }

    /// Returns the bytes sent this month.
    ///
    /// # Errors
    /// If the records cannot be read.
    pub fn sent_this_month(&self) -> Result<Sent, ServiceError> {
        let calendar = time::Calendar::now();
        let mut sent = Sent::default();
        let sites: HashMap<String, Option<String>> = self
            .store
            .feeds()?
            .into_iter()
            .map(|feed| (feed.settings.name, feed.settings.site.map(|site| site.to_lowercase())))
            .collect();
        for (whose, bytes) in self.store.traffic(&calendar.first_day(), &calendar.day())? {
            match whose {
                TrafficKey::Push(..) => sent.here += bytes,
                TrafficKey::Uplink(name) => *sent.bound.entry(name).or_default() += bytes,
                TrafficKey::Feed(feed) => {
                    if let Some(site) = sites.get(&feed).cloned().flatten() {
                        *sent.from_sites.entry(site).or_default() += bytes;
                    }
                }
            }
        }
        // Viewers take their streams from this machine.
        let signposts = self.store.signpost_traffic(&calendar.first_day(), &calendar.day())?;
        sent.here += signposts.values().map(|traffic| traffic.bytes).sum::<u64>();
        Ok(sent)
    }
}

impl Transaction<'_> {
    /// Adds an uplink.
    ///
    /// # Errors
    /// [`ServiceError::Invalid`] naming the field, a name that is taken, or if the records cannot be written.
    pub fn add_uplink(&self, new: &NewUplink) -> Result<UplinkFacts, ServiceError> {
        let stored = StoredUplink {
            name: check_name(&new.name).map_err(|error| ServiceError::name(&error))?,
            site: new.site.as_deref().and_then(read_site),
            up_kbps: read_rate(&new.rate)?,
            headroom_percent: read_headroom(new.headroom_percent.unwrap_or(DEFAULT_HEADROOM))?,
            allowance_bytes: new.allowance.as_deref().map(read_allowance).transpose()?.flatten(),
            backup: new.backup,
            source: new.source.as_deref().map(read_source).transpose()?.flatten(),
            interface: new.interface.as_deref().map(read_interface).transpose()?.flatten(),
        };
        check_binding(&stored)?;
        self.store.add_uplink(&stored, time::now_s())?;
        self.uplink(&stored.name)
    }

    /// Changes an uplink.
    ///
    /// # Errors
    /// As [`Transaction::add_uplink`], and [`ServiceError::NotFound`].
    pub fn edit_uplink(&self, name: &str, change: &UplinkChange) -> Result<UplinkFacts, ServiceError> {
        let mut stored = self.store.uplink(name).map_err(|error| self.explain(error))?;
        if let Some(new_name) = &change.name {
            stored.name = check_name(new_name).map_err(|error| ServiceError::name(&error))?;
        }
        if let Some(site) = &change.site {
            stored.site = read_site(site);
        }
        if let Some(rate) = &change.rate {
            stored.up_kbps = read_rate(rate)?;
        }
        if let Some(allowance) = &change.allowance {
            stored.allowance_bytes = read_allowance(allowance)?;
        }
        if let Some(percent) = change.headroom_percent {
            stored.headroom_percent = read_headroom(percent)?;
        }
        stored.backup = change.backup.unwrap_or(stored.backup);
        // Another binding replaces the present one.
        if let Some(source) = &change.source {
            stored.source = read_source(source)?;
            stored.interface = stored.interface.filter(|_| stored.source.is_none());
        }
        if let Some(interface) = &change.interface {
            stored.interface = read_interface(interface)?;
            stored.source = stored.source.filter(|_| stored.interface.is_none() || change.source.is_some());
        }
        check_binding(&stored)?;
        let users = self.store.destinations_by(name)?;
        if !users.is_empty() && stored.source.is_none() && stored.interface.is_none() {
            return Err(StoreError::InUse { kind: RecordKind::Uplink, name: stored.name, users }.into());
        }
        self.store.edit_uplink(name, &stored)?;
        for destination in &users {
            self.apply_running(&self.store.relays_to(destination)?)?;
        }
        self.uplink(&stored.name)
    }

    /// Removes an uplink without bound destinations.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or if the records cannot be written.
    pub fn remove_uplink(&self, name: &str) -> Result<(), ServiceError> {
        self.store.remove_uplink(name).map_err(|error| self.explain(error))
    }
}

/// Bytes sent within a month.
#[derive(Debug, Default)]
pub struct Sent {
    /// By all pushes.
    here: u64,
    /// By pushes that were bound to an uplink, by its name.
    bound: HashMap<String, u64>,
    /// By feeds, by lower-case site.
    from_sites: HashMap<String, u64>,
}

impl Sent {
    /// Returns the bytes of an uplink. Unbound pushes count for each main uplink, since their route is unknown.
    fn by(&self, uplink: &StoredUplink) -> u64 {
        let bound = self.bound.get(&uplink.name).copied().unwrap_or_default();
        match &uplink.site {
            Some(_) if uplink.backup => 0,
            Some(site) => self.from_sites.get(&site.to_lowercase()).copied().unwrap_or_default(),
            None if uplink.backup => bound,
            None => bound + self.here.saturating_sub(self.bound.values().sum()),
        }
    }
}

/// Returns a stored count, which is never negative.
pub fn unsigned(value: i64) -> u64 {
    u64::try_from(value).unwrap_or_default()
}

/// Parses a bit rate to kilobits per second.
///
/// # Errors
/// [`ServiceError::Invalid`] naming the field `rate`.
pub fn read_rate(text: &str) -> Result<i64, ServiceError> {
    let rate: BitRate = text.parse().map_err(|error| ServiceError::unit("rate", &error))?;
    let kbps = i64::try_from(rate.kbps()).ok().filter(|kbps| *kbps > 0);
    kbps.ok_or_else(|| ServiceError::Invalid {
        field: "rate",
        detail: format!("{text:?} is no rate that carries anything"),
        hint: "Write a rate like 20Mbit/s.",
    })
}

fn read_allowance(text: &str) -> Result<Option<i64>, ServiceError> {
    if text.trim().is_empty() {
        return Ok(None);
    }
    let volume: Volume = text.parse().map_err(|error| ServiceError::unit("allowance", &error))?;
    Ok(i64::try_from(volume.bytes()).ok().filter(|bytes| *bytes > 0))
}

fn read_source(text: &str) -> Result<Option<String>, ServiceError> {
    if text.trim().is_empty() {
        return Ok(None);
    }
    let address: IpAddr = text.trim().parse().map_err(|_| ServiceError::Invalid {
        field: "source",
        detail: format!("{text:?} is no IP address"),
        hint: "Give the address that this machine has on that uplink, like 192.0.2.7.",
    })?;
    Ok(Some(address.to_string()))
}

/// Maximum length of an interface name, see netdevice(7).
const MAX_INTERFACE_NAME: usize = 15;

fn read_interface(text: &str) -> Result<Option<String>, ServiceError> {
    let name = text.trim();
    let is_name = name.len() <= MAX_INTERFACE_NAME
        && name.chars().all(|c| c.is_ascii_graphic() && c != '/' && c != ':');
    if !is_name {
        return Err(ServiceError::Invalid {
            field: "interface",
            detail: format!("{name:?} is no name of a network interface"),
            hint: "Give a name as `ip link` shows it, like eth1.",
        });
    }
    Ok(Some(name.to_owned()).filter(|name| !name.is_empty()))
}

/// Checks that there is one binding at most, and only on an uplink of this machine.
fn check_binding(uplink: &StoredUplink) -> Result<(), ServiceError> {
    let invalid = |detail: &str, hint| {
        let field = if uplink.source.is_some() { "source" } else { "interface" };
        Err(ServiceError::Invalid { field, detail: detail.to_owned(), hint })
    };
    let is_bound = uplink.source.is_some() || uplink.interface.is_some();
    if uplink.site.is_some() && is_bound {
        return invalid(
            "only an uplink of this machine can be bound",
            "Leave it out for an uplink of a site.",
        );
    }
    if uplink.source.is_some() && uplink.interface.is_some() {
        return invalid("an uplink is bound by one of the two", "Give a source address or an interface.");
    }
    Ok(())
}

fn read_headroom(percent: u8) -> Result<i64, ServiceError> {
    if percent > 90 {
        return Err(ServiceError::Invalid {
            field: "headroom_percent",
            detail: format!("{percent} % leave nothing to send by"),
            hint: "25 are usual; at most 90 can stay free.",
        });
    }
    Ok(i64::from(percent))
}

/// Converts an uplink for the budget.
pub fn uplink(stored: &StoredUplink, sent: &Sent) -> Uplink {
    Uplink {
        name: stored.name.clone(),
        site: stored.site.clone(),
        up_kbps: unsigned(stored.up_kbps),
        headroom_percent: unsigned(stored.headroom_percent),
        allowance: stored.allowance_bytes.map(|bytes| Volume::from_bytes(unsigned(bytes))),
        backup: stored.backup,
        sent: Volume::from_bytes(sent.by(stored)),
    }
}

fn facts(stored: &StoredUplink, identity: Identity, sent: &Sent) -> UplinkFacts {
    UplinkFacts {
        id: identity.uid,
        revision: identity.revision,
        source: stored.source.clone(),
        interface: stored.interface.clone(),
        ..uplink_facts(&uplink(stored, sent))
    }
}

/// Converts an uplink for the API.
pub fn uplink_facts(uplink: &Uplink) -> UplinkFacts {
    UplinkFacts {
        name: uplink.name.clone(),
        id: String::new(),
        revision: 0,
        site: uplink.site.clone(),
        up_kbps: uplink.up_kbps,
        headroom_percent: uplink.headroom_percent,
        allowance_bytes: uplink.allowance.map(Volume::bytes),
        backup: uplink.backup,
        source: None,
        interface: None,
        sent_bytes: uplink.sent.bytes(),
    }
}
