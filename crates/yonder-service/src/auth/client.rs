//! Client of a sign-in.

use std::net::{IpAddr, Ipv4Addr};

use super::Source;

/// Client of a sign-in.
#[derive(Debug, Clone, Default)]
pub struct SignInClient {
    /// Its `User-Agent`.
    pub agent: String,
    /// Network address, if known.
    pub address: Option<IpAddr>,
}

impl SignInClient {
    /// Returns the source for rate limits.
    pub(super) fn source(&self) -> Source {
        self.address.unwrap_or(IpAddr::V4(Ipv4Addr::UNSPECIFIED)).into()
    }
}
