//! Platforms as rule sheets: what a platform accepts, as data. The program ships some; users keep their own.

mod rules;
mod settings;
mod shipped;

pub use rules::{AudioRules, BroadcastRules, RecommendedRate, RuleSheet, SheetError, VideoRules};
pub use settings::{RULES, Rule, RuleError};
pub use shipped::{NamedSheet, shipped};
