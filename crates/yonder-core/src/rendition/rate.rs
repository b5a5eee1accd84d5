//! Bit rate of a rendition that follows the network path of its only push.

use std::time::Duration;

/// Backlog at which the path counts as congested. Frames are dropped from three seconds on.
const CONGESTED: Duration = Duration::from_millis(600);
/// Backlog at which the path counts as free.
const FREE: Duration = Duration::from_millis(200);
/// Share of lost packets at which an SRT path counts as congested.
const CONGESTED_LOSS: f64 = 0.08;
/// Backlog at which a step down is larger, since frames will be dropped soon.
const SEVERE: Duration = Duration::from_millis(1_200);
/// Share of the present rate after a step down, at most.
const STEP_DOWN: f64 = 0.75;
const SEVERE_STEP_DOWN: f64 = 0.5;
/// Share of the throughput of a congested path that is used: the rest drains the backlog.
const USED_SHARE: f64 = 0.8;
/// Interval of steps down: the encoder and the path need some time to react.
const DOWN_INTERVAL: Duration = Duration::from_secs(1);
/// Factor of a step up.
const STEP_UP: f64 = 1.25;
/// Shortest and longest interval of steps up. Each step up that congests the path again doubles it, others halve it.
const MIN_UP_INTERVAL: Duration = Duration::from_secs(4);
const MAX_UP_INTERVAL: Duration = Duration::from_secs(16);
/// First step above the rate that a congested path has carried. Buffers of the path hide how much it carries, so that this
/// step has to hold for the longest interval.
const PROBE_STEP: f64 = 1.1;
/// Share of the ceiling below which the rate does not fall: less is not worth watching.
const FLOOR_SHARE: f64 = 0.2;
/// Lowest rate, in kilobits per second, unless the ceiling is lower.
const FLOOR_KBPS: f64 = 150.0;

/// State of the network path of a push.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct PathSample {
    /// Media that waits to be sent.
    pub backlog: Duration,
    /// Bit rate that the path carries, in kilobits per second.
    pub carried_kbps: u64,
    /// Share of packets that were lost since the last sample (SRT).
    pub lost_share: f64,
}

/// Controller of the bit rate, between a floor and the ceiling of the rendition.
#[derive(Debug, Clone)]
pub struct RateController {
    ceiling: f64,
    kbps: f64,
    /// Rate that the path carried when it was congested, until it has carried more for some time.
    known: Option<f64>,
    /// Backlog of the last sample.
    backlog: Duration,
    stepped_down_at: Option<Duration>,
    /// Time of the last step up, or of the last congestion.
    settled_at: Option<Duration>,
    up_interval: Duration,
}

impl RateController {
    /// Creates a controller that begins at the ceiling, in kilobits per second.
    #[must_use]
    pub fn new(ceiling_kbps: u32) -> Self {
        let ceiling = f64::from(ceiling_kbps);
        Self {
            ceiling,
            kbps: ceiling,
            known: None,
            backlog: Duration::ZERO,
            stepped_down_at: None,
            settled_at: None,
            up_interval: MIN_UP_INTERVAL,
        }
    }

    /// Returns the present rate in kilobits per second.
    #[must_use]
    pub fn kbps(&self) -> u32 {
        #[expect(
            clippy::as_conversions,
            clippy::cast_possible_truncation,
            clippy::cast_sign_loss,
            reason = "between zero and a ceiling of this type"
        )]
        let kbps = self.kbps.round() as u32;
        kbps
    }

    /// Handles a sample, about once a second. Returns true if the rate has changed.
    pub fn update(&mut self, sample: PathSample, now: Duration) -> bool {
        let before = self.kbps();
        let grows = sample.backlog >= self.backlog;
        self.backlog = sample.backlog;
        if (sample.backlog >= CONGESTED && grows) || sample.lost_share >= CONGESTED_LOSS {
            self.step_down(sample, now);
        } else if sample.backlog <= FREE {
            self.step_up(now);
        }
        self.kbps() != before
    }

    fn step_down(&mut self, sample: PathSample, now: Duration) {
        if self.stepped_down_at.is_some_and(|at| now.saturating_sub(at) < DOWN_INTERVAL) {
            return;
        }
        // A congestion soon after a step up was caused by it.
        let is_failed_step = self.settled_at.is_some_and(|at| now.saturating_sub(at) < self.up_interval * 2);
        if is_failed_step && self.stepped_down_at.is_some_and(|at| Some(at) < self.settled_at) {
            self.up_interval = (self.up_interval * 2).min(MAX_UP_INTERVAL);
        }
        #[expect(clippy::as_conversions, clippy::cast_precision_loss, reason = "a bit rate")]
        let carried = sample.carried_kbps as f64 * USED_SHARE;
        let floor = (self.ceiling * FLOOR_SHARE).max(FLOOR_KBPS).min(self.ceiling);
        let step = if sample.backlog >= SEVERE { SEVERE_STEP_DOWN } else { STEP_DOWN };
        self.kbps = (self.kbps * step).min(carried).max(floor);
        self.known = Some(carried.max(floor));
        self.stepped_down_at = Some(now);
        self.settled_at = Some(now);
    }

    fn step_up(&mut self, now: Duration) {
        let settled_at = *self.settled_at.get_or_insert(now);
        let passed = now.saturating_sub(settled_at);
        if self.kbps >= self.ceiling || passed < self.up_interval {
            return;
        }
        match self.known {
            Some(known) if self.kbps < known => self.kbps = (self.kbps * STEP_UP).min(known),
            Some(_) if passed < MAX_UP_INTERVAL => return,
            Some(known) if self.kbps <= known => self.kbps *= PROBE_STEP,
            _ => {
                self.known = None;
                self.kbps *= STEP_UP;
            }
        }
        self.kbps = self.kbps.min(self.ceiling);
        self.settled_at = Some(now);
        self.up_interval = (self.up_interval / 2).max(MIN_UP_INTERVAL);
    }
}

#[cfg(test)]
mod tests {
    use std::collections::VecDeque;

    use rstest::rstest;

    use super::*;

    /// Encoder at the controller's rate, and a path with a queue before it.
    struct Path {
        controller: RateController,
        now: Duration,
        /// Queued seconds of media: what is left of each, and its size, in kilobits.
        queue: VecDeque<(f64, f64)>,
        /// Longest backlog since it was last cleared.
        longest: Duration,
    }

    impl Path {
        fn new() -> Self {
            let controller = RateController::new(2_500);
            Self { controller, now: Duration::ZERO, queue: VecDeque::new(), longest: Duration::ZERO }
        }

        /// Runs for `seconds` on a path with this capacity.
        fn run(&mut self, seconds: u64, capacity_kbps: f64) {
            for _ in 0..seconds {
                let encoded = f64::from(self.controller.kbps());
                self.queue.push_back((encoded, encoded));
                let mut carried = 0.0;
                while let Some((left, _)) = self.queue.front_mut() {
                    let sent = left.min(capacity_kbps - carried);
                    carried += sent;
                    *left -= sent;
                    if *left > 0.0 {
                        break;
                    }
                    self.queue.pop_front();
                }
                let backlog =
                    Duration::from_secs_f64(self.queue.iter().map(|(left, size)| left / size).sum());
                self.longest = self.longest.max(backlog);
                self.now += Duration::from_secs(1);
                let carried_kbps = format!("{carried:.0}").parse().unwrap();
                self.controller.update(PathSample { backlog, carried_kbps, lost_share: 0.0 }, self.now);
            }
        }
    }

    #[rstest]
    #[case::half(1_250.0)]
    #[case::a_third(833.0)]
    #[case::slightly_too_slow(2_300.0)]
    fn throttled_path_is_followed_before_frames_are_dropped(#[case] capacity: f64) {
        let mut path = Path::new();
        path.run(20, 10_000.0);
        assert_eq!(path.controller.kbps(), 2_500);
        path.run(5, capacity);
        assert!(path.longest < Duration::from_secs(3), "{:?}", path.longest);
        path.run(5, capacity);
        assert!(f64::from(path.controller.kbps()) <= capacity, "{}", path.controller.kbps());
        path.longest = Duration::ZERO;
        path.run(600, capacity);
        assert!(path.longest < Duration::from_millis(1_500), "{:?} later on", path.longest);
        assert!(f64::from(path.controller.kbps()) > capacity * 0.5, "{}", path.controller.kbps());
        path.run(60, 10_000.0);
        assert_eq!(path.controller.kbps(), 2_500, "back within a minute");
    }

    #[test]
    fn rate_does_not_fall_below_its_floor() {
        let mut path = Path::new();
        path.run(120, 20.0);
        assert_eq!(path.controller.kbps(), 500);
    }

    #[test]
    fn loss_alone_steps_down() {
        let mut controller = RateController::new(2_000);
        let lossy = PathSample { backlog: Duration::ZERO, carried_kbps: 2_000, lost_share: 0.2 };
        assert!(controller.update(lossy, Duration::from_secs(1)));
        assert_eq!(controller.kbps(), 1_500);
        assert!(!controller.update(PathSample { lost_share: 0.01, ..lossy }, Duration::from_secs(2)));
    }
}
