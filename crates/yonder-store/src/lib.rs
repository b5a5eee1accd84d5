//! Durable records in one SQLite file, with secrets sealed. No SQL stands outside this crate.

mod destinations;
mod error;
mod feeds;
mod migrations;
mod patterns;
mod people;
mod relays;
mod seal;
mod store;

pub use destinations::{Destination, NewDestination};
pub use error::{Kind, StoreError};
pub use feeds::{Feed, NewFeed};
pub use patterns::Pattern;
pub use people::{Person, Session};
pub use relays::{Relay, Wanted};
pub use seal::{MasterKey, SealError};
pub use store::Store;
