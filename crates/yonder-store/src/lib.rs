//! Durable records in one SQLite file, with sealed secrets. All SQL is in this crate.

mod addresses;
mod alerts;
mod audit;
mod destinations;
mod error;
mod feeds;
#[cfg(debug_assertions)]
mod hang;
mod history;
mod invitations;
mod keyring;
mod maintenance;
mod migrations;
mod patterns;
mod people;
mod platforms;
mod rates;
mod record;
mod record_kind;
mod relays;
mod seal;
mod sealed;
mod sessions;
mod store;
mod subjects;
mod tokens;
mod traffic;
mod tunings;
mod unsaved;
mod uplinks;

pub use addresses::{AddressSecrets, UnknownPlaceholder, shortened_web_address};
pub use alerts::{Alert, Contact, ContactSettings, NewContact};
pub use audit::{AuditEntry, AuditFilter, Identity};
pub use destinations::{Destination, DestinationSettings, KeyKind, NewDestination, NewSecrets, StoredKey};
pub use error::StoreError;
pub use feeds::{Feed, FeedSettings, NewFeed};
#[cfg(debug_assertions)]
pub use hang::DiskWork;
pub use history::{History, HistorySubject};
pub use invitations::Invitation;
pub use patterns::Pattern;
pub use people::Person;
pub use platforms::PlatformSheet;
pub use rates::RateHour;
pub use record::{LogFilter, LogLine, LoggedAction};
pub use record_kind::RecordKind;
pub use relays::Relay;
pub use seal::{MasterKey, SealError};
pub use sealed::{LostSecret, SealedSecret, SecretChange};
pub use sessions::{NewSession, Session};
pub use store::{Outcome, Store};
pub use tokens::{NewToken, Token};
pub use traffic::TrafficKey;
pub use tunings::Tuning;
pub use uplinks::Uplink;
pub use yonder_core::DesiredState;
