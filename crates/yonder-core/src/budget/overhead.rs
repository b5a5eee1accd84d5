//! What a protocol adds to the media it carries, down to the IP packets that an uplink counts.
//!
//! The shares were measured on the railway's clips with the counters of the system, at Ethernet's packet size; the
//! figures document says how. Small streams pay a little more for their headers than large ones.

use yonder_address::Protocol;

/// Added by each protocol, in thousandths of the media's bits.
const RTMP: u64 = 45;
const RTMPS: u64 = 52;
const SRT: u64 = 90;
/// What pulling by RTSP adds: RTP headers, interleaving and TCP, or UDP alone.
const PULL: u64 = 50;

/// Kilobits per second on the uplink for so much media, by the protocol that carries it; `None` for a pull.
#[must_use]
pub fn on_wire_kbps(protocol: Option<Protocol>, media_kbps: u64) -> u64 {
    let share = match protocol {
        Some(Protocol::Rtmp) => RTMP,
        Some(Protocol::Rtmps) => RTMPS,
        Some(Protocol::Srt) => SRT,
        None => PULL,
    };
    media_kbps.saturating_add((media_kbps.saturating_mul(share) + 500) / 1_000)
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
        assert_eq!(on_wire_kbps(None, 0), 0);
    }
}
