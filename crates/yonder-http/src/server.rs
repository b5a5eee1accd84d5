//! HTTP server: listening, serving and graceful shutdown.

use std::io;
use std::net::{IpAddr, Ipv4Addr, SocketAddr, TcpListener};
use std::sync::Arc;
use std::time::Duration;

use actix_web::dev::ServerHandle;
use actix_web::middleware::from_fn;
use actix_web::web::Data;
use actix_web::{App, HttpServer};

use url::Url;
use yonder_service::{Service, reachable};

use crate::access::Access;
use crate::limits::Limits;
use crate::metrics::{RequestMetrics, count_request};
use crate::tls::{Certificate, TlsError, TlsFiles};

/// Number of worker threads. Media has its own threads.
const WORKERS: usize = 2;
/// Maximum connections per worker: bounded, since media needs file descriptors as well.
const MAX_CONNECTIONS: usize = 256;
/// The same if the limit of open files is low.
const MIN_CONNECTIONS: usize = 8;
/// Listen backlog.
const BACKLOG: u32 = 256;
/// Blocking threads per worker. On a blocked disk each request occupies one.
const MAX_BLOCKING: usize = 64;
/// Timeout of a request head.
const HEAD_TIMEOUT: Duration = Duration::from_secs(5);
/// Time for open requests to end at a shutdown, in seconds.
const SHUTDOWN_S: u64 = 2;

/// Settings of the server.
#[derive(Debug, Clone)]
pub struct ServerConfig {
    /// Address and port to listen on; port 0 picks one.
    pub listen: SocketAddr,
    /// Certificate files; plain HTTP without them.
    pub tls: Option<TlsFiles>,
    /// URL for browsers.
    pub public_url: Option<Url>,
    /// Proxies whose `X-Forwarded-For` is trusted.
    pub trusted_proxies: Vec<IpAddr>,
    /// Accept plain HTTP from other machines.
    pub insecure: bool,
}

impl ServerConfig {
    /// Returns the settings for plain HTTP.
    #[must_use]
    pub fn plain(listen: SocketAddr) -> Self {
        Self { listen, tls: None, public_url: None, trusted_proxies: Vec::new(), insecure: false }
    }

    /// Refuses plain HTTP to other machines, since passwords and tokens would be sent in clear. A TLS proxy on another
    /// machine is declared by its address and the public URL.
    fn check(&self) -> Result<(), ServerError> {
        let is_behind_tls = self.public_url.as_ref().is_some_and(|url| url.scheme() == "https")
            && !self.trusted_proxies.is_empty();
        if self.tls.is_some() || self.insecure || self.listen.ip().is_loopback() || is_behind_tls {
            return Ok(());
        }
        Err(ServerError::Insecure(self.listen))
    }
}

/// Error of the server.
#[derive(Debug, thiserror::Error)]
pub enum ServerError {
    /// The address cannot be bound.
    #[error("{address} cannot be listened on")]
    Listen {
        /// Requested address.
        address: SocketAddr,
        /// I/O error.
        source: io::Error,
    },
    /// Plain HTTP would be open to other machines.
    #[error(
        "plain HTTP at {0} would send passwords and tokens in clear: give --tls-cert and --tls-key, name a proxy with TLS by \
         --public-url and --trusted-proxy, or accept it by --insecure"
    )]
    Insecure(SocketAddr),
    /// The certificate is invalid.
    #[error(transparent)]
    Tls(#[from] TlsError),
    /// The server failed while running.
    #[error("the server failed")]
    Failed(#[from] io::Error),
}

/// Listening server that does not serve yet.
#[derive(Debug)]
pub struct Server {
    listener: TcpListener,
    /// Plain HTTP on loopback, for local commands next to a server with TLS.
    local: Option<TcpListener>,
    certificate: Option<Arc<Certificate>>,
    access: Access,
    service: Arc<Service>,
}

fn listen(address: SocketAddr) -> Result<TcpListener, ServerError> {
    TcpListener::bind(address).map_err(|source| ServerError::Listen { address, source })
}

impl Server {
    /// Binds the listeners.
    ///
    /// # Errors
    /// [`ServerError::Listen`] for an address in use or not local, [`ServerError::Insecure`], and [`ServerError::Tls`].
    pub fn bind(service: Arc<Service>, config: ServerConfig) -> Result<Self, ServerError> {
        config.check()?;
        let ServerConfig { listen: address, tls, public_url, trusted_proxies, .. } = config;
        let certificate = tls.map(Certificate::load).transpose()?.map(Arc::new);
        let local = match &certificate {
            Some(_) => Some(listen((Ipv4Addr::LOCALHOST, 0).into())?),
            None => None,
        };
        let access = Access { public_url, trusted_proxies, tls: certificate.is_some() };
        Ok(Self { listener: listen(address)?, local, certificate, access, service })
    }

    /// Returns the URL for browsers.
    ///
    /// # Errors
    /// If the system does not report the address.
    pub fn url(&self) -> io::Result<String> {
        if let Some(url) = &self.access.public_url {
            return Ok(url.as_str().trim_end_matches('/').to_owned());
        }
        let scheme = if self.certificate.is_some() { "https" } else { "http" };
        Ok(format!("{scheme}://{}", reachable(self.listener.local_addr()?)))
    }

    /// Returns the URL for local commands.
    ///
    /// # Errors
    /// As [`Server::url`].
    pub fn local_url(&self) -> io::Result<String> {
        let listener = self.local.as_ref().unwrap_or(&self.listener);
        Ok(format!("http://{}", reachable(listener.local_addr()?)))
    }

    /// Serves until `stop` resolves, then lets open requests end. Must be called within an Actix system.
    ///
    /// # Errors
    /// [`ServerError::Failed`] if the server fails while running.
    pub async fn run(self, stop: impl Future<Output = ()> + 'static) -> Result<(), ServerError> {
        let Self { listener, local, certificate, access, service } = self;
        let data = Data::from(Arc::clone(&service));
        let loops = service.start_loops();
        let (limits, requests) = (Limits::default(), RequestMetrics::default());
        let app = move || {
            let routes = super::configure(access.clone(), limits.clone(), requests.clone());
            App::new().app_data(data.clone()).wrap(from_fn(count_request)).configure(routes)
        };
        let server = HttpServer::new(app)
            .workers(WORKERS)
            .max_connections(max_connections(WORKERS, MAX_CONNECTIONS))
            .backlog(BACKLOG)
            .worker_max_blocking_threads(MAX_BLOCKING)
            .client_request_timeout(HEAD_TIMEOUT)
            .tls_handshake_timeout(HEAD_TIMEOUT)
            // Detects a client that has closed its side of an event stream.
            .h1_allow_half_closed(false)
            .disable_signals()
            .shutdown_timeout(SHUTDOWN_S);
        let server = match &certificate {
            Some(certificate) => server.listen_rustls_0_23(listener, certificate.server_config()?)?,
            None => server.listen(listener)?,
        };
        let server = match local {
            Some(local) => server.listen(local)?,
            None => server,
        }
        .run();
        let handle: ServerHandle = server.handle();
        actix_web::rt::spawn(async move {
            stop.await;
            // Event streams never end by themselves.
            handle.stop(false).await;
        });
        let watch = certificate.map(|certificate| actix_web::rt::spawn(certificate.watch()));
        let result = server.await;
        if let Some(watch) = watch {
            watch.abort();
        }
        drop(loops);
        Ok(result?)
    }
}

/// Returns the limit on open files of this process.
fn file_limit() -> u64 {
    rlimit::getrlimit(rlimit::Resource::NOFILE).map_or(u64::MAX, |(soft, _)| soft)
}

/// Returns the maximum connections of each of a server's workers, at most `most`: a quarter of the open files of this process
/// in total, so that enough are left for feeds and pushes.
#[must_use]
pub fn max_connections(workers: usize, most: usize) -> usize {
    share_of_files(file_limit(), workers, most)
}

fn share_of_files(file_limit: u64, workers: usize, most: usize) -> usize {
    let share = usize::try_from(file_limit / 4).unwrap_or(usize::MAX) / workers.max(1);
    share.clamp(MIN_CONNECTIONS, most)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::usual(1_024, 128)]
    #[case::many(65_536, 256)]
    #[case::few(200, 25)]
    #[case::hardly_any(20, 8)]
    #[case::unlimited(u64::MAX, 256)]
    fn connections_leave_file_descriptors_to_media(#[case] file_limit: u64, #[case] connections: usize) {
        assert_eq!(share_of_files(file_limit, WORKERS, MAX_CONNECTIONS), connections);
    }

    #[rstest]
    #[case::loopback("127.0.0.1:8460", None, &[], false, true)]
    #[case::loopback_6("[::1]:8460", None, &[], false, true)]
    #[case::everywhere("0.0.0.0:8460", None, &[], false, false)]
    #[case::accepted("0.0.0.0:8460", None, &[], true, true)]
    #[case::behind_a_proxy("192.0.2.7:8460", Some("https://relay.example.net"), &["192.0.2.1"], false, true)]
    #[case::proxy_not_named("192.0.2.7:8460", Some("https://relay.example.net"), &[], false, false)]
    #[case::plain_proxy("192.0.2.7:8460", Some("http://relay.example.net"), &["192.0.2.1"], false, false)]
    fn plain_http_to_other_machines_needs_an_option(
        #[case] listen: &str,
        #[case] public_url: Option<&str>,
        #[case] proxies: &[&str],
        #[case] insecure: bool,
        #[case] accepted: bool,
    ) {
        let config = ServerConfig {
            public_url: public_url.map(|url| url.parse().unwrap()),
            trusted_proxies: proxies.iter().map(|proxy| proxy.parse().unwrap()).collect(),
            insecure,
            ..ServerConfig::plain(listen.parse().unwrap())
        };
        assert_eq!(config.check().is_ok(), accepted);
        let tls = TlsFiles { certificate: "cert.pem".into(), key: "key.pem".into() };
        assert!(ServerConfig { tls: Some(tls), ..config }.check().is_ok());
    }
}
