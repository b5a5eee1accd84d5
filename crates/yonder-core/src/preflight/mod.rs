//! Preflight: the checks before a relay starts. Compares measured facts with rules, uplinks and reachability; each
//! check has a reason and a next step.

mod checks;
mod facts;
mod uplinks;

pub use checks::{check_feed, check_push};
pub use facts::{Check, CheckStatus, FeedFacts, KeyFacts, Problem, PushFacts, Reachability};
pub use uplinks::check_uplinks;

/// Returns the worst result.
#[must_use]
pub fn worst(checks: &[Check]) -> CheckStatus {
    checks.iter().map(|check| check.level).max().unwrap_or(CheckStatus::Pass)
}

#[cfg(test)]
mod tests;
