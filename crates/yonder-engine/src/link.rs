//! TCP connection to a camera or a platform, with or without TLS, driven by polling and without buffers.

use std::io::{self, ErrorKind, IoSlice, Read as _, Write as _};
use std::net::{IpAddr, Shutdown};
use std::pin::Pin;
use std::task::{Context, Poll, ready};

use socket2::SockRef;
use tokio::io::{AsyncRead as _, ReadBuf};
use tokio::net::TcpStream;
use tokio_rustls::rustls::ClientConnection;
use yonder_protocol::Outbox;

use crate::tls::{self, TlsError, Trust};

/// Maximum slices in one system call.
const MAX_SLICES: usize = 64;

/// TCP connection, plain or with TLS.
#[derive(Debug)]
pub(crate) struct Link {
    stream: TcpStream,
    session: Option<Box<ClientConnection>>,
}

/// Adapter that lets a TLS session read and write a nonblocking socket.
struct Ready<'a>(&'a TcpStream);

impl io::Read for Ready<'_> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        self.0.try_read(into)
    }
}

impl io::Write for Ready<'_> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.try_write(bytes)
    }

    fn write_vectored(&mut self, slices: &[IoSlice<'_>]) -> io::Result<usize> {
        self.0.try_write_vectored(slices)
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl Link {
    /// Performs a TLS handshake with `host` over `stream`.
    ///
    /// # Errors
    /// [`TlsError`] when the certificate is not trusted or the handshake fails.
    pub(crate) async fn secure(stream: TcpStream, host: &str, trust: Trust) -> Result<Self, TlsError> {
        let (stream, session) = tls::secure(stream, host, trust).await?.into_inner();
        Ok(Self { stream, session: Some(Box::new(session)) })
    }

    /// Returns a connection without TLS.
    pub(crate) fn plain(stream: TcpStream) -> Self {
        Self { stream, session: None }
    }

    /// Registers the connection with the caller's runtime instead of the one that opened it.
    ///
    /// # Errors
    /// I/O error of the registration.
    pub(crate) fn register_here(self) -> io::Result<Self> {
        let stream = TcpStream::from_std(self.stream.into_std()?)?;
        Ok(Self { stream, session: self.session })
    }

    /// Returns the address of the peer.
    ///
    /// # Errors
    /// If the connection has been closed.
    pub(crate) fn peer(&self) -> io::Result<IpAddr> {
        Ok(self.stream.peer_addr()?.ip())
    }

    /// Returns true while encrypted bytes wait for the socket.
    pub(crate) fn wants_write(&self) -> bool {
        self.session.as_ref().is_some_and(|session| session.wants_write())
    }

    /// Reads into `into` and returns the number of bytes; zero at the end of the stream. Pending if there is no data;
    /// the task is then woken when there is.
    ///
    /// # Errors
    /// I/O or TLS error.
    pub(crate) fn poll_read(
        &mut self,
        context: &mut Context<'_>,
        into: &mut [u8],
    ) -> Poll<io::Result<usize>> {
        let Some(session) = &mut self.session else {
            let mut buffer = ReadBuf::new(into);
            ready!(Pin::new(&mut self.stream).poll_read(context, &mut buffer))?;
            return Poll::Ready(Ok(buffer.filled().len()));
        };
        loop {
            match session.reader().read(into) {
                Err(error) if error.kind() == ErrorKind::WouldBlock => {}
                // The peer closed without `close_notify`; the protocol above detects missing data.
                Err(error) if error.kind() == ErrorKind::UnexpectedEof => return Poll::Ready(Ok(0)),
                result => return Poll::Ready(result),
            }
            match session.read_tls(&mut Ready(&self.stream)) {
                Ok(0) => return Poll::Ready(Ok(0)),
                Ok(_) => {
                    let processed = session.process_new_packets();
                    processed.map_err(|error| io::Error::new(ErrorKind::InvalidData, error))?;
                }
                Err(error) if error.kind() == ErrorKind::WouldBlock => {
                    ready!(self.stream.poll_read_ready(context))?;
                }
                Err(error) => return Poll::Ready(Err(error)),
            }
        }
    }

    /// Ready when the socket is writable.
    ///
    /// # Errors
    /// I/O error of the socket.
    pub(crate) fn poll_write_ready(&self, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        self.stream.poll_write_ready(context)
    }

    /// Writes until the outbox is empty, the socket is full or `limit` bytes were written, and returns their number.
    ///
    /// # Errors
    /// I/O error of the socket.
    pub(crate) fn try_write(&mut self, outbox: &mut Outbox, limit: usize) -> io::Result<usize> {
        let mut written = 0;
        while !outbox.is_empty() && written < limit {
            let mut slices = [IoSlice::new(&[]); MAX_SLICES];
            let filled = outbox.io_slices(&mut slices, limit - written);
            let count = self.try_write_slices(slices.split_at(filled).0)?;
            if count == 0 {
                break;
            }
            outbox.advance(count);
            written += count;
        }
        self.flush()?;
        Ok(written)
    }

    /// Writes once; zero if the socket is full. A TLS session buffers a limited number of encrypted bytes until the
    /// socket has accepted them; the rest stays with the caller, where a backlog can be evaluated.
    fn try_write_slices(&mut self, slices: &[IoSlice<'_>]) -> io::Result<usize> {
        if !self.flush()? {
            return Ok(0);
        }
        let written = match &mut self.session {
            None => self.stream.try_write_vectored(slices),
            Some(session) => session.writer().write_vectored(slices),
        };
        match written {
            Err(error) if error.kind() == ErrorKind::WouldBlock => Ok(0),
            written => written,
        }
    }

    /// Writes encrypted bytes to the socket. Returns false if it is full.
    fn flush(&mut self) -> io::Result<bool> {
        let Some(session) = &mut self.session else { return Ok(true) };
        while session.wants_write() {
            match session.write_tls(&mut Ready(&self.stream)) {
                Ok(_) => {}
                Err(error) if error.kind() == ErrorKind::WouldBlock => return Ok(false),
                Err(error) => return Err(error),
            }
        }
        Ok(true)
    }

    /// Shuts down the sending side.
    pub(crate) fn finish(&mut self) {
        if let Some(session) = &mut self.session {
            session.send_close_notify();
            // The peer may have disconnected.
            let _flushed = self.flush();
        }
        let _finished = SockRef::from(&self.stream).shutdown(Shutdown::Write);
    }
}
