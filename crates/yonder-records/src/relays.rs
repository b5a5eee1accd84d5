//! Relays and their desired states.

use std::collections::BTreeMap;
use std::sync::Arc;

use yonder_api::{NewRelay, Relay, RelayChange};
use yonder_core::check_name;
use yonder_core::rendition::{Limit, LimitError};
use yonder_engine::{Adaptation, PushSpec, RelaySpec};
use yonder_store::{DesiredState, Destination as StoredDestination, RecordKind, Relay as StoredRelay};

use super::holding::{read_after, read_picture};
use super::windows::{Times, set_times};
use super::{EngineAction, Records, Transaction};
use crate::error::ServiceError;
use crate::{time, views};

/// Maximum destinations of a relay.
const MAX_DESTINATIONS: usize = 64;

impl Records {
    /// Returns the names of relays to be started: the given ones, or all that are off.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`].
    pub fn relays_to_start(&self, named: Vec<String>) -> Result<Vec<String>, ServiceError> {
        if named.is_empty() {
            let relays = self.stored_relays();
            let off = relays.iter().filter(|relay| !relay.wanted.is_running());
            return Ok(off.map(|relay| relay.name.clone()).collect());
        }
        let known = |name: &String| Ok(self.store.relay(name).map_err(|error| self.explain(error))?.name);
        named.iter().map(known).collect()
    }

    /// Returns all relays by name.
    #[must_use]
    pub fn relays(&self) -> Vec<Relay> {
        self.stored_relays().iter().map(|relay| self.view(relay)).collect()
    }

    /// Returns a relay.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or if the records cannot be read.
    pub fn relay(&self, name: &str) -> Result<Relay, ServiceError> {
        // From memory, which does not block on the disk.
        if let Some(relay) = self.stored_relays().iter().find(|relay| relay.name.eq_ignore_ascii_case(name)) {
            return Ok(self.view(relay));
        }
        let relay = self.store.relay(name).map_err(|error| self.explain(error))?;
        Ok(self.view(&relay))
    }

    /// Refuses a second running relay to one destination, since a platform accepts one broadcast per key.
    pub(crate) fn check_keys_are_free(&self, relay: &StoredRelay) -> Result<(), ServiceError> {
        match self.conflicting_relay(relay) {
            Some((destination, relay)) => Err(ServiceError::KeyInUse { destination, relay }),
            None => Ok(()),
        }
    }

    /// Returns a destination shared with another running relay, and that relay's name.
    pub fn conflicting_relay(&self, relay: &StoredRelay) -> Option<(String, String)> {
        let others = self.stored_relays();
        let mut running = others.iter().filter(|other| other.name != relay.name && other.wanted.is_running());
        running.find_map(|other| {
            let shared = relay.destinations.iter().find(|name| other.destinations.contains(name))?;
            Some((shared.clone(), other.name.clone()))
        })
    }

    /// Returns a relay with its state.
    pub fn view(&self, relay: &StoredRelay) -> Relay {
        views::relay(relay, self.engine.relay(&relay.name))
    }

    /// Returns the specification of a relay for the engine.
    ///
    /// # Errors
    /// [`ServiceError::SecretLost`] for a secret that cannot be opened, or if the records cannot be read.
    pub fn relay_spec(&self, relay: &StoredRelay) -> Result<RelaySpec, ServiceError> {
        let feed = self.feed_spec(&self.store.feed(&relay.feed)?)?;
        let pushes = relay
            .destinations
            .iter()
            .map(|name| {
                let destination = self.store.destination(name)?;
                let adaptation = self.adaptation(relay, &destination)?;
                Ok(PushSpec { adaptation, ..self.push_spec(&destination)? })
            })
            .collect::<Result<Vec<_>, ServiceError>>()?;
        let hold = self.hold_spec(relay)?;
        let hls = self.store.has_player(&relay.name)?;
        Ok(RelaySpec { name: relay.name.clone(), feed, pushes, hold, hls })
    }

    /// Returns the adaptation of a relay's feed for a destination.
    ///
    /// # Errors
    /// If the records of its platform cannot be read.
    pub fn adaptation(
        &self,
        relay: &StoredRelay,
        destination: &StoredDestination,
    ) -> Result<Adaptation, ServiceError> {
        let settings = &destination.settings;
        let sheet = settings.platform.as_deref().map(|platform| self.sheet(platform)).transpose()?.flatten();
        let limit = relay.limits.get(&settings.name).copied().unwrap_or_default();
        let rules = sheet.map(|sheet| Arc::new(sheet.rules));
        let available_kbps = relay.available_kbps.get(&settings.name).copied();
        Ok(Adaptation { adapt: relay.adapt, limit, rules, available_kbps })
    }
}

impl Transaction<'_> {
    /// Adds a relay, which is off.
    ///
    /// # Errors
    /// [`ServiceError::Invalid`] naming the field, an unknown feed or destination, a name that is taken, or
    /// when the records cannot be written.
    pub fn add_relay(&self, new: &NewRelay) -> Result<Relay, ServiceError> {
        let times = Times {
            on_air: new.on_air.clone(),
            zone: new.zone.clone(),
            quiet_minute: new.quiet_minute.clone(),
        };
        let name = check_name(&new.name).map_err(|error| ServiceError::name(&error))?;
        check_destinations(&new.to)?;
        let hold_after_ms = read_after(new.hold_after_s)?;
        let fresh = StoredRelay::new(name.clone(), new.feed.clone(), new.to.clone());
        let limits = read_limits(new.limits.as_ref(), &new.to)?;
        let mut relay = StoredRelay { hold_after_ms, limits, adapt: new.adapt.unwrap_or_default(), ..fresh };
        set_times(&mut relay, times)?;
        self.store.add_relay(&relay, time::now_s()).map_err(|error| self.explain(error))?;
        self.mark_all_relays();
        self.relay(&name)
    }

    /// Changes a relay. While it runs, only pushes that differ are touched.
    ///
    /// # Errors
    /// As [`Transaction::add_relay`], and [`ServiceError::Running`] for a rename while it runs.
    pub fn edit_relay(&self, name: &str, change: RelayChange) -> Result<Relay, ServiceError> {
        let before = self.store.relay(name).map_err(|error| self.explain(error))?;
        let mut after = before.clone();
        if let Some(new_name) = &change.name {
            after.name = check_name(new_name).map_err(|error| ServiceError::name(&error))?;
            if after.name != before.name && before.wanted.is_running() {
                return Err(ServiceError::Running { kind: RecordKind::Relay, name: before.name });
            }
        }
        if let Some(feed) = change.feed {
            after.feed = feed;
        }
        if let Some(to) = change.to {
            check_destinations(&to)?;
            after.limits.retain(|name, _| to.iter().any(|other| other.eq_ignore_ascii_case(name)));
            after.destinations = to;
        }
        if let Some(limits) = &change.limits {
            after.limits = read_limits(Some(limits), &after.destinations)?;
        }
        after.adapt = change.adapt.unwrap_or(after.adapt);
        if let Some(picture) = &change.holding_picture {
            self.set_holding_picture(name, read_picture(picture)?.as_deref())?;
        }
        let RelayChange { on_air, zone, quiet_minute, .. } = change;
        set_times(&mut after, Times { on_air, zone, quiet_minute })?;
        if change.hold_after_s.is_some() {
            after.hold_after_ms = read_after(change.hold_after_s)?;
        }
        self.store.edit_relay(name, &after).map_err(|error| self.explain(error))?;
        if after.name != before.name {
            self.add_action(EngineAction::Withdraw(before.name.clone()));
            self.add_action(EngineAction::ForgetPicture(before.name));
        }
        self.mark_all_relays();
        let after = self.store.relay(&after.name)?;
        self.apply_running(std::slice::from_ref(&after.name))?;
        Ok(self.view(&after))
    }

    /// Removes a relay; its broadcasts end in order.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or if the records cannot be written.
    pub fn remove_relay(&self, name: &str) -> Result<(), ServiceError> {
        let relay = self.store.relay(name).map_err(|error| self.explain(error))?;
        self.store.remove_relay(name)?;
        self.mark_all_relays();
        self.add_action(EngineAction::Withdraw(relay.name.clone()));
        self.add_action(EngineAction::ForgetPicture(relay.name));
        Ok(())
    }

    /// Marks the present configuration of a relay as checked by a preflight.
    ///
    /// # Errors
    /// [`ServiceError::ChangedMeanwhile`] if the relay has changed since it was read, or if the records cannot be written.
    pub fn mark_preflight_passed(&self, relay: &StoredRelay) -> Result<(), ServiceError> {
        let is_current = self.store.mark_preflight_passed(&relay.name, relay.setup, time::now_s())?;
        if !is_current {
            return Err(ServiceError::ChangedMeanwhile(relay.name.clone()));
        }
        self.mark_relay(&relay.name);
        Ok(())
    }

    /// Stores the media bit rates that the uplinks have left for the destinations of a relay.
    ///
    /// # Errors
    /// If the records cannot be written.
    pub fn set_available_kbps(
        &self,
        relay: &str,
        available: &BTreeMap<String, u32>,
    ) -> Result<(), ServiceError> {
        self.store.set_available_kbps(relay, available)?;
        self.mark_relay(relay);
        Ok(())
    }

    /// Sets the desired state of a relay to on. In a running one, blocked parts are retried.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], [`ServiceError::Invalid`] for a relay without destinations, or when the
    /// records cannot be written.
    pub fn start_relay(&self, name: &str) -> Result<Relay, ServiceError> {
        let relay = self.store.relay(name).map_err(|error| self.explain(error))?;
        self.check_keys_are_free(&relay)?;
        self.start(&relay)
    }

    /// Sets the desired state of a relay to on, without the check of its keys.
    ///
    /// # Errors
    /// As [`Transaction::start_relay`].
    pub fn force_relay(&self, name: &str) -> Result<Relay, ServiceError> {
        let relay = self.store.relay(name).map_err(|error| self.explain(error))?;
        self.start(&relay)
    }

    fn start(&self, relay: &StoredRelay) -> Result<Relay, ServiceError> {
        let name = &relay.name;
        // An invalid configuration is refused before it is stored.
        self.relay_spec(relay)?;
        self.store.set_desired_state(name, DesiredState::On)?;
        self.mark_relay(name);
        self.add_action(EngineAction::Apply(relay.name.clone()));
        self.relay(name)
    }

    /// Sets the desired state of a relay to off; its broadcasts end in order.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or if the records cannot be written.
    pub fn stop_relay(&self, name: &str) -> Result<Relay, ServiceError> {
        let relay = self.store.relay(name).map_err(|error| self.explain(error))?;
        self.store.set_desired_state(name, DesiredState::Off)?;
        self.mark_relay(name);
        self.add_action(EngineAction::Withdraw(relay.name));
        self.relay(name)
    }

    /// Applies the stored settings to those of the named relays that run.
    pub(crate) fn apply_running(&self, names: &[String]) -> Result<(), ServiceError> {
        for name in names {
            if self.store.relay(name)?.wanted.is_running() {
                self.add_action(EngineAction::Apply(name.clone()));
            }
        }
        Ok(())
    }
}

/// Reads the limits of destinations.
fn read_limits(
    limits: Option<&BTreeMap<String, String>>,
    destinations: &[String],
) -> Result<BTreeMap<String, Limit>, ServiceError> {
    let hint = "Write a limit as 720p, 25fps or 2500kbit/s, or several of them with commas between.";
    let mut read = BTreeMap::new();
    for (name, text) in limits.into_iter().flatten() {
        let Some(destination) = destinations.iter().find(|other| other.eq_ignore_ascii_case(name)) else {
            let detail = format!("{name:?} is not a destination of this relay");
            let hint = "Name a destination that the relay pushes to.";
            return Err(ServiceError::Invalid { field: "limits", detail, hint });
        };
        let invalid = |error: LimitError| ServiceError::Invalid {
            field: "limits",
            detail: format!("{name}: {error}"),
            hint,
        };
        read.insert(destination.clone(), text.parse().map_err(invalid)?);
    }
    Ok(read)
}

fn check_destinations(names: &[String]) -> Result<(), ServiceError> {
    let invalid = |detail: String, hint| Err(ServiceError::Invalid { field: "to", detail, hint });
    if names.is_empty() {
        return invalid("there is no destination".to_owned(), "Name one destination at least.");
    }
    if names.len() > MAX_DESTINATIONS {
        let detail =
            format!("{} destinations are more than the {MAX_DESTINATIONS} of one relay", names.len());
        return invalid(detail, "Make a second relay of the same feed: it shares the pull.");
    }
    for (at, name) in names.iter().enumerate() {
        if names.iter().take(at).any(|other| other.eq_ignore_ascii_case(name)) {
            return invalid(format!("{name:?} is named twice"), "Name each destination once.");
        }
    }
    Ok(())
}
