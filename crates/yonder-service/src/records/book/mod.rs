//! The site book: everything that is kept as one document, and back.

mod apply;
mod compare;
mod entry;
mod export;

pub(super) use compare::{differences, table};
