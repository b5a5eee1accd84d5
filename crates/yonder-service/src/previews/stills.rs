//! Stills, made at most every few seconds for each stream, for all viewers.

use std::collections::HashMap;
use std::time::{Duration, Instant};

use bytes::Bytes;
use yonder_engine::{CauseView, FeedSpec};

use super::Previews;
use crate::error::ServiceError;
use crate::sync::lock;

/// How long a still is good for.
const STILL_TTL: Duration = Duration::from_secs(4);
/// How long a failure is: a page that asks again and again must not dial a camera with a wrong password each time.
const SETTLED: Duration = Duration::from_secs(15);
/// Stills kept at most.
const KEPT: usize = 600;

/// The stills of late, by address.
pub(super) type Stills = HashMap<String, (Instant, Result<Bytes, NoPicture>)>;

/// Why there was no still.
#[derive(Debug, Clone)]
pub(super) enum NoPicture {
    /// The camera gave none.
    Camera(CauseView),
    /// It cannot be shown.
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
    /// Returns the specification of the stream for a still of a feed.
    ///
    /// # Errors
    /// Why there is no picture.
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

    /// A still picture, made now or a moment ago.
    ///
    /// # Errors
    /// Why there is no picture.
    pub async fn still(&self, spec: FeedSpec) -> Result<Bytes, ServiceError> {
        let address = spec.url.to_string();
        if let Some((made, kept)) = lock(&self.stills).get(&address)
            && made.elapsed() < if kept.is_ok() { STILL_TTL } else { SETTLED }
        {
            return kept.clone().map_err(ServiceError::from);
        }
        // The dial runs on the engine's own threads.
        let engine = self.engine.clone();
        let asked = self.engine.runtime().spawn(async move { engine.still(spec).await });
        let still = asked.await.map_err(|_| ServiceError::Internal("making a still was cut short"))?;
        let kept = match still {
            Ok(Ok(still)) => Ok(still.jpeg),
            Ok(Err(error)) => Err(NoPicture::Undecoded(error.to_string())),
            Err(cause) => Err(NoPicture::Camera(cause)),
        };
        let mut stills = lock(&self.stills);
        if stills.len() >= KEPT {
            stills.retain(|_, (made, _)| made.elapsed() < STILL_TTL);
        }
        stills.insert(address, (Instant::now(), kept.clone()));
        kept.map_err(ServiceError::from)
    }
}
