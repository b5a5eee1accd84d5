//! Planning: camera discovery, preflight, rehearsal and budget.

mod budget;
mod find;
mod preflight;
mod rehearsal;

use std::collections::HashMap;
use std::sync::Arc;

use parking_lot::Mutex;
use yonder_engine::Engine;

use crate::records::Records;

/// Checks before a start.
#[derive(Debug)]
pub struct Planner {
    records: Arc<Records>,
    engine: Engine,
    /// Last measured media bit rate of each feed, in kilobits per second.
    media_rates: Mutex<HashMap<String, u64>>,
}

impl Planner {
    pub(crate) fn new(records: Arc<Records>, engine: Engine) -> Self {
        Self { records, engine, media_rates: Mutex::default() }
    }
}
