//! Connections to a camera: name, TCP, TLS and UDP ports, with redirects and both transports.

use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

use tokio::net::TcpStream;
use tokio::time::timeout;
use yonder_core::{Cause, CauseCode, DialStep, History, NetworkLocation, probable_causes};
use yonder_rtsp::{CameraUrl, ClientConfig, PullError, Transport};

use crate::causes;
use crate::clock::Clock;
use crate::connect;
use crate::link::Link;
use crate::spec::{RtspSpec, TransportChoice};
use crate::tls::{TlsError, Trust};
use crate::view::RtpTransport;

use super::datagrams::Datagrams;
use super::session::{RtspSession, connection_lost};
use super::{DigestHosts, SourceEnd};

/// Maximum redirects in one dial; more are a loop.
const MAX_REDIRECTS: u32 = 5;
/// Timeout of the TLS handshake.
const TLS_TIMEOUT: Duration = Duration::from_secs(5);

/// Error of a connection to a camera.
pub(crate) type ConnectError = Cause;

/// Dial: it may involve several addresses, and try both transports.
#[derive(Debug, Clone)]
pub(crate) struct Dial {
    clock: Clock,
    digest_hosts: DigestHosts,
    /// Name of the feed, for the log.
    feed: String,
    spec: RtspSpec,
    carrier: RtpTransport,
    redirects: u32,
    other_tried: bool,
    /// Addresses of the host at the last attempt.
    addresses: Vec<SocketAddr>,
}

impl Dial {
    /// Creates a dial of `spec`; `known` is the last transport that worked.
    pub(crate) fn new(
        clock: Clock,
        digest_hosts: DigestHosts,
        feed: String,
        spec: RtspSpec,
        known: Option<RtpTransport>,
    ) -> Self {
        let carrier = match spec.transport {
            TransportChoice::Tcp => RtpTransport::Tcp,
            TransportChoice::Udp => RtpTransport::Udp,
            // The last transport that worked; interleaved passes most networks.
            TransportChoice::Auto => known.unwrap_or(RtpTransport::Tcp),
        };
        Self {
            clock,
            digest_hosts,
            feed,
            spec,
            carrier,
            redirects: 0,
            other_tried: false,
            addresses: Vec::new(),
        }
    }

    /// Returns the transport in use.
    pub(crate) fn carrier(&self) -> RtpTransport {
        self.carrier
    }

    /// Connects, and returns a session before its first request. `note` is called with each completed step.
    ///
    /// # Errors
    /// The cause of the failure.
    ///
    /// # Cancel safety
    /// When dropped, the connection is closed.
    pub(crate) async fn connect(
        &mut self,
        note: impl Fn(DialStep) + Sync,
    ) -> Result<RtspSession, ConnectError> {
        if self.spec.secret_lost {
            let message = "The stored password of this camera cannot be opened.";
            return Err(Cause::new(CauseCode::FeedSecretLost, message));
        }
        let (link, camera) = self.reach(&note).await?;
        let datagrams = match self.carrier {
            RtpTransport::Tcp => None,
            RtpTransport::Udp => Some(Datagrams::open(camera).await.map_err(|error| no_ports(&error))?),
        };
        let transport = match &datagrams {
            None => Transport::Interleaved,
            Some(datagrams) => Transport::Datagrams(datagrams.ports().map_err(|error| no_ports(&error))?),
        };
        let host = (self.spec.url.host.clone(), self.spec.url.port);
        let config = ClientConfig {
            url: self.spec.url.clone(),
            credentials: self.spec.credentials.clone(),
            requires_digest: self.digest_hosts.contains(&host),
            transport,
            seed: rand::random(),
        };
        Ok(RtspSession::new(self.clock, self.digest_hosts.clone(), config, link, datagrams))
    }

    async fn reach(&mut self, note: &(impl Fn(DialStep) + Sync)) -> Result<(Link, IpAddr), Cause> {
        self.addresses.clear();
        let CameraUrl { host, port, tls, .. } = &self.spec.url;
        let target = format!("{host}:{port}");
        let explain = |error| causes::feed_dial(&error, &target);
        self.addresses = connect::resolve(host, *port).await.map_err(explain)?;
        note(DialStep::NameFound);
        let stream = connect::connect(&self.addresses, None).await.map_err(explain)?;
        note(DialStep::Connected);
        if !tls {
            let link = Link::plain(stream);
            let camera = link.peer().map_err(|error| connection_lost(&error))?;
            return Ok((link, camera));
        }
        let link = self.secure(stream, host).await?;
        note(DialStep::Encrypted);
        let camera = link.peer().map_err(|error| connection_lost(&error))?;
        Ok((link, camera))
    }

    async fn secure(&self, stream: TcpStream, host: &str) -> Result<Link, Cause> {
        let trust = self.spec.pin.map_or(Trust::System, Trust::Pinned);
        match timeout(TLS_TIMEOUT, Link::secure(stream, host, trust)).await {
            Ok(Ok(link)) => Ok(link),
            Ok(Err(error)) => Err(causes::feed_tls(&error)),
            Err(_) => {
                let detail = format!("no answer within {} s", TLS_TIMEOUT.as_secs());
                Err(causes::feed_tls(&TlsError::Failed(detail)))
            }
        }
    }

    /// Handles the end of a session. `Ok` requests another attempt of the same dial: after a redirect, or with the
    /// other transport.
    ///
    /// # Errors
    /// The cause of the end otherwise.
    pub(crate) fn handle_end(&mut self, end: SourceEnd, history: History) -> Result<(), Cause> {
        let error = match end {
            SourceEnd::Rtsp(error) => error,
            SourceEnd::Cause(cause) => return Err(cause),
        };
        match &error {
            PullError::Redirected { location } => {
                let Some(url) = location.as_deref().cloned() else {
                    return Err(causes::feed(&error, history));
                };
                self.redirects += 1;
                if self.redirects > MAX_REDIRECTS {
                    let message = format!("The camera sent us on {MAX_REDIRECTS} times, last to {url}.");
                    return Err(Cause::new(CauseCode::FeedProtocol, message));
                }
                let leaves_tls = self.spec.url.tls && !url.tls;
                if url.host != self.spec.url.host || leaves_tls {
                    // The credentials are not for another host, and not for a connection without TLS.
                    self.spec.credentials = None;
                }
                tracing::info!(feed = self.feed, to = %url, "camera redirects");
                self.spec.url = url;
                Ok(())
            }
            PullError::Refused { status: 461, .. } | PullError::OtherTransport { .. }
                if self.spec.transport == TransportChoice::Auto && !self.other_tried =>
            {
                self.other_tried = true;
                self.carrier = self.carrier.other();
                Ok(())
            }
            _ => Err(causes::feed(&error, history)),
        }
    }

    /// Returns the transport of the next dial after a session that ended with `end`; `None` keeps it.
    pub(crate) fn next_carrier(&self, has_flowed: bool, end: Option<&SourceEnd>) -> Option<RtpTransport> {
        if has_flowed {
            return Some(self.carrier);
        }
        let came_to_nothing = matches!(end, Some(SourceEnd::Cause(cause))
            if matches!(cause.code, CauseCode::FeedStalled | CauseCode::FeedPacketLoss));
        // Accepted, but no media arrived: the next dial uses the other transport.
        (self.spec.transport == TransportChoice::Auto && came_to_nothing).then(|| self.carrier.other())
    }

    /// Adds the failed step of the dial, its time since the beginning, and the probable causes to a cause.
    ///
    /// # Cancel safety
    /// Safe: nothing is lost.
    pub(crate) async fn diagnose(
        self,
        mut cause: Cause,
        (step, after): (Option<&'static str>, Duration),
    ) -> Cause {
        if let Some(step) = step {
            let message = cause.message.trim_end_matches('.').to_owned();
            cause.message = format!("{message} ({step}, after {:.2} s).", after.as_secs_f64());
        }
        let CameraUrl { host, port, .. } = self.spec.url;
        let place = NetworkLocation {
            host,
            port,
            addresses: self.addresses.iter().map(SocketAddr::ip).collect(),
            own: connect::own_networks().await,
        };
        cause.probable_causes = probable_causes(cause.code, &place);
        cause
    }
}

fn no_ports(error: &std::io::Error) -> Cause {
    Cause::new(CauseCode::FeedInternal, format!("This machine gives no ports for datagrams ({error})."))
}
