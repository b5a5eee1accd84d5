//! Destinations: server and key are put right and checked before they are kept.

use yonder_api::{Destination, DestinationChange, KeyFacts, NewDestination, RevealedKey, Secret, Stored};
use yonder_core::check_name;
use yonder_rtmp::{Repair, ServerAddress, StreamKey};
use yonder_store::{Destination as StoredDestination, Kind, NewDestination as DestinationValues};

use super::Service;
use crate::error::ServiceError;
use crate::time;

impl Service {
    /// All destinations by name.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub fn destinations(&self) -> Result<Vec<Destination>, ServiceError> {
        Ok(self.store.destinations()?.iter().map(|destination| self.destination_view(destination)).collect())
    }

    /// One destination.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or when the records cannot be read.
    pub fn destination(&self, name: &str) -> Result<Destination, ServiceError> {
        let destination = self.store.destination(name).map_err(|error| self.explain(error))?;
        Ok(self.destination_view(&destination))
    }

    /// Adds a destination, and tells what was put right in what was pasted.
    ///
    /// # Errors
    /// [`ServiceError::Invalid`] naming the field, a name that is taken, or when the records cannot be written.
    pub fn add_destination(&self, new: NewDestination) -> Result<Stored, ServiceError> {
        let name = check_name(&new.name).map_err(|error| ServiceError::name(&error))?;
        let (server, mut repairs) = read_server(&new.server)?;
        let (key, of_key) = StreamKey::parse(new.key.expose(), &server).map_err(ServiceError::key)?;
        repairs.extend(of_key.into_iter().map(|repair| told("key", repair)));
        let platform = new.platform.map(|text| text.trim().to_owned()).filter(|text| !text.is_empty());
        let values =
            DestinationValues { name, server: server.to_string(), platform, key: key.expose().into() };
        let _changing = self.change();
        self.store.add_destination(&values, time::now_s())?;
        Ok(Stored { destination: self.destination(&values.name)?, repairs })
    }

    /// Changes a destination; pushes that run to it are dialled anew when its server changed.
    ///
    /// # Errors
    /// As [`Service::add_destination`], and [`ServiceError::Running`] for a new name while pushes run to it.
    pub fn edit_destination(&self, name: &str, change: DestinationChange) -> Result<Stored, ServiceError> {
        let _changing = self.change();
        let before = self.store.destination(name).map_err(|error| self.explain(error))?.values;
        let new_name = match &change.name {
            Some(text) => check_name(text).map_err(|error| ServiceError::name(&error))?,
            None => before.name.clone(),
        };
        let relays = self.store.relays_to(&before.name)?;
        if new_name != before.name && relays.iter().any(|relay| self.engine.relay(relay).is_some()) {
            return Err(ServiceError::Running { kind: Kind::Destination, name: before.name });
        }
        let (server, repairs) = read_server(change.server.as_deref().unwrap_or(&before.server))?;
        let platform = match change.platform {
            Some(text) => Some(text.trim().to_owned()).filter(|text| !text.is_empty()),
            None => before.platform,
        };
        self.store.edit_destination(name, &new_name, &server.to_string(), platform.as_deref())?;
        self.refresh_relays()?;
        self.apply_running(&relays)?;
        Ok(Stored { destination: self.destination(&new_name)?, repairs })
    }

    /// Gives a destination a new key. A push that runs to it takes it over with one reconnect.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], [`ServiceError::Invalid`], or when the records cannot be written.
    pub fn rekey_destination(&self, name: &str, key: &Secret) -> Result<Stored, ServiceError> {
        let _changing = self.change();
        let stored = self.store.destination(name).map_err(|error| self.explain(error))?;
        let (server, _) = read_server(&stored.values.server)?;
        let (key, repairs) = StreamKey::parse(key.expose(), &server).map_err(ServiceError::key)?;
        self.store.rekey_destination(name, &key.expose().into(), time::now_s())?;
        tracing::info!(destination = stored.values.name, "stream key rolled");
        self.apply_running(&self.store.relays_to(name)?)?;
        let repairs = repairs.into_iter().map(|repair| told("key", repair)).collect();
        Ok(Stored { destination: self.destination(name)?, repairs })
    }

    /// The key in clear. Every call is recorded.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or when the records cannot be read.
    pub fn reveal_key(&self, name: &str, by: &str) -> Result<RevealedKey, ServiceError> {
        let destination = self.store.destination(name).map_err(|error| self.explain(error))?;
        tracing::warn!(destination = destination.values.name, by, "stream key revealed");
        Ok(RevealedKey { key: destination.values.key.into() })
    }

    /// Removes a destination that no relay uses.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], in use, or when the records cannot be written.
    pub fn remove_destination(&self, name: &str) -> Result<(), ServiceError> {
        let _changing = self.change();
        self.store.remove_destination(name).map_err(|error| self.explain(error))
    }

    fn destination_view(&self, destination: &StoredDestination) -> Destination {
        let values = &destination.values;
        let key = StreamKey::from_stored(values.key.clone());
        Destination {
            name: values.name.clone(),
            server: values.server.clone(),
            platform: values.platform.clone(),
            key: KeyFacts {
                ending: key.ending(),
                length: key.expose().chars().count(),
                set_at: time::text(time::from_s(destination.key_set_s)),
            },
            relays: self
                .stored_relays()
                .into_iter()
                .filter(|relay| relay.destinations.contains(&values.name))
                .map(|relay| relay.name)
                .collect(),
        }
    }
}

/// What the engine is told of a destination.
pub(super) fn push_spec(destination: &StoredDestination) -> Result<yonder_engine::PushSpec, ServiceError> {
    let (server, _) = read_server(&destination.values.server)?;
    Ok(yonder_engine::PushSpec {
        destination: destination.values.name.clone(),
        server,
        key: StreamKey::from_stored(destination.values.key.clone()),
    })
}

fn read_server(text: &str) -> Result<(ServerAddress, Vec<String>), ServiceError> {
    let (server, repairs) = ServerAddress::parse(text).map_err(|error| ServiceError::server(&error))?;
    if server.tls {
        let detail = "rtmps:// is not carried yet".to_owned();
        return Err(ServiceError::Invalid {
            field: "server",
            detail,
            hint: "Give the platform's rtmp:// address.",
        });
    }
    Ok((server, repairs.into_iter().map(|repair| told("server address", repair)).collect()))
}

fn told(what: &str, repair: Repair) -> String {
    format!("{what}: {}", repair.sentence())
}
