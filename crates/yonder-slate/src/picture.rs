//! Holding picture supplied by a user.

use std::io::Cursor;

use image::imageops::{FilterType, overlay};
use image::{ImageReader, Limits, Rgb, RgbImage};

/// Maximum size of a file, in bytes.
const MAX_BYTES: usize = 8 * 1024 * 1024;
/// Range of width and height, in samples.
const SIDES: (u32, u32) = (16, 4_096);
/// Color around a picture with another aspect ratio.
const BORDER: Rgb<u8> = Rgb([0, 0, 0]);

/// Error for a picture that is not accepted.
#[derive(Debug, thiserror::Error)]
pub enum PictureError {
    /// Too large.
    #[error("the file has {0} bytes, and {MAX_BYTES} are the most")]
    TooLarge(usize),
    /// Not a valid PNG or JPEG file.
    #[error("it is no PNG or JPEG of at most {max}×{max} samples that can be read ({0})", max = SIDES.1)]
    Unreadable(String),
    /// Too small.
    #[error("it has {0}×{1} samples, and {min}×{min} are the least", min = SIDES.0)]
    TooSmall(u32, u32),
}

/// Decoded picture.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Picture(RgbImage);

impl Picture {
    /// Decodes a PNG or JPEG file.
    ///
    /// # Errors
    /// [`PictureError`] if it is too large, too small, or invalid.
    pub fn read(file: &[u8]) -> Result<Self, PictureError> {
        if file.len() > MAX_BYTES {
            return Err(PictureError::TooLarge(file.len()));
        }
        let unreadable = |error: &dyn std::fmt::Display| PictureError::Unreadable(error.to_string());
        let mut reader =
            ImageReader::new(Cursor::new(file)).with_guessed_format().map_err(|error| unreadable(&error))?;
        let mut limits = Limits::default();
        limits.max_image_width = Some(SIDES.1);
        limits.max_image_height = Some(SIDES.1);
        reader.limits(limits);
        let image = reader.decode().map_err(|error| unreadable(&error))?.into_rgb8();
        let (width, height) = image.dimensions();
        if width < SIDES.0 || height < SIDES.0 {
            return Err(PictureError::TooSmall(width, height));
        }
        Ok(Self(image))
    }

    /// Returns the picture scaled to another size, with borders if the aspect ratio differs.
    pub(crate) fn fitted(&self, width: u32, height: u32) -> RgbImage {
        let (own_width, own_height) = self.0.dimensions();
        let scale = (f64::from(width) / f64::from(own_width)).min(f64::from(height) / f64::from(own_height));
        let scaled = |side: u32, most: u32| -> u32 {
            #[expect(
                clippy::cast_possible_truncation,
                clippy::cast_sign_loss,
                reason = "positive and at most `most`"
            )]
            let side = (f64::from(side) * scale).round() as u32;
            side.clamp(1, most)
        };
        let (wide, high) = (scaled(own_width, width), scaled(own_height, height));
        let small = image::imageops::resize(&self.0, wide, high, FilterType::Triangle);
        let mut fitted = RgbImage::from_pixel(width, height, BORDER);
        overlay(&mut fitted, &small, i64::from((width - wide) / 2), i64::from((height - high) / 2));
        fitted
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use image::ImageFormat;
    use rstest::rstest;

    fn png(width: u32, height: u32) -> Vec<u8> {
        let mut file = Cursor::new(Vec::new());
        RgbImage::from_pixel(width, height, Rgb([200, 10, 10]))
            .write_to(&mut file, ImageFormat::Png)
            .unwrap();
        file.into_inner()
    }

    #[rstest]
    #[case::wide(100, 20, (0, 0), (50, 50))]
    #[case::high(20, 100, (0, 0), (50, 50))]
    fn picture_with_another_aspect_ratio_gets_borders(
        #[case] width: u32,
        #[case] height: u32,
        #[case] outside: (u32, u32),
        #[case] inside: (u32, u32),
    ) {
        let fitted = Picture::read(&png(width, height)).unwrap().fitted(100, 100);
        assert_eq!(fitted.dimensions(), (100, 100));
        assert_eq!(fitted.get_pixel(outside.0, outside.1), &BORDER);
        assert_eq!(fitted.get_pixel(inside.0, inside.1), &Rgb([200, 10, 10]));
    }

    #[test]
    fn invalid_picture_is_refused() {
        assert!(matches!(Picture::read(b"GIF89a"), Err(PictureError::Unreadable(_))));
        assert!(matches!(Picture::read(&png(300, 300)[..200]), Err(PictureError::Unreadable(_))));
        assert!(matches!(Picture::read(&png(8, 300)), Err(PictureError::TooSmall(8, 300))));
        assert!(matches!(Picture::read(&vec![0; MAX_BYTES + 1]), Err(PictureError::TooLarge(_))));
    }
}
