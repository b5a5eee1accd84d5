//! Cache of stills, for all viewers of a stream.

use std::collections::HashMap;
use std::time::{Duration, Instant};

use bytes::Bytes;
use yonder_engine::{CauseView, FeedSpec};

use super::Previews;
use yonder_records::ServiceError;

/// TTL of a still.
const STILL_TTL: Duration = Duration::from_secs(4);
/// TTL of a failure: a page that asks repeatedly must not dial a camera with a wrong password each time.
const FAILURE_TTL: Duration = Duration::from_secs(15);
/// Maximum number of stills.
const MAX_STILLS: usize = 600;

/// Recent stills by address.
pub(super) type Stills = HashMap<String, (Instant, Result<Bytes, NoPicture>)>;

/// Reason for a missing still.
#[derive(Debug, Clone)]
pub(super) enum NoPicture {
    /// The camera could not be pulled.
    Camera(CauseView),
    /// The frame could not be decoded.
    Undecoded(String),
}

impl From<NoPicture> for ServiceError {
    fn from(reason: NoPicture) -> Self {
        match reason {
            NoPicture::Camera(cause) => Self::Camera(Box::new(cause)),
            NoPicture::Undecoded(reason) => Self::NoStill(reason),
        }
    }
}

impl Previews {
    /// Returns the specification of a feed's stream.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], [`ServiceError::SecretLost`], or if the records cannot be read.
    pub fn stream_spec(&self, name: &str, is_sub: bool) -> Result<FeedSpec, ServiceError> {
        let feed = self.records.store.feed(name).map_err(|error| self.records.explain(error))?;
        if !is_sub {
            return self.records.dialable_feed_spec(&feed);
        }
        self.records.sub_spec(&feed)?.ok_or_else(|| ServiceError::Invalid {
            field: "sub",
            detail: "this feed has no sub stream".to_owned(),
            hint: "Add its address with `yonder feed edit --sub-url`.",
        })
    }

    /// Returns a still picture of what a running push sends: of the feed, or of its rendition.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`] for the relay, and [`ServiceError::NoStill`] while nothing is sent.
    pub async fn push_still(&self, relay: &str, destination: &str) -> Result<Bytes, ServiceError> {
        let relay = self.records.relay(relay)?.name;
        let (engine, destination) = (self.engine.clone(), destination.to_owned());
        let asked = self.engine.runtime().spawn(async move { engine.push_still(&relay, &destination).await });
        let still = asked.await.map_err(|_| ServiceError::Internal("the still was interrupted"))?;
        match still {
            Some(Ok(still)) => Ok(still.jpeg),
            Some(Err(error)) => Err(ServiceError::NoStill(error.to_string())),
            None => Err(ServiceError::NoStill("nothing is sent there".to_owned())),
        }
    }

    /// Returns a still picture, from the cache or a new one.
    ///
    /// # Errors
    /// The reason why there is none.
    pub async fn still(&self, spec: FeedSpec) -> Result<Bytes, ServiceError> {
        let address = spec.address();
        if let Some((made, cached)) = self.stills.lock().get(&address)
            && made.elapsed() < if cached.is_ok() { STILL_TTL } else { FAILURE_TTL }
        {
            return cached.clone().map_err(ServiceError::from);
        }
        // Sockets belong to the engine's runtime.
        let engine = self.engine.clone();
        let asked = self.engine.runtime().spawn(async move { engine.still(spec).await });
        let still = asked.await.map_err(|_| ServiceError::Internal("the still was interrupted"))?;
        let cached = match still {
            Ok(Ok(still)) => Ok(still.jpeg),
            Ok(Err(error)) => Err(NoPicture::Undecoded(error.to_string())),
            Err(cause) => Err(NoPicture::Camera(cause)),
        };
        let mut stills = self.stills.lock();
        if stills.len() >= MAX_STILLS {
            stills.retain(|_, (made, _)| made.elapsed() < STILL_TTL);
        }
        stills.insert(address, (Instant::now(), cached.clone()));
        cached.map_err(ServiceError::from)
    }
}
