//! TCP connection to a camera or a platform, with or without TLS, driven by polling and without buffers of its own.

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

/// Slices handed to one system call.
const MAX_SLICES: usize = 64;

/// TCP connection, plain or with TLS.
#[derive(Debug)]
pub(crate) struct Link {
    stream: TcpStream,
    session: Option<Box<ClientConnection>>,
}

/// Lets a TLS session read and write a socket that is ready, without waiting.
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

    /// Registers the connection with the runtime that runs the caller, instead of the one that it was opened on.
    ///
    /// # Errors
    /// When the system refuses it.
    pub(crate) fn register_here(self) -> io::Result<Self> {
        let stream = TcpStream::from_std(self.stream.into_std()?)?;
        Ok(Self { stream, session: self.session })
    }

    /// Returns the address of the peer.
    ///
    /// # Errors
    /// When the connection has been closed.
    pub(crate) fn peer(&self) -> io::Result<IpAddr> {
        Ok(self.stream.peer_addr()?.ip())
    }

    /// True while encrypted bytes wait for the socket, besides those that the caller holds.
    pub(crate) fn wants_write(&self) -> bool {
        self.session.as_ref().is_some_and(|session| session.wants_write())
    }

    /// Reads into `into` and returns the number of bytes; zero at the end of the stream. Pending when there is nothing to
    /// read: the task is woken when there is.
    ///
    /// # Errors
    /// The socket's or the TLS session's failure.
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
                // The peer closed without close_notify; the protocol above knows whether anything is missing.
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

    /// Ready when the socket takes bytes again.
    ///
    /// # Errors
    /// The socket's failure.
    pub(crate) fn poll_write_ready(&self, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        self.stream.poll_write_ready(context)
    }

    /// Writes until the outbox is empty, the socket is full or `limit` bytes were written, and returns how many were.
    ///
    /// # Errors
    /// The socket's failure.
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

    /// Writes once; zero when the socket is full. A TLS session encrypts no more than its own buffer holds before the socket
    /// has taken that: the rest waits with the caller, where a backlog shows.
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

    /// Hands encrypted bytes to the socket; false when it is full.
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

    /// Ends the sending side.
    pub(crate) fn finish(&mut self) {
        if let Some(session) = &mut self.session {
            session.send_close_notify();
            // A peer that has gone does not need it.
            let _flushed = self.flush();
        }
        let _finished = SockRef::from(&self.stream).shutdown(Shutdown::Write);
    }
}
