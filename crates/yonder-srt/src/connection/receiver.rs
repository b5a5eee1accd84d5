//! Receive buffer: packet order, loss reports, acknowledgements, and delivery at the time intended by the sender (4.5).

use std::collections::{BTreeMap, VecDeque};
use std::time::Duration;

use bytes::Bytes;

use crate::packet::{AckReport, Control, HEADER, LossRange};
use crate::sequence::{number_near, on_wire};

use super::rtt::Rtt;

/// Interval of full acknowledgements (4.8.1).
const ACK_EVERY: Duration = Duration::from_millis(10);
/// Packets between light acknowledgements.
const LIGHT_ACK_PACKETS: u64 = 64;
/// Minimum interval of periodic loss reports (4.8.2).
const REPORT_EVERY: Duration = Duration::from_millis(20);
/// Delay of polling after which missing packets may have arrived unread, or could not be requested in time.
const SCHEDULING_GAP: Duration = Duration::from_millis(20);
/// Minimum wait for a retransmission after such a gap.
const MIN_REPAIR_WAIT: Duration = Duration::from_millis(250);
/// Maximum wait after the delivery time: no sender keeps packets for longer.
const MAX_REPAIR_WAIT: Duration = Duration::from_secs(1);
/// Maximum packets: the usual flow window.
const MAX_PACKETS: u64 = 8_192;
/// Maximum ranges in one report, as many as fit a datagram.
const MAX_RANGES: usize = 180;
/// Maximum acknowledgements that wait for their ACKACK.
const AWAITED: usize = 64;
/// Packets over which the drift of the peer's clock is averaged (4.7).
const DRIFT_SAMPLES: u32 = 1_000;
/// Drift, in microseconds, beyond which the time base is adjusted.
const DRIFT_STEP: i64 = 5_000;
/// Packet pairs over which the link capacity is estimated.
const PROBES: usize = 16;

/// Sum of the differences between the peer's clock and its expected value.
#[derive(Debug, Clone, Copy, Default)]
struct DriftSum {
    sum_us: i64,
    samples: u32,
}

/// Full acknowledgement whose ACKACK is awaited.
#[derive(Debug, Clone, Copy)]
struct SentAck {
    number: u32,
    sent: Duration,
}

/// Rates over the last second, and the counters at its end.
#[derive(Debug, Clone, Copy, Default)]
struct ReceiveRates {
    since: Duration,
    packets: u64,
    bytes: u64,
    packets_per_s: u32,
    bytes_per_s: u32,
}

impl ReceiveRates {
    /// Updates the rates from the total counters once a second.
    fn update(&mut self, packets: u64, bytes: u64, now: Duration) {
        let span = now.saturating_sub(self.since);
        if span < Duration::from_secs(1) {
            return;
        }
        let span_us = u64::try_from(span.as_micros()).unwrap_or(u64::MAX);
        let per_second = |count: u64| low(count.saturating_mul(1_000_000) / span_us);
        let header = u64::try_from(HEADER).unwrap_or_default();
        let received = packets - self.packets;
        *self = Self {
            since: now,
            packets,
            bytes,
            packets_per_s: per_second(received),
            bytes_per_s: per_second(bytes - self.bytes + received * header),
        };
    }
}

/// Receiving half.
#[derive(Debug)]
pub(super) struct Receiver {
    /// Payloads by packet number, with their delivery time.
    held: BTreeMap<u64, (Bytes, Duration)>,
    /// Next packet to be delivered.
    next: u64,
    /// One after the highest packet received.
    end: u64,
    /// Missing packets, with the time of their last report.
    missing: BTreeMap<u64, Duration>,
    /// Our clock at zero of the peer's, in microseconds.
    base_us: i64,
    latency: Duration,
    drift: DriftSum,
    ack_number: u32,
    acked: u64,
    acked_at: Duration,
    awaited: VecDeque<SentAck>,
    since_ack: u64,
    report_at: Duration,
    /// Missing packets are waited for at least until then.
    repair_until: Duration,
    received: u64,
    skipped: u64,
    bytes: u64,
    rates: ReceiveRates,
    last_arrival: Option<(u64, Duration)>,
    probes: VecDeque<Duration>,
}

fn micros(time: Duration) -> i64 {
    i64::try_from(time.as_micros()).unwrap_or(i64::MAX)
}

fn low(number: u64) -> u32 {
    u32::try_from(number).unwrap_or(u32::MAX)
}

impl Receiver {
    pub(super) fn new(first: u64, latency: Duration, peer_time: (u32, Duration), now: Duration) -> Self {
        Self {
            held: BTreeMap::new(),
            next: first,
            end: first,
            missing: BTreeMap::new(),
            base_us: micros(peer_time.1) - i64::from(peer_time.0),
            latency,
            drift: DriftSum::default(),
            ack_number: 0,
            acked: first,
            acked_at: now,
            awaited: VecDeque::new(),
            since_ack: 0,
            report_at: now,
            repair_until: Duration::ZERO,
            received: 0,
            skipped: 0,
            bytes: 0,
            rates: ReceiveRates { since: now, ..ReceiveRates::default() },
            last_arrival: None,
            probes: VecDeque::new(),
        }
    }

    pub(super) fn received(&self) -> u64 {
        self.received
    }

    pub(super) fn missing(&self) -> u64 {
        self.skipped
    }

    /// Handles a packet with its time on the peer's clock. Returns a loss report if it reveals missing packets.
    pub(super) fn handle_data(
        &mut self,
        sequence: u32,
        time_us: i64,
        payload: Bytes,
        now: Duration,
    ) -> Option<Control> {
        let number = number_near(self.end, sequence);
        if number < self.next || number >= self.next + MAX_PACKETS || self.held.contains_key(&number) {
            return None;
        }
        self.received += 1;
        self.since_ack += 1;
        self.bytes += u64::try_from(payload.len()).unwrap_or_default();
        self.measure(number, time_us, now);
        let deliver = self.base_us.saturating_add(time_us).max(0);
        let deliver = Duration::from_micros(u64::try_from(deliver).unwrap_or_default()) + self.latency;
        self.held.insert(number, (payload, deliver));
        self.missing.remove(&number);
        if number < self.end {
            return None;
        }
        let gap = self.end..number;
        self.end = number + 1;
        if gap.is_empty() {
            return None;
        }
        self.missing.extend(gap.clone().map(|missing| (missing, now)));
        let range = LossRange { first: on_wire(gap.start), last: on_wire(gap.end - 1) };
        Some(Control::Nak(vec![range]))
    }

    /// Measures the clock drift, and the link capacity from packet pairs.
    fn measure(&mut self, number: u64, time_us: i64, now: Duration) {
        let apart = micros(now) - (self.base_us + time_us);
        self.drift.sum_us += apart;
        self.drift.samples += 1;
        if self.drift.samples == DRIFT_SAMPLES {
            // The mean includes the network delay: only a part beyond a plausible delay is drift.
            let mean = self.drift.sum_us / i64::from(DRIFT_SAMPLES);
            if mean < -DRIFT_STEP {
                self.base_us += mean;
            }
            self.drift = DriftSum::default();
        }
        if let Some((last, at)) = self.last_arrival.replace((number, now))
            && last % 16 == 0
            && number == last + 1
        {
            if self.probes.len() == PROBES {
                self.probes.pop_front();
            }
            self.probes.push_back(now.saturating_sub(at));
        }
    }

    fn capacity(&self) -> u32 {
        let mut sorted: Vec<Duration> = self.probes.iter().copied().collect();
        sorted.sort_unstable();
        let median = sorted.get(sorted.len() / 2).map_or(0, Duration::as_micros);
        // Packets with the same arrival time carry no information.
        if median < 2 { 0 } else { low(1_000_000 / u64::try_from(median).unwrap_or(u64::MAX)) }
    }

    /// Handles a drop request: the peer will not send these packets.
    pub(super) fn handle_drop(&mut self, range: LossRange) {
        let first = number_near(self.end, range.first).max(self.next);
        let last = number_near(self.end, range.last).min(self.next + MAX_PACKETS);
        if last < first {
            return;
        }
        if last >= self.end {
            self.end = last + 1;
        }
        self.missing.retain(|number, _| !(first..=last).contains(number));
        // Dropped packets at the front would be waited for without end.
        if first == self.next && !self.held.range(first..=last).any(|_| true) {
            self.skipped += last + 1 - self.next;
            self.next = last + 1;
        }
    }

    /// Detects a call later than the requested time: a busy machine must not lose packets that can still be
    /// retransmitted. Must be called before anything else at `now`.
    pub(super) fn wake(&mut self, now: Duration, rtt: &Rtt) {
        if self.next_due(rtt).is_some_and(|due| now > due + SCHEDULING_GAP) {
            let repair = self.report_pause(rtt) * 3 + rtt.smoothed();
            self.repair_until = now + MIN_REPAIR_WAIT.max(repair);
            // A round trip that includes the delay does not measure the network.
            self.awaited.clear();
        }
    }

    /// Returns when the first available payload is due, at which the missing packets before it are given up.
    fn first_due(&self) -> Option<Duration> {
        let (&number, &(_, due)) = self.held.first_key_value()?;
        let is_behind_hole = number > self.next;
        Some(if is_behind_hole { due.max(self.repair_until.min(due + MAX_REPAIR_WAIT)) } else { due })
    }

    /// Returns the next payload that is due; missing packets before it are given up.
    pub(super) fn poll_data(&mut self, now: Duration) -> Option<Bytes> {
        if self.first_due()? > now {
            return None;
        }
        let (&number, _) = self.held.first_key_value()?;
        if number > self.next {
            self.skipped += number - self.next;
            self.missing = self.missing.split_off(&number);
        }
        self.next = number + 1;
        self.held.pop_first().map(|(_, (payload, _))| payload)
    }

    /// Returns the first packet that has neither arrived nor been given up.
    fn first_missing(&self) -> u64 {
        self.missing.first_key_value().map_or(self.end, |(number, _)| *number)
    }

    pub(super) fn light_ack(&mut self) -> Option<Control> {
        if self.since_ack < LIGHT_ACK_PACKETS {
            return None;
        }
        self.since_ack = 0;
        Some(Control::Ack { number: 0, next: on_wire(self.first_missing()), report: None })
    }

    pub(super) fn due_ack(&mut self, now: Duration, rtt: &Rtt) -> Option<Control> {
        let next = self.first_missing();
        if now < self.acked_at + ACK_EVERY || next == self.acked {
            return None;
        }
        self.rates.update(self.received, self.bytes, now);
        self.acked = next;
        self.acked_at = now;
        self.since_ack = 0;
        self.ack_number = self.ack_number.wrapping_add(1).max(1);
        if self.awaited.len() == AWAITED {
            self.awaited.pop_front();
        }
        self.awaited.push_back(SentAck { number: self.ack_number, sent: now });
        let free = MAX_PACKETS.saturating_sub(self.end - self.next);
        let report = AckReport {
            rtt_us: low(u64::try_from(rtt.smoothed().as_micros()).unwrap_or(u64::MAX)),
            rtt_variance_us: low(u64::try_from(rtt.variance().as_micros()).unwrap_or(u64::MAX)),
            free_packets: low(free).max(2),
            packets_per_s: self.rates.packets_per_s,
            capacity_packets_per_s: self.capacity(),
            bytes_per_s: self.rates.bytes_per_s,
        };
        Some(Control::Ack { number: self.ack_number, next: on_wire(next), report: Some(report) })
    }

    /// Returns the round-trip time of an acknowledgement, at its ACKACK.
    pub(super) fn handle_ack_ack(&mut self, number: u32, now: Duration) -> Option<Duration> {
        let at = self.awaited.iter().position(|ack| ack.number == number)?;
        let ack = self.awaited.drain(..=at).next_back()?;
        Some(now.saturating_sub(ack.sent))
    }

    /// Returns the interval between reports of the same packet (4.8.2), short enough for several within the latency:
    /// after a stall the measured variance would otherwise delay all of them.
    fn report_pause(&self, rtt: &Rtt) -> Duration {
        if !rtt.is_measured() {
            // The assumed round-trip time is longer than most latencies.
            return REPORT_EVERY;
        }
        ((rtt.smoothed() + rtt.variance() * 4) / 2).min(self.latency / 4).max(REPORT_EVERY)
    }

    /// Returns a periodic report of the missing packets. Checked twice in each interval, so that no packet waits for
    /// nearly two.
    pub(super) fn due_report(&mut self, now: Duration, rtt: &Rtt) -> Option<Control> {
        let pause = self.report_pause(rtt);
        if self.missing.is_empty() || now < self.report_at + pause / 2 {
            return None;
        }
        self.report_at = now;
        let mut ranges: Vec<(u64, u64)> = Vec::new();
        for (&number, reported) in &mut self.missing {
            if now.saturating_sub(*reported) < pause {
                continue;
            }
            *reported = now;
            let is_full = ranges.len() == MAX_RANGES;
            match ranges.last_mut() {
                Some((_, last)) if *last + 1 == number => *last = number,
                _ if is_full => break,
                _ => ranges.push((number, number)),
            }
        }
        let ranges: Vec<LossRange> = ranges
            .into_iter()
            .map(|(first, last)| LossRange { first: on_wire(first), last: on_wire(last) })
            .collect();
        (!ranges.is_empty()).then_some(Control::Nak(ranges))
    }

    /// Returns when something is due: a delivery, an acknowledgement, or a report.
    pub(super) fn next_due(&self, rtt: &Rtt) -> Option<Duration> {
        let delivery = self.first_due();
        let ack = (self.first_missing() != self.acked).then_some(self.acked_at + ACK_EVERY);
        let report = (!self.missing.is_empty()).then(|| self.report_at + self.report_pause(rtt) / 2);
        [delivery, ack, report].into_iter().flatten().min()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sequence::first_number;

    fn ms(ms: u64) -> Duration {
        Duration::from_millis(ms)
    }

    fn receiver() -> Receiver {
        Receiver::new(first_number(100), ms(120), (0, ms(10)), ms(10))
    }

    fn packet(byte: u8) -> Bytes {
        Bytes::from(vec![byte])
    }

    #[test]
    fn payloads_come_out_in_order_at_their_times() {
        let mut receiver = receiver();
        assert_eq!(receiver.handle_data(100, 5_000, packet(1), ms(20)), None);
        assert_eq!(receiver.handle_data(101, 6_000, packet(2), ms(20)), None);
        assert_eq!(receiver.poll_data(ms(134)), None);
        assert_eq!(receiver.next_due(&Rtt::default()), Some(ms(20)));
        assert_eq!(receiver.poll_data(ms(135)), Some(packet(1)));
        assert_eq!(receiver.poll_data(ms(135)), None);
        assert_eq!(receiver.poll_data(ms(136)), Some(packet(2)));
    }

    #[test]
    fn loss_is_reported_at_once_and_periodically() {
        let mut receiver = receiver();
        receiver.handle_data(100, 0, packet(1), ms(20));
        let report = receiver.handle_data(103, 0, packet(4), ms(21));
        assert_eq!(report, Some(Control::Nak(vec![LossRange { first: 101, last: 102 }])));
        receiver.handle_data(102, 0, packet(3), ms(30));
        let again = receiver.due_report(ms(300), &Rtt::default());
        assert_eq!(again, Some(Control::Nak(vec![LossRange { first: 101, last: 101 }])));
        assert_eq!(receiver.due_report(ms(301), &Rtt::default()), None);
        let Some(Control::Ack { next, .. }) = receiver.due_ack(ms(301), &Rtt::default()) else { panic!() };
        assert_eq!(next, 101);
    }

    #[test]
    fn late_packets_are_skipped_and_counted() {
        let mut receiver = receiver();
        receiver.handle_data(100, 0, packet(1), ms(20));
        receiver.handle_data(103, 3_000, packet(4), ms(21));
        assert_eq!(receiver.poll_data(ms(140)), Some(packet(1)));
        assert_eq!(receiver.poll_data(ms(140)), Some(packet(4)));
        assert_eq!(receiver.missing(), 2);
        assert_eq!(receiver.handle_data(101, 0, packet(2), ms(141)), None);
        assert_eq!(receiver.poll_data(ms(200)), None);
    }

    #[test]
    fn receiver_keeps_recoverable_packets_after_a_scheduling_gap() {
        let mut receiver = receiver();
        let rtt = Rtt::of_handshake(ms(2));
        receiver.handle_data(100, 0, packet(1), ms(20));
        receiver.handle_data(102, 2_000, packet(3), ms(22));
        // No call for a third of a second, in which the delivery of all three fell due.
        receiver.wake(ms(350), &rtt);
        assert_eq!(receiver.poll_data(ms(350)), Some(packet(1)));
        assert_eq!(receiver.poll_data(ms(350)), None);
        assert!(receiver.due_report(ms(350), &rtt).is_some());
        receiver.handle_data(101, 1_000, packet(2), ms(360));
        assert_eq!(
            [receiver.poll_data(ms(360)), receiver.poll_data(ms(360))],
            [Some(packet(2)), Some(packet(3))]
        );
        assert_eq!(receiver.missing(), 0);
    }

    #[test]
    fn wait_after_a_scheduling_gap_is_bounded() {
        let mut receiver = receiver();
        let rtt = Rtt::of_handshake(ms(2));
        receiver.handle_data(101, 0, packet(2), ms(22));
        for now in (100..1_130).step_by(30) {
            receiver.wake(ms(now), &rtt);
            assert_eq!(receiver.poll_data(ms(now)), None, "{now}");
        }
        receiver.wake(ms(1_131), &rtt);
        assert_eq!(receiver.poll_data(ms(1_131)), Some(packet(2)));
        assert_eq!(receiver.missing(), 1);
    }

    #[test]
    fn a_round_trip_that_varies_does_not_keep_reports_beyond_the_latency() {
        let mut receiver = receiver();
        let mut rtt = Rtt::of_handshake(ms(2));
        rtt.take_sample(ms(900));
        receiver.handle_data(100, 0, packet(1), ms(20));
        receiver.handle_data(102, 0, packet(3), ms(22));
        let reports = (22..140).filter(|now| receiver.due_report(ms(*now), &rtt).is_some()).count();
        assert_eq!(reports, 3);
    }

    #[test]
    fn packets_of_a_drop_request_are_not_reported() {
        let mut receiver = receiver();
        receiver.handle_data(102, 0, packet(3), ms(20));
        receiver.handle_drop(LossRange { first: 100, last: 101 });
        assert_eq!(receiver.due_report(ms(900), &Rtt::default()), None);
        assert_eq!((receiver.missing(), receiver.poll_data(ms(900))), (2, Some(packet(3))));
    }

    #[test]
    fn duplicates_and_packets_far_ahead_are_ignored() {
        let mut receiver = receiver();
        receiver.handle_data(100, 0, packet(1), ms(20));
        receiver.handle_data(100, 0, packet(9), ms(20));
        receiver.handle_data(100 + 20_000, 0, packet(9), ms(20));
        assert_eq!((receiver.received(), receiver.held.len(), receiver.missing.len()), (1, 1, 0));
    }

    #[test]
    fn link_capacity_is_estimated_from_packet_pairs() {
        let mut receiver = Receiver::new(first_number(0), ms(120), (0, ms(10)), ms(10));
        for number in 0..200_u32 {
            // A packet each millisecond, but each sixteenth is followed by the next after 250 microseconds.
            let pair = u64::from(number % 16 == 1) * 750;
            let now = ms(20 + u64::from(number)) - Duration::from_micros(pair);
            receiver.handle_data(number, 0, packet(1), now);
        }
        let Some(Control::Ack { report: Some(report), .. }) = receiver.due_ack(ms(1_500), &Rtt::default())
        else {
            panic!()
        };
        assert_eq!(report.capacity_packets_per_s, 4_000);
        assert!((130..=140).contains(&report.packets_per_s), "{report:?}");
    }

    #[test]
    fn the_round_trip_of_an_acknowledgement_is_measured() {
        let mut receiver = receiver();
        receiver.handle_data(100, 0, packet(1), ms(20));
        let Some(Control::Ack { number, .. }) = receiver.due_ack(ms(30), &Rtt::default()) else { panic!() };
        assert_eq!(receiver.handle_ack_ack(number, ms(75)), Some(ms(45)));
        assert_eq!(receiver.handle_ack_ack(number, ms(80)), None);
    }
}
