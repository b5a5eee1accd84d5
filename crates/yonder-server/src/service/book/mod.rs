//! The site book: everything that is kept as one document, and back.

mod apply;
mod entry;
mod export;
