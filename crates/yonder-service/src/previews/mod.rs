//! Previews: stills and surveys of feeds.

mod stills;
mod surveys;

use std::sync::Arc;

use parking_lot::Mutex;
use yonder_engine::Engine;

use crate::events::Events;
use stills::Stills;
use surveys::Surveys;
use yonder_records::Records;

/// Recent stills and surveys.
#[derive(Debug)]
pub struct Previews {
    records: Arc<Records>,
    engine: Engine,
    events: Arc<Events>,
    stills: Mutex<Stills>,
    surveys: Mutex<Surveys>,
}

impl Previews {
    pub(crate) fn new(records: Arc<Records>, engine: Engine, events: Arc<Events>) -> Self {
        Self { records, engine, events, stills: Mutex::default(), surveys: Mutex::default() }
    }

    /// Drops all stills after a change of a feed, since failures may not recur with the new settings.
    pub(crate) fn drop_stills(&self) {
        self.stills.lock().clear();
    }
}
