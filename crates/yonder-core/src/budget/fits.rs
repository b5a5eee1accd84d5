//! "What fits" chart: frame sizes and rates that an uplink can carry to a number of destinations.

use yonder_address::Protocol;

use super::overhead::media_kbps;

/// Common frame sizes: width, height.
const SIZES: [(u32, u32); 6] = [(426, 240), (640, 360), (960, 540), (1280, 720), (1920, 1080), (2560, 1440)];
/// Common frame rates.
const RATES: [u32; 4] = [15, 25, 30, 60];
/// Bits per pixel, in thousandths, at which H.264 is acceptable ([`PLAIN`]) and good ([`GOOD`]).
const PLAIN: u64 = 55;
const GOOD: u64 = 95;
/// Audio bit rate, in kilobits per second.
const AUDIO_KBPS: u64 = 128;

/// Whether a frame size fits the available rate.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fit {
    /// In good quality.
    Good,
    /// In acceptable quality.
    Plain,
    /// It does not fit.
    No,
}

impl Fit {
    /// Returns the name that is shown.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Good => "good",
            Self::Plain => "plain",
            Self::No => "no",
        }
    }
}

/// One frame size at one frame rate.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct FitRow {
    /// Width in samples.
    pub width: u32,
    /// Height in lines.
    pub lines: u32,
    /// Frames per second.
    pub fps: u32,
    /// Media bit rate for acceptable quality, audio included.
    pub plain_kbps: u64,
    /// Media bit rate for good quality, audio included.
    pub good_kbps: u64,
    /// Returns whether it fits.
    pub fit: Fit,
}

/// Returns the media bit rate that each of `destinations` can have of `usable_kbps`, and the chart for it.
#[must_use]
pub fn what_fits(usable_kbps: u64, destinations: u32, protocol: Protocol) -> (u64, Vec<FitRow>) {
    let each = usable_kbps / u64::from(destinations.max(1));
    let media = media_kbps(protocol, each);
    let rows = SIZES
        .into_iter()
        .flat_map(|(width, lines)| RATES.into_iter().map(move |fps| (width, lines, fps)))
        .map(|(width, lines, fps)| {
            let pixels = u64::from(width) * u64::from(lines) * u64::from(fps);
            let at = |thousandths: u64| pixels * thousandths / 1_000_000 + AUDIO_KBPS;
            let (plain_kbps, good_kbps) = (at(PLAIN), at(GOOD));
            let fit = match media {
                media if media >= good_kbps => Fit::Good,
                media if media >= plain_kbps => Fit::Plain,
                _ => Fit::No,
            };
            FitRow { width, lines, fps, plain_kbps, good_kbps, fit }
        })
        .collect();
    (media, rows)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn fit(usable: u64, destinations: u32, lines: u32, fps: u32) -> Fit {
        let (_, rows) = what_fits(usable, destinations, Protocol::Rtmp);
        rows.iter().find(|row| row.lines == lines && row.fps == fps).unwrap().fit
    }

    #[test]
    fn the_same_uplink_carries_less_to_more_destinations() {
        assert_eq!(fit(7_500, 1, 1080, 30), Fit::Good);
        assert_eq!(fit(7_500, 2, 1080, 30), Fit::Plain);
        assert_eq!(fit(7_500, 3, 1080, 30), Fit::No);
        assert_eq!(fit(7_500, 3, 720, 25), Fit::Good);
    }

    #[test]
    fn media_rate_is_the_uplink_rate_without_protocol_overhead() {
        assert_eq!(what_fits(10_430, 10, Protocol::Rtmp).0, 1_000);
        assert!(what_fits(10_430, 10, Protocol::Srt).0 < 1_000);
    }

    #[test]
    fn larger_frames_and_rates_need_more_bandwidth() {
        let (_, rows) = what_fits(1, 1, Protocol::Rtmp);
        assert!(rows.iter().all(|row| row.fit == Fit::No && row.good_kbps > row.plain_kbps));
        assert!(
            rows.windows(2).all(|two| two[0].lines != two[1].lines || two[0].good_kbps < two[1].good_kbps)
        );
    }
}
