//! Datagrams of an SRT connection on their way to and from its socket.

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

/// Interval at which a connection that ends is driven: its socket wakes no task.
const POLL_INTERVAL: Duration = Duration::from_millis(5);

/// Transport over UDP. Several datagrams of one length are sent at a time where the system offers that.
#[derive(Debug)]
pub(super) struct SrtTransport {
    port: Port,
    /// Datagrams that were made but not accepted by the socket yet.
    batch: Batch,
    /// A datagram that does not go with them, for the next batch.
    next: BytesMut,
    /// A control packet, to be sent behind the data.
    control: BytesMut,
    inbox: Vec<Bytes>,
    /// Bytes that the socket has accepted and [`Self::take_written`] has not counted yet.
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

    /// Returns the number of bytes that the socket has accepted since the last call.
    pub(super) fn take_written(&mut self) -> usize {
        std::mem::take(&mut self.written)
    }

    /// Sends the batch. False when the socket has no room: the batch is kept. Datagrams that the system refuses count as lost; the
    /// listener asks for them again.
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

    /// Receives everything that has arrived.
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

    /// A control packet goes behind the data, with which it may travel as the shorter last one.
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
            // One that does not fit begins the next batch.
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
