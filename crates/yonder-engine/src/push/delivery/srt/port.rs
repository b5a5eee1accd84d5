//! The port that an SRT push sends from.

use std::io::{self, ErrorKind, IoSliceMut};
use std::net::SocketAddr;

use bytes::Bytes;
use quinn_udp::{RecvMeta, Transmit, UdpSockRef, UdpSocketState};
use tokio::io::Interest;
use tokio::io::unix::AsyncFd;
use tokio::net::UdpSocket;

use super::batch::Batch;

/// Blocks received at a time, and the room in each: datagrams of one length may come joined.
const BLOCKS: usize = 4;
const BLOCK: usize = 8 * 1024;

/// What a port is waited for: datagrams, and word that earlier ones did not arrive.
const NEWS: Interest = Interest::READABLE.add(Interest::ERROR);

/// A port that is connected to a listener.
///
/// It is waited for only to be read from: the system calls a port writable anew for each datagram that has left, and
/// would wake us each time.
#[derive(Debug)]
pub(super) struct Port {
    socket: AsyncFd<std::net::UdpSocket>,
    batching: UdpSocketState,
    peer: SocketAddr,
    blocks: Vec<u8>,
}

impl Port {
    /// To be called within a tokio runtime.
    ///
    /// # Errors
    /// When the system refuses it.
    pub(super) fn new(socket: UdpSocket, peer: SocketAddr) -> io::Result<Self> {
        let socket = socket.into_std()?;
        // SAFETY: a socket of the standard library owns its descriptor: open, and the same, for as long as it exists; and
        // it is not taken out again.
        #[expect(unsafe_code, reason = "the only way to wait for one side of a socket alone")]
        let socket = unsafe { AsyncFd::register_with_interest(socket, NEWS) }?;
        let batching = UdpSocketState::new(UdpSockRef::from(socket.get_ref()))?;
        Ok(Self { socket, batching, peer, blocks: vec![0; BLOCKS * BLOCK] })
    }

    /// An empty batch of datagrams, for as many as the system takes at once.
    pub(super) fn batch(&self) -> Batch {
        Batch::new(self.batching.max_gso_segments())
    }

    /// Our own end.
    ///
    /// # Errors
    /// When the system does not tell.
    pub(super) fn local_addr(&self) -> io::Result<SocketAddr> {
        self.socket.get_ref().local_addr()
    }

    /// Waits for datagrams and takes those that came.
    ///
    /// # Errors
    /// What the system has heard of earlier datagrams, such as that nobody listens.
    ///
    /// # Cancel safety
    /// What is dropped before it resolves has taken nothing.
    pub(super) async fn receive(&mut self, into: &mut Vec<Bytes>) -> io::Result<()> {
        let mut ready = self.socket.ready(NEWS).await?;
        let mut metas = [RecvMeta::default(); BLOCKS];
        let mut slices: Vec<_> = self.blocks.chunks_mut(BLOCK).map(IoSliceMut::new).collect();
        let received = self.batching.recv(UdpSockRef::from(ready.get_inner()), &mut slices, &mut metas);
        let count = match received {
            Ok(count) => count,
            Err(error) if error.kind() == ErrorKind::WouldBlock => 0,
            Err(error) => return Err(error),
        };
        if count < BLOCKS {
            // There was no more at that moment; what has come since shows as ready again.
            ready.clear_ready();
        }
        for (block, meta) in self.blocks.chunks(BLOCK).zip(metas).take(count) {
            let datagrams = block.get(..meta.len).unwrap_or_default().chunks(meta.stride.max(1));
            into.extend(datagrams.map(Bytes::copy_from_slice));
        }
        Ok(())
    }

    /// Sends datagrams; false when there is no room for them.
    ///
    /// # Errors
    /// As for [`Self::receive`], and when the way is gone.
    pub(super) fn send(&self, batch: &Batch) -> io::Result<bool> {
        let transmit = Transmit {
            destination: self.peer,
            ecn: None,
            contents: batch.bytes(),
            segment_size: batch.segment(),
            src_ip: None,
        };
        match self.batching.try_send(UdpSockRef::from(self.socket.get_ref()), &transmit) {
            Ok(()) => Ok(true),
            Err(error) if error.kind() == ErrorKind::WouldBlock => Ok(false),
            Err(error) => Err(error),
        }
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use tokio::time::timeout;

    use super::*;

    async fn pair() -> (Port, UdpSocket) {
        let peer = UdpSocket::bind("127.0.0.1:0").await.unwrap();
        let own = UdpSocket::bind("127.0.0.1:0").await.unwrap();
        let at = peer.local_addr().unwrap();
        own.connect(at).await.unwrap();
        peer.connect(own.local_addr().unwrap()).await.unwrap();
        (Port::new(own, at).unwrap(), peer)
    }

    #[tokio::test]
    async fn a_batch_arrives_as_the_datagrams_it_was_made_of() {
        let (port, peer) = pair().await;
        let mut batch = port.batch();
        for (mark, length) in [(1, 1332), (2, 1332), (3, 44)] {
            batch.add(&vec![mark; length]);
        }
        assert!(port.send(&batch).unwrap());
        let mut block = [0; 2048];
        for (mark, length) in [(1, 1332), (2, 1332), (3, 44)] {
            assert_eq!(peer.recv(&mut block).await.unwrap(), length);
            assert!(block[..length].iter().all(|byte| *byte == mark));
        }
    }

    #[tokio::test]
    async fn all_that_came_is_taken_and_what_comes_later_as_well() {
        let (mut port, peer) = pair().await;
        let mut all = Vec::new();
        for round in 0..3_u8 {
            for mark in 0..10_u8 {
                peer.send(&[round * 10 + mark; 44]).await.unwrap();
            }
            while all.len() < usize::from(round + 1) * 10 {
                port.receive(&mut all).await.unwrap();
            }
            let more = timeout(Duration::from_millis(20), port.receive(&mut all)).await;
            // It may wake once for nothing.
            assert!(more.is_err() || all.len() == usize::from(round + 1) * 10);
        }
        assert!((0..30).zip(&all).all(|(mark, datagram)| datagram[..] == [mark; 44]));
    }

    #[tokio::test]
    async fn it_is_told_when_nobody_listens() {
        let (mut port, peer) = pair().await;
        drop(peer);
        let mut batch = port.batch();
        batch.add(&[1; 44]);
        port.send(&batch).unwrap();
        let error = port.receive(&mut Vec::new()).await.unwrap_err();
        assert_eq!(error.kind(), ErrorKind::ConnectionRefused);
    }
}
