//! Default slate image: name of the relay over a landscape, and since when the feed is away.

use std::time::SystemTime;

use ab_glyph::{Font as _, FontRef, PxScale, ScaleFont as _, point};
use image::{Rgb, RgbImage};
use jiff::Timestamp;
use jiff::tz::TimeZone;

type Color = [f32; 3];

/// Gradient of the sky.
const SKY: (Color, Color) = ([13.0, 25.0, 27.0], [29.0, 56.0, 58.0]);
const FAR_FELL: Color = [36.0, 57.0, 59.0];
const NEAR_FELL: Color = [19.0, 36.0, 39.0];
const PAPER: Color = [236.0, 231.0, 218.0];
const QUIET: Color = [159.0, 176.0, 173.0];
const HOLDING: Color = [185.0, 158.0, 232.0];

/// Text sizes, as fractions of the height.
const NAME_SIZE: f32 = 0.09;
const LINE_SIZE: f32 = 0.042;
/// Maximum width of text, as a fraction of the width.
const MAX_WIDTH: f32 = 0.84;

/// Draws the card. `away_since` is when the feed became absent; `None` if an operator requested the hold.
pub(crate) fn draw(width: u32, height: u32, name: &str, away_since: Option<SystemTime>) -> RgbImage {
    let mut card = Card { image: RgbImage::new(width, height) };
    card.landscape();
    let (wide, high) = card.size();
    let font = FontRef::try_from_slice(dejavu::sans::regular()).ok();
    let bold = FontRef::try_from_slice(dejavu::sans::bold()).ok();
    card.pennant(wide / 2.0 - 0.03 * high, high * 0.2, high * 0.11);
    if let Some(bold) = bold {
        card.line(&bold, name, high * NAME_SIZE, high * 0.47, PAPER);
    }
    if let Some(font) = font {
        let text = match away_since {
            Some(since) => format!("No picture since {}. It returns automatically.", clock_time(since)),
            None => "A short break. The picture returns soon.".to_owned(),
        };
        card.line(&font, &text, high * LINE_SIZE, high * 0.57, QUIET);
    }
    card.image
}

/// Formats the time in the system's time zone.
fn clock_time(time: SystemTime) -> String {
    Timestamp::try_from(time).map_or_else(
        |_| "a while".to_owned(),
        |time| time.to_zoned_datetime(TimeZone::system()).strftime("%H:%M").to_string(),
    )
}

struct Card {
    image: RgbImage,
}

impl Card {
    #[expect(clippy::cast_precision_loss, reason = "sides of a picture are small numbers")]
    fn size(&self) -> (f32, f32) {
        (self.image.width() as f32, self.image.height() as f32)
    }

    /// Draws a sky that brightens towards two rows of fells.
    #[expect(clippy::cast_precision_loss, reason = "sides of a picture are small numbers")]
    fn landscape(&mut self) {
        let (wide, high) = self.size();
        for (x, y, pixel) in self.image.enumerate_pixels_mut() {
            let (across, down) = (x as f32 / wide, y as f32 / high);
            let far = 0.78 - 0.09 * (across * 5.1 + 0.6).sin() - 0.03 * (across * 13.0).sin();
            let near = 0.88 - 0.06 * (across * 3.7 + 2.4).sin() - 0.02 * (across * 17.0).sin();
            let mut color = mix(SKY.0, SKY.1, down);
            // A soft edge, one sample wide.
            color = mix(color, FAR_FELL, ((down - far) * high).clamp(0.0, 1.0));
            color = mix(color, NEAR_FELL, ((down - near) * high).clamp(0.0, 1.0));
            *pixel = rgb(color);
        }
    }

    /// Draws the icon of the state holding: a half-filled pennant.
    fn pennant(&mut self, left: f32, top: f32, size: f32) {
        let pole = size * 0.05;
        let flag = (size * 0.9, size * 0.5);
        self.fill(left, top, pole, size, |_, _| 1.0);
        self.fill(left + pole, top + size * 0.04, flag.0, flag.1, |across, down| {
            // The pennant ends in a point; its second half is an outline.
            let reach = 1.0 - (down - 0.5).abs() * 2.0 * 0.55;
            let edge = !(0.09..=0.91).contains(&down) || across > reach - 0.06;
            if across > reach {
                0.0
            } else if across < 0.48 || edge {
                1.0
            } else {
                0.0
            }
        });
    }

    /// Fills a rectangle with the coverage returned by `shape`.
    #[expect(
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        clippy::cast_precision_loss,
        reason = "sides of a picture are small numbers"
    )]
    fn fill(&mut self, left: f32, top: f32, wide: f32, high: f32, shape: impl Fn(f32, f32) -> f32) {
        let (first, last) = (left.max(0.0) as u32, (left + wide).max(0.0) as u32);
        for y in top.max(0.0) as u32..(top + high).max(0.0) as u32 {
            for x in first..last {
                let (across, down) = ((x as f32 - left) / wide, (y as f32 - top) / high);
                self.blend(x, y, HOLDING, shape(across, down));
            }
        }
    }

    fn blend(&mut self, x: u32, y: u32, color: Color, share: f32) {
        if let Some(pixel) = self.image.get_pixel_mut_checked(x, y) {
            let under = pixel.0.map(f32::from);
            *pixel = rgb(mix(under, color, share));
        }
    }

    /// Draws a centered line of text, scaled down to fit.
    #[expect(
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        reason = "places in a picture are small positive numbers"
    )]
    fn line(&mut self, font: &FontRef<'_>, text: &str, size: f32, baseline: f32, color: Color) {
        let (wide, _) = self.size();
        let most = wide * MAX_WIDTH;
        let natural = width_of(font, text, size);
        let size = if natural > most { size * most / natural } else { size };
        let scaled = font.as_scaled(PxScale::from(size));
        let mut x = (wide - width_of(font, text, size)) / 2.0;
        let mut before = None;
        for letter in text.chars() {
            let id = scaled.glyph_id(letter);
            x += before.map_or(0.0, |before| scaled.kern(before, id));
            let glyph = id.with_scale_and_position(PxScale::from(size), point(x, baseline));
            x += scaled.h_advance(id);
            before = Some(id);
            let Some(outline) = font.outline_glyph(glyph) else { continue };
            let bounds = outline.px_bounds();
            let (left, top) = (bounds.min.x.max(0.0) as u32, bounds.min.y.max(0.0) as u32);
            outline.draw(|column, row, share| self.blend(left + column, top + row, color, share));
        }
    }
}

fn width_of(font: &FontRef<'_>, text: &str, size: f32) -> f32 {
    let scaled = font.as_scaled(PxScale::from(size));
    let ids: Vec<_> = text.chars().map(|letter| scaled.glyph_id(letter)).collect();
    let kerns: f32 = ids.iter().zip(ids.iter().skip(1)).map(|(a, b)| scaled.kern(*a, *b)).sum();
    ids.iter().map(|id| scaled.h_advance(*id)).sum::<f32>() + kerns
}

fn mix(from: Color, to: Color, share: f32) -> Color {
    let at = |index: usize| {
        let (from, to) = (from.get(index).copied(), to.get(index).copied());
        from.zip(to).map_or(0.0, |(from, to)| from + (to - from) * share)
    };
    [at(0), at(1), at(2)]
}

#[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "colours lie between 0 and 255")]
fn rgb(color: Color) -> Rgb<u8> {
    Rgb(color.map(|value| value.round().clamp(0.0, 255.0) as u8))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// Counts samples of a color between `top` and `bottom`, as fractions of the height.
    fn samples(card: &RgbImage, color: Color, top: f32, bottom: f32) -> usize {
        let high = f64::from(card.height());
        let rows = f64::from(top) * high..f64::from(bottom) * high;
        let found = card
            .enumerate_pixels()
            .filter(|(_, y, pixel)| rows.contains(&f64::from(*y)) && **pixel == rgb(color));
        found.count()
    }

    #[rstest]
    #[case::large(1_920, 1_080)]
    #[case::small(640, 360)]
    #[case::upright(540, 960)]
    fn the_card_shows_a_pennant_the_name_and_a_line(#[case] width: u32, #[case] height: u32) {
        let card = draw(width, height, "Summit Station", Some(SystemTime::now()));
        assert!(samples(&card, HOLDING, 0.1, 0.4) > 20);
        assert!(samples(&card, PAPER, 0.35, 0.5) > 20);
        assert!(samples(&card, PAPER, 0.6, 1.0) == 0);
        if let Some(folder) = std::env::var_os("YONDER_CARDS") {
            card.save(std::path::Path::new(&folder).join(format!("card-{width}.png"))).unwrap();
        }
    }

    #[test]
    fn a_long_name_stays_within_the_card() {
        let card = draw(640, 360, &"A very long name of a relay ".repeat(4), None);
        let at_the_edge =
            (0..360).any(|y| *card.get_pixel(2, y) == rgb(PAPER) || *card.get_pixel(637, y) == rgb(PAPER));
        assert!(!at_the_edge);
    }
}
