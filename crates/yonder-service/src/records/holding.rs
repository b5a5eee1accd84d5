//! Hold and resume, and holding pictures of the users' own.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use std::sync::Arc;
use std::time::Duration;

use yonder_api::Relay;
use yonder_engine::{HoldSpec, Picture, PictureError, holding_preview};
use yonder_store::{DesiredState, Relay as StoredRelay};

use super::{Effect, Records, Transaction};
use crate::error::ServiceError;
use crate::sync::lock;

/// Default of the seconds after which a holding picture is shown.
pub(crate) const DEFAULT_AFTER_S: u32 = 3;
/// Maximum of these.
const MAX_AFTER_S: u32 = 600;

impl Records {
    /// Keeps the desired state of a relay in memory, for a disk that does not take it.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or when the records cannot be read.
    pub fn remember_wanted(&self, name: &str, wanted: DesiredState) -> Result<Relay, ServiceError> {
        self.store.remember_wanted(name, wanted).map_err(|error| self.explain(error))?;
        self.refresh_relay(name)?;
        self.relay(name)
    }

    /// Returns the holding picture of a relay as PNG.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or when the records cannot be read.
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

    /// Returns the decoded picture of a relay. Always the same object for the same picture, by which the engine sees that nothing
    /// has changed.
    fn own_picture(&self, relay: &StoredRelay) -> Result<Option<Arc<Picture>>, ServiceError> {
        if !relay.has_picture {
            return Ok(None);
        }
        if let Some(known) = lock(&self.pictures).get(&relay.name) {
            return Ok(Some(Arc::clone(known)));
        }
        let Some(file) = self.store.holding_picture(&relay.name)? else { return Ok(None) };
        let picture = Arc::new(Picture::read(&file).map_err(|error| refused(&error))?);
        lock(&self.pictures).insert(relay.name.clone(), Arc::clone(&picture));
        Ok(Some(picture))
    }

    /// Drops the decoded picture of a relay.
    pub(crate) fn forget_picture(&self, name: &str) {
        lock(&self.pictures).remove(name);
    }
}

impl Transaction<'_> {
    /// Stores that the holding picture of a running relay is wanted; its broadcasts continue.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], [`ServiceError::NotRunning`], or when the records cannot be written.
    pub fn hold_relay(&self, name: &str) -> Result<Relay, ServiceError> {
        self.want_running(name, DesiredState::Hold)
    }

    /// Stores that the feed of a running relay is wanted again.
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
        self.store.set_wanted(name, wanted)?;
        self.mark_relay(name);
        self.add_effect(Effect::Apply(relay.name));
        self.relay(name)
    }

    /// Stores a PNG or JPEG as a relay's holding picture; `None` uses the drawn one again.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], [`ServiceError::Invalid`] for a file that is no picture, or when the records
    /// cannot be written.
    pub fn set_holding_picture(&self, name: &str, file: Option<&[u8]>) -> Result<(), ServiceError> {
        // A file that is no picture is refused before it is stored.
        file.map(Picture::read).transpose().map_err(|error| refused(&error))?;
        let relay = self.store.relay(name).map_err(|error| self.explain(error))?;
        self.store.set_holding_picture(name, file)?;
        self.mark_relay(name);
        self.add_effect(Effect::ForgetPicture(relay.name.clone()));
        if relay.wanted.is_running() {
            self.add_effect(Effect::Apply(relay.name));
        }
        Ok(())
    }
}

/// Decodes a picture in base64; `None` for an empty text, which removes it.
///
/// # Errors
/// [`ServiceError::Invalid`] for another text. Whether it is a picture is checked when it is set.
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

/// Reads the seconds before the holding picture, in milliseconds; 0 never shows it.
pub(crate) fn read_after(seconds: Option<u32>) -> Result<Option<i64>, ServiceError> {
    let seconds = seconds.unwrap_or(DEFAULT_AFTER_S);
    if seconds > MAX_AFTER_S {
        let detail = format!("{seconds} s are more than {MAX_AFTER_S} s");
        let hint = "Give seconds from 1 to 600, or 0 to wait without a holding picture.";
        return Err(ServiceError::Invalid { field: "hold_after_s", detail, hint });
    }
    Ok((seconds > 0).then(|| i64::from(seconds) * 1_000))
}
