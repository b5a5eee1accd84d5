//! Interface of audio decoders.

/// Decoder of one audio stream.
pub(crate) trait AudioDecoder: std::fmt::Debug + Send {
    /// Decodes a frame and appends its samples, interleaved and in the range −1 to 1, to `out`. A damaged frame yields the
    /// samples that could be decoded, often none.
    fn decode(&mut self, frame: &[u8], out: &mut Vec<f32>);
}
