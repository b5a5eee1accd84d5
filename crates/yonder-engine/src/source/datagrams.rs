//! UDP ports for the RTP and RTCP datagrams of a camera.

use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::task::{Context, Poll};

use bytes::{Bytes, BytesMut};
use socket2::SockRef;
use tokio::net::UdpSocket;
use yonder_rtsp::{Channel, DatagramPath, DatagramPeer, Described};

/// Tracks with ports: video and audio.
const TRACKS: usize = 2;
/// Maximum datagrams read from one port before others.
const MAX_IN_A_ROW: usize = 64;
/// Maximum size of a datagram; some cameras exceed an Ethernet frame.
const MAX_DATAGRAM: usize = 64 * 1024;
/// Size of the receive block, which many datagrams share.
const BLOCK: usize = 256 * 1024;
/// Receive buffer of the system: a keyframe arrives in one burst.
const RECEIVE_BUFFER: usize = 2 * 1024 * 1024;
/// Attempts to find a pair of adjacent ports.
const PORT_TRIES: usize = 64;

/// Two adjacent ports per track.
#[derive(Debug)]
pub(super) struct Datagrams {
    sockets: Vec<[UdpSocket; 2]>,
    camera: IpAddr,
    /// Source of each track's datagrams, once known.
    peers: Vec<Option<DatagramPeer>>,
    block: BytesMut,
}

impl Datagrams {
    /// Opens ports for datagrams from `camera`.
    pub(super) async fn open(camera: IpAddr) -> io::Result<Self> {
        let mut sockets = Vec::with_capacity(TRACKS);
        for _ in 0..TRACKS {
            sockets.push(open_pair(camera).await?);
        }
        Ok(Self { sockets, camera, peers: vec![None; TRACKS], block: BytesMut::new() })
    }

    /// Returns the ports by track.
    pub(super) fn ports(&self) -> io::Result<Vec<(u16, u16)>> {
        let port = |socket: &UdpSocket| Ok::<u16, io::Error>(socket.local_addr()?.port());
        self.sockets.iter().map(|[media, control]| Ok((port(media)?, port(control)?))).collect()
    }

    /// Sets the sources announced by the camera.
    pub(super) fn set_peers(&mut self, tracks: &[Described]) {
        self.peers = tracks.iter().map(|track| track.peer).collect();
    }

    /// Sends a datagram, which may be lost.
    pub(super) fn send(&self, path: DatagramPath, payload: &[u8]) {
        let (Some(pair), Some(Some(peer))) = (self.sockets.get(path.track), self.peers.get(path.track))
        else {
            return;
        };
        let [media, control] = pair;
        let (socket, port) = match path.channel {
            Channel::Media => (media, peer.ports.0),
            Channel::Control => (control, peer.ports.1),
        };
        let target = SocketAddr::new(peer.source.unwrap_or(self.camera), port);
        if let Err(error) = socket.try_send_to(payload, target) {
            tracing::debug!(%error, "datagram not sent");
        }
    }

    /// Ready when a port has received something.
    pub(super) fn poll_readable(&self, context: &mut Context<'_>) -> Poll<()> {
        // All ports are polled, so that each one wakes the task.
        let mut any = Poll::Pending;
        for socket in self.sockets.iter().flatten() {
            if socket.poll_recv_ready(context).is_ready() {
                any = Poll::Ready(());
            }
        }
        any
    }

    /// Registers the ports with the caller's runtime.
    pub(super) fn register_here(self) -> io::Result<Self> {
        let register = |socket: UdpSocket| UdpSocket::from_std(socket.into_std()?);
        let sockets =
            self.sockets.into_iter().map(|[media, control]| Ok([register(media)?, register(control)?]));
        Ok(Self { sockets: sockets.collect::<io::Result<_>>()?, ..self })
    }

    /// Receives the datagrams of the camera; those from other sources are dropped.
    pub(super) fn receive(&mut self, into: &mut Vec<(DatagramPath, Bytes)>) {
        for (track, pair) in self.sockets.iter().enumerate() {
            for (socket, channel) in pair.iter().zip([Channel::Media, Channel::Control]) {
                for _ in 0..MAX_IN_A_ROW {
                    if self.block.capacity() < MAX_DATAGRAM {
                        self.block.reserve(BLOCK);
                    }
                    // An error is a closed port of the camera, which shows as silence.
                    let Ok((_, from)) = socket.try_recv_buf_from(&mut self.block) else { break };
                    let payload = self.block.split().freeze();
                    let named = self.peers.get(track).copied().flatten().and_then(|peer| peer.source);
                    if from.ip() == self.camera || Some(from.ip()) == named {
                        into.push((DatagramPath { track, channel }, payload));
                    }
                }
            }
        }
    }
}

/// Opens an even port for RTP and the next one for RTCP (RFC 3550, 11).
async fn open_pair(camera: IpAddr) -> io::Result<[UdpSocket; 2]> {
    let any =
        if camera.is_ipv4() { IpAddr::V4(Ipv4Addr::UNSPECIFIED) } else { IpAddr::V6(Ipv6Addr::UNSPECIFIED) };
    for _ in 0..PORT_TRIES {
        let media = UdpSocket::bind((any, 0)).await?;
        let port = media.local_addr()?.port();
        if port % 2 != 0 || port == u16::MAX {
            continue;
        }
        if let Ok(control) = UdpSocket::bind((any, port + 1)).await {
            if let Err(error) = SockRef::from(&media).set_recv_buffer_size(RECEIVE_BUFFER) {
                tracing::debug!(%error, "receive buffer not enlarged");
            }
            return Ok([media, control]);
        }
    }
    Err(io::Error::other("no pair of neighboring ports is free"))
}
