//! The chart "what fits": sizes and frame rates that an uplink carries to so many destinations.

use yonder_address::Protocol;

use super::overhead::media_kbps;

/// Sizes in use: width, lines.
const SIZES: [(u32, u32); 6] = [(426, 240), (640, 360), (960, 540), (1280, 720), (1920, 1080), (2560, 1440)];
/// Frame rates in use.
const RATES: [u32; 4] = [15, 25, 30, 60];
/// Bits per pixel at which H.264 looks plain but whole, and at which it looks good, in thousandths.
const PLAIN: u64 = 55;
const GOOD: u64 = 95;
/// Sound, in kilobits per second.
const SOUND_KBPS: u64 = 128;

/// How a size comes out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fit {
    /// With a good picture.
    Good,
    /// With a plain picture.
    Plain,
    /// Not at all.
    No,
}

impl Fit {
    /// The word that is shown.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Good => "good",
            Self::Plain => "plain",
            Self::No => "no",
        }
    }
}

/// One size at one frame rate.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct FitRow {
    /// Samples a line.
    pub width: u32,
    /// Lines.
    pub lines: u32,
    /// Frames per second.
    pub fps: u32,
    /// Media rate at which it looks plain, with sound.
    pub plain_kbps: u64,
    /// Media rate at which it looks good, with sound.
    pub good_kbps: u64,
    /// How it comes out.
    pub fit: Fit,
}

/// Media rate that each of so many destinations can have of `usable_kbps`, and how each size comes out at it.
#[must_use]
pub fn what_fits(usable_kbps: u64, destinations: u32, protocol: Protocol) -> (u64, Vec<FitRow>) {
    let each = usable_kbps / u64::from(destinations.max(1));
    let media = media_kbps(protocol, each);
    let rows = SIZES
        .into_iter()
        .flat_map(|(width, lines)| RATES.into_iter().map(move |fps| (width, lines, fps)))
        .map(|(width, lines, fps)| {
            let pixels = u64::from(width) * u64::from(lines) * u64::from(fps);
            let at = |thousandths: u64| pixels * thousandths / 1_000_000 + SOUND_KBPS;
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
    fn what_is_left_for_media_is_less_than_the_uplink_by_the_protocols_share() {
        assert_eq!(what_fits(10_430, 10, Protocol::Rtmp).0, 1_000);
        assert!(what_fits(10_430, 10, Protocol::Srt).0 < 1_000);
    }

    #[test]
    fn more_of_anything_needs_more() {
        let (_, rows) = what_fits(1, 1, Protocol::Rtmp);
        assert!(rows.iter().all(|row| row.fit == Fit::No && row.good_kbps > row.plain_kbps));
        assert!(
            rows.windows(2).all(|two| two[0].lines != two[1].lines || two[0].good_kbps < two[1].good_kbps)
        );
    }
}
