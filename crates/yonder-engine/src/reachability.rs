//! Reachability probes of a platform's server: name, port, and the part of the protocol before any secret.

use std::net::SocketAddr;
use std::time::Duration;

use bytes::{Bytes, BytesMut};
use tokio::time::{Instant, timeout};
use yonder_address::{RtmpServer, ServerAddress, SrtServer};
use yonder_core::{Cause, DialStep};
use yonder_protocol::{Core as _, DatagramCore as _, End};
use yonder_srt::{Caller, CallerConfig, KeyRefresh, SrtError};

use crate::causes;
use crate::connect;
use crate::spec::UplinkSpec;
use crate::tls::{self, PrivateAuthority, TlsError, Trust};
use crate::view::StepView;

/// Timeout of the TLS handshake.
pub(crate) const TLS_TIMEOUT: Duration = Duration::from_secs(5);

/// Result of a probe.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ProbeReport {
    /// Steps in order, with the time since the beginning.
    pub steps: Vec<StepView>,
}

/// Probes a server: resolves its name, opens its port, and performs a TLS handshake or an SRT induction. No key, stream
/// ID or passphrase is sent.
///
/// # Errors
/// The cause for which a push would not get this far.
///
/// # Cancel safety
/// When dropped, the connection is closed.
pub(crate) async fn probe(
    server: &ServerAddress,
    authority: Option<&PrivateAuthority>,
    uplink: Option<&UplinkSpec>,
) -> Result<ProbeReport, Cause> {
    let mut probe = Probe { began: Instant::now(), uplink, steps: Vec::new() };
    let target = format!("{}:{}", server.host(), server.port());
    let addresses = connect::resolve(server.host(), server.port()).await;
    let addresses = addresses.map_err(|error| causes::push_dial(&error, &target))?;
    probe.done(DialStep::NameFound);
    match server {
        ServerAddress::Rtmp(server) => probe.rtmp(server, &addresses, authority).await?,
        ServerAddress::Srt(server) => probe.srt(server, &addresses).await?,
    }
    Ok(ProbeReport { steps: probe.steps })
}

struct Probe<'a> {
    began: Instant,
    uplink: Option<&'a UplinkSpec>,
    steps: Vec<StepView>,
}

impl Probe<'_> {
    fn done(&mut self, step: DialStep) {
        self.steps.push(StepView { step, after: self.began.elapsed() });
    }

    async fn rtmp(
        &mut self,
        server: &RtmpServer,
        addresses: &[SocketAddr],
        authority: Option<&PrivateAuthority>,
    ) -> Result<(), Cause> {
        let target = format!("{}:{}", server.host, server.port);
        let stream = connect::connect(addresses, self.uplink).await;
        let stream = stream.map_err(|error| causes::push_dial(&error, &target))?;
        self.done(DialStep::Connected);
        if server.tls {
            let trust = trust(authority);
            let secured = timeout(TLS_TIMEOUT, tls::secure(stream, &server.host, trust)).await;
            secured
                .unwrap_or_else(|_| Err(TlsError::Failed("no answer".to_owned())))
                .map_err(|error| causes::push_tls(&error))?;
            self.done(DialStep::TlsAgreed);
        }
        Ok(())
    }

    async fn srt(&mut self, server: &SrtServer, addresses: &[SocketAddr]) -> Result<(), Cause> {
        let mut last = None;
        for address in addresses {
            match ask_for_cookie(server, *address, self.uplink).await {
                Ok(()) => {
                    self.done(DialStep::SrtListenerAnswered);
                    return Ok(());
                }
                Err(cause) => last = Some(cause),
            }
        }
        let nowhere = || {
            let error = connect::DialError::Unreachable("no address".to_owned());
            causes::push_dial(&error, &format!("{}:{}", server.host, server.port))
        };
        Err(last.unwrap_or_else(nowhere))
    }
}

/// Returns the trust anchors for a destination.
pub(crate) fn trust(authority: Option<&PrivateAuthority>) -> Trust {
    authority.map_or(Trust::System, |authority| Trust::Private(authority.clone()))
}

/// Returns the first address of a listener that answers; a single address is not probed.
pub(crate) async fn answering(
    server: &SrtServer,
    addresses: &[SocketAddr],
    uplink: Option<&UplinkSpec>,
) -> Option<SocketAddr> {
    if addresses.len() > 1 {
        for address in addresses {
            if ask_for_cookie(server, *address, uplink).await.is_ok() {
                return Some(*address);
            }
        }
    }
    addresses.first().copied()
}

async fn ask_for_cookie(
    server: &SrtServer,
    address: SocketAddr,
    uplink: Option<&UplinkSpec>,
) -> Result<(), Cause> {
    let target = format!("{}:{}", server.host, server.port);
    let socket = connect::datagrams(address, uplink).await;
    let socket = socket.map_err(|error| causes::push_dial(&error, &target))?;
    let began = Instant::now();
    let config = CallerConfig {
        stream_id: None,
        encryption: None,
        latency: Duration::from_millis(u64::from(server.latency_ms)),
        refresh: KeyRefresh::default(),
        address: address.ip(),
        induction_only: true,
        entropy: Box::new(|out| rand::fill(out)),
    };
    let mut caller = Caller::new(config, Duration::ZERO);
    let (mut out, mut input) = (BytesMut::new(), BytesMut::with_capacity(2048));
    loop {
        let now = began.elapsed();
        caller.handle_timeout(now);
        while caller.poll_datagram(now, now, &mut out).is_some() {
            let sent = socket.send(&out.split()).await;
            sent.map_err(|error| causes::push_dial(&connect::connect_error(&error), &target))?;
        }
        let wait = caller.poll_timeout().unwrap_or_default().saturating_sub(began.elapsed());
        input.clear();
        input.reserve(2048);
        match timeout(wait, socket.recv_buf(&mut input)).await {
            Err(_) => {}
            Ok(Err(error)) => return Err(causes::push_dial(&connect::connect_error(&error), &target)),
            Ok(Ok(_)) => {
                let datagram = Bytes::copy_from_slice(&input);
                caller.handle_datagram((), datagram, began.elapsed());
            }
        }
        match caller.end() {
            None => {}
            // The listener has answered, which ends the probe.
            Some(End { why: SrtError::Closed(_), .. }) => return Ok(()),
            Some(end) => return Err(causes::srt(&end.why)),
        }
    }
}
