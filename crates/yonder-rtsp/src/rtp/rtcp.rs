//! RTCP (RFC 3550, section 6): parses sender reports and BYE, writes receiver reports.

use bytes::{BufMut as _, Bytes, BytesMut};

/// Times of a sender report (6.4.1).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SenderReport {
    /// Source.
    pub ssrc: u32,
    /// 64-bit NTP time of the report.
    pub ntp: u64,
    /// RTP time of the same instant.
    pub rtp: u32,
}

/// Packet of a compound packet.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Rtcp {
    /// Sender report.
    SenderReport(SenderReport),
    /// BYE.
    Bye {
        /// First source of the packet.
        ssrc: Option<u32>,
    },
}

/// Report block (6.4.1).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ReportBlock {
    /// Source of the reception.
    pub ssrc: u32,
    /// Fraction lost since the last report, in 1/256.
    pub fraction_lost: u8,
    /// Cumulative packets lost, at most 2^23 - 1.
    pub cumulative_lost: u32,
    /// Extended highest sequence number.
    pub highest_sequence: u32,
    /// Jitter in RTP ticks.
    pub jitter: u32,
    /// Middle 32 bits of the last sender report's NTP time, or 0.
    pub last_sr: u32,
    /// Delay since then, in 1/65536 s.
    pub delay_since_last_sr: u32,
}

/// Parses the relevant packets of a compound packet. Unknown and invalid ones are skipped.
#[must_use]
pub fn parse_compound(data: &[u8]) -> Vec<Rtcp> {
    let mut packets = Vec::new();
    let mut rest = data;
    while let Some((&[first, kind, high, low], _)) = rest.split_first_chunk::<4>() {
        let length = (usize::from(u16::from_be_bytes([high, low])) + 1) * 4;
        let Some((packet, after)) = rest.split_at_checked(length) else { break };
        if first >> 6 != 2 {
            break;
        }
        match kind {
            200 => packets.extend(sender_report(packet).map(Rtcp::SenderReport)),
            203 => packets.push(Rtcp::Bye { ssrc: word(packet, 4).filter(|_| first & 0x1f > 0) }),
            _ => {}
        }
        rest = after;
    }
    packets
}

fn sender_report(packet: &[u8]) -> Option<SenderReport> {
    let (high, low) = (word(packet, 8)?, word(packet, 12)?);
    Some(SenderReport {
        ssrc: word(packet, 4)?,
        ntp: u64::from(high) << 32 | u64::from(low),
        rtp: word(packet, 16)?,
    })
}

fn word(data: &[u8], at: usize) -> Option<u32> {
    data.get(at..)?.first_chunk::<4>().map(|bytes| u32::from_be_bytes(*bytes))
}

/// Returns a compound packet of a receiver report with one block and the mandatory `CNAME` (6.1, 6.5.1).
#[must_use]
pub fn receiver_report(own_ssrc: u32, block: &ReportBlock) -> Bytes {
    let mut out = BytesMut::with_capacity(56);
    out.put_slice(&[0x81, 201, 0, 7]);
    out.put_u32(own_ssrc);
    out.put_u32(block.ssrc);
    out.put_u32(u32::from(block.fraction_lost) << 24 | block.cumulative_lost & 0xff_ffff);
    out.put_u32(block.highest_sequence);
    out.put_u32(block.jitter);
    out.put_u32(block.last_sr);
    out.put_u32(block.delay_since_last_sr);
    put_description(own_ssrc, &mut out);
    out.freeze()
}

/// Returns a compound packet of an empty receiver report and the mandatory `CNAME`: sent before the first reception,
/// and to open NAT bindings.
#[must_use]
pub fn empty_report(own_ssrc: u32) -> Bytes {
    let mut out = BytesMut::with_capacity(32);
    out.put_slice(&[0x80, 201, 0, 1]);
    out.put_u32(own_ssrc);
    put_description(own_ssrc, &mut out);
    out.freeze()
}

/// Writes a source description: one chunk with one item, padded to words.
fn put_description(own_ssrc: u32, out: &mut BytesMut) {
    const NAME: &[u8; 6] = b"yonder";
    out.put_slice(&[0x81, 202, 0, 4]);
    out.put_u32(own_ssrc);
    out.put_slice(&[1, 6]);
    out.put_slice(NAME);
    out.put_slice(&[0; 4]);
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const REPORT: [u8; 28] =
        [0x80, 200, 0, 6, 0, 0, 0, 5, 0xe0, 0, 0, 1, 0x80, 0, 0, 0, 0, 0, 0x10, 0, 0, 0, 0, 9, 0, 0, 1, 0];

    #[test]
    fn a_compound_of_report_description_and_goodbye_is_read() {
        let mut data = REPORT.to_vec();
        data.extend([0x81, 202, 0, 1, 0, 0, 0, 5]);
        data.extend([0x81, 203, 0, 1, 0, 0, 0, 5]);
        let report = SenderReport { ssrc: 5, ntp: 0xe000_0001_8000_0000, rtp: 0x1000 };
        assert_eq!(parse_compound(&data), vec![Rtcp::SenderReport(report), Rtcp::Bye { ssrc: Some(5) }]);
    }

    #[test]
    fn a_receiver_report_is_whole_words_with_a_name() {
        let block = ReportBlock {
            ssrc: 5,
            fraction_lost: 12,
            cumulative_lost: 34,
            highest_sequence: 56,
            jitter: 78,
            last_sr: 90,
            delay_since_last_sr: 12,
        };
        let data = receiver_report(0x0102_0304, &block);
        assert_eq!(data.len(), 52);
        assert_eq!(data[..8], [0x81, 201, 0, 7, 1, 2, 3, 4]);
        assert_eq!(data[12..16], [12, 0, 0, 34]);
        assert_eq!(data[32..36], [0x81, 202, 0, 4]);
        assert_eq!(data[40..48], *b"\x01\x06yonder");
    }

    proptest! {
        #[test]
        fn any_bytes_are_parsed_without_panic(data: Vec<u8>) {
            let _ = parse_compound(&data);
        }
    }
}
