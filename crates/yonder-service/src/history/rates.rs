//! Bit rates over time: measured every second, stored per minute.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::{Duration, SystemTime};

use tokio::time::{MissedTickBehavior, interval};
use yonder_api::{PushRates, Rates};
use yonder_core::FeedPhase;
use yonder_core::series::{RateSeries, Resolution};
use yonder_engine::RelayView;
use yonder_store::{RateHour, TrafficKey};

use super::History;
use yonder_records::ServiceError;
use yonder_records::time;

const MEASURE_EVERY: Duration = Duration::from_secs(1);
/// Measurements between two writes: a crash loses ten minutes.
const WRITE_EVERY: u32 = 600;
const HOUR_S: i64 = 3_600;
const DAY_S: i64 = 86_400;
/// Retention of minutes, in seconds.
const MONTH_S: i64 = 30 * 86_400;

/// Rates of all feeds and pushes that ran.
pub(super) type Series = BTreeMap<TrafficKey, RateSeries>;

impl History {
    /// Measures until the task is dropped.
    pub(crate) async fn run_rates(self: Arc<Self>) {
        let mut ticks = interval(MEASURE_EVERY);
        ticks.set_missed_tick_behavior(MissedTickBehavior::Skip);
        let mut count = 0_u32;
        loop {
            ticks.tick().await;
            count = count.wrapping_add(1);
            self.measure_rates();
            if count.is_multiple_of(WRITE_EVERY) {
                let history = Arc::clone(&self);
                let written = tokio::task::spawn_blocking(move || history.write_rates()).await;
                if let Ok(Err(error)) = written {
                    tracing::warn!(%error, "rates could not be kept");
                }
            }
        }
    }

    fn measure_rates(&self) {
        let now_s = time::now_s();
        let relays = self.records.stored_relays();
        let running = relays.iter().filter(|relay| relay.wanted.is_running());
        let views: Vec<RelayView> = running.filter_map(|relay| self.engine.relay(&relay.name)).collect();
        let mut series = self.series.lock();
        for RelayView { name, feed, pushes } in views {
            let flows = feed.state == FeedPhase::Flowing;
            let kbps = feed.video.filter(|_| flows).map_or(0, |video| video.kbps);
            series.entry(TrafficKey::Feed(feed.name)).or_default().add(now_s, kbps);
            for push in pushes {
                let whose = TrafficKey::Push(name.clone(), push.destination);
                series.entry(whose).or_default().add(now_s, push.kbps);
            }
        }
    }

    /// Loads the minutes of the last hours, which are written again.
    pub(crate) fn resume_rates(&self) -> Result<(), ServiceError> {
        let (now_s, mut series) = (time::now_s(), self.series.lock());
        for RateHour { whose, hour_s, kbps } in self.records.store.rates(now_s - 2 * HOUR_S)? {
            series.entry(whose).or_default().minutes_mut().restore(hour_s, &kbps);
        }
        Ok(())
    }

    /// Writes the minutes of this hour and the previous one, and prunes those older than a month.
    pub(crate) fn write_rates(&self) -> Result<(), ServiceError> {
        let now_s = time::now_s();
        let this_hour = now_s - now_s.rem_euclid(HOUR_S);
        let mut hours = Vec::new();
        for (whose, series) in self.series.lock().iter() {
            let (begin, minutes) = series.series(Resolution::Minute).since(this_hour - HOUR_S);
            for hour_s in [this_hour - HOUR_S, this_hour] {
                let kbps = aligned(begin, &minutes, Resolution::Minute, hour_s, hour_s + HOUR_S);
                if kbps.iter().any(Option::is_some) {
                    hours.push(RateHour { whose: whose.clone(), hour_s, kbps });
                }
            }
        }
        self.records.store.save_rates(&hours, now_s - MONTH_S)?;
        // Series of relays that have not run for a day are only in the store.
        self.series.lock().retain(|_, series| series.series(Resolution::TenSeconds).end_s() > now_s - DAY_S);
        Ok(())
    }

    /// Returns the rates of a relay's feed and pushes over an hour, a day or a month.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], [`ServiceError::Invalid`] for another span, or if the records cannot be read.
    pub fn relay_rates(&self, name: &str, range: Option<&str>) -> Result<Rates, ServiceError> {
        let relay = self.records.store.relay(name).map_err(|error| self.records.explain(error))?;
        let resolution = match range.unwrap_or("hour") {
            "hour" => Resolution::Second,
            "day" => Resolution::TenSeconds,
            "month" => Resolution::Minute,
            other => {
                return Err(ServiceError::Invalid {
                    field: "range",
                    detail: format!("{other:?} is not a range"),
                    hint: "Write hour, day or month.",
                });
            }
        };
        let step_s = resolution.step_s();
        let span_s = step_s * i64::try_from(resolution.retained()).unwrap_or(i64::MAX);
        let to_s = time::now_s().div_euclid(step_s) * step_s;
        let from_s = to_s - span_s;
        let row = |whose: TrafficKey| -> Result<Vec<Option<u32>>, ServiceError> {
            let mut row = vec![None; resolution.retained()];
            if resolution == Resolution::Minute {
                for hour in self.records.store.rates_of(&whose, from_s - HOUR_S)? {
                    lay(&mut row, from_s, step_s, hour.hour_s, &hour.kbps);
                }
            }
            if let Some(series) = self.series.lock().get(&whose) {
                let (begin, values) = series.series(resolution).since(from_s);
                lay(&mut row, from_s, step_s, begin, &values);
            }
            Ok(row)
        };
        let push = |destination: &String| {
            let kbps = row(TrafficKey::Push(relay.name.clone(), destination.clone()))?;
            Ok(PushRates { destination: destination.clone(), kbps })
        };
        let pushes: Result<Vec<PushRates>, ServiceError> = relay.destinations.iter().map(push).collect();
        Ok(Rates {
            from: time::text(
                SystemTime::UNIX_EPOCH + Duration::from_secs(u64::try_from(from_s).unwrap_or_default()),
            ),
            step_s: u32::try_from(step_s).unwrap_or(1),
            pushes: pushes?,
            outages: self.outages_of(&relay, from_s * 1_000)?,
            feed: row(TrafficKey::Feed(relay.feed.clone()))?,
        })
    }
}

/// Returns the values of a series from `from_s` to `to_s`; `None` for gaps.
fn aligned(
    begin_s: i64,
    values: &[Option<u32>],
    resolution: Resolution,
    from_s: i64,
    to_s: i64,
) -> Vec<Option<u32>> {
    let first = (from_s - begin_s).div_euclid(resolution.step_s());
    let count = (to_s - from_s).div_euclid(resolution.step_s());
    let at = |step: i64| usize::try_from(step).ok().and_then(|step| values.get(step).copied().flatten());
    (first..first + count).map(at).collect()
}

/// Copies values that begin at `begin_s` into a row that begins at `from_s`; gaps are skipped.
fn lay(row: &mut [Option<u32>], from_s: i64, step_s: i64, begin_s: i64, values: &[Option<u32>]) {
    let first = (begin_s - from_s).div_euclid(step_s);
    for (step, value) in (first..).zip(values) {
        let place = usize::try_from(step).ok().and_then(|step| row.get_mut(step));
        if let (Some(place), Some(_)) = (place, value) {
            *place = *value;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn measured_values_replace_stored_ones_except_for_gaps() {
        let mut row = vec![None; 5];
        lay(&mut row, 600, 60, 480, &[Some(9), Some(9), Some(1), Some(2), None]);
        lay(&mut row, 600, 60, 660, &[None, Some(7), Some(8), Some(8), Some(8)]);
        assert_eq!(row, [Some(1), Some(2), Some(7), Some(8), Some(8)]);
    }

    #[test]
    fn rows_have_the_requested_range() {
        let values = [Some(1), None, Some(3)];
        assert_eq!(aligned(60, &values, Resolution::Minute, 0, 300), [None, Some(1), None, Some(3), None]);
        assert_eq!(aligned(60, &values, Resolution::Minute, 180, 300), [Some(3), None]);
    }
}
