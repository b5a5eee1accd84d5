//! Checks of the uplinks, with the relay's pushes in the sum.

use crate::budget::{BitRate, Budget, UplinkBudget, Verdict};

use super::facts::{Check, Level};

fn level(verdict: Verdict) -> Level {
    match verdict {
        Verdict::Fits => Level::Pass,
        Verdict::Tight => Level::Warn,
        Verdict::Over => Level::Fail,
    }
}

/// Checks the uplinks of a budget before a start.
#[must_use]
pub fn check_uplinks(budget: &Budget) -> Vec<Check> {
    let mut checks = Vec::new();
    for uplink in &budget.uplinks {
        checks.push(rate(uplink));
        checks.extend(traffic(uplink));
    }
    if !budget.undescribed.is_empty() {
        checks.push(Check {
            subject: "uplink".to_owned(),
            check: "uplink",
            level: Level::Warn,
            reason: "it is not known what this machine's uplink carries".to_owned(),
            next_step: Some("Describe it: yonder uplink add NAME --rate 20Mbit/s".to_owned()),
        });
    }
    checks
}

fn rate(budget: &UplinkBudget) -> Check {
    let (sum, all) = (BitRate::from_kbps(budget.sum_kbps), BitRate::from_kbps(budget.uplink.up_kbps));
    let unknown = budget.loads.iter().filter(|load| load.kbps.is_none()).count();
    let mut reason = format!("all together need {sum} of {all}");
    if unknown > 0 {
        reason += &format!("; {unknown} of unknown rate come on top");
    }
    let mut level = level(budget.verdict);
    if budget.uplink.backup {
        // It carries nothing as long as the main one works.
        level = level.min(Level::Warn);
    }
    let next_step = match budget.verdict {
        Verdict::Fits => None,
        Verdict::Tight => Some(format!(
            "Less than the {} % of headroom stays free: lower a bit rate, or push fewer destinations.",
            budget.uplink.headroom_percent
        )),
        Verdict::Over => {
            Some("Lower the camera's bit rate, push its sub stream, or push fewer destinations.".to_owned())
        }
    };
    Check { subject: budget.uplink.name.clone(), check: "uplink", level, reason, next_step }
}

fn traffic(budget: &UplinkBudget) -> Option<Check> {
    let (verdict, allowance) = (budget.traffic_verdict?, budget.traffic.allowance?);
    let percent = budget.traffic.percent()?;
    // A month that will be over does not keep a broadcast from working today.
    let level = level(verdict).min(Level::Warn);
    Some(Check {
        subject: budget.uplink.name.clone(),
        check: "traffic",
        level,
        reason: format!(
            "the month comes to {} of {allowance} ({percent} %), {} of it sent",
            budget.traffic.projected, budget.traffic.so_far
        ),
        next_step: (verdict != Verdict::Fits)
            .then(|| "Run fewer hours a day, or at a lower rate: yonder budget --hours 12".to_owned()),
    })
}
