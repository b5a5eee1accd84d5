//! History: states, outages, traffic and bit rates over time, and the reports of them.

mod day;
mod observer;
mod path_rates;
mod rates;
mod report;
mod streams;
mod traffic;

use std::collections::HashMap;
use std::sync::Arc;

use parking_lot::Mutex;
use yonder_core::preflight::FeedFacts;
use yonder_core::record::{HistoryEvent, OutageTracker};
use yonder_engine::Engine;

use crate::events::Events;
use crate::journal::Journal;
use crate::rename::Rename;
use rates::Series;
use traffic::TrafficCounter;
use yonder_records::Records;

/// States, outages, traffic and bit rates over time.
#[derive(Debug)]
pub struct History {
    records: Arc<Records>,
    engine: Engine,
    events: Arc<Events>,
    journal: Arc<Journal>,
    tracker: Mutex<OutageTracker>,
    /// Events of the tracker that could not be written. Locked during a write.
    unwritten_notes: Mutex<Vec<HistoryEvent>>,
    traffic: Mutex<TrafficCounter>,
    series: Mutex<Series>,
    /// Streams of running feeds as last stored.
    noted_streams: Mutex<HashMap<String, FeedFacts>>,
    /// Bit rates of renditions as last recorded, by relay and destination.
    noted_rates: Mutex<HashMap<(String, String), u32>>,
}

impl History {
    pub(crate) fn new(
        records: Arc<Records>,
        engine: Engine,
        events: Arc<Events>,
        journal: Arc<Journal>,
    ) -> Self {
        Self {
            records,
            engine,
            events,
            journal,
            tracker: Mutex::default(),
            unwritten_notes: Mutex::default(),
            traffic: Mutex::default(),
            series: Mutex::default(),
            noted_streams: Mutex::default(),
            noted_rates: Mutex::default(),
        }
    }

    /// Applies the rename of a record.
    pub(crate) fn rename(&self, rename: Rename<'_>) {
        self.tracker.lock().rename_subjects(|subject| rename.subject(subject));
        self.traffic.lock().rename_subjects(|carried| rename.carried(carried));
        let mut series = self.series.lock();
        let renamed = std::mem::take(&mut *series).into_iter();
        *series = renamed.map(|(key, value)| (rename.carried(&key).unwrap_or(key), value)).collect();
    }
}
