//! Planning: camera discovery, tuning of cameras, preflight, rehearsal and budget.

mod budget;
mod find;
mod preflight;
mod rehearsal;
mod tuning;

use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use parking_lot::Mutex;
use yonder_engine::Engine;

use crate::sharing::Sharing;
use yonder_records::Records;

pub use tuning::PlannedTuning;

/// Checks before a start.
#[derive(Debug)]
pub struct Planner {
    records: Arc<Records>,
    engine: Engine,
    sharing: Arc<Sharing>,
    /// Last measured media bit rate of each feed, in kilobits per second.
    media_rates: Mutex<HashMap<String, u64>>,
    /// Feeds whose cameras are being changed.
    tuned_feeds: Mutex<HashSet<String>>,
}

impl Planner {
    pub(crate) fn new(records: Arc<Records>, engine: Engine, sharing: Arc<Sharing>) -> Self {
        let (media_rates, tuned_feeds) = (Mutex::default(), Mutex::default());
        Self { records, engine, sharing, media_rates, tuned_feeds }
    }
}
