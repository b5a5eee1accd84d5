//! Commands.

pub(crate) mod alert;
pub(crate) mod audit;
pub(crate) mod book;
pub(crate) mod budget;
pub(crate) mod contact;
pub(crate) mod demo;
pub(crate) mod destination;
pub(crate) mod feed;
pub(crate) mod job;
pub(crate) mod maintenance;
pub(crate) mod man;
pub(crate) mod master_key;
pub(crate) mod pattern;
pub(crate) mod person;
pub(crate) mod platform;
pub(crate) mod preflight;
pub(crate) mod rates;
pub(crate) mod record;
pub(crate) mod relay;
pub(crate) mod signpost;
pub(crate) mod stand_in;
pub(crate) mod status;
pub(crate) mod token;
pub(crate) mod uplink;
