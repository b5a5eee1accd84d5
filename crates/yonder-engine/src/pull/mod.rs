//! One pull: dial the camera, run the dialogue, and publish what comes into the hub.

mod block;
mod connection;
mod datagrams;
mod session;

use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

use tokio::net::TcpStream;
use tokio::time::timeout;
use yonder_core::{Cause, CauseCode, Place, likely_reasons};
use yonder_media::timeline::Timeline;
use yonder_rtsp::{CameraUrl, ClientConfig, PullError, Transport};

use crate::causes;
use crate::dial;
use crate::feed::{Feed, HangUp, lock};
use crate::spec::{FeedSpec, TransportChoice};
use crate::tls::{self, TlsError, Trust};
use crate::view::Carrier;

use connection::Connection;
use datagrams::Datagrams;
use session::Session;

/// Redirects followed in one dial; more are a loop.
const MAX_REDIRECTS: u32 = 5;
/// How long the TLS handshake may take.
const TLS_TIMEOUT: Duration = Duration::from_secs(5);

/// Why an attempt ended.
#[derive(Debug)]
pub(crate) enum PullEnd {
    /// The dialogue or the session failed.
    Pull(PullError),
    /// Anything else, explained already.
    Cause(Cause),
}

impl From<Cause> for PullEnd {
    fn from(cause: Cause) -> Self {
        Self::Cause(cause)
    }
}

impl From<PullError> for PullEnd {
    fn from(error: PullError) -> Self {
        Self::Pull(error)
    }
}

/// Runs until the camera ends it (an error) or it is ordered to hang up.
pub(crate) async fn run(feed: &Feed, timeline: &mut Timeline, mut hang_up: HangUp) -> Result<(), Cause> {
    lock(&feed.figures).begin_dial(feed.clock.now());
    let mut dial = Dial::new(feed);
    loop {
        let ended = match dial.attempt(timeline, &mut hang_up).await {
            Ok(()) => return Ok(()),
            Err(PullEnd::Pull(error)) => dial.after(&error),
            Err(PullEnd::Cause(cause)) => Err(cause),
        };
        if let Err(cause) = ended {
            return Err(dial.diagnose(cause).await);
        }
    }
}

/// One dial: it may lead over several addresses, and try both transports.
struct Dial<'a> {
    feed: &'a Feed,
    spec: FeedSpec,
    carrier: Carrier,
    redirects: u32,
    other_tried: bool,
    /// What the host's name led to at the last attempt.
    addresses: Vec<SocketAddr>,
}

impl<'a> Dial<'a> {
    fn new(feed: &'a Feed) -> Self {
        let spec = feed.spec();
        let carrier = match spec.transport {
            TransportChoice::Tcp => Carrier::Tcp,
            TransportChoice::Udp => Carrier::Udp,
            // What worked last works again; interleaved gets through most networks.
            TransportChoice::Auto => feed.known_carrier().unwrap_or(Carrier::Tcp),
        };
        Self { feed, spec, carrier, redirects: 0, other_tried: false, addresses: Vec::new() }
    }

    async fn attempt(&mut self, timeline: &mut Timeline, hang_up: &mut HangUp) -> Result<(), PullEnd> {
        let (mut connection, camera) = tokio::select! {
            reached = self.reach() => reached?,
            () = hang_up.ordered() => return Ok(()),
        };
        let mut datagrams = match self.carrier {
            Carrier::Tcp => None,
            Carrier::Udp => Some(Datagrams::open(camera).await.map_err(|error| no_ports(&error))?),
        };
        let transport = match &datagrams {
            None => Transport::Interleaved,
            Some(datagrams) => Transport::Datagrams(datagrams.ports().map_err(|error| no_ports(&error))?),
        };
        let config = ClientConfig {
            url: self.spec.url.clone(),
            credentials: self.spec.credentials.clone(),
            transport,
            seed: rand::random(),
        };
        lock(&self.feed.figures).begin_session(self.carrier);
        timeline.begin_session();
        let mut session = Session::new(self.feed, timeline, config);
        let result = tokio::select! {
            result = session.run(&mut connection, datagrams.as_mut()) => result,
            () = hang_up.ordered() => Ok(()),
        };
        session.close(&mut connection).await;
        if session.has_flowed() {
            self.feed.set_known_carrier(Some(self.carrier));
        } else if self.spec.transport == TransportChoice::Auto
            && matches!(&result, Err(PullEnd::Cause(cause))
                if matches!(cause.code, CauseCode::FeedStalled | CauseCode::FeedPacketLoss))
        {
            // Agreed to, but nothing came through: the next dial asks for the other transport.
            self.feed.set_known_carrier(Some(self.carrier.other()));
        }
        result
    }

    /// What an end of the dialogue leads to: another attempt, or a cause.
    fn after(&mut self, error: &PullError) -> Result<(), Cause> {
        match error {
            PullError::Redirected { location } => {
                let Ok((url, _)) = CameraUrl::parse(location) else {
                    return Err(causes::feed(error, self.feed.history()));
                };
                self.redirects += 1;
                if self.redirects > MAX_REDIRECTS {
                    let message = format!("The camera sent us on {MAX_REDIRECTS} times, last to {url}.");
                    return Err(Cause::new(CauseCode::FeedProtocol, message));
                }
                if url.host != self.spec.url.host {
                    // Whoever answers there has no right to this password.
                    self.spec.credentials = None;
                }
                tracing::info!(feed = self.spec.name, to = %url, "the camera sends us on");
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
            _ => Err(causes::feed(error, self.feed.history())),
        }
    }

    /// Adds to a cause where in the dial it happened, how long that took, and what it probably means.
    async fn diagnose(&self, mut cause: Cause) -> Cause {
        let (step, after) = lock(&self.feed.figures).failing_step(self.feed.clock.now());
        if let Some(step) = step {
            let place = cause.message.trim_end_matches('.').to_owned();
            cause.message = format!("{place} ({step}, after {:.2} s).", after.as_secs_f64());
        }
        let CameraUrl { host, port, .. } = &self.spec.url;
        let place = Place {
            host: host.clone(),
            port: *port,
            addresses: self.addresses.iter().map(SocketAddr::ip).collect(),
            own: dial::own_networks().await,
        };
        cause.likely = likely_reasons(cause.code, &place);
        cause
    }

    async fn reach(&mut self) -> Result<(Connection, IpAddr), Cause> {
        self.addresses.clear();
        let CameraUrl { host, port, tls, .. } = &self.spec.url;
        let target = format!("{host}:{port}");
        let explain = |error| causes::feed_dial(&error, &target);
        self.addresses = dial::resolve(host, *port).await.map_err(explain)?;
        self.note("name found");
        let stream = dial::connect(&self.addresses, None).await.map_err(explain)?;
        self.note("connected");
        let camera = stream.peer_addr().map_err(|error| session::lost(&error))?.ip();
        if !tls {
            return Ok((Connection::Plain(stream), camera));
        }
        let secured = self.secure(stream, host).await?;
        self.note("encrypted");
        Ok((secured, camera))
    }

    async fn secure(&self, stream: TcpStream, host: &str) -> Result<Connection, Cause> {
        let trust = self.spec.pin.map_or(Trust::System, Trust::Pinned);
        match timeout(TLS_TIMEOUT, tls::secure(stream, host, trust)).await {
            Ok(Ok(stream)) => Ok(Connection::Secure(Box::new(stream))),
            Ok(Err(error)) => Err(causes::feed_tls(&error)),
            Err(_) => {
                let detail = format!("no answer within {} s", TLS_TIMEOUT.as_secs());
                Err(causes::feed_tls(&TlsError::Failed(detail)))
            }
        }
    }

    fn note(&self, step: &'static str) {
        lock(&self.feed.figures).note_step(step, self.feed.clock.now());
    }
}

fn no_ports(error: &std::io::Error) -> Cause {
    Cause::new(CauseCode::FeedInternal, format!("This machine gives no ports for datagrams ({error})."))
}
