//! Driver of a protocol core over its transport, polled by the actor that owns both.

use std::future::poll_fn;
use std::io;
use std::task::{Context, Poll};
use std::time::Duration;

use yonder_core::Cause;
use yonder_protocol::{Core, End, Outbox, StreamCore};

use crate::block::Block;
use crate::clock::Clock;
use crate::link::Link;

/// Maximum wait for an event of a core that is closing.
const MAX_WAIT: Duration = Duration::from_secs(1);

/// Transport of a core's bytes.
pub(crate) trait Transport<C: Core> {
    /// Polling interval of a transport that wakes no task; `None` for one that does.
    const POLL_INTERVAL: Option<Duration> = None;
    /// Errors may concern single datagrams only.
    const IS_LOSSY: bool = false;

    /// Receives once, and passes the data to the core. Returns the number of bytes; zero at the end of the stream.
    /// Pending if there is no data.
    ///
    /// # Errors
    /// I/O error of the socket.
    fn poll_receive(
        &mut self,
        core: &mut C,
        task: &mut Context<'_>,
        now: Duration,
    ) -> Poll<io::Result<usize>>;

    /// Transmits the core's data, up to `limit` bytes and as far as the socket accepts them.
    ///
    /// # Errors
    /// I/O error of the socket.
    fn transmit(&mut self, core: &mut C, now: Duration, horizon: Duration, limit: usize) -> io::Result<()>;

    /// Returns true while data waits for the socket to become writable.
    fn is_blocked(&self) -> bool;

    /// Ready when the socket is writable.
    ///
    /// # Errors
    /// I/O error of the socket.
    fn poll_writable(&mut self, task: &mut Context<'_>) -> Poll<io::Result<()>>;
}

/// Reason for the end of a driver.
#[derive(Debug)]
pub(crate) enum DriveEnd<W> {
    /// The dialogue has ended.
    Protocol(End<W>),
    /// The peer has closed the connection.
    Eof,
    /// The socket has failed.
    Io(io::Error),
    /// The owner could not handle an event.
    Owner(Cause),
}

/// Core with its transport.
#[derive(Debug)]
pub(crate) struct Driver<C, T> {
    /// The core.
    pub(crate) core: C,
    /// Transport.
    pub(crate) transport: T,
}

impl<C: Core, T: Transport<C>> Driver<C, T>
where
    C::Why: Clone,
{
    /// Receives once, handles the core's timeouts, and passes its events to `on_event`. Returns the number of bytes
    /// received. Pending if there was no data.
    ///
    /// # Errors
    /// [`DriveEnd`]. Earlier events have been passed on.
    pub(crate) fn poll_input(
        &mut self,
        task: &mut Context<'_>,
        now: Duration,
        mut on_event: impl FnMut(&mut T, C::Event) -> Result<(), Cause>,
    ) -> Result<Poll<usize>, DriveEnd<C::Why>> {
        let received = self.transport.poll_receive(&mut self.core, task, now);
        if self.core.poll_timeout().is_some_and(|at| at <= now) {
            self.core.handle_timeout(now);
        }
        while let Some(event) = self.core.poll_event() {
            on_event(&mut self.transport, event).map_err(DriveEnd::Owner)?;
        }
        if let Some(end) = self.core.end() {
            return Err(DriveEnd::Protocol(end.clone()));
        }
        match received {
            Poll::Ready(Ok(0)) => Err(DriveEnd::Eof),
            Poll::Ready(Ok(count)) => Ok(Poll::Ready(count)),
            Poll::Ready(Err(error)) => Err(DriveEnd::Io(error)),
            Poll::Pending => Ok(Poll::Pending),
        }
    }

    /// Transmits what is due up to `horizon`, at most `limit` bytes.
    ///
    /// # Errors
    /// I/O error of the socket.
    pub(crate) fn transmit(&mut self, now: Duration, horizon: Duration, limit: usize) -> io::Result<()> {
        self.transport.transmit(&mut self.core, now, horizon, limit)
    }

    /// Transmits everything that is due, and registers for a wake-up if the socket is full.
    ///
    /// # Errors
    /// I/O error of the socket.
    pub(crate) fn poll_transmit(&mut self, task: &mut Context<'_>, now: Duration) -> io::Result<()> {
        loop {
            self.transmit(now, now, usize::MAX)?;
            if !self.transport.is_blocked() {
                return Ok(());
            }
            match self.transport.poll_writable(task) {
                Poll::Ready(room) => room?,
                Poll::Pending => return Ok(()),
            }
        }
    }

    /// Drives a core that is closing, until it has ended and everything is transmitted. Returns false if the connection
    /// failed before.
    ///
    /// # Cancel safety
    /// When dropped, unsent data is lost.
    pub(crate) async fn finish(&mut self, clock: Clock) -> bool {
        loop {
            let now = clock.now();
            let due = self.core.poll_timeout().map_or(MAX_WAIT, |at| at.saturating_sub(now));
            let wait = T::POLL_INTERVAL.map_or(due, |interval| interval.min(due)).min(MAX_WAIT);
            let finished = poll_fn(|task| self.poll_finish(task, clock.now()));
            if let Ok(is_finished) = tokio::time::timeout(wait, finished).await {
                return is_finished;
            }
        }
    }

    fn poll_finish(&mut self, task: &mut Context<'_>, now: Duration) -> Poll<bool> {
        let input = self.poll_input(task, now, |_, _| Ok(()));
        let is_broken = match input {
            Ok(_) | Err(DriveEnd::Protocol(_) | DriveEnd::Owner(_)) => false,
            Err(DriveEnd::Eof) => true,
            Err(DriveEnd::Io(_)) => !T::IS_LOSSY,
        };
        if is_broken || self.poll_transmit(task, now).is_err() && !T::IS_LOSSY {
            return Poll::Ready(false);
        }
        if self.core.end().is_some() && !self.transport.is_blocked() {
            return Poll::Ready(true);
        }
        Poll::Pending
    }
}

/// Transport over TCP, with or without TLS.
#[derive(Debug)]
pub(crate) struct StreamTransport {
    link: Link,
    block: Block,
    /// Data that the socket has not accepted yet.
    unsent: Outbox,
    /// Bytes written since the last [`Self::take_written`].
    written: usize,
}

impl StreamTransport {
    /// Creates a transport with a receive buffer of `read_size` bytes.
    pub(crate) fn new(link: Link, read_size: usize) -> Self {
        Self { link, block: Block::new(read_size), unsent: Outbox::default(), written: 0 }
    }

    /// Registers the socket with the caller's runtime.
    ///
    /// # Errors
    /// I/O error of the registration.
    pub(crate) fn register_here(self) -> io::Result<Self> {
        Ok(Self { link: self.link.register_here()?, ..self })
    }

    /// Returns the number of bytes that wait for the socket.
    pub(crate) fn unsent(&self) -> usize {
        self.unsent.len()
    }

    /// Returns the number of bytes written since the last call.
    pub(crate) fn take_written(&mut self) -> usize {
        std::mem::take(&mut self.written)
    }

    /// Shuts down the sending side.
    pub(crate) fn finish(&mut self) {
        self.link.finish();
    }

    /// Discards received data until the peer has closed the connection.
    ///
    /// # Cancel safety
    /// When dropped, the connection is closed.
    pub(crate) async fn discard_until_closed(mut self) {
        poll_fn(|task| {
            loop {
                match self.block.poll_read(task, &mut self.link) {
                    Poll::Ready(Ok(count)) if count > 0 => self.block.keep_last(0),
                    Poll::Ready(_) => return Poll::Ready(()),
                    Poll::Pending => return Poll::Pending,
                }
            }
        })
        .await;
    }
}

impl<C: StreamCore> Transport<C> for StreamTransport {
    fn poll_receive(
        &mut self,
        core: &mut C,
        task: &mut Context<'_>,
        now: Duration,
    ) -> Poll<io::Result<usize>> {
        let received = self.block.poll_read(task, &mut self.link);
        if let Poll::Ready(Ok(count)) = &received
            && *count > 0
        {
            let filled = self.block.filled();
            let left = filled.len().saturating_sub(core.handle_input(filled, now));
            self.block.keep_last(left);
        }
        received
    }

    fn transmit(&mut self, core: &mut C, now: Duration, horizon: Duration, limit: usize) -> io::Result<()> {
        while core.poll_transmit(now, horizon, &mut self.unsent).is_some() {}
        self.written += self.link.try_write(&mut self.unsent, limit)?;
        Ok(())
    }

    fn is_blocked(&self) -> bool {
        self.link.wants_write() || !self.unsent.is_empty()
    }

    fn poll_writable(&mut self, task: &mut Context<'_>) -> Poll<io::Result<()>> {
        self.link.poll_write_ready(task)
    }
}
