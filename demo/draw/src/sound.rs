//! Sound for the scenes, made from sine waves and noise.

use std::f64::consts::TAU;

pub const RATE: u32 = 48_000;

/// Makes interleaved stereo samples for a loop of so many seconds.
pub type Sound = fn(u32) -> Vec<i16>;

/// Repeatable noise in -1..1.
struct Noise(u32);

impl Noise {
    fn next(&mut self) -> f64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 17;
        self.0 ^= self.0 << 5;
        f64::from(self.0) / f64::from(u32::MAX) * 2.0 - 1.0
    }
}

fn render(seconds: u32, mut sample: impl FnMut(f64) -> (f64, f64)) -> Vec<i16> {
    (0..seconds * RATE)
        .flat_map(|at| {
            let (left, right) = sample(f64::from(at) / f64::from(RATE));
            [left, right].map(|value| (value.clamp(-1.0, 1.0) * 26_000.0) as i16)
        })
        .collect()
}

/// Wind on the fell, and an engine that goes by from left to right, chuffing.
pub fn summit(seconds: u32) -> Vec<i16> {
    let mut noise = Noise(0x1234_5678);
    let mut wind = 0.0;
    render(seconds, |t| {
        let n = noise.next();
        wind += (n - wind) * 0.02;
        let along = t / f64::from(seconds);
        let near = (along * TAU / 2.0).sin().powi(2);
        let chuff = (1.0 - (t * 4.0).fract()).powi(3) * n * 0.35 * near;
        let whistle = if (5.0..5.9).contains(&t) { 0.06 } else { 0.0 };
        let tone = whistle * ((TAU * 587.0 * t).sin() + (TAU * 740.0 * t).sin());
        let base = wind * (1.2 + (t * TAU / 8.0).sin() * 0.4);
        (base + (chuff + tone) * (1.0 - along), base + (chuff + tone) * along)
    })
}

/// A slow tune for two horns over a bass, eight bars of a second each.
pub fn bandstand(seconds: u32) -> Vec<i16> {
    const TUNE: [f64; 16] =
        [392.0, 440.0, 493.9, 392.0, 523.3, 493.9, 440.0, 440.0, 440.0, 493.9, 523.3, 587.3, 493.9, 440.0, 392.0, 392.0];
    const BASS: [f64; 8] = [98.0, 98.0, 130.8, 110.0, 110.0, 146.8, 130.8, 98.0];
    let horn = |f: f64, t: f64| {
        (1..=5).map(|h| (TAU * f * f64::from(h) * t).sin() / f64::from(h * h)).sum::<f64>()
    };
    render(seconds, |t| {
        let beat = (t * 2.0) as usize % TUNE.len();
        let into = (t * 2.0).fract();
        let shape = (into * 12.0).min(1.0) * (1.0 - into).powf(0.6);
        let high = horn(TUNE[beat], t) * shape * 0.22;
        let low = horn(TUNE[beat] * 0.75, t) * shape * 0.12;
        let bass = horn(BASS[t as usize % BASS.len()], t) * (1.0 - t.fract()).powf(1.5) * 0.25;
        (high + low * 0.5 + bass, high * 0.5 + low + bass)
    })
}
