//! Reception statistics of one source: loss, jitter and sequence numbers (RFC 3550, A.1, A.3 and A.8).

use std::time::Duration;

use super::drift::{Drift, DriftMeter};

/// Position of a packet in the sequence.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Arrival {
    /// Next one in order.
    InOrder,
    /// This many are missing before it.
    AfterLoss(u16),
    /// First packet of another SSRC: the camera has restarted.
    NewSource,
    /// Duplicate, or too late.
    Old,
}

/// Step ahead that counts as a restart instead of loss (`MAX_DROPOUT`, A.1).
const MAX_DROPOUT: u16 = 3000;
/// Step back that counts as a restart (`MAX_MISORDER`, A.1).
const MAX_MISORDER: u16 = 100;

/// Reception statistics, over all restarts of a source.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct ReceptionStats {
    /// Packets received.
    pub received: u64,
    /// Packets lost.
    pub lost: u64,
    /// Interarrival jitter in RTP ticks (6.4.1).
    pub jitter: u32,
    /// Jitter in seconds.
    pub jitter_s: f64,
    /// Drift of the camera's clock, once known.
    pub drift: Option<Drift>,
}

/// Packet counters of a receiver report.
#[derive(Debug, Clone, Copy, Default)]
struct ReportedCounts {
    received: u64,
    lost: u64,
}

/// Time of the last sender report.
#[derive(Debug, Clone, Copy)]
struct SenderReportTime {
    /// Middle 32 bits of its NTP time (RFC 3550, 6.4.1).
    ntp_middle: u32,
    arrived: Duration,
}

/// State of one source, and its statistics over all restarts.
#[derive(Debug)]
pub struct Source {
    clock_rate: u32,
    ssrc: Option<u32>,
    expected: u16,
    cycles: u16,
    stats: ReceptionStats,
    jitter_16: u64,
    drift: DriftMeter,
    unwrapped: Option<i64>,
    transit: Option<i64>,
    /// Latest RTP time.
    newest: Option<u32>,
    /// Counters at the last receiver report.
    reported: ReportedCounts,
    last_report: Option<SenderReportTime>,
}

impl Source {
    /// Creates the state of a source with a clock of `clock_rate` hertz.
    #[must_use]
    pub fn new(clock_rate: u32) -> Self {
        Self {
            clock_rate,
            ssrc: None,
            expected: 0,
            cycles: 0,
            stats: ReceptionStats::default(),
            jitter_16: 0,
            drift: DriftMeter::default(),
            unwrapped: None,
            transit: None,
            newest: None,
            reported: ReportedCounts::default(),
            last_report: None,
        }
    }

    /// Returns the last SSRC.
    #[must_use]
    pub fn ssrc(&self) -> Option<u32> {
        self.ssrc
    }

    /// Returns the packets received.
    #[must_use]
    pub fn received(&self) -> u64 {
        self.stats.received
    }

    /// Returns the statistics.
    #[must_use]
    pub fn stats(&self) -> ReceptionStats {
        let jitter_s = f64::from(self.stats.jitter) / f64::from(self.clock_rate.max(1));
        ReceptionStats { jitter_s, drift: self.drift.drift(), ..self.stats }
    }

    /// Handles the header fields of a packet and its time of arrival.
    pub fn handle_packet(&mut self, ssrc: u32, sequence: u16, timestamp: u32, now: Duration) -> Arrival {
        let arrival = if self.ssrc == Some(ssrc) {
            match sequence.wrapping_sub(self.expected) {
                0 => Arrival::InOrder,
                ahead if ahead < MAX_DROPOUT => Arrival::AfterLoss(ahead),
                back if back.wrapping_neg() <= MAX_MISORDER => return Arrival::Old,
                _ => Arrival::NewSource,
            }
        } else {
            Arrival::NewSource
        };
        match arrival {
            Arrival::NewSource => {
                self.ssrc = Some(ssrc);
                self.cycles = 0;
                self.transit = None;
                self.newest = None;
                self.drift = DriftMeter::default();
                self.unwrapped = None;
            }
            Arrival::AfterLoss(count) => self.stats.lost += u64::from(count),
            Arrival::InOrder | Arrival::Old => {}
        }
        let (next, wrapped) = sequence.overflowing_add(1);
        let skipped_wrap = sequence < self.expected && arrival != Arrival::NewSource;
        if wrapped || skipped_wrap {
            self.cycles = self.cycles.wrapping_add(1);
        }
        self.expected = next;
        self.stats.received += 1;
        self.measure_jitter(timestamp, now);
        self.measure_drift(timestamp, now);
        arrival
    }

    fn measure_drift(&mut self, timestamp: u32, now: Duration) {
        // One sample per frame is enough.
        let low = |last: i64| u32::try_from(last.rem_euclid(1 << 32)).unwrap_or_default();
        if self.unwrapped.is_some_and(|last| low(last) == timestamp) {
            return;
        }
        let unwrapped = self.unwrapped.map_or_else(
            || i64::from(timestamp),
            |last| last + i64::from(timestamp.wrapping_sub(low(last)).cast_signed()),
        );
        self.unwrapped = Some(unwrapped);
        self.drift.add(unwrapped, self.clock_rate, now);
    }

    /// Updates the jitter (6.4.1): J += (
    /// D
    ///  - J) / 16, scaled by 16 as in A.8.
    ///
    /// Reordered frames have earlier RTP times on purpose: only packets that advance the RTP time are used.
    fn measure_jitter(&mut self, timestamp: u32, now: Duration) {
        let step = self.newest.map_or(0, |newest| timestamp.wrapping_sub(newest).cast_signed());
        if step < 0 {
            return;
        }
        self.newest = Some(timestamp);
        let arrival = now.as_micros() * u128::from(self.clock_rate) / 1_000_000;
        let arrival = u32::try_from(arrival & 0xffff_ffff).unwrap_or_default();
        let transit = i64::from(arrival.wrapping_sub(timestamp).cast_signed());
        if let Some(last) = self.transit.replace(transit) {
            let difference = (transit - last).unsigned_abs().min(u64::from(u32::MAX));
            self.jitter_16 = (self.jitter_16 + difference).saturating_sub((self.jitter_16 + 8) >> 4);
            self.stats.jitter = u32::try_from(self.jitter_16 >> 4).unwrap_or(u32::MAX);
        }
    }

    /// Handles a sender report, whose middle NTP bits are returned in our reports.
    pub fn handle_sender_report(&mut self, ntp: u64, now: Duration) {
        let middle = u32::try_from(ntp >> 16 & 0xffff_ffff).unwrap_or_default();
        self.last_report = Some(SenderReportTime { ntp_middle: middle, arrived: now });
    }

    /// Returns the report block for this source (6.4.1); `None` before its first packet.
    pub fn report(&mut self, now: Duration) -> Option<super::ReportBlock> {
        let ssrc = self.ssrc?;
        let (received, lost) = (self.stats.received, self.stats.lost);
        let before = std::mem::replace(&mut self.reported, ReportedCounts { received, lost });
        let lost_since = lost - before.lost;
        let expected_since = (received - before.received + lost_since).max(1);
        let fraction_lost = u8::try_from((lost_since * 256 / expected_since).min(255)).unwrap_or(255);
        let highest = u32::from(self.cycles) << 16 | u32::from(self.expected.wrapping_sub(1));
        let (last_sr, delay) = self.last_report.map_or((0, 0), |report| {
            let delay = now.saturating_sub(report.arrived).as_micros() * 65_536 / 1_000_000;
            (report.ntp_middle, u32::try_from(delay).unwrap_or(u32::MAX))
        });
        Some(super::ReportBlock {
            ssrc,
            fraction_lost,
            cumulative_lost: u32::try_from(lost.min(0x7f_ffff)).unwrap_or_default(),
            highest_sequence: highest,
            jitter: self.stats.jitter,
            last_sr,
            delay_since_last_sr: delay,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn feed(source: &mut Source, sequence: u16) -> Arrival {
        source.handle_packet(7, sequence, 0, Duration::ZERO)
    }

    #[test]
    fn order_loss_duplicates_and_restarts_are_distinguished() {
        let mut source = Source::new(90_000);
        assert_eq!(feed(&mut source, 65_534), Arrival::NewSource);
        assert_eq!(feed(&mut source, 65_535), Arrival::InOrder);
        assert_eq!(feed(&mut source, 0), Arrival::InOrder);
        assert_eq!(feed(&mut source, 3), Arrival::AfterLoss(2));
        assert_eq!(feed(&mut source, 3), Arrival::Old);
        assert_eq!(feed(&mut source, 1), Arrival::Old);
        assert_eq!(feed(&mut source, 30_000), Arrival::NewSource);
        assert_eq!(source.handle_packet(8, 30_001, 0, Duration::ZERO), Arrival::NewSource);
        assert_eq!(source.stats().lost, 2);
        assert_eq!(source.stats().received, 6);
    }

    #[test]
    fn reports_count_wraps_loss_and_delay() {
        let mut source = Source::new(90_000);
        assert_eq!(source.report(Duration::ZERO), None);
        for sequence in [65_534, 65_535, 0, 2] {
            feed(&mut source, sequence);
        }
        source.handle_sender_report(0x1111_2222_3333_4444, Duration::from_secs(1));
        let report = source.report(Duration::from_secs(3)).unwrap();
        assert_eq!(report.highest_sequence, 0x0001_0002);
        assert_eq!((report.cumulative_lost, report.fraction_lost), (1, 51));
        assert_eq!((report.last_sr, report.delay_since_last_sr), (0x2222_3333, 2 << 16));
        assert_eq!(source.report(Duration::from_secs(4)).unwrap().fraction_lost, 0);
    }

    #[test]
    fn a_lost_packet_at_the_wrap_still_counts_the_cycle() {
        let mut source = Source::new(90_000);
        feed(&mut source, 65_535 - 1);
        feed(&mut source, 1);
        assert_eq!(source.report(Duration::ZERO).unwrap().highest_sequence, 0x0001_0001);
    }

    #[test]
    fn reordered_pictures_are_no_jitter() {
        let mut source = Source::new(90_000);
        for (at, shown) in
            (0..300_u16).map(|i| (i, i + [0, 2, 0][usize::from(i % 3)] - u16::from(i % 3 == 2)))
        {
            source.handle_packet(7, at, u32::from(shown) * 3_600, Duration::from_millis(u64::from(at) * 40));
        }
        assert!(source.stats().jitter < 8_000, "{}", source.stats().jitter);
    }

    #[test]
    fn jitter_settles_at_the_spread_of_arrival() {
        let mut source = Source::new(90_000);
        for i in 0..400_u16 {
            let late = if i % 2 == 0 { 0 } else { 10 };
            let now = Duration::from_millis(u64::from(i) * 40 + late);
            source.handle_packet(7, i, u32::from(i) * 3_600, now);
        }
        // Every difference is 10 ms, 900 ticks.
        assert!((890..=910).contains(&source.stats().jitter), "{}", source.stats().jitter);
    }
}
