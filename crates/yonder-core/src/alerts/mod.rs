//! Alerts: when they are raised, repeated and over, and the notifications about them.

mod book;
mod outbox;
mod trigger;

pub use book::{AlertBook, Facts, Notice, NoticeKind, Open, Rule, ServiceFacts, Sighted};
pub use outbox::{Batch, Notification, Outbox, UNREACHABLE_AFTER};
pub use trigger::{Trigger, TriggerError};
