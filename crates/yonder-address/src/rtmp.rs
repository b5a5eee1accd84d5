//! RTMP servers: `rtmp[s]://host[:port]/app[/more]`.

use std::fmt;

use crate::authority::Authority;
use crate::masked::mask;
use crate::repair::{Repair, note};
use crate::server::{AddressError, Opened, Protocol};

const PLAIN_PORT: u16 = 1935;
const TLS_PORT: u16 = 443;

/// An RTMP server, without the stream key. Displaying and debugging leave out the secrets in its parameters.
#[derive(Clone, PartialEq, Eq)]
pub struct RtmpServer {
    /// RTMP over TLS.
    pub tls: bool,
    /// Host name or address; IPv6 without brackets.
    pub host: String,
    /// Port; 1935 or 443 where the address names none.
    pub port: u16,
    /// Application, possibly with an instance behind a slash, and parameters.
    pub app: String,
}

impl RtmpServer {
    pub(crate) fn read(opened: Opened<'_>) -> Result<(Self, Vec<Repair>), AddressError> {
        let Opened { protocol, authority, rest, mut repairs } = opened;
        let tls = protocol == Protocol::Rtmps;
        let Authority { host, port } = Authority::parse(authority)?;
        let rest = rest.strip_prefix('/').unwrap_or(rest);
        let (path, query) = rest.split_once('?').map_or((rest, None), |(path, query)| (path, Some(query)));
        let segments: Vec<&str> = path.split('/').filter(|segment| !segment.is_empty()).collect();
        let mut app = segments.join("/");
        if app.is_empty() {
            return Err(AddressError::NoApplication(authority.to_owned()));
        }
        if app != path {
            note(&mut repairs, Repair::Slashes);
        }
        if let Some(query) = query {
            app = format!("{app}?{query}");
        }
        match (tls, port) {
            (true, Some(PLAIN_PORT)) => note(&mut repairs, Repair::TlsOnPlainPort),
            (false, Some(TLS_PORT)) => note(&mut repairs, Repair::PlainOnTlsPort),
            _ => {}
        }
        let port = port.unwrap_or(if tls { TLS_PORT } else { PLAIN_PORT });
        Ok((Self { tls, host, port, app }, repairs))
    }

    /// Splits the last segment of the application off, with its parameters: in an address that holds the key
    /// as well, that is the key. `None` when there is only one segment.
    pub(crate) fn split_last(&self) -> Option<(Self, String)> {
        // Parameters may hold slashes; only what stands before them is a path.
        let path_end = self.app.find('?').unwrap_or(self.app.len());
        let (path, query) = self.app.split_at_checked(path_end)?;
        let (app, last) = path.rsplit_once('/')?;
        Some((Self { app: app.to_owned(), ..self.clone() }, format!("{last}{query}")))
    }
}

impl RtmpServer {
    /// Returns the address with the secrets in its parameters, for the wire and the sealed store.
    #[must_use]
    pub fn full_address(&self) -> String {
        let (scheme, usual) = if self.tls { ("rtmps", TLS_PORT) } else { ("rtmp", PLAIN_PORT) };
        format!("{scheme}://{}/{}", Authority::shown(&self.host, self.port, usual), self.app)
    }
}

impl fmt::Display for RtmpServer {
    /// Writes the address without the secrets in its parameters.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&mask(&self.full_address()).text)
    }
}

impl fmt::Debug for RtmpServer {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "RtmpServer({self})")
    }
}
