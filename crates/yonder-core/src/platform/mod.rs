//! Rule sheets: the requirements of a platform as data. Some are built in; users add their own.

mod rules;
mod settings;
mod shipped;
pub(crate) mod tolerance;

pub use rules::{AudioRules, BroadcastRules, RecommendedRate, RuleSheet, SheetError, VideoRules};
pub use settings::{RULES, Rule, RuleError};
pub use shipped::{NamedSheet, shipped};
