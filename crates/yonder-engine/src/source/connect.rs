//! Connecting to a camera: name, TCP, TLS and ports for datagrams, over redirects and with both transports.

use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

use tokio::net::TcpStream;
use tokio::time::timeout;
use yonder_core::{Cause, CauseCode, DialStep, History, Place, probable_causes};
use yonder_rtsp::{CameraUrl, ClientConfig, PullError, Transport};

use crate::causes;
use crate::clock::Clock;
use crate::dial;
use crate::link::Link;
use crate::spec::{FeedSpec, TransportChoice};
use crate::tls::{TlsError, Trust};
use crate::view::Carrier;

use super::datagrams::Datagrams;
use super::session::{RtspSession, connection_lost};
use super::{SourceEnd, digest};

/// Redirects followed in one dial; more are a loop.
const MAX_REDIRECTS: u32 = 5;
/// How long the TLS handshake may take.
const TLS_TIMEOUT: Duration = Duration::from_secs(5);

/// Why a camera was not reached.
pub(crate) type ConnectError = Cause;

/// One dial: it may lead over several addresses, and try both transports.
#[derive(Debug, Clone)]
pub(crate) struct Dial {
    clock: Clock,
    spec: FeedSpec,
    carrier: Carrier,
    redirects: u32,
    other_tried: bool,
    /// Addresses of the host at the last attempt.
    addresses: Vec<SocketAddr>,
}

impl Dial {
    /// Returns a dial of `spec`; `known` is the transport that worked last.
    pub(crate) fn new(clock: Clock, spec: FeedSpec, known: Option<Carrier>) -> Self {
        let carrier = match spec.transport {
            TransportChoice::Tcp => Carrier::Tcp,
            TransportChoice::Udp => Carrier::Udp,
            // The last transport that worked; interleaved gets through most networks.
            TransportChoice::Auto => known.unwrap_or(Carrier::Tcp),
        };
        Self { clock, spec, carrier, redirects: 0, other_tried: false, addresses: Vec::new() }
    }

    /// Returns the transport in use.
    pub(crate) fn carrier(&self) -> Carrier {
        self.carrier
    }

    /// Connects, and returns a session that has not begun. `note` is called with each step that is done.
    ///
    /// # Errors
    /// The cause for which the camera was not reached.
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
            Carrier::Tcp => None,
            Carrier::Udp => Some(Datagrams::open(camera).await.map_err(|error| no_ports(&error))?),
        };
        let transport = match &datagrams {
            None => Transport::Interleaved,
            Some(datagrams) => Transport::Datagrams(datagrams.ports().map_err(|error| no_ports(&error))?),
        };
        let host = (self.spec.url.host.clone(), self.spec.url.port);
        let config = ClientConfig {
            url: self.spec.url.clone(),
            credentials: self.spec.credentials.clone(),
            requires_digest: digest::is_known(&host),
            transport,
            seed: rand::random(),
        };
        Ok(RtspSession::new(self.clock, config, link, datagrams))
    }

    async fn reach(&mut self, note: &(impl Fn(DialStep) + Sync)) -> Result<(Link, IpAddr), Cause> {
        self.addresses.clear();
        let CameraUrl { host, port, tls, .. } = &self.spec.url;
        let target = format!("{host}:{port}");
        let explain = |error| causes::feed_dial(&error, &target);
        self.addresses = dial::resolve(host, *port).await.map_err(explain)?;
        note(DialStep::NameFound);
        let stream = dial::connect(&self.addresses, None).await.map_err(explain)?;
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

    /// Handles the end of a session. `Ok` asks for another attempt of the same dial: after a redirect, or with the other
    /// transport.
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
                    // Another host has no right to this password, and over a connection without TLS anybody could read it.
                    self.spec.credentials = None;
                }
                tracing::info!(feed = self.spec.name, to = %url, "camera redirects");
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

    /// Returns the transport for the next dial after a session that ended with `end`; `None` leaves it as it is.
    pub(crate) fn next_carrier(&self, has_flowed: bool, end: Option<&SourceEnd>) -> Option<Carrier> {
        if has_flowed {
            return Some(self.carrier);
        }
        let came_to_nothing = matches!(end, Some(SourceEnd::Cause(cause))
            if matches!(cause.code, CauseCode::FeedStalled | CauseCode::FeedPacketLoss));
        // Agreed to, but nothing came through: the next dial asks for the other transport.
        (self.spec.transport == TransportChoice::Auto && came_to_nothing).then(|| self.carrier.other())
    }

    /// Adds to a cause in which step of the dial it happened, how long after its beginning, and the probable causes.
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
        let place = Place {
            host,
            port,
            addresses: self.addresses.iter().map(SocketAddr::ip).collect(),
            own: dial::own_networks().await,
        };
        cause.probable_causes = probable_causes(cause.code, &place);
        cause
    }
}

fn no_ports(error: &std::io::Error) -> Cause {
    Cause::new(CauseCode::FeedInternal, format!("This machine gives no ports for datagrams ({error})."))
}
