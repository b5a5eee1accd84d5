//! Listeners for encoders, on threads of their own: what unknown peers send must not delay supervision.

use std::net::SocketAddr;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use anyhow::Context as _;
use sha2::{Digest as _, Sha256};
use tokio::runtime::Runtime;
use tokio_rustls::TlsAcceptor;
use yonder_http::{Certificate, TlsFiles, self_signed};
use yonder_ingest::{IngestConfig, IngestServer};
use yonder_service::{IngestEndpoints, Service};

/// Threads of the listeners.
const THREADS: usize = 2;
/// Minimum latency of SRT encoders: four round trips over a continent.
const LATENCY: Duration = Duration::from_millis(200);

/// Settings of the listeners.
#[derive(Debug, Clone, Default)]
pub(crate) struct ListenerSettings {
    pub(crate) rtmp: Option<SocketAddr>,
    pub(crate) rtmps: Option<SocketAddr>,
    pub(crate) srt: Option<SocketAddr>,
    /// Host that encoders should use.
    pub(crate) host: Option<String>,
    /// Certificate of RTMPS; a self-signed one is generated without it.
    pub(crate) tls: Option<TlsFiles>,
}

/// Running listeners.
pub(crate) struct Listeners {
    runtime: Runtime,
    _server: IngestServer,
}

impl Listeners {
    /// Starts the listeners; `None` if all are off.
    pub(crate) fn start(
        settings: ListenerSettings,
        home: &Path,
        service: &Service,
    ) -> anyhow::Result<Option<Self>> {
        let ListenerSettings { rtmp, rtmps, srt, host, tls } = settings;
        if rtmp.is_none() && rtmps.is_none() && srt.is_none() {
            return Ok(None);
        }
        let runtime = tokio::runtime::Builder::new_multi_thread()
            .worker_threads(THREADS)
            .thread_name("yonder-ingest")
            .enable_all()
            .build()
            .context("the threads of the listeners cannot be started")?;
        let is_self_signed = rtmps.is_some() && tls.is_none();
        let files = match tls {
            None if is_self_signed => Some(self_signed(home, host.as_deref().unwrap_or("localhost"))?),
            given => given.filter(|_| rtmps.is_some()),
        };
        let certificate = files.map(Certificate::load).transpose()?.map(Arc::new);
        let acceptor = certificate.as_ref().map(Certificate::server_config).transpose()?;
        let acceptor = acceptor.map(|config| TlsAcceptor::from(Arc::new(config)));
        let config = IngestConfig { rtmp, rtmps, srt, latency: LATENCY };
        let server = {
            let _inside = runtime.enter();
            IngestServer::start(config, acceptor, service.ingest().registry())
        };
        let server = server.with_context(|| {
            let addresses: Vec<String> =
                [rtmp, rtmps, srt].into_iter().flatten().map(|address| address.to_string()).collect();
            format!("the listeners for encoders cannot be started at {}", addresses.join(", "))
        })?;
        let fingerprint = |certificate: &Arc<Certificate>| {
            yonder_engine::fingerprint_text(&Sha256::digest(certificate.der()).into())
        };
        service.ingest().set_endpoints(IngestEndpoints {
            addresses: server.addresses(),
            host,
            certificate: certificate.as_ref().filter(|_| is_self_signed).map(fingerprint),
        });
        if let Some(certificate) = certificate {
            runtime.spawn(certificate.watch());
        }
        Ok(Some(Self { runtime, _server: server }))
    }

    /// Closes all connections.
    pub(crate) fn stop(self) {
        self.runtime.shutdown_background();
    }
}
