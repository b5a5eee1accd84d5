//! Conversion between mono and stereo.

/// Converts interleaved samples from `from` to `to` channels, of one or two each, and appends them to `out`.
pub(crate) fn convert(samples: &[f32], from: u8, to: u8, out: &mut Vec<f32>) {
    match (from, to) {
        (1, 2) => out.extend(samples.iter().flat_map(|sample| [*sample, *sample])),
        (2, 1) => out.extend(samples.chunks_exact(2).map(|pair| pair.iter().sum::<f32>() / 2.0)),
        _ => out.extend_from_slice(samples),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::same(2, 2, &[0.1, 0.2, 0.3, 0.4])]
    #[case::doubled(1, 2, &[0.1, 0.1, 0.2, 0.2, 0.3, 0.3, 0.4, 0.4])]
    #[case::mixed(2, 1, &[0.15, 0.35])]
    fn channels_are_converted(#[case] from: u8, #[case] to: u8, #[case] expected: &[f32]) {
        let mut out = Vec::new();
        convert(&[0.1, 0.2, 0.3, 0.4], from, to, &mut out);
        assert_eq!(out.len(), expected.len());
        assert!(out.iter().zip(expected).all(|(a, b)| (a - b).abs() < 1e-6), "{out:?}");
    }
}
