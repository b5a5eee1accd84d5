//! Durable records in one SQLite file, with secrets sealed. No SQL stands outside this crate.

mod alerts;
mod care;
mod destinations;
mod error;
mod feeds;
mod invitations;
mod migrations;
mod patterns;
mod people;
mod platforms;
mod rates;
mod record;
mod relays;
mod seal;
mod sessions;
mod store;
mod tokens;
mod traffic;
mod uplinks;

pub use alerts::{Alert, Receiver};
pub use destinations::{Destination, DestinationSettings, KeyKind, NewDestination, NewSecrets};
pub use error::{Kind, StoreError};
pub use feeds::{Feed, NewFeed};
pub use invitations::Invitation;
pub use patterns::Pattern;
pub use people::Person;
pub use platforms::PlatformSheet;
pub use rates::RateHour;
pub use record::{Deed, LogFilter, LogLine};
pub use relays::{Relay, Wanted};
pub use seal::{MasterKey, SealError};
pub use sessions::{NewSession, Session};
pub use store::{Fate, Store};
pub use tokens::{NewToken, Token};
pub use traffic::Carried;
pub use uplinks::Uplink;
