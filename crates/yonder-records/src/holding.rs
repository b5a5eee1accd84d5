//! Hold, resume, and holding pictures of users.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use std::sync::Arc;
use std::time::Duration;

use yonder_api::Relay;
use yonder_engine::{HoldSpec, Picture, PictureError, holding_preview};
use yonder_store::{DesiredState, Relay as StoredRelay};

use super::{EngineAction, Records, Transaction};
use crate::error::ServiceError;

/// Default delay before the holding picture, in seconds.
pub(crate) const DEFAULT_AFTER_S: u32 = 3;
/// Maximum delay, in seconds.
const MAX_AFTER_S: u32 = 600;

impl Records {
    /// Keeps the desired state of a relay in memory while the disk fails.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or if the records cannot be read.
    pub fn remember_desired_state(&self, name: &str, wanted: DesiredState) -> Result<Relay, ServiceError> {
        self.store.remember_desired_state(name, wanted).map_err(|error| self.explain(error))?;
        self.refresh_relay(name)?;
        self.relay(name)
    }

    /// Returns the holding picture of a relay as PNG.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or if the records cannot be read.
    pub fn holding_picture(&self, name: &str) -> Result<Vec<u8>, ServiceError> {
        let relay = self.store.relay(name).map_err(|error| self.explain(error))?;
        let picture = self.own_picture(&relay)?;
        holding_preview(&relay.name, picture.as_deref())
            .ok_or(ServiceError::Internal("the holding picture cannot be written"))
    }

    /// Returns the hold settings of a relay for the engine.
    pub(crate) fn hold_spec(&self, relay: &StoredRelay) -> Result<HoldSpec, ServiceError> {
        let after = relay.hold_after_ms.and_then(|ms| u64::try_from(ms).ok()).map(Duration::from_millis);
        Ok(HoldSpec { wanted: relay.wanted == DesiredState::Hold, after, picture: self.own_picture(relay)? })
    }

    /// Returns the decoded picture of a relay: the same object for the same picture, by which the engine detects changes.
    fn own_picture(&self, relay: &StoredRelay) -> Result<Option<Arc<Picture>>, ServiceError> {
        if !relay.has_picture {
            return Ok(None);
        }
        if let Some(known) = self.pictures.lock().get(&relay.name) {
            return Ok(Some(Arc::clone(known)));
        }
        let Some(file) = self.store.holding_picture(&relay.name)? else { return Ok(None) };
        let picture = Arc::new(Picture::read(&file).map_err(|error| refused(&error))?);
        self.pictures.lock().insert(relay.name.clone(), Arc::clone(&picture));
        Ok(Some(picture))
    }

    /// Drops the decoded picture of a relay from the cache.
    pub fn forget_picture(&self, name: &str) {
        self.pictures.lock().remove(name);
    }
}

impl Transaction<'_> {
    /// Sets the desired state of a running relay to hold; its broadcasts continue.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], [`ServiceError::NotRunning`], or if the records cannot be written.
    pub fn hold_relay(&self, name: &str) -> Result<Relay, ServiceError> {
        self.want_running(name, DesiredState::Hold)
    }

    /// Sets the desired state of a running relay back to on.
    ///
    /// # Errors
    /// As [`Transaction::hold_relay`].
    pub fn resume_relay(&self, name: &str) -> Result<Relay, ServiceError> {
        self.want_running(name, DesiredState::On)
    }

    fn want_running(&self, name: &str, wanted: DesiredState) -> Result<Relay, ServiceError> {
        let relay = self.store.relay(name).map_err(|error| self.explain(error))?;
        if !relay.wanted.is_running() {
            return Err(ServiceError::NotRunning(relay.name));
        }
        self.store.set_desired_state(name, wanted)?;
        self.mark_relay(name);
        self.add_action(EngineAction::Apply(relay.name));
        self.relay(name)
    }

    /// Stores a PNG or JPEG as a relay's holding picture; `None` restores the default.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], [`ServiceError::Invalid`] for an invalid file, or if the records cannot be written.
    pub fn set_holding_picture(&self, name: &str, file: Option<&[u8]>) -> Result<(), ServiceError> {
        // Checked before it is stored.
        file.map(Picture::read).transpose().map_err(|error| refused(&error))?;
        let relay = self.store.relay(name).map_err(|error| self.explain(error))?;
        self.store.set_holding_picture(name, file)?;
        self.mark_relay(name);
        self.add_action(EngineAction::ForgetPicture(relay.name.clone()));
        if relay.wanted.is_running() {
            self.add_action(EngineAction::Apply(relay.name));
        }
        Ok(())
    }
}

/// Decodes a picture from Base64; `None` for an empty text, which removes the picture.
///
/// # Errors
/// [`ServiceError::Invalid`] for invalid Base64. The picture itself is checked when it is set.
pub(crate) fn read_picture(text: &str) -> Result<Option<Vec<u8>>, ServiceError> {
    if text.is_empty() {
        return Ok(None);
    }
    let bytes = STANDARD.decode(text).map_err(|error| ServiceError::Invalid {
        field: "holding_picture",
        detail: format!("it is not base64: {error}"),
        hint: "Encode the file by base64 (RFC 4648, section 4), without line ends.",
    })?;
    Ok(Some(bytes))
}

fn refused(error: &PictureError) -> ServiceError {
    let hint = "Give a PNG or JPEG of at most 8 MiB, like one of 1920×1080.";
    ServiceError::Invalid { field: "picture", detail: error.to_string(), hint }
}

/// Converts the delay before the holding picture to milliseconds; `None` for 0, which disables it.
pub(crate) fn read_after(seconds: Option<u32>) -> Result<Option<i64>, ServiceError> {
    let seconds = seconds.unwrap_or(DEFAULT_AFTER_S);
    if seconds > MAX_AFTER_S {
        let detail = format!("{seconds} s are more than {MAX_AFTER_S} s");
        let hint = "Give seconds from 1 to 600, or 0 to wait without a holding picture.";
        return Err(ServiceError::Invalid { field: "hold_after_s", detail, hint });
    }
    Ok((seconds > 0).then(|| i64::from(seconds) * 1_000))
}
