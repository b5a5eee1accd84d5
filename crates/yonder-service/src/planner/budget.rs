//! Budget of the uplinks.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use yonder_address::Protocol;
use yonder_api::{
    Budget as BudgetFacts, FitRow, Load as LoadFacts, Uplink as UplinkFacts, UplinkBudget, WhatFits,
    WhatIf as WhatIfRequest,
};
use yonder_core::budget::{
    Budget, Load, Loads, Month, Pull, Push, Uplink, WhatIf, budget, shares, what_fits,
};
use yonder_core::nearest_name;
use yonder_core::rendition::{Adapt, Requirements, choose};
use yonder_store::{Identity, RecordKind, Relay as StoredRelay};

use super::Planner;
use yonder_records::ServiceError;
use yonder_records::time;
use yonder_records::{measured, read_rate, stored_server, unsigned, uplink, uplink_facts};

/// Part of the available rate of a push that is left for audio, in kilobits per second.
const AUDIO_KBPS: u32 = 160;
/// Maximum pushes or destinations in a hypothetical budget.
const MAX_MORE_PUSHES: u32 = 1_000;

impl Planner {
    /// Returns the budget of the running relays, with hypothetical changes.
    ///
    /// # Errors
    /// [`ServiceError::Invalid`] naming the field, or if the records cannot be read.
    pub fn budget(&self, request: &WhatIfRequest) -> Result<BudgetFacts, ServiceError> {
        let over = read_protocol(request.over.as_deref())?;
        for (field, count) in [("more", request.more), ("destinations", request.destinations)] {
            if count.is_some_and(|count| count > MAX_MORE_PUSHES) {
                let detail = format!("more than {MAX_MORE_PUSHES} additional pushes");
                return Err(ServiceError::Invalid { field, detail, hint: "Give a smaller number." });
            }
        }
        if request.hours.is_some_and(|hours| !(0.0..=24.0).contains(&hours)) {
            let detail = "a day has from 0 to 24 hours".to_owned();
            return Err(ServiceError::Invalid { field: "hours", detail, hint: "Write hours like 8 or 7.5." });
        }
        let what_if = WhatIf {
            more: request.more.filter(|more| *more > 0).map(|more| (more, over)),
            media_kbps: request.rate.as_deref().map(read_rate).transpose()?.map(unsigned),
            hours: request.hours,
        };
        let relays = self.records.stored_relays();
        let counted: Vec<&StoredRelay> =
            relays.iter().map(Arc::as_ref).filter(|relay| request.all || relay.wanted.is_running()).collect();
        let calendar = time::Calendar::now();
        let sum = self.sum_of(&counted, what_if, calendar.month())?;
        let identities = self.records.store.identities(RecordKind::Uplink)?;
        let fits = request.destinations.map(|destinations| {
            let here = sum.uplinks.iter().filter(|uplink| uplink.uplink.site.is_none());
            here.map(|uplink| chart(&uplink.uplink.name, uplink.usable_kbps, destinations, over)).collect()
        });
        Ok(BudgetFacts {
            uplinks: sum.uplinks.iter().map(|budget| uplink_budget(budget, &identities)).collect(),
            undescribed: sum.undescribed.iter().map(load).collect(),
            month: calendar.month_text(),
            days_left: calendar.days_left(),
            fits: fits.unwrap_or_default(),
        })
    }

    /// Returns the budget with these relays running.
    pub(super) fn sum_of(
        &self,
        relays: &[&StoredRelay],
        what_if: WhatIf,
        month: Month,
    ) -> Result<Budget, ServiceError> {
        let sent = self.records.sent_this_month()?;
        let uplinks: Vec<Uplink> =
            self.records.store.uplinks()?.iter().map(|kept| uplink(kept, &sent)).collect();
        let mut pushes = Vec::new();
        let mut pulls: Vec<Pull> = Vec::new();
        for relay in relays {
            let media_kbps = self.media_kbps(&relay.feed);
            pushes.extend(self.pushes_of(relay, media_kbps)?);
            // Relays of one feed share its pull.
            if pulls.iter().all(|pull| pull.feed != relay.feed) {
                let site = self.records.store.feed(&relay.feed)?.settings.site;
                pulls.push(Pull { feed: relay.feed.clone(), site, media_kbps });
            }
        }
        let audiences = self.sharing.audiences();
        let loads = Loads { pushes: &pushes, pulls: &pulls, audiences: &audiences };
        Ok(budget(&uplinks, &loads, what_if, month))
    }

    /// Returns the pushes of a relay as loads, with the bit rates of their renditions.
    fn pushes_of(&self, relay: &StoredRelay, feed_kbps: Option<u64>) -> Result<Vec<Push>, ServiceError> {
        let measured = measured(&self.records.store.feed(&relay.feed)?);
        let load = |name: &String| {
            let destination = self.records.store.destination(name)?;
            let protocol = stored_server(&destination.settings.server)?.protocol();
            let adaptation = self.records.adaptation(relay, &destination)?;
            let rendition = measured.as_ref().map(|measured| {
                let requirements = Requirements {
                    protocol,
                    rules: adaptation.rules.as_deref(),
                    limit: adaptation.limit,
                    available_kbps: adaptation.available_kbps,
                };
                choose(measured, requirements, adaptation.adapt).rendition
            });
            Ok(Push {
                relay: relay.name.clone(),
                destination: name.clone(),
                protocol,
                media_kbps: rendition.and_then(|made| made.kbps(measured.as_ref()?)).or(feed_kbps),
                uplinks: destination.settings.uplinks,
            })
        };
        relay.destinations.iter().map(load).collect()
    }

    /// Returns the video bit rates that the uplinks leave for the pushes of a relay, by destination. Empty for a relay that
    /// may not adapt its video.
    pub(super) fn available_kbps(&self, relay: &StoredRelay) -> Result<BTreeMap<String, u32>, ServiceError> {
        if relay.adapt != Adapt::All {
            return Ok(BTreeMap::new());
        }
        let sent = self.records.sent_this_month()?;
        let uplinks: Vec<Uplink> =
            self.records.store.uplinks()?.iter().map(|kept| uplink(kept, &sent)).collect();
        let mut others = Vec::new();
        for other in self.records.stored_relays().iter() {
            if other.wanted.is_running() && other.name != relay.name {
                others.extend(self.pushes_of(other, self.media_kbps(&other.feed))?);
            }
        }
        let own = self.pushes_of(relay, self.media_kbps(&relay.feed))?;
        let available = shares(&uplinks, &others, &own).into_iter().zip(own);
        let video = |kbps: u32| kbps.saturating_sub(AUDIO_KBPS);
        Ok(available.filter_map(|(kbps, push)| Some((push.destination, video(kbps?)))).collect())
    }

    /// Returns the media bit rate of a feed: the present one, or the last measured one.
    fn media_kbps(&self, feed: &str) -> Option<u64> {
        let now = self.engine.feed(feed).and_then(|view| view.video).map(|video| video.kbps);
        let now = now.filter(|kbps| *kbps > 0);
        let mut rates = self.media_rates.lock();
        match now {
            Some(kbps) => {
                rates.insert(feed.to_owned(), kbps);
                Some(kbps)
            }
            None => rates.get(feed).copied(),
        }
    }

    /// Stores the media bit rate measured by a preflight.
    pub(super) fn note_rate(&self, feed: &str, kbps: u64) {
        if kbps > 0 {
            self.media_rates.lock().insert(feed.to_owned(), kbps);
        }
    }
}

fn read_protocol(word: Option<&str>) -> Result<Protocol, ServiceError> {
    let Some(word) = word else { return Ok(Protocol::Rtmp) };
    Protocol::from_name(word).ok_or_else(|| {
        let nearest = nearest_name(word, Protocol::ALL.iter().map(|protocol| protocol.as_str()));
        ServiceError::Invalid {
            field: "over",
            detail: format!(
                "{word:?} is not a protocol{}",
                nearest.map(|nearest| format!("; did you mean {nearest}")).unwrap_or_default()
            ),
            hint: "Choose rtmp, rtmps or srt.",
        }
    })
}

fn load(load: &Load) -> LoadFacts {
    LoadFacts { what: load.what.clone(), kbps: load.kbps }
}

fn uplink_budget(
    budget: &yonder_core::budget::UplinkBudget,
    identities: &HashMap<String, Identity>,
) -> UplinkBudget {
    let Identity { uid, revision } = identities.get(&budget.uplink.name).cloned().unwrap_or_default();
    UplinkBudget {
        uplink: UplinkFacts { id: uid, revision, ..uplink_facts(&budget.uplink) },
        loads: budget.loads.iter().map(load).collect(),
        sum_kbps: budget.sum_kbps,
        usable_kbps: budget.usable_kbps,
        verdict: budget.verdict.as_str().to_owned(),
        projected_bytes: budget.traffic.projected.bytes(),
        projected_percent: budget.traffic.percent(),
        month_verdict: budget.traffic_verdict.map(|verdict| verdict.as_str().to_owned()),
    }
}

fn chart(uplink: &str, usable_kbps: u64, destinations: u32, over: Protocol) -> WhatFits {
    let (each_kbps, rows) = what_fits(usable_kbps, destinations, over);
    let row = |row: yonder_core::budget::FitRow| FitRow {
        width: row.width,
        lines: row.lines,
        fps: row.fps,
        plain_kbps: row.plain_kbps,
        good_kbps: row.good_kbps,
        fit: row.fit.as_str().to_owned(),
    };
    WhatFits { uplink: uplink.to_owned(), destinations, each_kbps, rows: rows.into_iter().map(row).collect() }
}
