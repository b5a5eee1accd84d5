//! Public listener: binding, serving on a thread of its own, and shutdown.

use std::io;
use std::net::{SocketAddr, TcpListener};
use std::sync::Arc;
use std::sync::mpsc;
use std::thread::JoinHandle;
use std::time::Duration;

use actix_web::dev::ServerHandle;
use actix_web::middleware::from_fn;
use actix_web::web::{self, Data};
use actix_web::{App, HttpServer};
use url::Url;
use yonder_http::{Access, max_connections};
use yonder_service::{Service, external_host, reachable};

use crate::limits::{Limits, limit};
use crate::{assets, media, pages, respond, status};

/// Worker threads.
const WORKERS: usize = 2;
/// Maximum connections of a worker.
const MAX_CONNECTIONS: usize = 2_048;
/// Listen backlog.
const BACKLOG: u32 = 1_024;
/// Timeout of a request head.
const HEAD_TIMEOUT: Duration = Duration::from_secs(5);
/// Time for which an idle connection is kept: longer than the interval of playlist requests.
const KEEP_ALIVE: Duration = Duration::from_secs(20);
/// Time for open requests to end at a shutdown, in seconds.
const SHUTDOWN_S: u64 = 1;

/// Settings of the public listener.
#[derive(Debug, Clone)]
pub struct PublicConfig {
    /// Address and port to listen on; port 0 picks one.
    pub listen: SocketAddr,
    /// TLS; plain HTTP without it.
    pub tls: Option<Arc<rustls::ServerConfig>>,
    /// Addresses of trusted proxies, and what follows from them.
    pub access: Access,
    /// Address under which viewers reach the pages, if it is not that of the listener.
    pub base: Option<Url>,
}

/// Error of the public listener.
#[derive(Debug, thiserror::Error)]
pub enum PublicError {
    /// The address cannot be bound.
    #[error("{address} cannot be listened on for viewers")]
    Listen {
        /// Requested address.
        address: SocketAddr,
        /// I/O error.
        source: io::Error,
    },
    /// The server cannot be started.
    #[error("the public listener cannot be started")]
    Start(#[from] io::Error),
}

/// Running public listener. It ends when it is dropped.
#[derive(Debug)]
pub struct PublicServer {
    local_url: String,
    handle: ServerHandle,
    thread: Option<JoinHandle<()>>,
}

impl PublicServer {
    /// Starts the listener.
    ///
    /// # Errors
    /// [`PublicError`] for an address in use or not local, and if the threads cannot be started.
    pub fn start(service: Arc<Service>, config: PublicConfig) -> Result<Self, PublicError> {
        let PublicConfig { listen, tls, access, base } = config;
        let listener =
            TcpListener::bind(listen).map_err(|source| PublicError::Listen { address: listen, source })?;
        let address = listener.local_addr()?;
        let scheme = if tls.is_some() { "https" } else { "http" };
        let local_url = format!("{scheme}://{}", reachable(address));
        let own = || Url::parse(&format!("{scheme}://{}:{}", external_host(address.ip()), address.port()));
        if let Some(base) = base.or_else(|| own().ok()) {
            service.sharing().set_base(base);
        }
        let (started, handle) = mpsc::channel();
        let serve = move || {
            actix_web::rt::System::new().block_on(async move {
                let server = match server(service, access, listener, tls) {
                    Ok(server) => server,
                    Err(error) => {
                        // The caller waits for this message.
                        let _sent = started.send(Err(error));
                        return;
                    }
                };
                let _sent = started.send(Ok(server.handle()));
                if let Err(error) = server.await {
                    tracing::error!(%error, "the public listener failed");
                }
            });
        };
        let thread = std::thread::Builder::new().name("yonder-public".to_owned()).spawn(serve)?;
        let handle = handle.recv().map_err(io::Error::other)??;
        Ok(Self { local_url, handle, thread: Some(thread) })
    }

    /// Returns the URL of the listener for clients on this machine.
    #[must_use]
    pub fn local_url(&self) -> &str {
        &self.local_url
    }
}

impl Drop for PublicServer {
    fn drop(&mut self) {
        // The request is queued; waiting for it needs no executor.
        drop(self.handle.stop(true));
        if let Some(thread) = self.thread.take() {
            // A panic was reported by its hook.
            let _joined = thread.join();
        }
    }
}

fn server(
    service: Arc<Service>,
    access: Access,
    listener: TcpListener,
    tls: Option<Arc<rustls::ServerConfig>>,
) -> io::Result<actix_web::dev::Server> {
    let (data, limits) = (Data::from(service), Data::new(Limits::default()));
    let access = Data::new(access);
    let app = move || {
        App::new()
            .app_data(data.clone())
            .app_data(limits.clone())
            .app_data(access.clone())
            .wrap(from_fn(limit))
            .configure(assets::configure)
            .configure(pages::configure)
            .configure(status::configure)
            .configure(media::configure)
            .default_service(web::to(respond::no_such_page))
    };
    let server = HttpServer::new(app)
        .workers(WORKERS)
        .max_connections(max_connections(WORKERS, MAX_CONNECTIONS))
        .backlog(BACKLOG)
        .client_request_timeout(HEAD_TIMEOUT)
        .tls_handshake_timeout(HEAD_TIMEOUT)
        .keep_alive(KEEP_ALIVE)
        .disable_signals()
        .shutdown_timeout(SHUTDOWN_S);
    let server = match tls {
        Some(tls) => server.listen_rustls_0_23(listener, rustls::ServerConfig::clone(&tls))?,
        None => server.listen(listener)?,
    };
    Ok(server.run())
}
