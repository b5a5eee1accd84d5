//! Jitter buffer for one RTP stream: restores the order of datagrams (RFC 3550, A.1) within a bounded wait.

use std::collections::VecDeque;
use std::time::Duration;

use super::packet::RtpPacket;

/// Maximum wait for a missing packet. Networks reorder by a few milliseconds.
const REORDER_TIMEOUT: Duration = Duration::from_millis(120);
/// Maximum number of packets: a quarter of a second at 25 Mbit/s.
const MAX_PACKETS: usize = 512;
/// Step of the sequence number, in either direction, that counts as a restart (`MAX_DROPOUT`, A.1).
const MAX_STEP: u16 = 3000;

/// Statistics of a jitter buffer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct OrderStats {
    /// Packets that arrived after a later one.
    pub reordered: u64,
    /// Duplicate packets, and packets later than the maximum wait.
    pub repeated: u64,
}

/// Jitter buffer of one track.
#[derive(Debug, Default)]
pub struct JitterBuffer {
    /// Next sequence number to return.
    next: Option<u16>,
    ssrc: u32,
    /// Packets, ascending from `next`.
    held: VecDeque<(RtpPacket, Duration)>,
    /// All packets are returned in order, since the camera has restarted its numbering.
    flushing: bool,
    after_flush: Option<(RtpPacket, Duration)>,
    stats: OrderStats,
}

impl JitterBuffer {
    /// Returns the statistics.
    #[must_use]
    pub fn stats(&self) -> OrderStats {
        self.stats
    }

    /// Adds a packet that arrived at `now`.
    pub fn push(&mut self, packet: RtpPacket, now: Duration) {
        let Some(next) = self.next.filter(|_| packet.ssrc == self.ssrc) else {
            return self.restart(packet, now);
        };
        let ahead = packet.sequence.wrapping_sub(next);
        if ahead > MAX_STEP {
            let behind = next.wrapping_sub(packet.sequence);
            if behind <= MAX_STEP {
                self.stats.repeated += 1;
                return;
            }
            return self.restart(packet, now);
        }
        let at = self.held.partition_point(|(held, _)| held.sequence.wrapping_sub(next) < ahead);
        if self.held.get(at).is_some_and(|(held, _)| held.sequence == packet.sequence) {
            self.stats.repeated += 1;
            return;
        }
        self.stats.reordered += u64::from(at < self.held.len());
        self.held.insert(at, (packet, now));
    }

    /// Returns the next packet in order, with its time of arrival. A missing packet is skipped when the one after it
    /// has waited long enough, or when too many wait; the gap shows in the sequence numbers.
    pub fn pop(&mut self, now: Duration) -> Option<(RtpPacket, Duration)> {
        let Some((front, came)) = self.held.front() else {
            self.flushing = false;
            let (packet, came) = self.after_flush.take()?;
            self.next = Some(packet.sequence.wrapping_add(1));
            self.ssrc = packet.ssrc;
            return Some((packet, came));
        };
        let in_order = Some(front.sequence) == self.next;
        let given_up = now.saturating_sub(*came) >= REORDER_TIMEOUT || self.held.len() > MAX_PACKETS;
        if !in_order && !given_up && !self.flushing {
            return None;
        }
        let (packet, came) = self.held.pop_front()?;
        self.next = Some(packet.sequence.wrapping_add(1));
        Some((packet, came))
    }

    /// Returns when the packet at the front has waited long enough.
    #[must_use]
    pub fn poll_timeout(&self) -> Option<Duration> {
        self.held.front().map(|(_, came)| *came + REORDER_TIMEOUT)
    }

    fn restart(&mut self, packet: RtpPacket, now: Duration) {
        self.flushing = !self.held.is_empty();
        // A second restart before the first was returned: only the latest packet is kept.
        self.after_flush = Some((packet, now));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use bytes::Bytes;
    use proptest::prelude::*;

    fn packet(ssrc: u32, sequence: u16) -> RtpPacket {
        RtpPacket { marker: false, payload_type: 96, sequence, timestamp: 0, ssrc, payload: Bytes::new() }
    }

    fn ms(ms: u64) -> Duration {
        Duration::from_millis(ms)
    }

    /// Pushes packets a millisecond apart, and returns what comes out.
    fn run(buffer: &mut JitterBuffer, sequences: &[u16]) -> Vec<u16> {
        let mut out = Vec::new();
        for (at, sequence) in (0..).zip(sequences) {
            buffer.push(packet(1, *sequence), ms(at));
            while let Some((packet, _)) = buffer.pop(ms(at)) {
                out.push(packet.sequence);
            }
        }
        out
    }

    #[test]
    fn packets_in_order_pass_at_once() {
        let mut buffer = JitterBuffer::default();
        assert_eq!(run(&mut buffer, &[65_534, 65_535, 0, 1]), vec![65_534, 65_535, 0, 1]);
        assert_eq!((buffer.stats(), buffer.poll_timeout()), (OrderStats::default(), None));
    }

    #[test]
    fn reordered_and_duplicate_packets_are_returned_once_in_order() {
        let mut buffer = JitterBuffer::default();
        assert_eq!(run(&mut buffer, &[65_534, 0, 65_535, 0, 2, 1, 1]), vec![65_534, 65_535, 0, 1, 2]);
        assert_eq!(buffer.stats(), OrderStats { reordered: 2, repeated: 2 });
    }

    #[test]
    fn lost_packet_is_skipped_after_the_timeout() {
        let mut buffer = JitterBuffer::default();
        assert_eq!(run(&mut buffer, &[5, 7, 8]), vec![5]);
        assert_eq!(buffer.poll_timeout(), Some(ms(1) + REORDER_TIMEOUT));
        assert!(buffer.pop(ms(100)).is_none());
        let late = ms(1) + REORDER_TIMEOUT;
        let out: Vec<u16> =
            std::iter::from_fn(|| buffer.pop(late)).map(|(packet, _)| packet.sequence).collect();
        assert_eq!(out, vec![7, 8]);
        buffer.push(packet(1, 6), late);
        assert!(buffer.pop(late).is_none(), "too late");
        assert_eq!(buffer.stats().repeated, 1);
    }

    #[test]
    fn new_source_follows_all_held_packets() {
        let mut buffer = JitterBuffer::default();
        run(&mut buffer, &[5, 7]);
        buffer.push(packet(2, 40_000), ms(3));
        let out: Vec<u16> =
            std::iter::from_fn(|| buffer.pop(ms(3))).map(|(packet, _)| packet.sequence).collect();
        assert_eq!(out, vec![7, 40_000]);
        assert_eq!(run(&mut buffer, &[]), Vec::<u16>::new());
        buffer.push(packet(2, 40_001), ms(4));
        assert!(buffer.pop(ms(4)).is_some());
        buffer.push(packet(2, 10), ms(5));
        assert_eq!(buffer.pop(ms(5)).map(|(packet, _)| packet.sequence), Some(10));
    }

    proptest! {
        #[test]
        fn sequence_numbers_rise_and_memory_is_bounded(
            start: u16,
            steps in prop::collection::vec((0_u16..40, 0_u64..30), 1..400),
        ) {
            let mut buffer = JitterBuffer::default();
            let (mut now, mut last) = (0, None::<u16>);
            for (at, (jitter, wait)) in steps.into_iter().enumerate() {
                now += wait;
                let sequence = start.wrapping_add(u16::try_from(at).unwrap()).wrapping_add(jitter);
                buffer.push(packet(1, sequence), ms(now));
                while let Some((packet, _)) = buffer.pop(ms(now)) {
                    let step = last.map_or(1, |last| packet.sequence.wrapping_sub(last));
                    prop_assert!(step > 0 && step < MAX_STEP);
                    last = Some(packet.sequence);
                }
                prop_assert!(buffer.held.len() <= MAX_PACKETS + 1);
            }
        }
    }
}
