//! Connections to a platform: name, TCP and TLS, or a UDP socket and the keys of SRT.

use std::time::Duration;

use tokio::time::timeout;
use yonder_address::{RtmpServer, ServerAddress, SrtServer, stream_id};
use yonder_core::{Cause, CauseCode, DialStep};
use yonder_rtmp::{Publisher, PublisherConfig};
use yonder_srt::{Caller, CallerConfig, KeyRefresh};

use crate::causes;
use crate::children::{Child, ChildEvent, Children, Reporter};
use crate::clock::Clock;
use crate::connect::{self, DialError};
use crate::ids::{Attempt, PushId};
use crate::link::Link;
use crate::reachability::{TLS_TIMEOUT, answering, trust};
use crate::spec::{PushSpec, Route};
use crate::tls::TlsError;

use super::connection::Connection;
use super::rtmp::RtmpConnection;
use super::srt::{Port, SrtConnection};
use super::state::PushCore;

/// Spawns a child that connects over `route`.
pub(super) fn start(id: PushId, core: &PushCore, route: Route, children: &mut Children) -> Child {
    let attempt = core.attempt;
    let connecting =
        Connecting { id, attempt, clock: core.clock, spec: core.spec.clone(), reporter: children.reporter() };
    let work = async move {
        let result = connecting.run(&route).await;
        ChildEvent::PushConnected(id, attempt, result.map(Box::new))
    };
    children.spawn(work, move |panic| {
        tracing::error!(panic, "connecting to a platform panicked");
        let cause =
            Cause::new(CauseCode::PushInternal, "The service failed while connecting to this destination.");
        ChildEvent::PushConnected(id, attempt, Err(cause))
    })
}

struct Connecting {
    id: PushId,
    attempt: Attempt,
    clock: Clock,
    spec: PushSpec,
    reporter: Reporter,
}

impl Connecting {
    fn note(&self, step: DialStep) {
        self.reporter.report(ChildEvent::PushStep(self.id, self.attempt, step));
    }

    async fn run(&self, route: &Route) -> Result<Connection, Cause> {
        if self.spec.secret_lost {
            let message = "The stored stream key or passphrase cannot be opened.";
            return Err(Cause::new(CauseCode::PushSecretLost, message));
        }
        match &route.server {
            ServerAddress::Rtmp(server) => self.rtmp(server, route).await.map(Connection::Rtmp),
            ServerAddress::Srt(server) => self.srt(server, route).await.map(Connection::Srt),
        }
    }

    async fn resolve(&self, host: &str, port: u16) -> Result<Vec<std::net::SocketAddr>, Cause> {
        let found = connect::resolve(host, port).await;
        let found = found.map_err(|error| causes::push_dial(&error, &format!("{host}:{port}")))?;
        self.note(DialStep::NameFound);
        Ok(found)
    }

    async fn rtmp(&self, server: &RtmpServer, route: &Route) -> Result<RtmpConnection, Cause> {
        let key = self.spec.key.clone().ok_or_else(|| {
            Cause::new(CauseCode::PushKeyRefused, "There is no stream key, and RTMP needs one.")
        })?;
        let addresses = self.resolve(&server.host, server.port).await?;
        let target = format!("{}:{}", server.host, server.port);
        let stream = connect::connect(&addresses, route.uplink.as_ref()).await;
        let stream = stream.map_err(|error| causes::push_dial(&error, &target))?;
        self.note(DialStep::Connected);
        let link = if server.tls {
            let trust = trust(self.spec.authority.as_ref());
            let secured = timeout(TLS_TIMEOUT, Link::secure(stream, &server.host, trust)).await;
            let link = secured
                .unwrap_or_else(|_| Err(TlsError::Failed("no answer".to_owned())))
                .map_err(|error| causes::push_tls(&error))?;
            self.note(DialStep::TlsAgreed);
            link
        } else {
            Link::plain(stream)
        };
        let publisher = Publisher::new(PublisherConfig { server: server.clone(), key, seed: rand::random() });
        Ok(RtmpConnection::new(self.clock, link, publisher))
    }

    async fn srt(&self, server: &SrtServer, route: &Route) -> Result<SrtConnection, Cause> {
        let addresses = self.resolve(&server.host, server.port).await?;
        let target = format!("{}:{}", server.host, server.port);
        let uplink = route.uplink.as_ref();
        let Some(peer) = answering(server, &addresses, uplink).await else {
            return Err(causes::push_dial(&DialError::Unreachable("no address".to_owned()), &target));
        };
        let id = stream_id(server, self.spec.key.as_ref()).map_err(|error| {
            Cause::new(CauseCode::PushKeyRefused, format!("No stream ID could be made: {error}."))
        })?;
        let socket = connect::datagrams(peer, uplink).await;
        let socket = socket.map_err(|error| causes::push_dial(&error, &target))?;
        let unreachable = |error: std::io::Error| causes::push_dial(&connect::connect_error(&error), &target);
        let port = Port::new(socket, peer).map_err(unreachable)?;
        let config = CallerConfig {
            stream_id: id,
            encryption: self.spec.encryption.clone(),
            latency: Duration::from_millis(u64::from(server.latency_ms)),
            refresh: KeyRefresh::default(),
            address: port.local_addr().map_err(unreachable)?.ip(),
            induction_only: false,
            entropy: Box::new(|out| rand::fill(out)),
        };
        let (is_encrypted, latency) = (config.encryption.is_some(), config.latency);
        let now = self.clock.now();
        // Key derivation takes milliseconds, which would block a media thread.
        let caller = tokio::task::spawn_blocking(move || Caller::new(config, now)).await;
        let caller = caller
            .map_err(|_| Cause::new(CauseCode::PushInternal, "The encryption keys could not be made."))?;
        Ok(SrtConnection::new(self.clock, port, caller, latency, is_encrypted))
    }
}
