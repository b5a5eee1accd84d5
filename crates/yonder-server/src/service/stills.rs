//! Still pictures, made at most every few seconds for each stream, however many look.

use std::collections::HashMap;
use std::time::{Duration, Instant};

use bytes::Bytes;
use yonder_engine::FeedSpec;

use super::feeds::{feed_spec, sub_spec};
use super::{Service, lock};
use crate::error::ServiceError;

/// How long a still is good for.
const FRESH: Duration = Duration::from_secs(4);
/// Stills kept at most.
const KEPT: usize = 600;

/// The stills of late, by address.
pub(crate) type Stills = HashMap<String, (Instant, Bytes)>;

impl Service {
    /// What to pull for a still of a feed.
    pub(crate) fn stream_spec(&self, name: &str, is_sub: bool) -> Result<FeedSpec, ServiceError> {
        let feed = self.store.feed(name).map_err(|error| self.explain(error))?;
        if !is_sub {
            return feed_spec(&feed);
        }
        sub_spec(&feed)?.ok_or_else(|| ServiceError::Invalid {
            field: "sub",
            detail: "this feed has no sub stream".to_owned(),
            hint: "Add its address with `yonder feed edit --sub-url`.",
        })
    }

    /// A still picture, made now or a moment ago.
    pub(crate) async fn still(&self, spec: FeedSpec) -> Result<Bytes, ServiceError> {
        let address = spec.url.to_string();
        if let Some((made, jpeg)) = lock(&self.stills).get(&address)
            && made.elapsed() < FRESH
        {
            return Ok(jpeg.clone());
        }
        // The dial runs on the engine's own threads.
        let engine = self.engine.clone();
        let asked = self.engine.runtime().spawn(async move { engine.still(spec).await });
        let still = asked.await.map_err(|_| ServiceError::Internal("making a still was cut short"))?;
        let still = still.map_err(|cause| ServiceError::Camera(Box::new(cause)))?;
        let still = still.map_err(|error| ServiceError::NoStill(error.to_string()))?;
        let mut stills = lock(&self.stills);
        if stills.len() >= KEPT {
            stills.retain(|_, (made, _)| made.elapsed() < FRESH);
        }
        stills.insert(address, (Instant::now(), still.jpeg.clone()));
        Ok(still.jpeg)
    }
}
