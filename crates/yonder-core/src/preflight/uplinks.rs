//! Checks of the uplinks, including the pushes of the relay.

use crate::budget::{BitRate, Budget, BudgetVerdict, UplinkBudget};

use super::facts::{Check, CheckStatus};

fn level(verdict: BudgetVerdict) -> CheckStatus {
    match verdict {
        BudgetVerdict::Fits => CheckStatus::Pass,
        BudgetVerdict::Tight => CheckStatus::Warn,
        BudgetVerdict::Over => CheckStatus::Fail,
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
            level: CheckStatus::Warn,
            reason: "the capacity of this machine's uplink is unknown".to_owned(),
            next_step: Some("Add it: yonder uplink add NAME --rate 20Mbit/s".to_owned()),
        });
    }
    checks
}

fn rate(budget: &UplinkBudget) -> Check {
    let (sum, all) = (BitRate::from_kbps(budget.sum_kbps), BitRate::from_kbps(budget.uplink.up_kbps));
    let unknown = budget.loads.iter().filter(|load| load.kbps.is_none()).count();
    let mut reason = format!("all relays together need {sum} of {all}");
    if unknown > 0 {
        reason += &format!(", plus {unknown} of unknown rate");
    }
    let mut level = level(budget.verdict);
    if budget.uplink.backup {
        // A standby uplink carries nothing while the main one works.
        level = level.min(CheckStatus::Warn);
    }
    let next_step = match budget.verdict {
        BudgetVerdict::Fits => None,
        BudgetVerdict::Tight => Some(format!(
            "Less than {} % stays free: lower a bit rate, or push fewer destinations.",
            budget.uplink.headroom_percent
        )),
        BudgetVerdict::Over => {
            Some("Lower the camera's bit rate, push its sub stream, or push fewer destinations.".to_owned())
        }
    };
    Check { subject: budget.uplink.name.clone(), check: "uplink", level, reason, next_step }
}

fn traffic(budget: &UplinkBudget) -> Option<Check> {
    let (verdict, allowance) = (budget.traffic_verdict?, budget.traffic.allowance?);
    let percent = budget.traffic.percent()?;
    // An exhausted allowance does not keep a broadcast from starting today.
    let level = level(verdict).min(CheckStatus::Warn);
    Some(Check {
        subject: budget.uplink.name.clone(),
        check: "traffic",
        level,
        reason: format!(
            "the month's projection is {} of {allowance} ({percent} %), {} of it is sent already",
            budget.traffic.projected, budget.traffic.so_far
        ),
        next_step: (verdict != BudgetVerdict::Fits)
            .then(|| "Run fewer hours a day, or at a lower rate: yonder budget --hours 12".to_owned()),
    })
}
