//! Putting datagrams back in order (RFC 3550, A.1): a bounded buffer that waits a moment for what is late.

use std::collections::VecDeque;
use std::time::Duration;

use super::packet::RtpPacket;

/// How long a missing packet is waited for. Networks that reorder do so by a few milliseconds.
const REORDER_TIMEOUT: Duration = Duration::from_millis(120);
/// Most packets held: a quarter of a second at 25 Mbit/s.
const MOST: usize = 512;
/// A step of more than this, either way, is a restart of the numbering (`MAX_DROPOUT`, A.1).
const MAX_STEP: u16 = 3000;

/// Counts since the buffer was made.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct OrderFigures {
    /// Packets that came after a later one.
    pub reordered: u64,
    /// Packets that came twice, or after they had been given up.
    pub repeated: u64,
}

/// Packets of one track, on their way into order.
#[derive(Debug, Default)]
pub struct ReorderBuffer {
    /// The sequence number that is to be given out next.
    next: Option<u16>,
    ssrc: u32,
    /// Ascending from `next`.
    held: VecDeque<(RtpPacket, Duration)>,
    /// The buffer gives out all it holds, in order: the camera has restarted its numbering.
    flushing: bool,
    after_flush: Option<(RtpPacket, Duration)>,
    figures: OrderFigures,
}

impl ReorderBuffer {
    /// Counts so far.
    #[must_use]
    pub fn figures(&self) -> OrderFigures {
        self.figures
    }

    /// Takes a packet that arrived at `now`.
    pub fn push(&mut self, packet: RtpPacket, now: Duration) {
        let Some(next) = self.next.filter(|_| packet.ssrc == self.ssrc) else {
            return self.restart(packet, now);
        };
        let ahead = packet.sequence.wrapping_sub(next);
        if ahead > MAX_STEP {
            let behind = next.wrapping_sub(packet.sequence);
            if behind <= MAX_STEP {
                self.figures.repeated += 1;
                return;
            }
            return self.restart(packet, now);
        }
        let at = self.held.partition_point(|(held, _)| held.sequence.wrapping_sub(next) < ahead);
        if self.held.get(at).is_some_and(|(held, _)| held.sequence == packet.sequence) {
            self.figures.repeated += 1;
            return;
        }
        self.figures.reordered += u64::from(at < self.held.len());
        self.held.insert(at, (packet, now));
    }

    /// The next packet in order, with the time at which it came. A missing one is given up when the one behind it
    /// has waited long enough, or too many wait; the gap then shows in the sequence numbers.
    pub fn pop(&mut self, now: Duration) -> Option<(RtpPacket, Duration)> {
        let Some((front, came)) = self.held.front() else {
            self.flushing = false;
            let (packet, came) = self.after_flush.take()?;
            self.next = Some(packet.sequence.wrapping_add(1));
            self.ssrc = packet.ssrc;
            return Some((packet, came));
        };
        let in_order = Some(front.sequence) == self.next;
        let given_up = now.saturating_sub(*came) >= REORDER_TIMEOUT || self.held.len() > MOST;
        if !in_order && !given_up && !self.flushing {
            return None;
        }
        let (packet, came) = self.held.pop_front()?;
        self.next = Some(packet.sequence.wrapping_add(1));
        Some((packet, came))
    }

    /// When the packet at the front has waited long enough.
    #[must_use]
    pub fn poll_timeout(&self) -> Option<Duration> {
        self.held.front().map(|(_, came)| *came + REORDER_TIMEOUT)
    }

    fn restart(&mut self, packet: RtpPacket, now: Duration) {
        self.flushing = !self.held.is_empty();
        // A second restart before the first was given out: the newest word counts.
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

    /// Pushes packets a millisecond apart, and gives out what comes in order.
    fn run(buffer: &mut ReorderBuffer, sequences: &[u16]) -> Vec<u16> {
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
    fn what_comes_in_order_goes_through_at_once() {
        let mut buffer = ReorderBuffer::default();
        assert_eq!(run(&mut buffer, &[65_534, 65_535, 0, 1]), vec![65_534, 65_535, 0, 1]);
        assert_eq!((buffer.figures(), buffer.poll_timeout()), (OrderFigures::default(), None));
    }

    #[test]
    fn exchanged_and_repeated_packets_come_out_once_and_in_order() {
        let mut buffer = ReorderBuffer::default();
        assert_eq!(run(&mut buffer, &[65_534, 0, 65_535, 0, 2, 1, 1]), vec![65_534, 65_535, 0, 1, 2]);
        assert_eq!(buffer.figures(), OrderFigures { reordered: 2, repeated: 2 });
    }

    #[test]
    fn a_lost_packet_is_given_up_after_a_moment() {
        let mut buffer = ReorderBuffer::default();
        assert_eq!(run(&mut buffer, &[5, 7, 8]), vec![5]);
        assert_eq!(buffer.poll_timeout(), Some(ms(1) + REORDER_TIMEOUT));
        assert!(buffer.pop(ms(100)).is_none());
        let late = ms(1) + REORDER_TIMEOUT;
        let out: Vec<u16> =
            std::iter::from_fn(|| buffer.pop(late)).map(|(packet, _)| packet.sequence).collect();
        assert_eq!(out, vec![7, 8]);
        buffer.push(packet(1, 6), late);
        assert!(buffer.pop(late).is_none(), "too late");
        assert_eq!(buffer.figures().repeated, 1);
    }

    #[test]
    fn a_new_source_or_numbering_comes_after_all_that_is_held() {
        let mut buffer = ReorderBuffer::default();
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
        fn what_comes_out_rises_and_memory_is_bounded(
            start: u16,
            steps in prop::collection::vec((0_u16..40, 0_u64..30), 1..400),
        ) {
            let mut buffer = ReorderBuffer::default();
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
                prop_assert!(buffer.held.len() <= MOST + 1);
            }
        }
    }
}
