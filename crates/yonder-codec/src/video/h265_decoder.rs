//! Decoder of H.265, by the system's library.

#![expect(unsafe_code, reason = "foreign functions")]

use std::ffi::{CStr, c_int};

use crate::error::CodecError;

use super::decoder::{OnPicture, VideoDecoder};
use super::libde265::{CHROMA_420, Image, RawDecoder, WAITING_FOR_INPUT, functions, is_ok};
use super::picture::{Picture, PictureRef, plane_size};

/// Returns true if the library for H.265 is installed.
#[must_use]
pub fn is_h265_available() -> bool {
    functions().is_some()
}

/// Decoder of H.265 with 4:2:0 chroma. Samples of more than 8 bits are reduced to 8.
#[derive(Debug)]
pub(crate) struct H265Decoder {
    decoder: RawDecoder,
    /// Picture that was reduced to 8 bits, reused.
    reduced: Picture,
}

impl H265Decoder {
    /// Creates a decoder.
    ///
    /// # Errors
    /// [`CodecError::MissingLibrary`] if the library is not installed.
    pub(crate) fn new() -> Result<Self, CodecError> {
        let functions = functions().ok_or(CodecError::MissingLibrary)?;
        let decoder =
            RawDecoder::new(functions).ok_or_else(|| CodecError::Decoder("no memory".to_owned()))?;
        Ok(Self { decoder, reduced: Picture::default() })
    }

    fn push(&mut self, nal: &[u8], pts: i64) -> Result<(), CodecError> {
        let length = c_int::try_from(nal.len()).map_err(|_| CodecError::Decoder("too large".to_owned()))?;
        let (push, context) = (self.decoder.functions.push_nal, self.decoder.as_ptr());
        // SAFETY: the decoder is valid, and copies the bytes.
        let result = unsafe { push(context, nal.as_ptr().cast(), length, pts, std::ptr::null_mut()) };
        self.check(result)
    }

    fn check(&self, code: c_int) -> Result<(), CodecError> {
        if is_ok(code) {
            return Ok(());
        }
        // SAFETY: the function returns a static text for every code.
        let text = unsafe { CStr::from_ptr((self.decoder.functions.error_text)(code)) };
        Err(CodecError::Decoder(text.to_string_lossy().into_owned()))
    }

    /// Decodes what was pushed.
    fn run(&mut self, on_picture: OnPicture<'_>) -> Result<(), CodecError> {
        loop {
            let mut more: c_int = 0;
            let (decode, context) = (self.decoder.functions.decode, self.decoder.as_ptr());
            // SAFETY: the decoder is valid.
            let code = unsafe { decode(context, &raw mut more) };
            self.take_pictures(on_picture)?;
            self.check(code)?;
            if code == WAITING_FOR_INPUT || more == 0 {
                return Ok(());
            }
        }
    }

    fn take_pictures(&mut self, on_picture: OnPicture<'_>) -> Result<(), CodecError> {
        loop {
            let (next, context) = (self.decoder.functions.next_picture, self.decoder.as_ptr());
            // SAFETY: the decoder is valid.
            let image = unsafe { next(context) };
            if image.is_null() {
                return Ok(());
            }
            self.pass(image, on_picture)?;
        }
    }

    fn pass(&mut self, image: *const Image, on_picture: OnPicture<'_>) -> Result<(), CodecError> {
        let functions = self.decoder.functions;
        // SAFETY: the image is valid until the next call that returns one.
        let (width, height, chroma, bits, pts) = unsafe {
            (
                (functions.image_width)(image, 0),
                (functions.image_height)(image, 0),
                (functions.chroma_format)(image),
                (functions.bits_per_pixel)(image, 0),
                (functions.image_pts)(image),
            )
        };
        let side = |side: c_int| usize::try_from(side).unwrap_or_default();
        let (width, height) = (side(width), side(height));
        if chroma != CHROMA_420 || width == 0 || height == 0 || !(8..=16).contains(&bits) {
            return Err(CodecError::Decoder("only 4:2:0 video is supported".to_owned()));
        }
        let mut planes: [&[u8]; 3] = [&[]; 3];
        let mut strides = [0; 3];
        for (number, (plane, stride)) in (0..).zip(planes.iter_mut().zip(&mut strides)) {
            let mut bytes: c_int = 0;
            // SAFETY: as above; the plane has `height` lines of `stride` bytes, the last one possibly without its padding.
            let samples = unsafe { (functions.image_plane)(image, number, &raw mut bytes) };
            let (samples_wide, lines) = plane_size(width, height, usize::from(number > 0));
            *stride = side(bytes);
            let sample_bytes = if bits > 8 { 2 } else { 1 };
            let length = *stride * lines.saturating_sub(1) + samples_wide * sample_bytes;
            if samples.is_null() || *stride < samples_wide * sample_bytes {
                return Err(CodecError::Decoder("a picture has no samples".to_owned()));
            }
            // SAFETY: as above.
            *plane = unsafe { std::slice::from_raw_parts(samples, length) };
        }
        let picture = PictureRef { width, height, planes, strides };
        if bits == 8 {
            return on_picture(pts, picture);
        }
        reduce(&picture, bits - 8, &mut self.reduced);
        on_picture(pts, self.reduced.as_ref())
    }
}

/// Reduces samples of 16 bits, little-endian, to 8 bits.
fn reduce(picture: &PictureRef<'_>, shift: c_int, reduced: &mut Picture) {
    (reduced.width, reduced.height) = (picture.width, picture.height);
    for plane in 0..3 {
        let (width, height) = picture.plane_size(plane);
        let (Some(from), Some(stride), Some(to)) =
            (picture.planes.get(plane), picture.strides.get(plane), reduced.planes.get_mut(plane))
        else {
            continue;
        };
        to.clear();
        for line in from.chunks(*stride).take(height) {
            to.extend(line.chunks_exact(2).take(width).map(|sample| {
                let value = sample.iter().rev().fold(0_u16, |value, byte| (value << 8) | u16::from(*byte));
                u8::try_from(value >> shift).unwrap_or(u8::MAX)
            }));
        }
    }
}

impl VideoDecoder for H265Decoder {
    fn decode(&mut self, stream: &[u8], pts: i64, on_picture: OnPicture<'_>) -> Result<(), CodecError> {
        for nal in yonder_media::split_nals(&bytes::Bytes::copy_from_slice(stream)) {
            self.push(&nal, pts)?;
        }
        // A picture is complete with the first slice of the next one. Marking its end here would end the reordering.
        self.run(on_picture)
    }

    fn flush(&mut self, on_picture: OnPicture<'_>) -> Result<(), CodecError> {
        let (flush, context) = (self.decoder.functions.flush_data, self.decoder.as_ptr());
        // SAFETY: the decoder is valid.
        let code = unsafe { flush(context) };
        self.check(code)?;
        self.run(on_picture)?;
        let (reset, context) = (self.decoder.functions.reset, self.decoder.as_ptr());
        // SAFETY: the decoder is valid.
        unsafe { reset(context) };
        Ok(())
    }
}
