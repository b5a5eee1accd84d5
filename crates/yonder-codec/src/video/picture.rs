//! Decoded pictures: 8-bit 4:2:0.

/// Decoded picture, borrowed from its decoder.
#[derive(Debug, Clone, Copy)]
pub(crate) struct PictureRef<'a> {
    /// Width in samples.
    pub(crate) width: usize,
    /// Height in lines.
    pub(crate) height: usize,
    /// Y, Cb and Cr; each line is followed by padding up to its stride.
    pub(crate) planes: [&'a [u8]; 3],
    /// Distances between lines, in bytes.
    pub(crate) strides: [usize; 3],
}

impl PictureRef<'_> {
    /// Returns the size of a plane, in samples.
    pub(crate) fn plane_size(&self, plane: usize) -> (usize, usize) {
        plane_size(self.width, self.height, plane)
    }
}

/// Owned picture without padding.
#[derive(Debug, Clone, Default)]
pub(crate) struct Picture {
    pub(crate) width: usize,
    pub(crate) height: usize,
    pub(crate) planes: [Vec<u8>; 3],
}

impl Picture {
    /// Creates a black picture. Sides are even.
    pub(crate) fn black(width: usize, height: usize) -> Self {
        let plane = |plane: usize| {
            let (width, height) = plane_size(width, height, plane);
            vec![if plane == 0 { 16 } else { 128 }; width * height]
        };
        Self { width, height, planes: [plane(0), plane(1), plane(2)] }
    }

    /// Returns a reference to the picture.
    pub(crate) fn as_ref(&self) -> PictureRef<'_> {
        let [y, u, v] = &self.planes;
        let chroma = self.width.div_ceil(2);
        PictureRef {
            width: self.width,
            height: self.height,
            planes: [y, u, v],
            strides: [self.width, chroma, chroma],
        }
    }
}

/// Returns the size of a plane of a picture, in samples.
pub(crate) fn plane_size(width: usize, height: usize, plane: usize) -> (usize, usize) {
    if plane == 0 { (width, height) } else { (width.div_ceil(2), height.div_ceil(2)) }
}
