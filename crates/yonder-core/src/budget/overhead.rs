//! Protocol overhead down to the IP packets that an uplink counts.
//!
//! Measured on the demo clips with Ethernet's packet size; `docs/figures.md` says how to repeat it. A transport stream has a
//! constant part: tables, clock references, stuffing.

use yonder_address::Protocol;

/// Overhead of RTMP, in thousandths of the media bit rate.
const RTMP: u64 = 43;
const RTMPS: u64 = 45;
const SRT: u64 = 70;
/// Fixed overhead of a transport stream, in kilobits per second.
const SRT_FIXED_KBPS: u64 = 85;
/// Overhead of an RTSP pull: RTP headers, interleaving and TCP, or UDP alone.
const PULL: u64 = 50;

/// Returns the media bit rate that fits `wire_kbps`: the inverse of [`on_wire_kbps`].
pub(super) fn media_kbps(protocol: Protocol, wire_kbps: u64) -> u64 {
    let (share, fixed) = match protocol {
        Protocol::Rtmp => (RTMP, 0),
        Protocol::Rtmps => (RTMPS, 0),
        Protocol::Srt => (SRT, SRT_FIXED_KBPS),
    };
    wire_kbps.saturating_sub(fixed).saturating_mul(1_000) / (1_000 + share)
}

/// Returns the bit rate on the uplink for `media_kbps` over `protocol`; `None` stands for an RTSP pull.
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

/// Returns the bytes on the uplink for `bytes` handed to the system: IP and TCP or UDP headers of full packets included.
#[must_use]
pub fn with_ip_headers(protocol: Option<Protocol>, bytes: u64) -> u64 {
    let thousandths = match protocol {
        // 28 bytes of headers per datagram of 1332.
        Some(Protocol::Srt) => 21,
        // 52 bytes of headers per segment of 1448.
        Some(Protocol::Rtmp | Protocol::Rtmps) | None => 36,
    };
    bytes.saturating_add(bytes / 1_000 * thousandths)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn overhead_is_positive_and_below_an_eighth() {
        for protocol in Protocol::ALL {
            let wire = on_wire_kbps(Some(protocol), 4_000);
            assert!(wire > 4_000 && wire < 4_500, "{protocol:?}: {wire}");
        }
        assert_eq!((on_wire_kbps(None, 0), on_wire_kbps(Some(Protocol::Srt), 0)), (0, 0));
    }

    #[test]
    fn conversions_are_inverse_except_for_rounding() {
        for protocol in Protocol::ALL {
            let back = media_kbps(protocol, on_wire_kbps(Some(protocol), 3_000));
            assert!(back.abs_diff(3_000) <= 1, "{protocol:?}: {back}");
        }
    }
}
