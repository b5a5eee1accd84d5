//! Holding pictures: held, resumed, and pictures of the users' own.

use std::sync::Arc;
use std::time::Duration;

use yonder_api::Relay;
use yonder_engine::{HoldSpec, Picture, PictureError, holding_preview};
use yonder_store::{DesiredState, Relay as StoredRelay};

use super::{Service, lock};
use crate::error::ServiceError;

/// Seconds after which a holding picture is shown, where nothing is said.
pub(super) const USUAL_AFTER_S: u32 = 3;
/// Most of them.
const MOST_AFTER_S: u32 = 600;

impl Service {
    /// Shows the holding picture of a relay that runs; its broadcasts go on. It is shown also when the records cannot be written:
    /// what is wanted is stored once they can.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], [`ServiceError::NotRunning`], or when the records cannot be written.
    pub fn hold_relay(&self, name: &str) -> Result<Relay, ServiceError> {
        self.want_running(name, DesiredState::Hold)
    }

    /// Goes back to the feed.
    ///
    /// # Errors
    /// As [`Service::hold_relay`].
    pub fn resume_relay(&self, name: &str) -> Result<Relay, ServiceError> {
        self.want_running(name, DesiredState::On)
    }

    /// Switches the output of a relay that runs at once, before any access to the disk.
    pub fn switch_output(&self, name: &str, wanted: DesiredState) {
        let relays = self.stored_relays();
        let known = relays.iter().find(|relay| relay.name.eq_ignore_ascii_case(name));
        let Some(relay) = known.filter(|relay| relay.wanted.is_running()) else { return };
        self.engine.hold(&relay.name, wanted == DesiredState::Hold);
    }

    /// Keeps in memory what is wanted of a relay, as the disk does not take it.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or when the records cannot be read.
    pub fn remember_wanted(&self, name: &str, wanted: DesiredState) -> Result<Relay, ServiceError> {
        self.store.remember_wanted(name, wanted).map_err(|error| self.explain(error))?;
        self.refresh_relay(name)?;
        self.relay(name)
    }

    fn want_running(&self, name: &str, wanted: DesiredState) -> Result<Relay, ServiceError> {
        let _changing = self.change();
        let relay = self.store.relay(name).map_err(|error| self.explain(error))?;
        if !relay.wanted.is_running() {
            return Err(ServiceError::NotRunning(relay.name));
        }
        self.bring_up(&StoredRelay { wanted, ..relay })?;
        self.store.set_wanted(name, wanted)?;
        self.refresh_relay(name)?;
        self.relay(name)
    }

    /// Takes a PNG or JPEG as a relay's holding picture, or goes back to the card.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], [`ServiceError::Invalid`] for a file that is no picture, or when the records
    /// cannot be written.
    pub fn set_holding_picture(&self, name: &str, file: Option<&[u8]>) -> Result<(), ServiceError> {
        let picture = file.map(Picture::read).transpose().map_err(|error| refused(&error))?;
        let _changing = self.change();
        let relay = self.store.relay(name).map_err(|error| self.explain(error))?;
        self.store.set_holding_picture(name, file)?;
        {
            let mut pictures = lock(&self.holding_pictures);
            match picture {
                Some(picture) => pictures.insert(relay.name, Arc::new(picture)),
                None => pictures.remove(&relay.name),
            };
        }
        self.refresh_relay(name)?;
        let relay = self.store.relay(name)?;
        if relay.wanted.is_running() {
            self.bring_up(&relay)?;
        }
        Ok(())
    }

    /// What a relay would show while it is held, as PNG.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or when the records cannot be read.
    pub fn holding_picture(&self, name: &str) -> Result<Vec<u8>, ServiceError> {
        let relay = self.store.relay(name).map_err(|error| self.explain(error))?;
        let picture = self.own_picture(&relay)?;
        holding_preview(&relay.name, picture.as_deref())
            .ok_or(ServiceError::Internal("the holding picture cannot be written"))
    }

    /// What the engine must know.
    pub(super) fn hold_spec(&self, relay: &StoredRelay) -> Result<HoldSpec, ServiceError> {
        let after = relay.hold_after_ms.and_then(|ms| u64::try_from(ms).ok()).map(Duration::from_millis);
        Ok(HoldSpec { wanted: relay.wanted == DesiredState::Hold, after, picture: self.own_picture(relay)? })
    }

    /// A picture is decoded once: the engine shows another one anew.
    fn own_picture(&self, relay: &StoredRelay) -> Result<Option<Arc<Picture>>, ServiceError> {
        if !relay.has_picture {
            return Ok(None);
        }
        if let Some(known) = lock(&self.holding_pictures).get(&relay.name) {
            return Ok(Some(Arc::clone(known)));
        }
        let Some(file) = self.store.holding_picture(&relay.name)? else { return Ok(None) };
        let picture = Arc::new(Picture::read(&file).map_err(|error| refused(&error))?);
        lock(&self.holding_pictures).insert(relay.name.clone(), Arc::clone(&picture));
        Ok(Some(picture))
    }

    /// A relay that has another name, or is gone, has no picture under this one.
    pub(super) fn forget_picture(&self, name: &str) {
        lock(&self.holding_pictures).remove(name);
    }
}

fn refused(error: &PictureError) -> ServiceError {
    let hint = "Give a PNG or JPEG of at most 8 MiB, like one of 1920×1080.";
    ServiceError::Invalid { field: "picture", detail: error.to_string(), hint }
}

/// Seconds before the holding picture, as they are kept; 0 never shows it.
pub(super) fn read_after(seconds: Option<u32>) -> Result<Option<i64>, ServiceError> {
    let seconds = seconds.unwrap_or(USUAL_AFTER_S);
    if seconds > MOST_AFTER_S {
        let detail = format!("{seconds} s are more than {MOST_AFTER_S} s");
        let hint = "Give seconds from 1 to 600, or 0 to wait without a holding picture.";
        return Err(ServiceError::Invalid { field: "hold_after_s", detail, hint });
    }
    Ok((seconds > 0).then(|| i64::from(seconds) * 1_000))
}
