//! RTP transport of a stand-in camera: interleaved with RTSP, or by datagrams with an impairment.

use std::net::SocketAddr;

use bytes::{BufMut as _, Bytes, BytesMut};
use tokio::net::UdpSocket;
use yonder_rtsp::message::frame_header;

use super::faults::Impairment;

/// RTP or RTCP.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Kind {
    Media,
    Control,
}

/// RTP transport of one track.
#[derive(Debug)]
pub(super) enum RtpTransport {
    /// Number of the first of two interleaved channels.
    Interleaved(u8),
    /// Pair of UDP sockets.
    Datagrams(Box<UdpTransport>),
}

/// UDP sockets of one track, and the addresses of the player.
#[derive(Debug)]
pub(super) struct UdpTransport {
    pub(super) sockets: [UdpSocket; 2],
    pub(super) viewer: [SocketAddr; 2],
    pub(super) impairment: Impairment,
    /// Datagram that is sent after the next one.
    held: Option<Bytes>,
}

impl UdpTransport {
    /// Opens a pair of neighboring ports (RFC 3550, 11).
    pub(super) async fn open(viewer: [SocketAddr; 2]) -> std::io::Result<Self> {
        let host = std::net::Ipv4Addr::LOCALHOST;
        for _ in 0..64 {
            let media = UdpSocket::bind((host, 0)).await?;
            let port = media.local_addr()?.port();
            if port % 2 == 0
                && let Ok(control) = UdpSocket::bind((host, port.saturating_add(1))).await
            {
                return Ok(Self {
                    sockets: [media, control],
                    viewer,
                    impairment: Impairment::default(),
                    held: None,
                });
            }
        }
        Err(std::io::Error::other("no pair of ports is free"))
    }

    pub(super) fn ports(&self) -> std::io::Result<(u16, u16)> {
        Ok((self.sockets[0].local_addr()?.port(), self.sockets[1].local_addr()?.port()))
    }

    fn send(&mut self, kind: Kind, packet: Bytes) {
        if kind == Kind::Control {
            self.deliver(kind, &packet);
            return;
        }
        let chance = |per_mille: u16| rand::random_range(0..1000) < per_mille;
        if chance(self.impairment.loss_permille) {
            return;
        }
        if self.held.is_none() && chance(self.impairment.reorder_permille) {
            self.held = Some(packet);
            return;
        }
        self.deliver(kind, &packet);
        if chance(self.impairment.duplicate_permille) {
            self.deliver(kind, &packet);
        }
        if let Some(held) = self.held.take() {
            self.deliver(kind, &held);
        }
    }

    fn deliver(&self, kind: Kind, packet: &[u8]) {
        let at = usize::from(kind == Kind::Control);
        // The player has gone, or the buffer is full: the datagram is lost.
        let _sent = self.sockets[at].try_send_to(packet, self.viewer[at]);
    }
}

impl RtpTransport {
    /// Sends a packet made of `head` and `parts`. Interleaved packets are appended to `out`.
    pub(super) fn send(&mut self, kind: Kind, head: &[u8], parts: &[&[u8]], out: &mut BytesMut) {
        match self {
            Self::Interleaved(channel) => {
                let payload: usize = parts.iter().map(|part| part.len()).sum();
                let Ok(length) = u16::try_from(payload + head.len()) else { return };
                out.put_slice(&frame_header(*channel + u8::from(kind == Kind::Control), length));
                out.put_slice(head);
                for part in parts {
                    out.put_slice(part);
                }
            }
            Self::Datagrams(way) => {
                let mut packet = BytesMut::from(head);
                for part in parts {
                    packet.put_slice(part);
                }
                way.send(kind, packet.freeze());
            }
        }
    }
}
