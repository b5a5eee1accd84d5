//! Listening, and stopping in order.

use std::io;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use actix_web::dev::ServerHandle;
use actix_web::web::Data;
use actix_web::{App, HttpServer};

use yonder_service::Service;

use crate::limits::Limits;

/// Threads that serve requests. Little happens here: media runs on threads of its own.
const WORKERS: usize = 2;
/// Connections of each worker: bounded, since media needs descriptors as well.
const MAX_CONNECTIONS: usize = 256;
/// Connections that wait to be accepted.
const BACKLOG: u32 = 256;
/// Threads of each worker for calls that block. On a disk that hangs, each of these requests holds one.
const MAX_BLOCKING: usize = 64;
/// Time for the head of a request.
const HEAD_TIMEOUT: Duration = Duration::from_secs(5);
/// Seconds that open requests have to end at a stop.
const SHUTDOWN_S: u64 = 2;

/// Why the server cannot run.
#[derive(Debug, thiserror::Error)]
pub enum ServerError {
    /// The address cannot be listened on.
    #[error("{address} cannot be listened on")]
    Listen {
        /// Address asked for.
        address: SocketAddr,
        /// Why.
        source: io::Error,
    },
    /// The server failed while it ran.
    #[error("the server failed")]
    Failed(#[from] io::Error),
}

/// A listening server that does not serve yet.
#[derive(Debug)]
pub struct Server {
    listener: std::net::TcpListener,
    service: Arc<Service>,
}

impl Server {
    /// Takes the address; port 0 picks one.
    ///
    /// # Errors
    /// [`ServerError::Listen`] when the address is taken or not ours.
    pub fn bind(service: Arc<Service>, address: SocketAddr) -> Result<Self, ServerError> {
        let listener =
            std::net::TcpListener::bind(address).map_err(|source| ServerError::Listen { address, source })?;
        Ok(Self { listener, service })
    }

    /// The address that is listened on.
    ///
    /// # Errors
    /// When the system does not tell.
    pub fn address(&self) -> io::Result<SocketAddr> {
        self.listener.local_addr()
    }

    /// Serves until `stop` resolves, then lets open requests end. To be called within an Actix system.
    ///
    /// # Errors
    /// [`ServerError::Failed`] when the server fails while it runs.
    pub async fn run(self, stop: impl Future<Output = ()> + 'static) -> Result<(), ServerError> {
        let data = Data::from(Arc::clone(&self.service));
        let loops = self.service.start_loops();
        let limits = Limits::default();
        let app = move || App::new().app_data(data.clone()).configure(super::configure(limits.clone()));
        let server = HttpServer::new(app)
            .workers(WORKERS)
            .max_connections(MAX_CONNECTIONS)
            .backlog(BACKLOG)
            .worker_max_blocking_threads(MAX_BLOCKING)
            .client_request_timeout(HEAD_TIMEOUT)
            // A client that has closed its side of an event stream is noticed at once.
            .h1_allow_half_closed(false)
            .disable_signals()
            .shutdown_timeout(SHUTDOWN_S)
            .listen(self.listener)?
            .run();
        let handle: ServerHandle = server.handle();
        actix_web::rt::spawn(async move {
            stop.await;
            // Live event streams never end by themselves.
            handle.stop(false).await;
        });
        let result = server.await;
        drop(loops);
        Ok(result?)
    }
}
