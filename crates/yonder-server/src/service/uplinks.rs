//! Uplinks, and the budget of what they carry.

use std::collections::HashMap;

use yonder_address::Protocol;
use yonder_api::{
    Budget as BudgetFacts, FitRow, Load as LoadFacts, NewUplink, Uplink as UplinkFacts, UplinkBudget,
    UplinkChange, WhatFits, WhatIf as WhatIfRequest,
};
use yonder_core::budget::{
    BitRate, Budget, Load, Month, Pull, Push, Uplink, Volume, WhatIf, budget, what_fits,
};
use yonder_core::{check_name, nearest_name};
use yonder_store::{Carried, Relay as StoredRelay, Uplink as StoredUplink};

use super::Service;
use super::destinations::kept_server;
use super::feeds::read_site;
use crate::error::ServiceError;
use crate::time;

/// Share that stays free where nothing is said, in hundredths.
const USUAL_HEADROOM: u8 = 25;
/// Most pushes or destinations that can be asked about.
const MOST_MORE: u32 = 1_000;

impl Service {
    /// All uplinks.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub fn uplinks(&self) -> Result<Vec<UplinkFacts>, ServiceError> {
        let sent = self.sent_this_month()?;
        Ok(self.store.uplinks()?.iter().map(|kept| uplink_facts(&uplink(kept, &sent))).collect())
    }

    /// One uplink.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or when the records cannot be read.
    pub fn uplink(&self, name: &str) -> Result<UplinkFacts, ServiceError> {
        let kept = self.store.uplink(name).map_err(|error| self.explain(error))?;
        Ok(uplink_facts(&uplink(&kept, &self.sent_this_month()?)))
    }

    /// Adds an uplink.
    ///
    /// # Errors
    /// [`ServiceError::Invalid`] naming the field, a name that is taken, or when the records cannot be written.
    pub fn add_uplink(&self, new: &NewUplink) -> Result<UplinkFacts, ServiceError> {
        let kept = StoredUplink {
            name: check_name(&new.name).map_err(|error| ServiceError::name(&error))?,
            site: new.site.as_deref().and_then(read_site),
            up_kbps: read_rate(&new.rate)?,
            headroom_percent: read_headroom(new.headroom_percent.unwrap_or(USUAL_HEADROOM))?,
            allowance_bytes: new.allowance.as_deref().map(read_allowance).transpose()?.flatten(),
            backup: new.backup,
        };
        let _changing = self.change();
        self.store.add_uplink(&kept, time::now_s())?;
        self.uplink(&kept.name)
    }

    /// Changes an uplink.
    ///
    /// # Errors
    /// As [`Service::add_uplink`], and [`ServiceError::NotFound`].
    pub fn edit_uplink(&self, name: &str, change: &UplinkChange) -> Result<UplinkFacts, ServiceError> {
        let _changing = self.change();
        let mut kept = self.store.uplink(name).map_err(|error| self.explain(error))?;
        if let Some(new_name) = &change.name {
            kept.name = check_name(new_name).map_err(|error| ServiceError::name(&error))?;
        }
        if let Some(site) = &change.site {
            kept.site = read_site(site);
        }
        if let Some(rate) = &change.rate {
            kept.up_kbps = read_rate(rate)?;
        }
        if let Some(allowance) = &change.allowance {
            kept.allowance_bytes = read_allowance(allowance)?;
        }
        if let Some(percent) = change.headroom_percent {
            kept.headroom_percent = read_headroom(percent)?;
        }
        kept.backup = change.backup.unwrap_or(kept.backup);
        self.store.edit_uplink(name, &kept)?;
        self.uplink(&kept.name)
    }

    /// Removes an uplink.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or when the records cannot be written.
    pub fn remove_uplink(&self, name: &str) -> Result<(), ServiceError> {
        let _changing = self.change();
        self.store.remove_uplink(name).map_err(|error| self.explain(error))
    }

    /// The budget of what runs, or would.
    ///
    /// # Errors
    /// [`ServiceError::Invalid`] naming the field, or when the records cannot be read.
    pub fn budget(&self, request: &WhatIfRequest) -> Result<BudgetFacts, ServiceError> {
        let over = read_protocol(request.over.as_deref())?;
        for (field, count) in [("more", request.more), ("destinations", request.destinations)] {
            if count.is_some_and(|count| count > MOST_MORE) {
                let detail = format!("more than {MOST_MORE} are asked about");
                return Err(ServiceError::Invalid { field, detail, hint: "Ask about fewer." });
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
        let relays = self.stored_relays();
        let counted: Vec<&StoredRelay> =
            relays.iter().filter(|relay| request.all || relay.wanted.is_running()).collect();
        let calendar = time::Calendar::now();
        let sum = self.sum_of(&counted, what_if, calendar.month())?;
        let fits = request.destinations.map(|destinations| {
            let here = sum.uplinks.iter().filter(|uplink| uplink.uplink.site.is_none());
            here.map(|uplink| chart(&uplink.uplink.name, uplink.usable_kbps, destinations, over)).collect()
        });
        Ok(BudgetFacts {
            uplinks: sum.uplinks.iter().map(uplink_budget).collect(),
            undescribed: sum.undescribed.iter().map(load).collect(),
            month: calendar.month_text(),
            days_left: calendar.days_left(),
            fits: fits.unwrap_or_default(),
        })
    }

    /// The budget with these relays running.
    pub(super) fn sum_of(
        &self,
        relays: &[&StoredRelay],
        what_if: WhatIf,
        month: Month,
    ) -> Result<Budget, ServiceError> {
        let sent = self.sent_this_month()?;
        let uplinks: Vec<Uplink> = self.store.uplinks()?.iter().map(|kept| uplink(kept, &sent)).collect();
        let mut pushes = Vec::new();
        let mut pulls: Vec<Pull> = Vec::new();
        for relay in relays {
            let media_kbps = self.media_kbps(&relay.feed);
            for name in &relay.destinations {
                let server = kept_server(&self.store.destination(name)?.settings.server)?;
                pushes.push(Push {
                    relay: relay.name.clone(),
                    destination: name.clone(),
                    protocol: server.protocol(),
                    media_kbps,
                });
            }
            // Relays of one feed share its pull.
            if pulls.iter().all(|pull| pull.feed != relay.feed) {
                let site = self.store.feed(&relay.feed)?.values.site;
                pulls.push(Pull { feed: relay.feed.clone(), site, media_kbps });
            }
        }
        Ok(budget(&uplinks, &pushes, &pulls, what_if, month))
    }

    /// Media rate of a feed: what comes in now, or what came at the last look.
    fn media_kbps(&self, feed: &str) -> Option<u64> {
        let now = self.engine.feed(feed).and_then(|view| view.video).map(|video| video.kbps);
        let now = now.filter(|kbps| *kbps > 0);
        let mut rates = super::lock(&self.rates);
        match now {
            Some(kbps) => {
                rates.insert(feed.to_owned(), kbps);
                Some(kbps)
            }
            None => rates.get(feed).copied(),
        }
    }

    /// Keeps what a preflight measured, for budgets to come.
    pub(super) fn note_rate(&self, feed: &str, kbps: u64) {
        if kbps > 0 {
            super::lock(&self.rates).insert(feed.to_owned(), kbps);
        }
    }

    /// Bytes that left this month: here by every push, from each site by its feeds.
    fn sent_this_month(&self) -> Result<HashMap<Option<String>, u64>, ServiceError> {
        let calendar = time::Calendar::now();
        let mut sent: HashMap<Option<String>, u64> = HashMap::new();
        let sites: HashMap<String, Option<String>> = self
            .store
            .feeds()?
            .into_iter()
            .map(|feed| (feed.values.name, feed.values.site.map(|site| site.to_lowercase())))
            .collect();
        for (whose, bytes) in self.store.traffic(&calendar.first_day(), &calendar.day())? {
            let by = match whose {
                Carried::Push(..) => Some(None),
                Carried::Feed(feed) => sites.get(&feed).cloned().flatten().map(Some),
            };
            if let Some(by) = by {
                *sent.entry(by).or_default() += bytes;
            }
        }
        Ok(sent)
    }
}

fn unsigned(value: i64) -> u64 {
    u64::try_from(value).unwrap_or_default()
}

fn read_rate(text: &str) -> Result<i64, ServiceError> {
    let rate: BitRate = text.parse().map_err(|error| ServiceError::unit("rate", &error))?;
    let kbps = i64::try_from(rate.kbps()).ok().filter(|kbps| *kbps > 0);
    kbps.ok_or_else(|| ServiceError::Invalid {
        field: "rate",
        detail: format!("{text:?} is no rate that carries anything"),
        hint: "Write a rate like 20Mbit/s.",
    })
}

fn read_allowance(text: &str) -> Result<Option<i64>, ServiceError> {
    if text.trim().is_empty() {
        return Ok(None);
    }
    let volume: Volume = text.parse().map_err(|error| ServiceError::unit("allowance", &error))?;
    Ok(i64::try_from(volume.bytes()).ok().filter(|bytes| *bytes > 0))
}

fn read_headroom(percent: u8) -> Result<i64, ServiceError> {
    if percent > 90 {
        return Err(ServiceError::Invalid {
            field: "headroom_percent",
            detail: format!("{percent} % leave nothing to send by"),
            hint: "25 are usual; at most 90 can stay free.",
        });
    }
    Ok(i64::from(percent))
}

pub(super) fn read_protocol(word: Option<&str>) -> Result<Protocol, ServiceError> {
    let Some(word) = word else { return Ok(Protocol::Rtmp) };
    Protocol::from_word(word).ok_or_else(|| {
        let nearest = nearest_name(word, Protocol::ALL.iter().map(|protocol| protocol.word()));
        ServiceError::Invalid {
            field: "over",
            detail: format!(
                "{word:?} is no protocol{}",
                nearest.map(|nearest| format!("; is it {nearest} that you mean")).unwrap_or_default()
            ),
            hint: "Choose rtmp, rtmps or srt.",
        }
    })
}

fn uplink(kept: &StoredUplink, sent: &HashMap<Option<String>, u64>) -> Uplink {
    let by = kept.site.as_ref().map(|site| site.to_lowercase());
    // Which of several uplinks carried what is not known: the main one is taken to have.
    let sent = if kept.backup { 0 } else { sent.get(&by).copied().unwrap_or_default() };
    Uplink {
        name: kept.name.clone(),
        site: kept.site.clone(),
        up_kbps: unsigned(kept.up_kbps),
        headroom_percent: unsigned(kept.headroom_percent),
        allowance: kept.allowance_bytes.map(|bytes| Volume::from_bytes(unsigned(bytes))),
        backup: kept.backup,
        sent: Volume::from_bytes(sent),
    }
}

fn uplink_facts(uplink: &Uplink) -> UplinkFacts {
    UplinkFacts {
        name: uplink.name.clone(),
        site: uplink.site.clone(),
        up_kbps: uplink.up_kbps,
        headroom_percent: uplink.headroom_percent,
        allowance_bytes: uplink.allowance.map(Volume::bytes),
        backup: uplink.backup,
        sent_bytes: uplink.sent.bytes(),
    }
}

fn load(load: &Load) -> LoadFacts {
    LoadFacts { what: load.what.clone(), kbps: load.kbps }
}

fn uplink_budget(budget: &yonder_core::budget::UplinkBudget) -> UplinkBudget {
    UplinkBudget {
        uplink: uplink_facts(&budget.uplink),
        loads: budget.loads.iter().map(load).collect(),
        sum_kbps: budget.sum_kbps,
        usable_kbps: budget.usable_kbps,
        verdict: budget.verdict.word().to_owned(),
        projected_bytes: budget.traffic.projected.bytes(),
        projected_percent: budget.traffic.percent(),
        month_verdict: budget.traffic_verdict.map(|verdict| verdict.word().to_owned()),
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
        fit: row.fit.word().to_owned(),
    };
    WhatFits { uplink: uplink.to_owned(), destinations, each_kbps, rows: rows.into_iter().map(row).collect() }
}
