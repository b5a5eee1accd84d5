//! The connection to a platform, with TLS or without, written without copying where there is none.

use std::io::{self, ErrorKind, IoSlice, Read as _, Write as _};
use std::net::Shutdown;
use std::sync::Arc;

use bytes::BytesMut;
use socket2::SockRef;
use tokio::net::TcpStream;
use tokio_rustls::rustls::ClientConnection;
use yonder_rtmp::Outbox;

use crate::tls::{self, TlsError, Trust};

/// Slices handed to one system call.
const SLICES: usize = 64;
/// Bytes read at a time; platforms say little.
const READ: usize = 4096;

/// Bytes to and from a platform.
#[derive(Debug)]
pub(super) struct Link {
    /// Shared with whoever waits for it.
    stream: Arc<TcpStream>,
    /// The TLS session over it.
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
    /// Speaks TLS over `stream` with `host`.
    ///
    /// # Errors
    /// [`TlsError`] when the certificate is not trusted or the handshake fails.
    pub(super) async fn secure(stream: TcpStream, host: &str, trust: Trust) -> Result<Self, TlsError> {
        let (stream, session) = tls::secure(stream, host, trust).await?.into_inner();
        Ok(Self { stream: Arc::new(stream), session: Some(Box::new(session)) })
    }

    pub(super) fn plain(stream: TcpStream) -> Self {
        Self { stream: Arc::new(stream), session: None }
    }

    /// The socket, to wait for.
    pub(super) fn stream(&self) -> Arc<TcpStream> {
        Arc::clone(&self.stream)
    }

    /// Sealed bytes wait for the socket, besides what the outbox holds.
    pub(super) fn waits_to_write(&self) -> bool {
        self.session.as_ref().is_some_and(|session| session.wants_write())
    }

    /// Reads what is there; zero at the end of the stream.
    ///
    /// # Errors
    /// `WouldBlock` when nothing is there, else the socket's or the session's failure.
    pub(super) fn try_read(&mut self, input: &mut BytesMut) -> io::Result<usize> {
        input.reserve(READ);
        match &mut self.session {
            None => self.stream.try_read_buf(input),
            Some(session) => read_sealed(&self.stream, session, input),
        }
    }

    /// Writes until the outbox is empty or the socket is full, and returns how many of its bytes were taken.
    ///
    /// # Errors
    /// The socket's failure.
    pub(super) fn try_write(&mut self, outbox: &mut Outbox) -> io::Result<usize> {
        match &mut self.session {
            None => write_plain(&self.stream, outbox),
            Some(session) => write_sealed(&self.stream, session, outbox),
        }
    }

    /// Says that nothing more comes.
    pub(super) fn finish(&mut self) {
        if let Some(session) = &mut self.session {
            session.send_close_notify();
            // A peer that has gone cannot be told.
            let _told = flush(&self.stream, session);
        }
        let _finished = SockRef::from(&*self.stream).shutdown(Shutdown::Write);
    }
}

fn write_plain(stream: &TcpStream, outbox: &mut Outbox) -> io::Result<usize> {
    let mut written = 0;
    while !outbox.is_empty() {
        let mut slices = [IoSlice::new(&[]); SLICES];
        let filled = outbox.io_slices(&mut slices);
        match stream.try_write_vectored(slices.split_at(filled).0) {
            Ok(count) => {
                outbox.advance(count);
                written += count;
            }
            Err(error) if error.kind() == ErrorKind::WouldBlock => break,
            Err(error) => return Err(error),
        }
    }
    Ok(written)
}

fn read_sealed(
    stream: &TcpStream,
    session: &mut ClientConnection,
    input: &mut BytesMut,
) -> io::Result<usize> {
    loop {
        let mut block = [0; READ];
        match session.reader().read(&mut block) {
            Ok(count) => {
                input.extend_from_slice(block.get(..count).unwrap_or_default());
                return Ok(count);
            }
            Err(error) if error.kind() == ErrorKind::WouldBlock => {}
            // The peer closed without a farewell; who needs to know that will see it in the protocol.
            Err(error) if error.kind() == ErrorKind::UnexpectedEof => return Ok(0),
            Err(error) => return Err(error),
        }
        if session.read_tls(&mut Ready(stream))? == 0 {
            return Ok(0);
        }
        let processed = session.process_new_packets();
        processed.map_err(|error| io::Error::new(ErrorKind::InvalidData, error))?;
    }
}

/// Hands sealed bytes to the socket; false when it is full.
fn flush(stream: &TcpStream, session: &mut ClientConnection) -> io::Result<bool> {
    while session.wants_write() {
        match session.write_tls(&mut Ready(stream)) {
            Ok(_) => {}
            Err(error) if error.kind() == ErrorKind::WouldBlock => return Ok(false),
            Err(error) => return Err(error),
        }
    }
    Ok(true)
}

/// The session seals no more than its own buffer holds before the socket has taken that: what is beyond waits where
/// it can be judged.
fn write_sealed(
    stream: &TcpStream,
    session: &mut ClientConnection,
    outbox: &mut Outbox,
) -> io::Result<usize> {
    let mut written = 0;
    while flush(stream, session)? && !outbox.is_empty() {
        let mut slices = [IoSlice::new(&[]); SLICES];
        let filled = outbox.io_slices(&mut slices);
        let taken = session.writer().write_vectored(slices.split_at(filled).0)?;
        if taken == 0 {
            break;
        }
        outbox.advance(taken);
        written += taken;
    }
    Ok(written)
}
