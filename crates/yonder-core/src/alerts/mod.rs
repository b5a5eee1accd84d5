//! Alerts: evaluation of rules, and delivery of notifications.

mod evaluator;
mod outbox;
mod trigger;

pub use evaluator::{AlertEvaluator, Facts, Notice, NoticeKind, Observation, Open, Rule, ServiceFacts};
pub use outbox::{Batch, Notification, Outbox, UNREACHABLE_AFTER};
pub use trigger::{Trigger, TriggerError};
