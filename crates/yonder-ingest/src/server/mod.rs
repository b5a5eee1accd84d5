//! Listeners that encoders publish to: RTMP, RTMPS and SRT, each with one socket for all feeds.
//!
//! A publisher is recognized by its stream key alone, and handed to its feed by a channel ([`Publisher`]). The parsing of what
//! peers send happens in tasks of the server's runtime, so that a hostile peer does not delay the media of others.

mod key;
mod limits;
mod publisher;
mod registry;
mod rtmp;
mod srt;

use std::io;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use tokio::net::TcpListener;
use tokio::task::JoinSet;
use tokio_rustls::TlsAcceptor;
use yonder_address::StreamKey;

pub use key::new_key;
pub use limits::IngestCounts;
pub use publisher::{IngestProtocol, LinkStats, Publisher, PublisherEnd, PublisherInfo, PublisherMessage};
pub use registry::{FeedAccess, IngestRegistry};

/// Addresses of the listeners; those without an address are off. Port 0 picks one.
#[derive(Debug, Clone, Copy, Default)]
pub struct IngestConfig {
    /// RTMP.
    pub rtmp: Option<SocketAddr>,
    /// RTMPS; needs a certificate.
    pub rtmps: Option<SocketAddr>,
    /// SRT.
    pub srt: Option<SocketAddr>,
    /// Minimum latency of SRT publishers.
    pub latency: Duration,
}

/// Addresses that a server listens on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct IngestAddresses {
    /// RTMP.
    pub rtmp: Option<SocketAddr>,
    /// RTMPS.
    pub rtmps: Option<SocketAddr>,
    /// SRT.
    pub srt: Option<SocketAddr>,
}

/// Running listeners. Dropping it ends them and all connections.
#[derive(Debug)]
pub struct IngestServer {
    addresses: IngestAddresses,
    _tasks: JoinSet<()>,
}

impl IngestServer {
    /// Starts the listeners. Must be called within a tokio runtime.
    ///
    /// # Errors
    /// If an address cannot be bound, or RTMPS has no certificate.
    pub fn start(
        config: IngestConfig,
        tls: Option<TlsAcceptor>,
        registry: &IngestRegistry,
    ) -> io::Result<Self> {
        let (mut addresses, mut tasks) = (IngestAddresses::default(), JoinSet::new());
        if let Some(address) = config.rtmp {
            let listener = bind(address)?;
            addresses.rtmp = Some(listener.local_addr()?);
            tasks.spawn(rtmp::accept(listener, None, registry.clone()));
        }
        if let Some(address) = config.rtmps {
            let missing = || io::Error::new(io::ErrorKind::InvalidInput, "RTMPS needs a certificate");
            let (listener, tls) = (bind(address)?, tls.ok_or_else(missing)?);
            addresses.rtmps = Some(listener.local_addr()?);
            tasks.spawn(rtmp::accept(listener, Some(Arc::new(tls)), registry.clone()));
        }
        if let Some(address) = config.srt {
            let port = srt::Port::bind(address, config.latency, registry.clone())?;
            addresses.srt = Some(port.address()?);
            tasks.spawn(port.run());
        }
        Ok(Self { addresses, _tasks: tasks })
    }

    /// Returns the addresses of the listeners.
    #[must_use]
    pub fn addresses(&self) -> IngestAddresses {
        self.addresses
    }
}

fn bind(address: SocketAddr) -> io::Result<TcpListener> {
    let listener = std::net::TcpListener::bind(address)?;
    listener.set_nonblocking(true)?;
    TcpListener::from_std(listener)
}

/// Returns the stream keys that an RTMP publisher may mean, the likeliest first: the stream name, or the end of the application
/// path. Parameters after a question mark are not part of a key.
fn rtmp_keys(app: &str, name: &StreamKey) -> Vec<StreamKey> {
    let without_query = |text: &str| text.split('?').next().unwrap_or_default().to_owned();
    let last = |text: &str| text.trim_end_matches('/').rsplit('/').next().unwrap_or_default().to_owned();
    let name = without_query(name.expose());
    let mut texts = vec![name.clone(), last(&name), last(&without_query(app))];
    texts.retain(|text| !text.is_empty());
    texts.dedup();
    texts.into_iter().map(|text| StreamKey::from_stored(text.into())).collect()
}

/// Returns the stream keys that the stream ID of an SRT publisher may mean: the resource of the access control syntax
/// (draft-sharabayko-srt-01, appendix B), the whole ID, or its last part.
///
/// # Errors
/// If the ID requests a stream instead of publishing one.
fn srt_keys(id: &StreamKey) -> Result<Vec<StreamKey>, WrongMode> {
    let text = id.expose();
    let mut texts = Vec::new();
    if let Some(members) = text.strip_prefix("#!::") {
        for (name, value) in members.split(',').filter_map(|member| member.split_once('=')) {
            match name {
                "r" => texts.push(value),
                "m" if value != "publish" && value != "bidirectional" => return Err(WrongMode),
                _ => {}
            }
        }
    } else {
        texts.push(text);
    }
    let whole = texts.first().copied().unwrap_or_default();
    texts.push(whole.rsplit(['/', ':']).next().unwrap_or_default());
    texts.retain(|text| !text.is_empty());
    texts.dedup();
    Ok(texts.into_iter().map(|text| StreamKey::from_stored(text.to_owned().into())).collect())
}

/// The stream ID requests a stream.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct WrongMode;

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn key(text: &str) -> StreamKey {
        StreamKey::from_stored(text.to_owned().into())
    }

    fn texts(keys: &[StreamKey]) -> Vec<&str> {
        keys.iter().map(StreamKey::expose).collect()
    }

    #[rstest]
    #[case::usual("live", "key-1", &["key-1", "live"])]
    #[case::parameters("live", "key-1?user=a&pass=b", &["key-1", "live"])]
    #[case::in_the_application_path("live/key-1", "", &["key-1"])]
    #[case::with_the_application("live", "live/key-1", &["live/key-1", "key-1", "live"])]
    #[case::path_with_parameters("live/key-1/?x=1", "", &["key-1"])]
    fn stream_key_of_rtmp_is_found(#[case] app: &str, #[case] name: &str, #[case] expected: &[&str]) {
        assert_eq!(texts(&rtmp_keys(app, &key(name))), expected);
    }

    #[rstest]
    #[case::plain("key-1", &["key-1"])]
    #[case::path("publish/key-1", &["publish/key-1", "key-1"])]
    #[case::access_control("#!::r=key-1,m=publish,u=camera", &["key-1"])]
    #[case::nothing("#!::u=camera", &[])]
    fn stream_key_of_srt_is_found(#[case] id: &str, #[case] expected: &[&str]) {
        assert_eq!(texts(&srt_keys(&key(id)).unwrap()), expected);
    }

    #[test]
    fn request_for_a_stream_is_not_a_publisher() {
        assert_eq!(srt_keys(&key("#!::m=request,r=key-1")).unwrap_err(), WrongMode);
    }
}
