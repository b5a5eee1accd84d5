//! Preflight: the checks before a relay starts. Facts × rules × uplink × reachability, each with a reason and a next
//! step. Pure: what was measured and reached comes in.

mod checks;
mod facts;
mod uplinks;

pub use checks::{check_feed, check_push};
pub use facts::{AudioFacts, Check, FeedFacts, KeyFacts, Level, PushFacts, Reach, Trouble, VideoFacts};
pub use uplinks::check_uplinks;

/// The worst of all.
#[must_use]
pub fn worst(checks: &[Check]) -> Level {
    checks.iter().map(|check| check.level).max().unwrap_or(Level::Pass)
}

#[cfg(test)]
mod tests;
