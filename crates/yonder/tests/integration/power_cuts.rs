//! The power goes, again and again, at any moment: what was answered as done is kept, and what ran runs again.
//!
//! `YONDER_POWER_CUTS` sets how often; `YONDER_SEED` repeats a run.

use std::time::Duration;

use crate::support::{Service, World};

const CUTS: u64 = 40;

fn setting(name: &str, usual: u64) -> u64 {
    std::env::var(name).ok().and_then(|value| value.parse().ok()).unwrap_or(usual)
}

/// Repeatable random numbers (xorshift64*).
struct Random(u64);

impl Random {
    fn next(&mut self, below: u64) -> u64 {
        self.0 ^= self.0 >> 12;
        self.0 ^= self.0 << 25;
        self.0 ^= self.0 >> 27;
        self.0.wrapping_mul(0x2545_f491_4f6c_dd1d) % below
    }
}

#[test]
fn power_failures_leave_valid_records_and_relays_recover() {
    let seed = setting("YONDER_SEED", u64::from(std::process::id()));
    let mut random = Random(seed | 1);
    let (mut service, world) = (Service::start(), World::start());
    service.set_up_line(&world);
    service.must(&["relay", "start", "Line", "--force"], "");
    service.wait_live("Line");
    // A number that only rises: the last one that was answered as done must never be lost.
    let mut acknowledged = 3;
    for cut in 0..setting("YONDER_POWER_CUTS", CUTS) {
        let changes = random.next(3);
        for _ in 0..changes {
            let next = acknowledged % 600 + 1;
            service.must(&["relay", "edit", "Line", "--hold-after", &format!("{next}s")], "");
            acknowledged = next;
        }
        // At times a change is under way when it happens.
        let in_progress = (random.next(2) == 0).then(|| acknowledged % 600 + 1);
        std::thread::scope(|scope| {
            if let Some(next) = in_progress {
                let (service, after) = (&service, format!("{next}s"));
                scope.spawn(move || service.run(&["relay", "edit", "Line", "--hold-after", &after]));
            }
            std::thread::sleep(Duration::from_millis(random.next(60)));
            service.cut_power();
        });
        service.kill();
        service.start_again();
        let found = service.relay("Line")["hold_after_s"].as_u64().unwrap();
        assert!(
            found == acknowledged || Some(found) == in_progress,
            "seed {seed}, cut {cut}: {found} was found, {acknowledged} was answered as done"
        );
        acknowledged = found;
        // At times it goes again before everything is back.
        if random.next(3) > 0 {
            service.wait_live("Line");
            let audio = service.must(&["selfcheck"], "");
            assert!(audio.contains("The records are sound."), "seed {seed}, cut {cut}: {audio}");
        }
    }
    service.wait_live("Line");
}
