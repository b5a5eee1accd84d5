//! Overhead of protocols, down to the IP packets that an uplink counts.
//!
//! Measured on the railway's clips, at Ethernet's packet size; the figures document says how to repeat it. A
//! transport stream has a part that does not shrink with the picture: tables, clock references, stuffing.

use yonder_address::Protocol;

/// Added by each protocol, in thousandths of the media's bits.
const RTMP: u64 = 43;
const RTMPS: u64 = 45;
const SRT: u64 = 70;
/// Fixed overhead of a transport stream, in kilobits per second.
const SRT_FIXED_KBPS: u64 = 85;
/// Overhead of an RTSP pull: RTP headers, interleaving and TCP, or UDP alone.
const PULL: u64 = 50;

/// Kilobits per second of media that fit into so many on the uplink: the other way round.
pub(super) fn media_kbps(protocol: Protocol, wire_kbps: u64) -> u64 {
    let (share, fixed) = match protocol {
        Protocol::Rtmp => (RTMP, 0),
        Protocol::Rtmps => (RTMPS, 0),
        Protocol::Srt => (SRT, SRT_FIXED_KBPS),
    };
    wire_kbps.saturating_sub(fixed).saturating_mul(1_000) / (1_000 + share)
}

/// Kilobits per second on the uplink for so much media, by the protocol that carries it; `None` for a pull.
#[must_use]
pub fn on_wire_kbps(protocol: Option<Protocol>, media_kbps: u64) -> u64 {
    let (share, fixed) = match protocol {
        Some(Protocol::Rtmp) => (RTMP, 0),
        Some(Protocol::Rtmps) => (RTMPS, 0),
        Some(Protocol::Srt) => (SRT, SRT_FIXED_KBPS),
        None => (PULL, 0),
    };
    let added = (media_kbps.saturating_mul(share) + 500) / 1_000;
    media_kbps.saturating_add(added).saturating_add(if media_kbps == 0 { 0 } else { fixed })
}

/// Bytes on the uplink for so many bytes handed to the system: what IP and TCP or UDP headers add to full packets.
#[must_use]
pub fn with_ip_headers(protocol: Option<Protocol>, bytes: u64) -> u64 {
    let thousandths = match protocol {
        // 20 + 8 to a datagram of 1332.
        Some(Protocol::Srt) => 21,
        // 20 + 32 to a segment of 1448.
        Some(Protocol::Rtmp | Protocol::Rtmps) | None => 36,
    };
    bytes.saturating_add(bytes / 1_000 * thousandths)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_protocol_costs_more_than_the_media_and_less_than_an_eighth_of_it() {
        for protocol in Protocol::ALL {
            let wire = on_wire_kbps(Some(protocol), 4_000);
            assert!(wire > 4_000 && wire < 4_500, "{protocol:?}: {wire}");
        }
        assert_eq!((on_wire_kbps(None, 0), on_wire_kbps(Some(Protocol::Srt), 0)), (0, 0));
    }

    #[test]
    fn there_and_back_is_the_same_but_for_rounding() {
        for protocol in Protocol::ALL {
            let back = media_kbps(protocol, on_wire_kbps(Some(protocol), 3_000));
            assert!(back.abs_diff(3_000) <= 1, "{protocol:?}: {back}");
        }
    }
}
