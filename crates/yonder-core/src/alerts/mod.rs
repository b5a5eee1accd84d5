//! Alerts: when somebody is to be told, what, how often again, and that it is over.

mod book;
mod trigger;

pub use book::{AlertBook, Facts, Notice, NoticeKind, Open, Rule, Sighted};
pub use trigger::{Trigger, TriggerError};
