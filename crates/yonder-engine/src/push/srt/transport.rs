//! UDP transport of an SRT connection.

use std::io;
use std::net::SocketAddr;
use std::task::{Context, Poll};
use std::time::Duration;

use bytes::{Bytes, BytesMut};
use yonder_protocol::DatagramCore as _;
use yonder_srt::{Caller, Packet};

use crate::driver::Transport;

use super::batch::Batch;
use super::port::Port;

/// Polling interval of a closing connection, whose socket wakes no task.
const POLL_INTERVAL: Duration = Duration::from_millis(5);

/// Transport over UDP, with segmentation offload where available.
#[derive(Debug)]
pub(super) struct SrtTransport {
    port: Port,
    /// Datagrams that the socket has not accepted yet.
    batch: Batch,
    /// Datagram that does not fit the batch, for the next one.
    next: BytesMut,
    /// Control packet, sent after the data.
    control: BytesMut,
    inbox: Vec<Bytes>,
    /// Bytes written since the last [`Self::take_written`].
    written: usize,
}

impl SrtTransport {
    pub(super) fn new(port: Port) -> Self {
        let batch = port.batch();
        Self { port, batch, next: BytesMut::new(), control: BytesMut::new(), inbox: Vec::new(), written: 0 }
    }

    /// Returns the listener's address.
    pub(super) fn peer(&self) -> SocketAddr {
        self.port.peer()
    }

    /// As [`Port::packets_per_datagram`].
    pub(super) fn packets_per_datagram(&self) -> usize {
        self.port.packets_per_datagram()
    }

    /// Returns the number of bytes written since the last call.
    pub(super) fn take_written(&mut self) -> usize {
        std::mem::take(&mut self.written)
    }

    /// Sends the batch. Returns false if the socket is full; the batch is kept. Datagrams refused by the system count
    /// as lost, and are retransmitted on request.
    ///
    /// # Errors
    /// As [`Port::send`].
    fn send(&mut self) -> io::Result<bool> {
        if self.batch.is_empty() {
            return Ok(true);
        }
        let bytes = self.batch.bytes().len();
        let sent = self.port.send(&mut self.batch);
        if sent.is_err() {
            self.batch.clear();
        } else {
            self.written += bytes - self.batch.bytes().len();
        }
        sent
    }
}

impl Transport<Caller> for SrtTransport {
    const POLL_INTERVAL: Option<Duration> = Some(POLL_INTERVAL);
    const IS_LOSSY: bool = true;

    /// Receives all datagrams that have arrived.
    fn poll_receive(
        &mut self,
        core: &mut Caller,
        _task: &mut Context<'_>,
        now: Duration,
    ) -> Poll<io::Result<usize>> {
        let received = self.port.receive(&mut self.inbox);
        let mut bytes = 0;
        for datagram in self.inbox.drain(..) {
            bytes += datagram.len();
            core.handle_datagram((), datagram, now);
        }
        match received {
            Err(error) => Poll::Ready(Err(error)),
            Ok(()) if bytes == 0 => Poll::Pending,
            Ok(()) => Poll::Ready(Ok(bytes)),
        }
    }

    /// A control packet follows the data, and may be the shorter last datagram of a batch.
    fn transmit(
        &mut self,
        core: &mut Caller,
        now: Duration,
        horizon: Duration,
        _limit: usize,
    ) -> io::Result<()> {
        loop {
            if self.next.is_empty() {
                let has_control = !self.control.is_empty();
                let written = self.batch.add_with(
                    &mut self.next,
                    |datagram| Packet::is_control(datagram) && !has_control,
                    |batch| core.poll_datagram(now, horizon, batch),
                );
                if written.is_none() {
                    break;
                }
                if self.next.is_empty() {
                    continue;
                }
            }
            if Packet::is_control(&self.next) && self.control.is_empty() {
                std::mem::swap(&mut self.next, &mut self.control);
                continue;
            }
            // A datagram that does not fit begins the next batch.
            if !self.batch.fits(self.next.len()) && !self.send()? {
                return Ok(());
            }
            self.batch.add(&self.next);
            self.next.clear();
        }
        if !self.control.is_empty() && (self.batch.fits(self.control.len()) || self.send()?) {
            self.batch.add(&self.control);
            self.control.clear();
        }
        self.send()?;
        Ok(())
    }

    fn is_blocked(&self) -> bool {
        !self.batch.is_empty()
    }

    fn poll_writable(&mut self, _task: &mut Context<'_>) -> Poll<io::Result<()>> {
        Poll::Pending
    }
}
