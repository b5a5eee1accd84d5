//! From access units to RTP packets: H.264 (RFC 6184), H.265 (RFC 7798), AAC (RFC 3640 and RFC 6416), G.711
//! (RFC 3551), with sender reports (RFC 3550, 6.4.1).

use bytes::{BufMut as _, Bytes, BytesMut};
use yonder_media::{NalRole, VideoCodec, h264, h265};

use super::faults::{Marker, Oddities};
use super::rtp_transport::{Kind, RtpTransport};

/// Largest RTP payload, so that packets fit an Ethernet frame.
const MAX_PAYLOAD: usize = 1400;
/// Maximum length of NAL units that are aggregated, in bytes.
const SMALL: usize = 100;

/// One RTP stream.
#[derive(Debug)]
pub(super) struct Packetiser {
    pub(super) way: RtpTransport,
    payload_type: u8,
    ssrc: u32,
    sequence: u16,
    packets: u32,
    octets: u32,
    pub(super) oddities: Oddities,
}

impl Packetiser {
    pub(super) fn new(way: RtpTransport, payload_type: u8) -> Self {
        let (ssrc, sequence) = (rand::random(), rand::random());
        Self { way, payload_type, ssrc, sequence, packets: 0, octets: 0, oddities: Oddities::default() }
    }

    /// Continues with another SSRC and sequence number.
    pub(super) fn start_anew(&mut self) {
        self.ssrc = rand::random();
        self.sequence = rand::random();
    }

    /// Sends the packets of a video frame.
    pub(super) fn put_picture(
        &mut self,
        codec: VideoCodec,
        nals: &[Bytes],
        (timestamp, marker): (u32, Marker),
        out: &mut BytesMut,
    ) {
        let ends_slice = |nal: &[u8]| {
            let role = match codec {
                VideoCodec::H264 => h264::role_of(nal),
                VideoCodec::H265 => h265::role_of(nal),
            };
            marker == Marker::EverySlice && matches!(role, NalRole::Picture { .. })
        };
        let Oddities { vendor_units, start_codes, unreadable, .. } = self.oddities;
        if unreadable {
            // An MTAP16 (RFC 6184, 5.7.2) in place of the frame.
            for part in nals.iter().flat_map(|nal| nal.chunks(MAX_PAYLOAD - 8)) {
                self.put_packet(&[&[0x60 | 26, 0, 0], part], (timestamp, false), out);
            }
            return;
        }
        if vendor_units {
            let unit: &[u8] =
                if codec == VideoCodec::H264 { &[0x1e, 0xca, 0xfe] } else { &[63 << 1, 1, 0xca] };
            self.put_packet(&[unit], (timestamp, false), out);
        }
        let mut rest = nals;
        while let [nal, after @ ..] = rest {
            let last = after.is_empty() && marker != Marker::Missing;
            let small = rest.iter().take_while(|nal| nal.len() <= SMALL).count();
            if small >= 2 && marker != Marker::EverySlice && !start_codes {
                let (group, after) = rest.split_at(small);
                let last = after.is_empty() && marker != Marker::Missing;
                self.put_aggregate(codec, group, (timestamp, last), out);
                rest = after;
                continue;
            }
            let marked = (timestamp, last || ends_slice(nal));
            if nal.len() <= MAX_PAYLOAD {
                let start_code: &[u8] = if start_codes { &[0, 0, 0, 1] } else { &[] };
                self.put_packet(&[start_code, nal], marked, out);
            } else {
                self.put_fragments(codec, nal, marked, out);
            }
            rest = after;
        }
    }

    fn put_aggregate(&mut self, codec: VideoCodec, nals: &[Bytes], marked: (u32, bool), out: &mut BytesMut) {
        let mut payload = BytesMut::new();
        match codec {
            VideoCodec::H264 => payload.put_u8(0x60 | 24),
            VideoCodec::H265 => payload.put_slice(&[48 << 1, 1]),
        }
        for nal in nals {
            payload.put_u16(u16::try_from(nal.len()).unwrap_or_default());
            payload.put_slice(nal);
        }
        self.put_packet(&[&payload], marked, out);
    }

    fn put_fragments(
        &mut self,
        codec: VideoCodec,
        nal: &Bytes,
        (timestamp, marker): (u32, bool),
        out: &mut BytesMut,
    ) {
        let header = if codec == VideoCodec::H264 { 1 } else { 2 };
        let (head, body) = nal.split_at(header);
        let pieces: Vec<&[u8]> = body.chunks(MAX_PAYLOAD - 3).collect();
        for (at, part) in pieces.iter().enumerate() {
            let (start, end) = (at == 0, at + 1 == pieces.len());
            let edges = u8::from(start) << 7 | u8::from(end && !self.oddities.no_end_marks) << 6;
            let marked = (timestamp, marker && end);
            match codec {
                VideoCodec::H264 => {
                    let prefix = [head[0] & 0xe0 | 28, edges | head[0] & 0x1f];
                    self.put_packet(&[&prefix, part], marked, out);
                }
                VideoCodec::H265 => {
                    let prefix = [head[0] & 0x81 | 49 << 1, head[1], edges | head[0] >> 1 & 0x3f];
                    self.put_packet(&[&prefix, part], marked, out);
                }
            }
        }
    }

    /// Sends one AAC frame as a packet of its own, by RFC 3640.
    pub(super) fn put_aac(&mut self, frame: &[u8], timestamp: u32, out: &mut BytesMut) {
        let size = u16::try_from(frame.len()).unwrap_or_default();
        let [high, low] = (size << 3).to_be_bytes();
        self.put_packet(&[&[0, 16, high, low], frame], (timestamp, true), out);
    }

    /// Sends one AAC frame as a packet of its own, by RFC 6416.
    pub(super) fn put_latm(&mut self, frame: &[u8], timestamp: u32, out: &mut BytesMut) {
        let mut length = vec![255; frame.len() / 255];
        length.push(u8::try_from(frame.len() % 255).unwrap_or_default());
        self.put_packet(&[&length, frame], (timestamp, true), out);
    }

    /// Sends samples unchanged.
    pub(super) fn put_samples(&mut self, samples: &[u8], timestamp: u32, out: &mut BytesMut) {
        self.put_packet(&[samples], (timestamp, false), out);
    }

    fn put_packet(&mut self, parts: &[&[u8]], (timestamp, marker): (u32, bool), out: &mut BytesMut) {
        let mut head = [0; 12];
        let payload_type = self.payload_type + u8::from(self.oddities.other_payload_type);
        head[0] = 0x80;
        head[1] = u8::from(marker) << 7 | payload_type;
        head[2..4].copy_from_slice(&self.sequence.to_be_bytes());
        head[4..8].copy_from_slice(&timestamp.to_be_bytes());
        head[8..].copy_from_slice(&self.ssrc.to_be_bytes());
        if self.oddities.stray_bytes
            && self.packets.is_multiple_of(16)
            && matches!(self.way, RtpTransport::Interleaved(_))
        {
            out.put_slice(&[0, 0xff, b'$', 0x7f]);
        }
        if self.oddities.empty_padding && parts.last().is_some_and(|part| part.last() == Some(&0)) {
            head[0] |= 0x20;
        }
        self.way.send(Kind::Media, &head, parts, out);
        let payload: usize = parts.iter().map(|part| part.len()).sum();
        self.sequence = self.sequence.wrapping_add(1);
        self.packets = self.packets.wrapping_add(1);
        self.octets = self.octets.wrapping_add(u32::try_from(payload).unwrap_or_default());
    }

    /// Sends a sender report: `timestamp` is the RTP time at `ntp`.
    pub(super) fn put_report(&mut self, ntp: u64, timestamp: u32, out: &mut BytesMut) {
        let mut report = BytesMut::new();
        report.put_slice(&[0x80, 200, 0, 6]);
        report.put_u32(self.ssrc);
        report.put_u64(ntp);
        report.put_u32(timestamp);
        report.put_u32(self.packets);
        report.put_u32(self.octets);
        self.put_description(&mut report);
        self.way.send(Kind::Control, &report, &[], out);
    }

    /// Sends a BYE (6.6).
    pub(super) fn put_goodbye(&mut self, out: &mut BytesMut) {
        let mut goodbye = BytesMut::new();
        goodbye.put_slice(&[0x80, 201, 0, 1]);
        goodbye.put_u32(self.ssrc);
        self.put_description(&mut goodbye);
        goodbye.put_slice(&[0x81, 203, 0, 1]);
        goodbye.put_u32(self.ssrc);
        self.way.send(Kind::Control, &goodbye, &[], out);
    }

    /// Returns a source description with the mandatory CNAME.
    fn put_description(&self, out: &mut BytesMut) {
        out.put_slice(&[0x81, 202, 0, 3]);
        out.put_u32(self.ssrc);
        out.put_slice(&[1, 4]);
        out.put_slice(b"fell");
        out.put_slice(&[0, 0]);
    }
}
