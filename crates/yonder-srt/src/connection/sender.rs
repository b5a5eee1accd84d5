//! Send buffer: retransmission, too-late packet drop, and packet scheduling.

use std::collections::{BTreeSet, VecDeque};
use std::time::Duration;

use bytes::Bytes;

use crate::packet::{AckReport, Control, HEADER, LossRange, Slot};
use crate::sequence::{MESSAGE_MASK, number_near, on_wire};

use super::rtt::Rtt;

/// Age, in quarters of the latency, after which packets are dropped (4.6: 1.25 times).
const LATE_QUARTERS: u32 = 5;
/// Minimum age for dropping a packet, so that short stalls of a machine cost no packets. A peer that has given up a packet
/// acknowledges those after it.
const LATE_AT_LEAST: Duration = Duration::from_secs(1);
/// Maximum packets, whatever the latency: about 80 Mbit with maximum payloads.
const MAX_PACKETS: usize = 8_192;
/// Every sixteenth packet is followed by the next at once, so that the peer can estimate the link capacity (4.10).
const PROBE: u64 = 16;
/// Maximum drop requests in response to one loss report.
const MAX_DROP_REQUESTS: usize = 64;
/// Retransmissions may use a quarter of the stream's rate (5.1.1), and at least this many packets per second.
const REPAIR_SHARE: u64 = 4;
const REPAIR_FLOOR: u64 = 400;
/// Packets that are lost again may use a quarter of the stream's rate, and at least this many packets per second: on a congested
/// path, more repetitions would take the place of new packets.
const REPEAT_FLOOR: u64 = 40;
/// Maximum repetitions of lost retransmissions in a burst.
const REPEAT_BURST: u64 = 64;
/// Interval at which repetitions that are not allowed yet are checked.
const REPEAT_INTERVAL: Duration = Duration::from_millis(5);
/// Period of acknowledgements (4.8.1).
const ACK_PERIOD: Duration = Duration::from_millis(10);
/// Maximum retransmissions in a burst.
const REPAIR_BURST: u64 = 256;

#[derive(Debug)]
struct SendBufferEntry {
    payload: Bytes,
    /// Key of the encrypted payload.
    sealed: Option<Slot>,
    /// Scheduled time of the first transmission; its timestamp.
    origin: Duration,
    /// Time of the last transmission.
    sent: Option<Duration>,
    reported: bool,
    /// Number of retransmissions.
    repairs: u32,
}

/// Packet that may be sent now.
#[derive(Debug)]
pub(super) struct NextPacket {
    pub(super) number: u64,
    pub(super) sequence: u32,
    pub(super) message: u32,
    pub(super) origin: Duration,
    pub(super) payload: Bytes,
    pub(super) sealed: Option<Slot>,
    pub(super) retransmitted: bool,
}

#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Counts {
    pub(super) sent: u64,
    pub(super) lost: u64,
    pub(super) retransmitted: u64,
    pub(super) dropped: u64,
    pub(super) in_flight: u64,
}

/// Rate of queued packets.
#[derive(Debug, Clone, Copy, Default)]
struct PacketRate {
    since: Duration,
    /// Packets of the second that began at `since`.
    current: u64,
    /// Packets of the second before.
    previous: u64,
}

impl PacketRate {
    fn count(&mut self, now: Duration) {
        if now.saturating_sub(self.since) >= Duration::from_secs(1) {
            *self = Self { since: now, current: 1, previous: self.current };
        } else {
            self.current += 1;
        }
    }

    fn per_second(&self) -> u64 {
        self.previous.max(self.current)
    }
}

/// Sending half.
#[derive(Debug)]
pub(super) struct Sender {
    held: VecDeque<SendBufferEntry>,
    /// Number of the first packet in the buffer.
    first: u64,
    /// Number of the next packet to be sent.
    next: u64,
    /// Number of the connection's first packet; message numbers count from it.
    begin: u64,
    window: u64,
    late: Duration,
    to_repair: BTreeSet<u64>,
    repairs: u64,
    repairs_at: Duration,
    /// Allowed repetitions of lost retransmissions, in millionths.
    repeats: u64,
    repeats_at: Duration,
    counts: Counts,
    waiting_bytes: usize,
    estimated_bandwidth_kbps: u64,
    /// Rate of the packets that reach the peer, repetitions included, in kilobits per second.
    receiving_kbps: u64,
    rate: PacketRate,
}

impl Sender {
    pub(super) fn new(first: u64, window: u32, latency: Duration) -> Self {
        Self {
            held: VecDeque::new(),
            first,
            next: first,
            begin: first,
            window: u64::from(window).clamp(32, u64::try_from(MAX_PACKETS).unwrap_or(u64::MAX)),
            late: (latency * LATE_QUARTERS / 4).max(LATE_AT_LEAST),
            to_repair: BTreeSet::new(),
            repairs: REPAIR_BURST,
            repairs_at: Duration::ZERO,
            repeats: REPEAT_BURST * 1_000_000,
            repeats_at: Duration::ZERO,
            counts: Counts::default(),
            waiting_bytes: 0,
            estimated_bandwidth_kbps: 0,
            receiving_kbps: 0,
            rate: PacketRate::default(),
        }
    }

    pub(super) fn push(&mut self, payload: Bytes, at: Duration) {
        // Times never step back along the stream.
        let at = self.held.back().map_or(at, |last| last.origin.max(at));
        self.waiting_bytes += payload.len();
        self.held.push_back(SendBufferEntry {
            payload,
            sealed: None,
            origin: at,
            sent: None,
            reported: false,
            repairs: 0,
        });
        self.rate.count(at);
    }

    pub(super) fn backlog(&self) -> usize {
        self.waiting_bytes
    }

    pub(super) fn receiving_kbps(&self) -> u64 {
        self.receiving_kbps
    }

    pub(super) fn estimated_bandwidth_kbps(&self) -> u64 {
        self.estimated_bandwidth_kbps
    }

    pub(super) fn counts(&self) -> Counts {
        Counts { in_flight: u64::try_from(self.held.len()).unwrap_or_default(), ..self.counts }
    }

    fn get(&self, number: u64) -> Option<&SendBufferEntry> {
        self.held.get(usize::try_from(number.checked_sub(self.first)?).ok()?)
    }

    fn get_mut(&mut self, number: u64) -> Option<&mut SendBufferEntry> {
        self.held.get_mut(usize::try_from(number.checked_sub(self.first)?).ok()?)
    }

    /// Stores the encrypted payload: a retransmission must have the same bytes.
    pub(super) fn seal(&mut self, number: u64, ciphertext: Bytes, slot: Slot) {
        if let Some(held) = self.get_mut(number) {
            held.payload = ciphertext;
            held.sealed = Some(slot);
        }
    }

    pub(super) fn handle_ack(&mut self, next: u32, report: Option<&AckReport>) {
        let acknowledged = number_near(self.next, next);
        if acknowledged > self.next {
            // Packets that were not sent cannot have been received.
            return;
        }
        self.forget_before(acknowledged);
        if let Some(report) = report {
            if report.free_packets > 0 {
                let most = u64::try_from(MAX_PACKETS).unwrap_or(u64::MAX);
                self.window = u64::from(report.free_packets).clamp(2, most);
            }
            let bits = u64::try_from((crate::MAX_PAYLOAD + HEADER) * 8).unwrap_or_default();
            self.estimated_bandwidth_kbps = u64::from(report.capacity_packets_per_s) * bits / 1_000;
            self.receiving_kbps = u64::from(report.bytes_per_s) * 8 / 1_000;
        }
    }

    fn forget_before(&mut self, number: u64) {
        while self.first < number && self.held.pop_front().is_some() {
            self.first += 1;
        }
        self.to_repair = self.to_repair.split_off(&self.first);
    }

    /// Handles a loss report and returns drop requests for packets that are no longer in the buffer.
    ///
    /// The work is bounded by the number of packets in the buffer, however often a peer repeats a range.
    pub(super) fn handle_losses(&mut self, ranges: &[LossRange], now: Duration, rtt: &Rtt) -> Vec<Control> {
        let mut budget = self.held.len();
        let mut requests = Vec::new();
        for range in ranges {
            let first = number_near(self.next, range.first);
            let last = number_near(self.next, range.last).min(self.next.saturating_sub(1));
            if first > last {
                continue;
            }
            if first < self.first && requests.len() < MAX_DROP_REQUESTS {
                requests.push(Self::drop_request(first, last.min(self.first.saturating_sub(1))));
            }
            for number in first.max(self.first)..=last {
                if budget == 0 {
                    return requests;
                }
                budget -= 1;
                self.note_loss(number, now, rtt);
            }
        }
        requests
    }

    fn note_loss(&mut self, number: u64, now: Duration, rtt: &Rtt) {
        // Reports repeat until the packet has arrived; one retransmission per round trip is enough.
        let pause = rtt.smoothed();
        let Some(held) = self.get_mut(number) else { return };
        let fresh = !std::mem::replace(&mut held.reported, true);
        let is_due = held.sent.is_none_or(|sent| fresh || now.saturating_sub(sent) >= pause);
        self.counts.lost += u64::from(fresh);
        if is_due {
            self.to_repair.insert(number);
        }
    }

    /// Returns a drop request for packets that are no longer in the buffer, with message number zero (3.2.9).
    fn drop_request(first: u64, last: u64) -> Control {
        Control::DropRequest { message: 0, range: LossRange { first: on_wire(first), last: on_wire(last) } }
    }

    /// Returns the message number, which counts from 1 and wraps to 1 (3.1).
    fn message_of(&self, number: u64) -> u32 {
        let message = number.saturating_sub(self.begin) % u64::from(MESSAGE_MASK) + 1;
        u32::try_from(message).unwrap_or(1)
    }

    /// Drops packets that cannot arrive in time (4.6). The receiver drops them by itself, so it gets no drop request (3.2.9).
    pub(super) fn drop_late(&mut self, now: Duration) {
        while let Some(front) = self.held.front() {
            let late = now.saturating_sub(front.origin) > self.late;
            if !late && self.held.len() <= MAX_PACKETS {
                break;
            }
            if front.sent.is_none() {
                self.waiting_bytes = self.waiting_bytes.saturating_sub(front.payload.len());
            }
            self.held.pop_front();
            self.first += 1;
            self.counts.dropped += 1;
        }
        self.next = self.next.max(self.first);
        if self.to_repair.first().is_some_and(|number| *number < self.first) {
            self.to_repair = self.to_repair.split_off(&self.first);
        }
    }

    /// Returns how long the last packets of a burst wait for their acknowledgement before they are retransmitted.
    fn tail_pause(rtt: &Rtt) -> Duration {
        rtt.smoothed() + rtt.variance() * 4 + ACK_PERIOD * 2
    }

    /// Returns when the last packets are retransmitted: no later packet reveals their loss to the peer.
    fn tail_due(&self, rtt: &Rtt) -> Option<Duration> {
        let all_sent = self.get(self.next).is_none() && self.to_repair.is_empty();
        let sent = self.held.back().filter(|_| all_sent)?.sent?;
        Some(sent + Self::tail_pause(rtt))
    }

    /// Returns when the first packet that the peer misses is retransmitted without a loss report: reports get lost as
    /// well, and the acknowledgements stop at the missing packet.
    fn head_due(&self, rtt: &Rtt) -> Option<Duration> {
        let is_asked_for = |held: &&SendBufferEntry| held.reported && !self.to_repair.contains(&self.first);
        let sent = self.held.front().filter(is_asked_for)?.sent?;
        Some(sent + rtt.smoothed() + rtt.variance() * 4 + ACK_PERIOD)
    }

    /// Retransmits packets that were neither acknowledged in time nor reported.
    pub(super) fn repair_unasked(&mut self, now: Duration, rtt: &Rtt) {
        if self.head_due(rtt).is_some_and(|due| due <= now) {
            self.to_repair.insert(self.first);
        }
        if self.tail_due(rtt).is_some_and(|due| due <= now) {
            self.to_repair.extend(self.first..self.next);
        }
    }

    /// Returns the packet that may be sent at `now`: retransmissions first, since they are older, then one that is due up to
    /// `horizon`.
    pub(super) fn next_packet(&mut self, now: Duration, horizon: Duration) -> Option<NextPacket> {
        if let Some(number) = self.next_repair(now) {
            self.counts.retransmitted += 1;
            return self.take(number, true, now);
        }
        let held = self.get(self.next)?;
        let probes = self.next % PROBE == 1;
        let last_sent = self.next.checked_sub(1).and_then(|last| self.get(last)).and_then(|last| last.sent);
        let may_go = held.origin <= horizon || (probes && last_sent == Some(now));
        if !may_go || self.next - self.first >= self.window {
            return None;
        }
        let number = self.next;
        self.next += 1;
        self.counts.sent += 1;
        let next = self.take(number, false, now)?;
        self.waiting_bytes = self.waiting_bytes.saturating_sub(next.payload.len());
        Some(next)
    }

    fn next_repair(&mut self, now: Duration) -> Option<u64> {
        if self.to_repair.is_empty() {
            return None;
        }
        let share = (self.rate.per_second() / REPAIR_SHARE).max(REPAIR_FLOOR);
        let span = now.saturating_sub(self.repairs_at).min(Duration::from_secs(1));
        let earned = u64::try_from(span.as_micros()).unwrap_or_default() * share / 1_000_000;
        if earned > 0 {
            self.repairs = (self.repairs + earned).min(REPAIR_BURST);
            self.repairs_at = now;
        }
        if self.repairs == 0 {
            return None;
        }
        let span = now.saturating_sub(self.repeats_at).min(Duration::from_secs(1));
        let share = (self.rate.per_second() / REPAIR_SHARE).max(REPEAT_FLOOR);
        let earned = u64::try_from(span.as_micros()).unwrap_or_default() * share;
        self.repeats = (self.repeats + earned).min(REPEAT_BURST * 1_000_000);
        self.repeats_at = now;
        let number = self.next_allowed_repair()?;
        self.to_repair.remove(&number);
        self.repairs -= 1;
        if let Some(held) = self.get_mut(number) {
            held.repairs += 1;
            if held.repairs > 1 {
                self.repeats = self.repeats.saturating_sub(1_000_000);
            }
        }
        Some(number)
    }

    /// Returns the oldest packet that may be retransmitted: for the first time, or again.
    fn next_allowed_repair(&self) -> Option<u64> {
        let may_repeat = self.repeats >= 1_000_000;
        let is_first = |number: u64| self.get(number).is_none_or(|held| held.repairs == 0);
        self.to_repair.iter().copied().find(|number| may_repeat || is_first(*number))
    }

    fn take(&mut self, number: u64, retransmitted: bool, now: Duration) -> Option<NextPacket> {
        let message = self.message_of(number);
        let held = self.get_mut(number)?;
        held.sent = Some(now);
        Some(NextPacket {
            number,
            sequence: on_wire(number),
            message,
            origin: held.origin,
            payload: held.payload.clone(),
            sealed: held.sealed,
            retransmitted,
        })
    }

    /// Returns when a packet may be sent, or must be dropped.
    pub(super) fn next_due(&self, rtt: &Rtt) -> Option<Duration> {
        let late = self.held.front().map(|front| front.origin + self.late + Duration::from_micros(1));
        let fits = self.next - self.first < self.window;
        let fresh = self.get(self.next).filter(|_| fits).map(|held| held.origin);
        let repair = if self.to_repair.is_empty() {
            None
        } else if self.repairs == 0 {
            Some(self.repairs_at + Duration::from_millis(3))
        } else if self.next_allowed_repair().is_none() {
            Some(self.repeats_at + REPEAT_INTERVAL)
        } else {
            Some(Duration::ZERO)
        };
        [late, fresh, repair, self.head_due(rtt), self.tail_due(rtt)].into_iter().flatten().min()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sequence::first_number;

    const LATENCY: Duration = Duration::from_millis(400);

    fn ms(ms: u64) -> Duration {
        Duration::from_millis(ms)
    }

    fn sender(packets: u64) -> Sender {
        let mut sender = Sender::new(first_number(100), 1_000, LATENCY);
        for at in 0..packets {
            sender.push(Bytes::from_static(&[0x47; 188]), ms(at * 2));
        }
        sender
    }

    fn drain(sender: &mut Sender, now: Duration) -> Vec<(u32, bool)> {
        std::iter::from_fn(|| sender.next_packet(now, now))
            .map(|next| (next.sequence, next.retransmitted))
            .collect()
    }

    #[test]
    fn packets_are_sent_at_their_times() {
        let mut sender = sender(10);
        assert_eq!(drain(&mut sender, ms(0)), [(100, false)]);
        assert_eq!(sender.next_due(&Rtt::default()), Some(ms(2)));
        assert_eq!(drain(&mut sender, ms(5)), [(101, false), (102, false)]);
        assert_eq!(sender.backlog(), 7 * 188);
    }

    #[test]
    fn every_sixteenth_packet_is_followed_at_once() {
        let mut sender = sender(20);
        // 112 is the sixteenth multiple: its successor is sent with it, three milliseconds before its time.
        assert_eq!(drain(&mut sender, ms(24)).last(), Some(&(113, false)));
    }

    #[test]
    fn reported_packets_are_retransmitted_once_per_round_trip() {
        let mut sender = sender(5);
        drain(&mut sender, ms(10));
        let rtt = Rtt::default();
        let lost = LossRange { first: 101, last: 102 };
        assert_eq!(sender.handle_losses(&[lost], ms(20), &rtt), []);
        assert_eq!(drain(&mut sender, ms(20)), [(101, true), (102, true)]);
        sender.handle_losses(&[lost], ms(60), &rtt);
        assert_eq!(drain(&mut sender, ms(60)), []);
        sender.handle_losses(&[lost], ms(130), &rtt);
        assert_eq!(drain(&mut sender, ms(130)), [(101, true), (102, true)]);
        assert_eq!((sender.counts().lost, sender.counts().retransmitted), (2, 4));
    }

    #[test]
    fn acknowledged_packets_are_forgotten_and_impossible_acknowledgements_ignored() {
        let mut sender = sender(5);
        drain(&mut sender, ms(10));
        sender.handle_ack(103, None);
        assert_eq!(sender.counts().in_flight, 2);
        sender.handle_ack(2_000, None);
        assert_eq!(sender.counts().in_flight, 2);
    }

    #[test]
    fn late_packets_are_dropped_and_reports_of_them_answered_without_a_message_number() {
        let mut sender = sender(5);
        drain(&mut sender, ms(3));
        sender.drop_late(ms(1_003));
        assert_eq!(sender.counts().dropped, 2);
        let range = LossRange { first: 100, last: 101 };
        let requests = sender.handle_losses(&[range], ms(1_010), &Rtt::default());
        assert_eq!(requests, [Control::DropRequest { message: 0, range }]);
        assert_eq!(drain(&mut sender, ms(1_010)).len(), 3);
    }

    #[test]
    fn report_that_repeats_a_range_costs_no_more_than_the_packets_held() {
        let mut sender = sender(400);
        while sender.next_packet(ms(900), ms(900)).is_some() {}
        let half = LossRange { first: 100, last: 299 };
        let rest = LossRange { first: 300, last: 499 };
        sender.handle_losses(&[half, half, half, rest], ms(900), &Rtt::default());
        // The budget of 400 was used up by the repetitions.
        assert_eq!(sender.counts().lost, 200);
        sender.handle_losses(&[rest], ms(900), &Rtt::default());
        assert_eq!(sender.counts().lost, 400);
        let gone = vec![LossRange { first: 1, last: 2 }; 1_000];
        assert_eq!(sender.handle_losses(&gone, ms(900), &Rtt::default()).len(), MAX_DROP_REQUESTS);
    }

    #[test]
    fn packets_within_the_horizon_are_sent_but_counted_as_sent_now() {
        let mut sender = sender(10);
        let sent: Vec<u32> =
            std::iter::from_fn(|| sender.next_packet(ms(0), ms(6))).map(|next| next.sequence).collect();
        assert_eq!(sent, [100, 101, 102, 103]);
        assert!(sender.held.iter().take(4).all(|held| held.sent == Some(ms(0))));
    }

    #[test]
    fn unacknowledged_last_packets_are_retransmitted() {
        let mut sender = sender(3);
        drain(&mut sender, ms(10));
        sender.handle_ack(101, None);
        let rtt = Rtt::of_handshake(ms(40));
        sender.repair_unasked(ms(60), &rtt);
        assert_eq!(drain(&mut sender, ms(60)), []);
        assert_eq!(sender.next_due(&rtt), Some(ms(150)));
        sender.repair_unasked(ms(150), &rtt);
        assert_eq!(drain(&mut sender, ms(150)), [(101, true), (102, true)]);
    }

    #[test]
    fn first_missing_packet_is_retransmitted_without_a_report() {
        let mut sender = sender(5);
        drain(&mut sender, ms(10));
        let rtt = Rtt::of_handshake(ms(4));
        sender.handle_ack(101, None);
        sender.handle_losses(&[LossRange { first: 101, last: 102 }], ms(12), &rtt);
        assert_eq!(drain(&mut sender, ms(12)), [(101, true), (102, true)]);
        // Round-trip time, four times its variance, and the period of acknowledgements.
        sender.repair_unasked(ms(33), &rtt);
        assert_eq!(drain(&mut sender, ms(33)), []);
        sender.repair_unasked(ms(34), &rtt);
        assert_eq!(drain(&mut sender, ms(34)), [(101, true)]);
        sender.handle_ack(105, None);
        sender.repair_unasked(ms(90), &rtt);
        assert_eq!(drain(&mut sender, ms(90)), []);
    }

    #[test]
    fn message_numbers_count_from_one_and_wrap_to_one() {
        let sender = sender(0);
        let at = |packets: u64| sender.message_of(first_number(100) + packets);
        assert_eq!((at(0), at(1)), (1, 2));
        assert_eq!((at(u64::from(MESSAGE_MASK) - 1), at(u64::from(MESSAGE_MASK))), (MESSAGE_MASK, 1));
    }

    #[test]
    fn packets_in_flight_are_bounded_by_the_peers_buffer() {
        let mut sender = sender(50);
        let report = AckReport { free_packets: 10, ..AckReport::default() };
        sender.handle_ack(100, Some(&report));
        assert_eq!(drain(&mut sender, ms(100)).len(), 10);
    }

    #[test]
    fn repetitions_of_lost_retransmissions_use_a_quarter_of_the_rate() {
        let mut sender = sender(400);
        sender.window = 8_000;
        sender.late = Duration::from_secs(60);
        let rtt = Rtt::default();
        let lost = [LossRange { first: 100, last: 199 }];
        drain(&mut sender, ms(800));
        sender.handle_losses(&lost, ms(800), &rtt);
        assert_eq!(drain(&mut sender, ms(800)).len(), 100, "all are retransmitted once");
        // Nothing arrives: the peer reports the same packets again and again.
        let mut repeated = 0;
        for step in 1..=100 {
            let now = ms(800 + step * 20);
            sender.handle_losses(&lost, now, &rtt);
            repeated += drain(&mut sender, now).len();
        }
        // 400 packets were sent within the last second.
        assert!((200..=64 + 210).contains(&repeated), "{repeated} in two seconds");
    }

    #[test]
    fn retransmissions_are_rate_limited() {
        let mut sender = sender(2_000);
        sender.window = 8_000;
        sender.late = Duration::from_secs(60);
        drain(&mut sender, ms(4_000));
        sender.handle_losses(&[LossRange { first: 100, last: 2_099 }], ms(4_000), &Rtt::default());
        let at_once = drain(&mut sender, ms(4_000)).len();
        assert!(at_once <= 256, "{at_once} at once");
        let within = (1..=100).map(|step| drain(&mut sender, ms(4_000 + step)).len()).sum::<usize>();
        assert!((30..=60).contains(&within), "{within} in 100 ms");
    }
}
