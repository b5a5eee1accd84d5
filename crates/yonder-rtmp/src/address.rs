//! Server addresses and stream keys, as people paste them.

use std::fmt;

use secrecy::{ExposeSecret as _, SecretString};

/// Longest address accepted, in bytes.
const MAX_ADDRESS: usize = 2048;
/// Longest key accepted, in characters. Platforms with signed parameters reach a few hundred.
const MAX_KEY: usize = 1024;

/// Why a server address was refused.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum AddressError {
    /// It does not begin with `rtmp://` or `rtmps://`.
    #[error("the server address must begin with rtmp:// or rtmps://")]
    Scheme,
    /// There is no host.
    #[error("the server address names no host")]
    NoHost,
    /// The host is neither a name nor an address.
    #[error("the host {0:?} is neither a name nor an address")]
    Host(String),
    /// The port is not a number from 1 to 65535.
    #[error("the port {0:?} is not a number from 1 to 65535")]
    Port(String),
    /// There is no application behind the host.
    #[error("the server address lacks the application, as in rtmp://{0}/live")]
    NoApplication(String),
    /// A blank or control character inside.
    #[error("the server address holds a blank at position {0}")]
    Blank(usize),
    /// Credentials in the address.
    #[error("the server address holds a user name or password; platforms take a stream key instead")]
    Credentials,
    /// Longer than any platform's.
    #[error("the server address is longer than {MAX_ADDRESS} bytes")]
    TooLong,
}

/// Why a stream key was refused. Never holds the key.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum KeyError {
    /// Nothing is left after blanks are dropped.
    #[error("the stream key is empty")]
    Empty,
    /// A blank inside.
    #[error("the stream key holds a blank at position {0}")]
    Blank(usize),
    /// A control character inside.
    #[error("the stream key holds a control character at position {0}")]
    Control(usize),
    /// Longer than any platform's.
    #[error("the stream key is longer than {MAX_KEY} characters")]
    TooLong,
    /// It is an address of another server.
    #[error("an address was pasted where the stream key belongs, and it is not of this server")]
    OtherAddress,
}

/// What was put right in a pasted address or key.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Repair {
    /// Blanks or line ends around it were dropped.
    Trimmed,
    /// A line end inside the key was taken out.
    Unfolded,
    /// Doubled or trailing slashes were dropped.
    Slashes,
    /// The key was pasted together with the server address.
    KeyInAddress,
}

impl Repair {
    /// The repair in words.
    #[must_use]
    pub fn sentence(self) -> &'static str {
        match self {
            Self::Trimmed => "blanks or line ends around it were dropped",
            Self::Unfolded => "a line end inside the key was taken out",
            Self::Slashes => "doubled or trailing slashes were dropped",
            Self::KeyInAddress => "the server address in front of the key was dropped",
        }
    }
}

/// A platform's server, without the stream key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ServerAddress {
    /// RTMP over TLS.
    pub tls: bool,
    /// Host name or address; IPv6 without brackets.
    pub host: String,
    /// Port; 1935 or 443 where the address names none.
    pub port: u16,
    /// Application, possibly with an instance behind a slash, and parameters.
    pub app: String,
}

impl ServerAddress {
    /// Reads a server address and says what was put right in it.
    ///
    /// # Errors
    /// [`AddressError`] telling what is wrong with it.
    pub fn parse(text: &str) -> Result<(Self, Vec<Repair>), AddressError> {
        let mut repairs = Vec::new();
        let trimmed = text.trim();
        if trimmed.len() != text.len() {
            repairs.push(Repair::Trimmed);
        }
        if trimmed.len() > MAX_ADDRESS {
            return Err(AddressError::TooLong);
        }
        let (scheme, rest) = trimmed.split_once("://").ok_or(AddressError::Scheme)?;
        let tls = match scheme.to_ascii_lowercase().as_str() {
            "rtmp" => false,
            "rtmps" => true,
            _ => return Err(AddressError::Scheme),
        };
        if let Some(at) = trimmed.find(|c: char| c.is_whitespace() || c.is_control()) {
            return Err(AddressError::Blank(at));
        }
        let (authority, path) = rest.split_once('/').unwrap_or((rest, ""));
        if authority.contains('@') {
            return Err(AddressError::Credentials);
        }
        let (host, port) = split_port(authority)?;
        let (path, query) = path.split_once('?').map_or((path, None), |(path, query)| (path, Some(query)));
        let segments: Vec<&str> = path.split('/').filter(|segment| !segment.is_empty()).collect();
        let mut app = segments.join("/");
        if app.is_empty() {
            return Err(AddressError::NoApplication(authority.to_owned()));
        }
        if app != path {
            repairs.push(Repair::Slashes);
        }
        if let Some(query) = query {
            app = format!("{app}?{query}");
        }
        Ok((Self { tls, host, port: port.unwrap_or(if tls { 443 } else { 1935 }), app }, repairs))
    }
}

impl fmt::Display for ServerAddress {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let scheme = if self.tls { "rtmps" } else { "rtmp" };
        let default_port = if self.tls { 443 } else { 1935 };
        if self.host.contains(':') {
            write!(f, "{scheme}://[{}]", self.host)?;
        } else {
            write!(f, "{scheme}://{}", self.host)?;
        }
        if self.port != default_port {
            write!(f, ":{}", self.port)?;
        }
        write!(f, "/{}", self.app)
    }
}

fn split_port(authority: &str) -> Result<(String, Option<u16>), AddressError> {
    let (host, port) = match authority.strip_prefix('[') {
        Some(rest) => {
            let (host, after) =
                rest.split_once(']').ok_or_else(|| AddressError::Host(authority.to_owned()))?;
            (host, after.strip_prefix(':').unwrap_or_default())
        }
        None => authority.split_once(':').unwrap_or((authority, "")),
    };
    if host.is_empty() {
        return Err(AddressError::NoHost);
    }
    let is_name = host.chars().all(|c| c.is_alphanumeric() || matches!(c, '-' | '.' | '_'));
    if !is_name && host.parse::<std::net::Ipv6Addr>().is_err() {
        return Err(AddressError::Host(host.to_owned()));
    }
    let port = match port {
        "" => None,
        text => match text.parse::<u16>() {
            Ok(number) if number > 0 => Some(number),
            _ => return Err(AddressError::Port(text.to_owned())),
        },
    };
    Ok((host.to_ascii_lowercase(), port))
}

/// A stream key. Displaying and debugging show at most its last four characters.
#[derive(Clone)]
pub struct StreamKey(SecretString);

impl StreamKey {
    /// Reads a key as it was pasted for `server`, and says what was put right in it.
    ///
    /// # Errors
    /// [`KeyError`], which never repeats the key.
    pub fn parse(text: &str, server: &ServerAddress) -> Result<(Self, Vec<Repair>), KeyError> {
        let mut repairs = Vec::new();
        let trimmed = text.trim();
        if trimmed.len() != text.len() {
            repairs.push(Repair::Trimmed);
        }
        let mut key: String = trimmed.chars().filter(|c| !matches!(c, '\r' | '\n')).collect();
        if key.len() != trimmed.len() {
            repairs.push(Repair::Unfolded);
        }
        if key.contains("://") {
            let prefix = server.to_string();
            let behind = key.strip_prefix(&prefix).map(str::to_owned);
            key = behind.filter(|rest| rest.starts_with('/')).ok_or(KeyError::OtherAddress)?;
            repairs.push(Repair::KeyInAddress);
        }
        let bare = key.trim_start_matches('/');
        if bare.len() != key.len() && !repairs.contains(&Repair::KeyInAddress) {
            repairs.push(Repair::Slashes);
        }
        if bare.is_empty() {
            return Err(KeyError::Empty);
        }
        if let Some(at) = bare.chars().position(char::is_whitespace) {
            return Err(KeyError::Blank(at + 1));
        }
        if let Some(at) = bare.chars().position(char::is_control) {
            return Err(KeyError::Control(at + 1));
        }
        if bare.chars().count() > MAX_KEY {
            return Err(KeyError::TooLong);
        }
        Ok((Self(bare.to_owned().into()), repairs))
    }

    /// A key that was checked before it was stored.
    #[must_use]
    pub fn from_stored(key: SecretString) -> Self {
        Self(key)
    }

    /// The key itself, for the wire and for the sealed store.
    #[must_use]
    pub fn expose(&self) -> &str {
        self.0.expose_secret()
    }

    /// The last characters, for people to tell keys apart: four of a long key, none of a short one.
    #[must_use]
    pub fn ending(&self) -> String {
        let count = self.expose().chars().count();
        let shown = if count >= 12 { 4 } else { 0 };
        self.expose().chars().skip(count - shown).collect()
    }
}

impl fmt::Debug for StreamKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "StreamKey(…{})", self.ending())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn server(text: &str) -> ServerAddress {
        ServerAddress::parse(text).unwrap().0
    }

    #[rstest]
    #[case::plain("rtmp://ingest.example.net/live", "rtmp://ingest.example.net/live", &[])]
    #[case::port("rtmp://ingest.example.net:1936/live", "rtmp://ingest.example.net:1936/live", &[])]
    #[case::default_port("rtmps://ingest.example.net:443/live", "rtmps://ingest.example.net/live", &[])]
    #[case::trailing_slash("rtmp://ingest.example.net/live/", "rtmp://ingest.example.net/live", &[Repair::Slashes])]
    #[case::doubled_slash("rtmp://ingest.example.net//live", "rtmp://ingest.example.net/live", &[Repair::Slashes])]
    #[case::blanks(" rtmp://ingest.example.net/live\n", "rtmp://ingest.example.net/live", &[Repair::Trimmed])]
    #[case::instance("rtmp://ingest.example.net/live/two", "rtmp://ingest.example.net/live/two", &[])]
    #[case::parameters("rtmp://ingest.example.net/live?backup=1", "rtmp://ingest.example.net/live?backup=1", &[])]
    #[case::ipv6("RTMP://[2001:db8::1]/live", "rtmp://[2001:db8::1]/live", &[])]
    fn addresses_are_read_and_repaired(#[case] text: &str, #[case] shown: &str, #[case] repairs: &[Repair]) {
        let (address, done) = ServerAddress::parse(text).unwrap();
        assert_eq!(address.to_string(), shown);
        assert_eq!(done, repairs);
    }

    #[rstest]
    #[case("http://ingest.example.net/live", AddressError::Scheme)]
    #[case("ingest.example.net/live", AddressError::Scheme)]
    #[case("rtmp:///live", AddressError::NoHost)]
    #[case("rtmp://ingest.example.net", AddressError::NoApplication("ingest.example.net".into()))]
    #[case("rtmp://ingest.example.net:x/live", AddressError::Port("x".into()))]
    #[case("rtmp://in gest/live", AddressError::Blank(9))]
    #[case("rtmp://a:b@ingest.example.net/live", AddressError::Credentials)]
    #[case("rtmp://in,gest/live", AddressError::Host("in,gest".into()))]
    fn malformed_addresses_are_refused(#[case] text: &str, #[case] error: AddressError) {
        assert_eq!(ServerAddress::parse(text).unwrap_err(), error);
    }

    #[rstest]
    #[case::plain("abcd-1234-efgh", "abcd-1234-efgh", &[])]
    #[case::blanks_and_line_end("  abcd-1234-efgh \r\n", "abcd-1234-efgh", &[Repair::Trimmed])]
    #[case::folded("abcd-1234-\nefgh", "abcd-1234-efgh", &[Repair::Unfolded])]
    #[case::leading_slash("/abcd-1234-efgh", "abcd-1234-efgh", &[Repair::Slashes])]
    #[case::parameters("abcd?sig=1&x=2", "abcd?sig=1&x=2", &[])]
    #[case::whole_address("rtmp://ingest.example.net/live/abcd", "abcd", &[Repair::KeyInAddress])]
    fn keys_are_read_and_repaired(#[case] text: &str, #[case] key: &str, #[case] repairs: &[Repair]) {
        let (read, done) = StreamKey::parse(text, &server("rtmp://ingest.example.net/live")).unwrap();
        assert_eq!(read.expose(), key);
        assert_eq!(done, repairs);
    }

    #[rstest]
    #[case("", KeyError::Empty)]
    #[case(" \n", KeyError::Empty)]
    #[case("/", KeyError::Empty)]
    #[case("ab cd", KeyError::Blank(3))]
    #[case("ab\u{7}cd", KeyError::Control(3))]
    #[case("rtmp://other.example.net/live/abcd", KeyError::OtherAddress)]
    fn unusable_keys_are_refused(#[case] text: &str, #[case] error: KeyError) {
        assert_eq!(StreamKey::parse(text, &server("rtmp://ingest.example.net/live")).unwrap_err(), error);
    }

    #[test]
    fn a_key_shows_four_characters_at_most() {
        let server = server("rtmp://ingest.example.net/live");
        let (long, _) = StreamKey::parse("planted-secret-key", &server).unwrap();
        assert_eq!(format!("{long:?}"), "StreamKey(…-key)");
        let (short, _) = StreamKey::parse("short", &server).unwrap();
        assert_eq!(format!("{short:?}"), "StreamKey(…)");
    }
}
