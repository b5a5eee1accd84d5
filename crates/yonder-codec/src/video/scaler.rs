//! Scaler of pictures to a fixed size, with black bars where the aspect ratio differs.

use fast_image_resize::images::{TypedCroppedImageMut, TypedImage, TypedImageRef};
use fast_image_resize::pixels::U8;
use fast_image_resize::{FilterType, ResizeAlg, ResizeOptions, Resizer};

use crate::error::CodecError;

use super::picture::{Picture, PictureRef, plane_size};

/// Maximum difference of aspect ratios, in percent, that is not worth bars: sizes are rounded to even numbers.
const MAX_DISTORTION_PERCENT: usize = 2;

/// Scaler to one size.
#[derive(Debug)]
pub(crate) struct Scaler {
    target: Picture,
    resizer: Resizer,
    /// Source size of the last picture.
    source: Option<(usize, usize)>,
    /// Packed samples of one plane, reused.
    packed: Vec<u8>,
}

/// Part of a picture, in samples; all values are even.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Area {
    left: usize,
    top: usize,
    width: usize,
    height: usize,
}

impl Scaler {
    /// Creates a scaler to an even size.
    pub(crate) fn new(width: usize, height: usize) -> Self {
        Self {
            target: Picture::black(width, height),
            resizer: Resizer::new(),
            source: None,
            packed: Vec::new(),
        }
    }

    /// Scales a picture.
    ///
    /// # Errors
    /// [`CodecError::Scaler`].
    pub(crate) fn scale(&mut self, picture: &PictureRef<'_>) -> Result<&Picture, CodecError> {
        let size = (picture.width, picture.height);
        if self.source != Some(size) {
            // Other bars.
            self.target = Picture::black(self.target.width, self.target.height);
            self.source = Some(size);
        }
        let (width, height) = (self.target.width, self.target.height);
        let area = area_of(size, (width, height));
        for plane in 0..3 {
            self.scale_plane(picture, plane, area).map_err(|error| CodecError::Scaler(error.to_owned()))?;
        }
        Ok(&self.target)
    }

    fn scale_plane(
        &mut self,
        picture: &PictureRef<'_>,
        plane: usize,
        area: Area,
    ) -> Result<(), &'static str> {
        let invalid = "a picture has an unexpected size";
        let (source_width, source_height) = picture.plane_size(plane);
        let (target_width, target_height) = plane_size(self.target.width, self.target.height, plane);
        let samples = picture.planes.get(plane).ok_or(invalid)?;
        let stride = *picture.strides.get(plane).ok_or(invalid)?;
        self.packed.clear();
        for line in samples.chunks(stride.max(1)).take(source_height) {
            self.packed.extend_from_slice(line.get(..source_width).ok_or(invalid)?);
        }
        let side = |side: usize| u32::try_from(side).unwrap_or(u32::MAX);
        // The typed interface compiles one type of pixels, the other one all of them.
        let source = TypedImageRef::<U8>::from_buffer(side(source_width), side(source_height), &self.packed);
        let source = source.map_err(|_| invalid)?;
        let target = self.target.planes.get_mut(plane).ok_or(invalid)?;
        let target = TypedImage::<U8>::from_buffer(side(target_width), side(target_height), target);
        let target = target.map_err(|_| invalid)?;
        let shift = usize::from(plane > 0);
        let [left, top, width, height] =
            [area.left, area.top, area.width, area.height].map(|value| side(value >> shift));
        let mut cropped = TypedCroppedImageMut::new(target, left, top, width, height).map_err(|_| invalid)?;
        let options = ResizeOptions::new().resize_alg(ResizeAlg::Convolution(FilterType::CatmullRom));
        self.resizer.resize_typed(&source, &mut cropped, &options).map_err(|_| invalid)
    }
}

/// Returns the part of the target that shows the whole source.
fn area_of(source: (usize, usize), target: (usize, usize)) -> Area {
    let (width, height) = target;
    // Compared without division: width / height of both.
    let (wide, high) = (source.0 * height, source.1 * width);
    let is_same = wide.abs_diff(high) * 100 <= high.max(wide) * MAX_DISTORTION_PERCENT;
    let (fitted_width, fitted_height) = if is_same || source.0 == 0 || source.1 == 0 {
        (width, height)
    } else if wide > high {
        (width, (width * source.1 / source.0).max(2) & !1)
    } else {
        ((height * source.0 / source.1).max(2) & !1, height)
    };
    let centered = |whole: usize, part: usize| ((whole - part.min(whole)) / 2) & !1;
    Area {
        left: centered(width, fitted_width),
        top: centered(height, fitted_height),
        width: fitted_width,
        height: fitted_height,
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::same_shape((1_920, 1_080), (1_280, 720), (0, 0, 1_280, 720))]
    #[case::rounded_shape((1_920, 1_080), (854, 480), (0, 0, 854, 480))]
    #[case::bars_left_and_right((640, 480), (1_280, 720), (160, 0, 960, 720))]
    #[case::bars_above_and_below((2_560, 1_080), (1_280, 720), (0, 90, 1_280, 540))]
    fn aspect_ratio_is_kept(
        #[case] source: (usize, usize),
        #[case] target: (usize, usize),
        #[case] expected: (usize, usize, usize, usize),
    ) {
        let Area { left, top, width, height } = area_of(source, target);
        assert_eq!((left, top, width, height), expected);
    }

    #[test]
    fn picture_is_scaled_between_bars() {
        let mut source = Picture::black(64, 48);
        for (plane, value) in [(0, 200), (1, 90), (2, 60)] {
            source.planes[plane].fill(value);
        }
        let mut scaler = Scaler::new(128, 72);
        let scaled = scaler.scale(&source.as_ref()).unwrap();
        let line = &scaled.planes[0][36 * 128..37 * 128];
        assert_eq!((line[0], line[15], line[64], line[127]), (16, 16, 200, 16));
        let line = &scaled.planes[1][18 * 64..19 * 64];
        assert_eq!((line[0], line[32]), (128, 90));
    }
}
