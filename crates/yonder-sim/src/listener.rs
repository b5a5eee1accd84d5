//! TCP listener that can be closed and opened again, together with its connections.

use std::future::Future;
use std::io;
use std::net::SocketAddr;
use std::sync::Arc;

use parking_lot::Mutex;
use tokio::net::{TcpListener, TcpSocket, TcpStream};
use tokio::task::{JoinHandle, JoinSet};

/// Listen backlog.
const BACKLOG: u32 = 64;

/// TCP listener of a stand-in.
#[derive(Debug)]
pub(crate) struct RestartableListener {
    address: SocketAddr,
    open: Mutex<Option<JoinHandle<()>>>,
}

impl RestartableListener {
    /// Opens a port (0 picks one) and passes every connection to `serve`.
    pub(crate) fn open<S, F>(address: SocketAddr, serve: S) -> io::Result<Arc<Self>>
    where
        S: Fn(TcpStream) -> F + Send + Sync + Clone + 'static,
        F: Future<Output = ()> + Send + 'static,
    {
        let listener = listen(address)?;
        let address = listener.local_addr()?;
        let task = tokio::spawn(accept(listener, serve));
        Ok(Arc::new(Self { address, open: Mutex::new(Some(task)) }))
    }

    pub(crate) fn address(&self) -> SocketAddr {
        self.address
    }

    /// Closes the port and drops all connections. The address is kept for [`Self::open`].
    pub(crate) async fn close(&self) {
        let task = self.open.lock().take();
        if let Some(task) = task {
            task.abort();
            // The port stays bound until the task has ended.
            let _aborted = task.await;
        }
    }

    /// Opens the same port again. Does nothing when it is open.
    pub(crate) fn reopen<S, F>(&self, serve: S) -> io::Result<()>
    where
        S: Fn(TcpStream) -> F + Send + Sync + Clone + 'static,
        F: Future<Output = ()> + Send + 'static,
    {
        let mut open = self.open.lock();
        if open.is_none() {
            *open = Some(tokio::spawn(accept(listen(self.address)?, serve)));
        }
        Ok(())
    }
}

impl Drop for RestartableListener {
    fn drop(&mut self) {
        if let Some(task) = self.open.get_mut().take() {
            task.abort();
        }
    }
}

fn listen(address: SocketAddr) -> io::Result<TcpListener> {
    let socket = TcpSocket::new_v4()?;
    // A port whose connections were dropped can be bound again at once.
    socket.set_reuseaddr(true)?;
    socket.bind(address)?;
    socket.listen(BACKLOG)
}

async fn accept<S, F>(listener: TcpListener, serve: S)
where
    S: Fn(TcpStream) -> F,
    F: Future<Output = ()> + Send + 'static,
{
    // Sessions end with this task.
    let mut sessions = JoinSet::new();
    loop {
        tokio::select! {
            accepted = listener.accept() => match accepted {
                Ok((stream, _)) => {
                    if let Err(error) = stream.set_nodelay(true) {
                        tracing::debug!(%error, "socket option not set");
                    }
                    sessions.spawn(serve(stream));
                }
                Err(error) => tracing::warn!(%error, "stand-in cannot accept"),
            },
            Some(_ended) = sessions.join_next() => {}
        }
    }
}
