//! Site book: export and application.

mod apply;
mod compare;
mod entry;
mod export;

pub(super) use compare::{differences, table};
