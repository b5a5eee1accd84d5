//! How far a track's clock runs from ours, seen through the delays of the network.
//!
//! Delay only ever makes a unit late. So the least lateness of some seconds tells the clocks apart: it stays where
//! it is while they agree, and creeps while one is faster.

use std::time::Duration;

use crate::unit::TICKS_PER_SECOND;

/// Time over which the least lateness is sought.
const WINDOW: Duration = Duration::from_secs(10);
/// Units that a window must have had.
const ENOUGH: u32 = 20;
/// Disagreement that is left alone: ten milliseconds.
const DEAD_BAND: i64 = TICKS_PER_SECOND / 100;
/// Corrections are at most this part of the time that passes: 500 in a million, which nobody sees or hears.
const PART: i64 = 2_000;

/// The least lateness of one track.
#[derive(Debug, Default)]
pub(super) struct Lateness {
    least: Option<i64>,
    units: u32,
    /// That of the last whole window.
    pub(super) floor: Option<i64>,
}

impl Lateness {
    pub(super) fn add(&mut self, lateness: i64) {
        self.least = Some(self.least.map_or(lateness, |least| least.min(lateness)));
        self.units = self.units.saturating_add(1);
    }

    fn close(&mut self) {
        self.floor = self.least.take().filter(|_| self.units >= ENOUGH);
        self.units = 0;
    }
}

/// What is to be moved, and by how much at a time.
#[derive(Debug, Default)]
struct Slew {
    pending: i64,
}

impl Slew {
    /// What is left alone stays so until it has grown; what is corrected is corrected whole.
    fn aim(&mut self, error: i64) {
        self.pending = if error.abs() > DEAD_BAND || self.pending != 0 { error } else { 0 };
    }

    fn step(&mut self, most: i64) -> i64 {
        let step = self.pending.clamp(-most, most);
        self.pending -= step;
        step
    }
}

/// Both tracks' clocks against ours, and the sound's against the picture's.
#[derive(Debug, Default)]
pub(super) struct Drift {
    pub(super) video: Lateness,
    pub(super) audio: Lateness,
    began: Option<Duration>,
    stepped: Option<Duration>,
    both: Slew,
    sound: Slew,
    /// How much later than the picture the sound is when its offset is right.
    sound_behind: Option<i64>,
}

impl Drift {
    /// A new session: what was measured is over, what is to be corrected still is.
    pub(super) fn begin_session(&mut self) {
        let both = std::mem::take(&mut self.both);
        *self = Self { both, ..Self::default() };
    }

    /// Looks at the time. Returns by how many ticks everything, and the sound besides, are to be moved now.
    /// `sound_is_led` when sender reports place the sound already.
    pub(super) fn handle_time(&mut self, now: Duration, sound_is_led: bool) -> (i64, i64) {
        let began = *self.began.get_or_insert(now);
        if now.saturating_sub(began) >= WINDOW {
            self.began = Some(now);
            self.close_window(sound_is_led);
        }
        let since = *self.stepped.get_or_insert(now);
        let most = super::ticks_between(since, now) / PART;
        if most == 0 {
            return (0, 0);
        }
        self.stepped = Some(now);
        (self.both.step(most), self.sound.step(most))
    }

    fn close_window(&mut self, sound_is_led: bool) {
        self.video.close();
        self.audio.close();
        // Where there is no picture yet, nothing is broadcast.
        let Some(picture) = self.video.floor else { return };
        self.both.aim(picture);
        match (self.audio.floor, self.sound_behind) {
            _ if sound_is_led => {
                self.sound = Slew::default();
                self.sound_behind = None;
            }
            (Some(sound), Some(behind)) => self.sound.aim(sound - picture - behind),
            (Some(sound), None) => self.sound_behind = Some(sound - picture),
            (None, _) => {}
        }
    }
}
