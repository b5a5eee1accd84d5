//! Last day of all relays, as bands.

use std::collections::BTreeSet;
use std::time::SystemTime;

use yonder_api::{Band, Day, RelayDay};
use yonder_core::record::{StateBegan, Subject, day};

use super::History;
use yonder_records::ServiceError;
use yonder_records::time;

const STEP_MS: i64 = 60_000;
const STEPS: usize = 1_440;
const DAY_MS: i64 = 86_400_000;
/// Maximum states to read, the latest first: two hundred relays that change every ten minutes.
const MAX_STATES: u32 = 60_000;

impl History {
    /// Returns the last day of all relays that ran in it. The last step is the present minute.
    ///
    /// # Errors
    /// If the records cannot be read.
    pub fn day(&self) -> Result<Day, ServiceError> {
        let now_ms = time::millis(SystemTime::now());
        let from_ms = now_ms.div_euclid(STEP_MS) * STEP_MS + STEP_MS - DAY_MS;
        let (runs, outages) =
            (self.records.store.runs(from_ms, now_ms)?, self.records.store.outages(from_ms, now_ms)?);
        let mut states = self.states_since_before(from_ms);
        states.extend(self.records.store.push_states(from_ms, MAX_STATES)?);
        let days = day((from_ms, STEP_MS, STEPS), now_ms, &runs, &outages, &states);
        // The history includes removed relays.
        let stored: BTreeSet<String> =
            self.records.stored_relays().iter().map(|relay| relay.name.clone()).collect();
        let relays =
            days.into_iter().filter(|(name, _)| stored.contains(name)).map(|(name, bands)| RelayDay {
                name,
                bands: bands.into_iter().map(|(level, steps)| Band { state: level, steps }).collect(),
            });
        Ok(Day { from: time::text(time::from_millis(from_ms)), step_s: 60, relays: relays.collect() })
    }

    /// Returns states that began before `from_ms` and last into the range.
    fn states_since_before(&self, from_ms: i64) -> Vec<StateBegan> {
        let mut states = Vec::new();
        for relay in self.records.stored_relays().iter().filter(|relay| relay.wanted.is_running()) {
            let Some(view) = self.engine.relay(&relay.name) else { continue };
            let before = view.pushes.into_iter().filter(|push| time::millis(push.since) < from_ms);
            states.extend(before.map(|push| StateBegan {
                subject: Subject::Push(relay.name.clone(), push.destination),
                at_ms: time::millis(push.since),
                state: Some(push.state),
            }));
        }
        states
    }
}
