//! From access units to interleaved RTP packets: single NAL units, STAP-A and FU-A (RFC 6184), AAC-hbr
//! (RFC 3640), and sender reports (RFC 3550, 6.4.1).

use bytes::{BufMut as _, Bytes, BytesMut};
use yonder_rtsp::message::frame_header;

/// Largest RTP payload, so that packets would fit an Ethernet frame.
const MAX_PAYLOAD: usize = 1400;

/// One RTP stream on its interleaved channels.
#[derive(Debug)]
pub(super) struct Packetiser {
    channel: u8,
    payload_type: u8,
    ssrc: u32,
    sequence: u16,
    packets: u32,
    octets: u32,
}

impl Packetiser {
    pub(super) fn new(channel: u8, payload_type: u8) -> Self {
        Self { channel, payload_type, ssrc: rand::random(), sequence: rand::random(), packets: 0, octets: 0 }
    }

    /// Appends a picture's packets to `out`.
    pub(super) fn put_picture(&mut self, nals: &[Bytes], timestamp: u32, out: &mut BytesMut) {
        let mut rest = nals;
        while let [nal, after @ ..] = rest {
            let small = rest.iter().take_while(|nal| nal.len() <= 100).count();
            if small >= 2 {
                let (group, after) = rest.split_at(small);
                self.put_aggregate(group, timestamp, after.is_empty(), out);
                rest = after;
                continue;
            }
            if nal.len() <= MAX_PAYLOAD {
                self.put_packet(&[nal], timestamp, after.is_empty(), out);
            } else {
                self.put_fragments(nal, timestamp, after.is_empty(), out);
            }
            rest = after;
        }
    }

    fn put_aggregate(&mut self, nals: &[Bytes], timestamp: u32, marker: bool, out: &mut BytesMut) {
        let mut payload = BytesMut::new();
        payload.put_u8(0x60 | 24);
        for nal in nals {
            payload.put_u16(u16::try_from(nal.len()).unwrap_or_default());
            payload.put_slice(nal);
        }
        self.put_packet(&[&payload], timestamp, marker, out);
    }

    fn put_fragments(&mut self, nal: &Bytes, timestamp: u32, marker: bool, out: &mut BytesMut) {
        let Some((&header, body)) = nal.split_first() else { return };
        let count = body.chunks(MAX_PAYLOAD - 2).count();
        for (at, part) in body.chunks(MAX_PAYLOAD - 2).enumerate() {
            let (start, end) = (at == 0, at + 1 == count);
            let prefix = [header & 0xe0 | 28, u8::from(start) << 7 | u8::from(end) << 6 | header & 0x1f];
            self.put_packet(&[&prefix, part], timestamp, marker && end, out);
        }
    }

    /// Appends one AAC frame as a packet of its own.
    pub(super) fn put_sound(&mut self, frame: &[u8], timestamp: u32, out: &mut BytesMut) {
        let size = u16::try_from(frame.len()).unwrap_or_default();
        let [high, low] = (size << 3).to_be_bytes();
        self.put_packet(&[&[0, 16, high, low], frame], timestamp, true, out);
    }

    fn put_packet(&mut self, parts: &[&[u8]], timestamp: u32, marker: bool, out: &mut BytesMut) {
        let payload: usize = parts.iter().map(|part| part.len()).sum();
        let Ok(length) = u16::try_from(payload + 12) else { return };
        out.put_slice(&frame_header(self.channel, length));
        out.put_u8(0x80);
        out.put_u8(u8::from(marker) << 7 | self.payload_type);
        out.put_u16(self.sequence);
        out.put_u32(timestamp);
        out.put_u32(self.ssrc);
        for part in parts {
            out.put_slice(part);
        }
        self.sequence = self.sequence.wrapping_add(1);
        self.packets = self.packets.wrapping_add(1);
        self.octets = self.octets.wrapping_add(u32::try_from(payload).unwrap_or_default());
    }

    /// Appends a sender report: `timestamp` is the RTP time at `ntp`.
    pub(super) fn put_report(&self, ntp: u64, timestamp: u32, out: &mut BytesMut) {
        out.put_slice(&frame_header(self.channel + 1, 28 + 16));
        out.put_slice(&[0x80, 200, 0, 6]);
        out.put_u32(self.ssrc);
        out.put_u64(ntp);
        out.put_u32(timestamp);
        out.put_u32(self.packets);
        out.put_u32(self.octets);
        // Source description with the mandatory CNAME.
        out.put_slice(&[0x81, 202, 0, 3]);
        out.put_u32(self.ssrc);
        out.put_slice(&[1, 4]);
        out.put_slice(b"fell");
        out.put_slice(&[0, 0]);
    }
}
