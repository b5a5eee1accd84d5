//! Where a viewer's packets go: into the RTSP connection, or out as datagrams through the weather.

use std::net::SocketAddr;

use bytes::{BufMut as _, Bytes, BytesMut};
use tokio::net::UdpSocket;
use yonder_rtsp::message::frame_header;

use super::manners::Weather;

/// Media or control.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Kind {
    Media,
    Control,
}

/// One track's way to its viewer.
#[derive(Debug)]
pub(super) enum Way {
    /// The first of two interleaved channels.
    Interleaved(u8),
    /// Two sockets, and where they send to.
    Datagrams(Box<DatagramWay>),
}

/// Sockets of one track.
#[derive(Debug)]
pub(super) struct DatagramWay {
    pub(super) sockets: [UdpSocket; 2],
    pub(super) viewer: [SocketAddr; 2],
    pub(super) weather: Weather,
    /// A datagram that lets the next one pass first.
    held: Option<Bytes>,
}

impl DatagramWay {
    /// A pair of neighbouring ports, as RFC 3550, 11 asks for.
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
                    weather: Weather::default(),
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
        if chance(self.weather.lost) {
            return;
        }
        if self.held.is_none() && chance(self.weather.reordered) {
            self.held = Some(packet);
            return;
        }
        self.deliver(kind, &packet);
        if chance(self.weather.repeated) {
            self.deliver(kind, &packet);
        }
        if let Some(held) = self.held.take() {
            self.deliver(kind, &held);
        }
    }

    fn deliver(&self, kind: Kind, packet: &[u8]) {
        let at = usize::from(kind == Kind::Control);
        // A viewer that is gone, or a full buffer: datagrams are lost without a word.
        let _sent = self.sockets[at].try_send_to(packet, self.viewer[at]);
    }
}

impl Way {
    /// Sends a packet made of `head` and `parts`; interleaved ones are appended to `out`.
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
