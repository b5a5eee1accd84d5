//! Load of each uplink: the sum of pulls and pushes.

use yonder_address::Protocol;

use super::month::{Month, Traffic};
use super::overhead::on_wire_kbps;
use super::units::Volume;

/// Uplink with its traffic of this month.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Uplink {
    /// Name.
    pub name: String,
    /// Site; `None` for the uplinks of this machine.
    pub site: Option<String>,
    /// Upstream rate in kilobits per second.
    pub up_kbps: u64,
    /// Reserved share, in percent.
    pub headroom_percent: u64,
    /// Monthly allowance.
    pub allowance: Option<Volume>,
    /// Used only while the main uplink is unavailable.
    pub backup: bool,
    /// Volume sent this month.
    pub sent: Volume,
}

/// Push as a load.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Push {
    /// Name of the relay.
    pub relay: String,
    /// Name of the destination.
    pub destination: String,
    /// Protocol.
    pub protocol: Protocol,
    /// Measured media bit rate.
    pub media_kbps: Option<u64>,
    /// Uplinks that it is bound to, the preferred one first; empty if it is not bound.
    pub uplinks: Vec<String>,
}

/// Pull as a load.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pull {
    /// Name of the feed.
    pub feed: String,
    /// Site; `None` for a feed that does not use an uplink.
    pub site: Option<String>,
    /// Measured media bit rate.
    pub media_kbps: Option<u64>,
}

/// Viewers of a signpost as a load. Each of them takes the stream from this machine.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Audience {
    /// Alias of the signpost.
    pub signpost: String,
    /// Present viewers.
    pub viewers: u32,
    /// Measured media bit rate of the stream.
    pub media_kbps: Option<u64>,
}

/// Loads of a service.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Loads<'a> {
    /// Pushes.
    pub pushes: &'a [Push],
    /// Pulls.
    pub pulls: &'a [Pull],
    /// Viewers.
    pub audiences: &'a [Audience],
}

/// Hypothetical changes.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct WhatIf {
    /// Number and protocol of additional pushes of the largest feed.
    pub more: Option<(u32, Protocol)>,
    /// Media bit rate assumed for every feed.
    pub media_kbps: Option<u64>,
    /// Hours a day; all day if `None`.
    pub hours: Option<f64>,
}

/// Load on an uplink.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Load {
    /// Description.
    pub what: String,
    /// Kilobits per second on the wire; `None` until measured.
    pub kbps: Option<u64>,
    /// Standby: it occurs only when another uplink fails.
    pub is_standby: bool,
}

/// Whether a load fits.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum BudgetVerdict {
    /// It fits within the usable rate.
    Fits,
    /// It fits, but uses part of the headroom.
    Tight,
    /// It exceeds the capacity.
    Over,
}

impl BudgetVerdict {
    /// Returns the name that is shown.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Fits => "fits",
            Self::Tight => "tight",
            Self::Over => "over",
        }
    }

    fn of(used: u64, usable: u64, all: u64) -> Self {
        match used {
            used if used <= usable => Self::Fits,
            used if used <= all => Self::Tight,
            _ => Self::Over,
        }
    }
}

/// Budget of one uplink.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct UplinkBudget {
    /// The uplink.
    pub uplink: Uplink,
    /// Loads.
    pub loads: Vec<Load>,
    /// Sum of the known loads.
    pub sum_kbps: u64,
    /// Capacity without the headroom.
    pub usable_kbps: u64,
    /// Whether the rate fits.
    pub verdict: BudgetVerdict,
    /// The month.
    pub traffic: Traffic,
    /// Whether the month fits its allowance, if there is one; tight from 90 percent.
    pub traffic_verdict: Option<BudgetVerdict>,
}

/// Budget of all uplinks.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Budget {
    /// Uplinks in order.
    pub uplinks: Vec<UplinkBudget>,
    /// Loads on uplinks that are not described.
    pub undescribed: Vec<Load>,
}

/// Computes the budget of running and hypothetical loads.
///
/// Pushes and viewers use the uplinks of this machine; a pull from a site uses that site's. A push that is bound to uplinks loads only
/// those, and all but the first as standby. An unbound push is counted on each uplink, since its route is not known
/// here.
#[must_use]
pub fn budget(uplinks: &[Uplink], loads: &Loads<'_>, what_if: WhatIf, month: Month) -> Budget {
    let Loads { pushes, pulls, audiences } = *loads;
    let mut budget = Budget::default();
    for uplink in uplinks {
        let loads = match &uplink.site {
            None => {
                let mut loads = push_loads(pushes, what_if, Some(&uplink.name));
                loads.extend(audiences.iter().map(audience_load));
                loads
            }
            Some(site) => pull_loads(pulls, what_if, site),
        };
        budget.uplinks.push(one_uplink(uplink, loads, what_if, month));
    }
    if uplinks.iter().all(|uplink| uplink.site.is_some()) {
        budget.undescribed.extend(push_loads(pushes, what_if, None));
        budget.undescribed.extend(audiences.iter().map(audience_load));
    }
    let described = |site: &str| {
        uplinks.iter().any(|uplink| uplink.site.as_deref().is_some_and(|own| own.eq_ignore_ascii_case(site)))
    };
    for pull in pulls {
        if let Some(site) = pull.site.as_deref().filter(|site| !described(site)) {
            budget.undescribed.push(pull_load(pull, what_if, &format!(" from {site}")));
        }
    }
    budget
}

/// Returns the loads of pushes on an uplink; of pushes without a binding for `None`.
fn push_loads(pushes: &[Push], what_if: WhatIf, uplink: Option<&str>) -> Vec<Load> {
    let media = |push: &Push| what_if.media_kbps.or(push.media_kbps);
    let mut loads: Vec<Load> = pushes
        .iter()
        .filter_map(|push| {
            let is_standby = standby_on(push, uplink)?;
            let in_case = if is_standby { ", in case" } else { "" };
            Some(Load {
                what: format!("{} → {} ({}{in_case})", push.relay, push.destination, push.protocol.as_str()),
                kbps: media(push).map(|kbps| on_wire_kbps(Some(push.protocol), kbps)),
                is_standby,
            })
        })
        .collect();
    if let Some((count, protocol)) = what_if.more {
        let largest = what_if.media_kbps.or_else(|| pushes.iter().filter_map(media).max());
        loads.extend((1..=count).map(|number| Load {
            what: format!("one more, {number} ({})", protocol.as_str()),
            kbps: largest.map(|kbps| on_wire_kbps(Some(protocol), kbps)),
            is_standby: false,
        }));
    }
    loads
}

/// Returns whether an uplink carries a push as standby; `None` if it never carries it.
fn standby_on(push: &Push, uplink: Option<&str>) -> Option<bool> {
    let Some(uplink) = uplink.filter(|_| !push.uplinks.is_empty()) else { return Some(false) };
    push.uplinks.iter().position(|bound| bound.eq_ignore_ascii_case(uplink)).map(|position| position > 0)
}

fn pull_loads(pulls: &[Pull], what_if: WhatIf, site: &str) -> Vec<Load> {
    let of_site = |pull: &&Pull| pull.site.as_deref().is_some_and(|own| own.eq_ignore_ascii_case(site));
    pulls.iter().filter(of_site).map(|pull| pull_load(pull, what_if, "")).collect()
}

fn pull_load(pull: &Pull, what_if: WhatIf, from: &str) -> Load {
    let media = what_if.media_kbps.or(pull.media_kbps);
    Load {
        what: format!("pull of {}{from}", pull.feed),
        kbps: media.map(|kbps| on_wire_kbps(None, kbps)),
        is_standby: false,
    }
}

fn audience_load(audience: &Audience) -> Load {
    let Audience { signpost, viewers, media_kbps } = audience;
    let plural = if *viewers == 1 { "" } else { "s" };
    let one = |kbps: u64| on_wire_kbps(Some(Protocol::Rtmp), kbps);
    Load {
        what: format!("{viewers} viewer{plural} of {signpost}"),
        // HTTP over TCP has the overhead of RTMP: headers of a few bytes for large blocks.
        kbps: media_kbps.map(|kbps| one(kbps).saturating_mul(u64::from(*viewers))),
        is_standby: false,
    }
}

fn one_uplink(uplink: &Uplink, loads: Vec<Load>, what_if: WhatIf, month: Month) -> UplinkBudget {
    let sum_kbps = loads.iter().filter_map(|load| load.kbps).sum();
    let free = uplink.headroom_percent.min(95);
    let usable_kbps = uplink.up_kbps * (100 - free) / 100;
    // Standby loads are idle until the main uplink fails: they add nothing to the month.
    let active_kbps = loads.iter().filter(|load| !load.is_standby).filter_map(|load| load.kbps).sum();
    let month_kbps = if uplink.backup { 0 } else { active_kbps };
    let hours = what_if.hours.unwrap_or(24.0);
    let traffic = Traffic::project(uplink.sent, uplink.allowance, month_kbps, hours, month);
    let traffic_verdict = traffic.allowance.map(|allowance| {
        let all = allowance.bytes();
        BudgetVerdict::of(traffic.projected.bytes(), all / 10 * 9, all)
    });
    UplinkBudget {
        verdict: BudgetVerdict::of(sum_kbps, usable_kbps, uplink.up_kbps),
        uplink: uplink.clone(),
        loads,
        sum_kbps,
        usable_kbps,
        traffic,
        traffic_verdict,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const MONTH: Month = Month { elapsed_s: 0, total_s: 30 * 86_400 };

    fn uplink(site: Option<&str>, up_kbps: u64) -> Uplink {
        Uplink {
            name: "line".into(),
            site: site.map(str::to_owned),
            up_kbps,
            headroom_percent: 25,
            allowance: Some(Volume::from_bytes(1_000_000_000_000)),
            backup: false,
            sent: Volume::from_bytes(0),
        }
    }

    fn push(destination: &str, protocol: Protocol, kbps: u64) -> Push {
        Push {
            relay: "Summit".into(),
            destination: destination.into(),
            protocol,
            media_kbps: Some(kbps).filter(|kbps| *kbps > 0),
            uplinks: Vec::new(),
        }
    }

    fn pull(site: Option<&str>, kbps: u64) -> Pull {
        Pull { feed: "Summit".into(), site: site.map(str::to_owned), media_kbps: Some(kbps) }
    }

    fn of(up_kbps: u64, pushes: &[Push], what_if: WhatIf) -> UplinkBudget {
        let loads = Loads { pushes, ..Loads::default() };
        budget(&[uplink(None, up_kbps)], &loads, what_if, MONTH).uplinks.remove(0)
    }

    #[test]
    fn pushes_add_up_with_what_their_protocols_cost() {
        let pushes = [push("a", Protocol::Rtmp, 2_000), push("b", Protocol::Srt, 2_000)];
        let budget = of(10_000, &pushes, WhatIf::default());
        assert_eq!(
            (budget.sum_kbps, budget.usable_kbps, budget.verdict),
            (2_086 + 2_225, 7_500, BudgetVerdict::Fits)
        );
    }

    #[test]
    fn tight_is_distinguished_from_over() {
        let pushes = [push("a", Protocol::Rtmp, 4_000)];
        assert_eq!(of(5_000, &pushes, WhatIf::default()).verdict, BudgetVerdict::Tight);
        assert_eq!(of(4_000, &pushes, WhatIf::default()).verdict, BudgetVerdict::Over);
    }

    #[test]
    fn hypothetical_changes_add_pushes_and_change_rates_and_hours() {
        let pushes = [push("a", Protocol::Rtmp, 1_000), push("b", Protocol::Rtmp, 2_000)];
        let more = WhatIf { more: Some((2, Protocol::Rtmp)), ..WhatIf::default() };
        assert_eq!(of(100_000, &pushes, more).sum_kbps, 1_043 + 3 * 2_086);
        let slower = WhatIf { media_kbps: Some(500), hours: Some(12.0), ..WhatIf::default() };
        let budget = of(100_000, &pushes, slower);
        assert_eq!(budget.sum_kbps, 2 * 522);
        assert_eq!(budget.traffic.projected.bytes(), 1_044 * 125 * 15 * 86_400);
    }

    #[test]
    fn every_viewer_takes_the_stream_from_this_machine() {
        let audience = |viewers| Audience { signpost: "summit".into(), viewers, media_kbps: Some(2_000) };
        let audiences = [audience(100), Audience { media_kbps: None, ..audience(1) }];
        let loads = Loads { audiences: &audiences, ..Loads::default() };
        let uplinks = [uplink(None, 300_000), uplink(Some("Fell"), 6_000)];
        let budget = budget(&uplinks, &loads, WhatIf::default(), MONTH);
        assert_eq!((budget.uplinks[0].sum_kbps, budget.uplinks[1].sum_kbps), (208_600, 0));
        let listed: Vec<_> = budget.uplinks[0].loads.iter().map(|load| load.what.as_str()).collect();
        assert_eq!(listed, ["100 viewers of summit", "1 viewer of summit"]);
    }

    #[test]
    fn pull_loads_only_the_uplink_of_its_site() {
        let uplinks = [uplink(None, 10_000), uplink(Some("Fell"), 6_000)];
        let pulls = [pull(Some("fell"), 4_000), pull(None, 4_000)];
        let loads = Loads { pulls: &pulls, ..Loads::default() };
        let budget = budget(&uplinks, &loads, WhatIf::default(), MONTH);
        assert_eq!((budget.uplinks[0].sum_kbps, budget.uplinks[1].sum_kbps), (0, 4_200));
        assert_eq!(budget.uplinks[1].loads.len(), 1);
    }

    #[test]
    fn bound_push_counts_for_its_first_uplink_and_is_standby_on_others() {
        let named = |name: &str| Uplink { name: name.into(), ..uplink(None, 10_000) };
        let uplinks = [named("Fibre"), named("Radio"), named("Copper")];
        let bound =
            Push { uplinks: vec!["fibre".into(), "Radio".into()], ..push("a", Protocol::Rtmp, 2_000) };
        let pushes = [bound, push("b", Protocol::Rtmp, 1_000)];
        let loads = Loads { pushes: &pushes, ..Loads::default() };
        let budget = budget(&uplinks, &loads, WhatIf::default(), MONTH);
        let sums: Vec<_> = budget.uplinks.iter().map(|uplink| uplink.sum_kbps).collect();
        assert_eq!(sums, [2_086 + 1_043, 2_086 + 1_043, 1_043]);
        let projected = |at: usize| budget.uplinks[at].traffic.projected.bytes() / 125 / MONTH.total_s;
        assert_eq!([projected(0), projected(1), projected(2)], [2_086 + 1_043, 1_043, 1_043]);
        assert_eq!(budget.uplinks[1].loads[0].what, "Summit → a (rtmp, in case)");
    }

    #[test]
    fn loads_without_an_uplink_are_listed_separately() {
        let pushes = [push("a", Protocol::Rtmps, 0)];
        let pulls = [pull(Some("Fell"), 1_000)];
        let loads = Loads { pushes: &pushes, pulls: &pulls, ..Loads::default() };
        let budget = budget(&[], &loads, WhatIf::default(), MONTH);
        let listed: Vec<_> = budget.undescribed.iter().map(|load| (load.what.as_str(), load.kbps)).collect();
        assert_eq!(listed, [("Summit → a (rtmps)", None), ("pull of Summit from Fell", Some(1_050))]);
    }

    #[test]
    fn month_is_tight_from_90_percent_and_standby_adds_nothing() {
        // A terabyte in thirty days is 3 086 kbit/s.
        let month = |kbps| of(100_000, &[push("a", Protocol::Rtmp, kbps)], WhatIf::default()).traffic_verdict;
        assert_eq!(month(2_000), Some(BudgetVerdict::Fits));
        assert_eq!(month(2_800), Some(BudgetVerdict::Tight));
        assert_eq!(month(3_200), Some(BudgetVerdict::Over));
        let is_standby = Uplink { backup: true, ..uplink(None, 100_000) };
        let pushes = [push("a", Protocol::Rtmp, 9_000)];
        let loads = Loads { pushes: &pushes, ..Loads::default() };
        let budget = budget(&[is_standby], &loads, WhatIf::default(), MONTH);
        assert_eq!(budget.uplinks[0].traffic_verdict, Some(BudgetVerdict::Fits));
    }
}
