//! Checks of transport packets against ISO/IEC 13818-1, by a reader that shares nothing with the product's.

#![allow(clippy::allow_attributes, reason = "each test program uses its own part")]
#![allow(dead_code, reason = "each test program uses its own part")]

use std::collections::HashMap;

/// Returns the check value of annex A, written out a second time.
fn check_value(data: &[u8]) -> u32 {
    let mut register = u32::MAX;
    for byte in data {
        for bit in (0..8).rev() {
            let out = register >> 31 ^ u32::from(byte >> bit & 1);
            register <<= 1;
            if out == 1 {
                register ^= 0x04c1_1db7;
            }
        }
    }
    register
}

/// Conformance checks of a transport stream (ISO/IEC 13818-1), packet by packet.
#[derive(Default)]
pub(crate) struct Inspector {
    counters: HashMap<u16, u8>,
    packets: u64,
    tables: HashMap<u16, i64>,
    /// Last clock reference, and the number of its packet.
    clock: Option<(i64, u64)>,
    /// Tables since then: their times are known once the next reference is.
    waiting: Vec<(u16, u64)>,
    longest_clock: i64,
    longest_tables: i64,
    /// PES packets by PID.
    pub(crate) units: HashMap<u16, i64>,
    /// Random access points.
    pub(crate) starts: i64,
}

impl Inspector {
    /// Checks whole packets.
    pub(crate) fn take(&mut self, bytes: &[u8]) {
        assert_eq!(bytes.len() % 188, 0);
        for packet in bytes.chunks(188) {
            self.take_packet(packet);
        }
    }

    /// Checks the intervals of everything so far: 40 ms for clock references, 100 ms for tables.
    pub(crate) fn assert_intervals(&self) {
        assert!(self.longest_clock <= 3_600, "clock references {} ticks apart", self.longest_clock);
        assert!(self.longest_tables <= 9_000, "tables {} ticks apart", self.longest_tables);
    }

    fn take_packet(&mut self, packet: &[u8]) {
        self.packets += 1;
        assert_eq!(packet[0], 0x47, "packet {}", self.packets);
        assert_eq!(packet[1] & 0xa0, 0, "neither damaged nor of priority");
        let pid = u16::from_be_bytes([packet[1] & 0x1f, packet[2]]);
        assert!([0, 0x1000, 0x100, 0x101].contains(&pid), "PID {pid:#x}");
        assert_eq!(packet[3] & 0xc0, 0, "not scrambled");
        let (has_field, has_payload) = (packet[3] & 0x20 != 0, packet[3] & 0x10 != 0);
        assert!(has_field || has_payload, "adaptation_field_control 00 is reserved");
        let counter = packet[3] & 0x0f;
        if let Some(last) = self.counters.insert(pid, counter) {
            let expected = if has_payload { (last + 1) & 0x0f } else { last };
            assert_eq!(counter, expected, "packet {} of PID {pid:#x}", self.packets);
        }
        let mut payload_at = 4;
        let mut random_access = false;
        if has_field {
            let length = usize::from(packet[4]);
            assert!(if has_payload { length <= 182 } else { length == 183 }, "length {length}");
            payload_at = 5 + length;
            if length > 0 {
                assert_eq!(packet[5] & !0x50, 0, "only random access and PCR are in use");
                random_access = packet[5] & 0x40 != 0;
                let mut at = 6;
                if packet[5] & 0x10 != 0 {
                    assert_eq!(pid, 0x100);
                    self.take_clock(&packet[6..12]);
                    at = 12;
                }
                assert!(packet[at..payload_at].iter().all(|byte| *byte == 0xff), "stuffing");
            }
        }
        if has_payload {
            self.take_payload(pid, packet[1] & 0x40 != 0, random_access, &packet[payload_at..]);
        }
    }

    fn take_clock(&mut self, field: &[u8]) {
        let base = field[..5].iter().fold(0_i64, |sum, byte| sum << 8 | i64::from(*byte)) >> 7;
        assert_eq!(field[4] & 0x7e, 0x7e, "reserved bits are ones");
        if let Some((last, at)) = self.clock {
            let step = (base - last).rem_euclid(1 << 33);
            assert!(step > 0 && step < 1 << 32, "clock reference after {step} ticks: it must rise");
            self.longest_clock = self.longest_clock.max(step);
            for (pid, packet) in std::mem::take(&mut self.waiting) {
                // Packets between two references come evenly.
                let number = |packet: u64| i64::try_from(packet).unwrap();
                let share = step * (number(packet) - number(at)) / (number(self.packets) - number(at));
                let now = last + share;
                if let Some(before) = self.tables.insert(pid, now) {
                    self.longest_tables = self.longest_tables.max((now - before).rem_euclid(1 << 33));
                }
            }
        }
        self.clock = Some((base, self.packets));
    }

    fn take_payload(&mut self, pid: u16, starts: bool, random_access: bool, payload: &[u8]) {
        if pid == 0 || pid == 0x1000 {
            assert!(starts && payload[0] == 0, "a section begins with its packet");
            let length = usize::from(u16::from_be_bytes([payload[2] & 0x0f, payload[3]]));
            assert_eq!(check_value(&payload[1..4 + length]), 0, "CRC of the table on PID {pid}");
            assert!(payload[4 + length..].iter().all(|byte| *byte == 0xff));
            self.waiting.push((pid, self.packets));
            return;
        }
        assert!(self.packets > 2, "tables stand before the first unit");
        if starts {
            *self.units.entry(pid).or_default() += 1;
            self.take_unit(pid, random_access, payload);
        }
    }

    fn take_unit(&mut self, pid: u16, random_access: bool, payload: &[u8]) {
        assert_eq!(payload[..3], [0, 0, 1]);
        assert_eq!(payload[3], if pid == 0x100 { 0xe0 } else { 0xc0 });
        assert_eq!(payload[6] & 0xc0, 0x80);
        let time = |at: usize, prefix: u8| {
            let field = &payload[at..at + 5];
            assert_eq!(field[0] >> 4, prefix, "prefix of a time");
            assert!(field[0] & field[2] & field[4] & 1 == 1, "marker bits");
            i64::from(field[0] >> 1 & 7) << 30
                | i64::from(field[1]) << 22
                | i64::from(field[2] >> 1) << 15
                | i64::from(field[3]) << 7
                | i64::from(field[4] >> 1)
        };
        let (pts, dts) = match payload[7] >> 6 {
            2 => (time(9, 2), time(9, 2)),
            3 => (time(9, 3), time(14, 1)),
            other => panic!("PTS_DTS_flags {other}"),
        };
        let ahead = (dts - self.clock.unwrap().0).rem_euclid(1 << 33);
        assert!(ahead < 90_000, "a unit comes {ahead} ticks before its time");
        assert!((pts - dts).rem_euclid(1 << 33) < 90_000, "PTS before DTS");
        if pid == 0x100 {
            let data = &payload[9 + usize::from(payload[8])..];
            let kinds: Vec<u8> =
                data.windows(5).filter(|bytes| bytes[..4] == [0, 0, 0, 1]).map(|bytes| bytes[4]).collect();
            let (delimiter, sequence_set) = if kinds[0] & 0x1f == 9 { (9, 7) } else { (35, 33) };
            let kind = |first: u8| if delimiter == 9 { first & 0x1f } else { first >> 1 & 0x3f };
            assert_eq!(data[..4], [0, 0, 0, 1]);
            assert_eq!(kind(kinds[0]), delimiter, "a delimiter comes first (2.14.1, 2.17.1)");
            let has_sets = kinds.iter().any(|first| kind(*first) == sequence_set);
            assert_eq!(has_sets, random_access, "parameter sets where decoding may start");
            self.starts += i64::from(random_access);
        }
    }
}
