//! UDP socket of an SRT push.

use std::collections::HashSet;
use std::io::{self, ErrorKind, IoSliceMut};
use std::net::{IpAddr, SocketAddr};
use std::sync::OnceLock;

use bytes::Bytes;
use parking_lot::Mutex;
use quinn_udp::{RecvMeta, Transmit, UdpSockRef, UdpSocketState};
use rustix::io::Errno;
use rustix::net::sockopt;
use tokio::net::UdpSocket;
use yonder_media::ts::PACKET;
use yonder_srt::MAX_PAYLOAD;

use super::batch::Batch;

/// Receive blocks per call, and their size: the system may join datagrams of the same size (GRO).
const BLOCKS: usize = 4;
const BLOCK: usize = 8 * 1024;
/// Header bytes of a packet: IP (20 or 40), UDP (8) and SRT (16).
const IPV4_HEADERS: usize = 20 + 8 + 16;
const IPV6_HEADERS: usize = 40 + 8 + 16;

/// Own addresses whose interface refused segmentation offload, shared by all connections, since each would otherwise
/// lose a batch to find out.
fn without_offload() -> &'static Mutex<HashSet<IpAddr>> {
    static ADDRESSES: OnceLock<Mutex<HashSet<IpAddr>>> = OnceLock::new();
    ADDRESSES.get_or_init(Mutex::default)
}

/// UDP socket connected to a listener.
///
/// It is not registered with a runtime: readiness events of each acknowledgement and each sent datagram would wake the
/// media thread hundreds of times a second. It is read at the ticks of its connection instead.
#[derive(Debug)]
pub(crate) struct Port {
    socket: std::net::UdpSocket,
    batching: UdpSocketState,
    peer: SocketAddr,
    blocks: Vec<u8>,
    /// Transport packets that fit into one datagram.
    packets_per_datagram: usize,
}

impl Port {
    /// Wraps a connected socket.
    ///
    /// # Errors
    /// I/O error of the socket.
    pub(crate) fn new(socket: UdpSocket, peer: SocketAddr) -> io::Result<Self> {
        // The socket stays nonblocking.
        let socket = socket.into_std()?;
        let batching = UdpSocketState::new(UdpSockRef::from(&socket))?;
        allow_fragments(&socket, peer);
        let mut port =
            Self { socket, batching, peer, blocks: vec![0; BLOCKS * BLOCK], packets_per_datagram: 0 };
        port.packets_per_datagram = port.packets_within_mtu();
        Ok(port)
    }

    /// Returns an empty batch with the maximum size of the interface.
    pub(super) fn batch(&self) -> Batch {
        let is_refused = self.local_addr().is_ok_and(|own| without_offload().lock().contains(&own.ip()));
        Batch::new(if is_refused { 1 } else { self.batching.max_gso_segments() })
    }

    /// Returns the listener's address.
    pub(super) fn peer(&self) -> SocketAddr {
        self.peer
    }

    /// Returns the transport packets per datagram: seven, or fewer for a small path MTU.
    pub(super) fn packets_per_datagram(&self) -> usize {
        self.packets_per_datagram
    }

    fn packets_within_mtu(&self) -> usize {
        let (mtu, headers) = match self.peer {
            SocketAddr::V4(_) => (sockopt::ip_mtu(&self.socket), IPV4_HEADERS),
            SocketAddr::V6(_) => (sockopt::ipv6_mtu(&self.socket), IPV6_HEADERS),
        };
        let most = MAX_PAYLOAD / PACKET;
        let Ok(mtu) = mtu else { return most };
        let room = usize::try_from(mtu).unwrap_or(usize::MAX).saturating_sub(headers);
        (room / PACKET).clamp(1, most)
    }

    /// Returns the local address.
    ///
    /// # Errors
    /// I/O error of the socket.
    pub(crate) fn local_addr(&self) -> io::Result<SocketAddr> {
        self.socket.local_addr()
    }

    /// Receives the datagrams that have arrived.
    ///
    /// # Errors
    /// Errors of earlier datagrams reported by the network, such as a closed port.
    pub(super) fn receive(&mut self, into: &mut Vec<Bytes>) -> io::Result<()> {
        loop {
            let mut metas = [RecvMeta::default(); BLOCKS];
            let mut blocks = self.blocks.chunks_mut(BLOCK).map(IoSliceMut::new);
            let mut slices: [IoSliceMut<'_>; BLOCKS] =
                std::array::from_fn(|_| blocks.next().unwrap_or_else(|| IoSliceMut::new(&mut [])));
            let received = self.batching.recv(UdpSockRef::from(&self.socket), &mut slices, &mut metas);
            let count = match received {
                Ok(count) => count,
                Err(error) if error.kind() == ErrorKind::WouldBlock => return Ok(()),
                Err(error) => return Err(error),
            };
            for (block, meta) in self.blocks.chunks(BLOCK).zip(metas).take(count) {
                let datagrams = block.get(..meta.len).unwrap_or_default().chunks(meta.stride.max(1));
                into.extend(datagrams.map(Bytes::copy_from_slice));
            }
            if count < BLOCKS {
                // No datagram is left.
                return Ok(());
            }
        }
    }

    /// Sends a batch. Returns false if the socket is full; unsent datagrams stay in the batch.
    ///
    /// # Errors
    /// As for [`Self::receive`], and if there is no route.
    pub(super) fn send(&mut self, batch: &mut Batch) -> io::Result<bool> {
        let Err(error) = self.send_bytes(batch.bytes(), batch.segment()) else {
            batch.clear();
            return Ok(true);
        };
        match error.raw_os_error().map(Errno::from_raw_os_error) {
            _ if error.kind() == ErrorKind::WouldBlock => Ok(false),
            // Devices without segmentation or checksum offload refuse a batch, but not single datagrams.
            Some(Errno::IO | Errno::INVAL) if batch.segment().is_some() => {
                if let Ok(own) = self.local_addr() {
                    tracing::info!(address = %own.ip(), %error, "segmentation offload refused, sending datagrams one by one");
                    without_offload().lock().insert(own.ip());
                }
                batch.set_max(1);
                self.send_singly(batch)
            }
            // The path MTU has decreased. Single datagrams are fragmented; later ones are smaller.
            Some(Errno::MSGSIZE) => {
                self.packets_per_datagram = self.packets_within_mtu();
                let packets = self.packets_per_datagram;
                tracing::info!(peer = %self.peer, packets, "path MTU is smaller, sending smaller datagrams");
                self.send_singly(batch)
            }
            _ => Err(error),
        }
    }

    fn send_singly(&self, batch: &mut Batch) -> io::Result<bool> {
        while !batch.is_empty() {
            match self.send_bytes(batch.first(), None) {
                Ok(()) => batch.drop_first(),
                Err(error) if error.kind() == ErrorKind::WouldBlock => return Ok(false),
                Err(error) => return Err(error),
            }
        }
        Ok(true)
    }

    fn send_bytes(&self, contents: &[u8], segment_size: Option<usize>) -> io::Result<()> {
        let transmit = Transmit { destination: self.peer, ecn: None, contents, segment_size, src_ip: None };
        self.batching.try_send(UdpSockRef::from(&self.socket), &transmit)
    }
}

/// Allows fragmentation where a path MTU is smaller than the interface's: the batching library disables it, and tunnels
/// would drop all full datagrams while the small ones of the handshake pass.
fn allow_fragments(socket: &std::net::UdpSocket, peer: SocketAddr) {
    let set = match peer {
        SocketAddr::V4(_) => sockopt::set_ip_mtu_discover(socket, sockopt::Ipv4PathMtuDiscovery::WANT),
        SocketAddr::V6(_) => sockopt::set_ipv6_mtu_discover(socket, sockopt::Ipv6PathMtuDiscovery::WANT),
    };
    if let Err(error) = set {
        tracing::debug!(%error, "fragmentation not allowed");
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use tokio::time::timeout;

    use super::*;

    /// Receives until there are `count` datagrams.
    async fn receive(port: &mut Port, count: usize) -> Vec<Bytes> {
        let mut all = Vec::new();
        let received = async {
            while all.len() < count {
                port.receive(&mut all).unwrap();
                tokio::task::yield_now().await;
            }
        };
        timeout(Duration::from_secs(5), received).await.unwrap();
        all
    }

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
        let (mut port, peer) = pair().await;
        let mut batch = port.batch();
        for (mark, length) in [(1, 1332), (2, 1332), (3, 44)] {
            batch.add(&vec![mark; length]);
        }
        assert!(port.send(&mut batch).unwrap() && batch.is_empty());
        let mut block = [0; 2048];
        for (mark, length) in [(1, 1332), (2, 1332), (3, 44)] {
            assert_eq!(peer.recv(&mut block).await.unwrap(), length);
            assert!(block[..length].iter().all(|byte| *byte == mark));
        }
    }

    #[tokio::test]
    async fn datagrams_are_received_in_order() {
        let (mut port, peer) = pair().await;
        let mut all = Vec::new();
        for round in 0..3_u8 {
            for mark in 0..10_u8 {
                peer.send(&[round * 10 + mark; 44]).await.unwrap();
            }
            all.extend(receive(&mut port, 10).await);
            let mut more = Vec::new();
            port.receive(&mut more).unwrap();
            assert!(more.is_empty());
        }
        assert!((0..30).zip(&all).all(|(mark, datagram)| datagram[..] == [mark; 44]));
    }

    #[tokio::test]
    async fn batch_is_sent_one_by_one_where_offload_was_refused() {
        let (port, _peer) = pair().await;
        assert!(port.batch().max() > 1, "this machine batches on loopback");
        let own = port.local_addr().unwrap().ip();
        without_offload().lock().insert(own);
        assert_eq!(port.batch().max(), 1);
        without_offload().lock().remove(&own);
    }

    #[tokio::test]
    async fn datagrams_may_be_fragmented() {
        let (port, _peer) = pair().await;
        let discovery = sockopt::ip_mtu_discover(&port.socket).unwrap();
        assert_eq!(discovery, sockopt::Ipv4PathMtuDiscovery::WANT);
        assert_eq!(port.packets_per_datagram(), 7);
    }

    #[tokio::test]
    async fn closed_port_is_reported() {
        let (mut port, peer) = pair().await;
        drop(peer);
        let mut batch = port.batch();
        batch.add(&[1; 44]);
        port.send(&mut batch).unwrap();
        let error = port.receive(&mut Vec::new()).unwrap_err();
        assert_eq!(error.kind(), ErrorKind::ConnectionRefused);
    }
}
