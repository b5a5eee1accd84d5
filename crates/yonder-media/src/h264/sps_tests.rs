use super::*;
use proptest::prelude::*;
use rstest::rstest;

/// Baseline, level 3, 640x480, no usability information. Written out by hand from 7.3.2.1.1:
/// id ue=0 `1`, log2_max_frame_num-4 ue=0 `1`, order type ue=2 `011`, ref frames ue=1 `010`, gaps `0`,
/// width-1 ue=39 `00000101000`, height-1 ue=29 `000011110`, frames only `1`, direct `1`, crop `0`, vui `0`,
/// stop bit `1`.
pub(crate) const SAMPLE_BASELINE_VGA: &[u8] = &[0x67, 0x42, 0x00, 0x1e, 0xda, 0x02, 0x80, 0xf6, 0x40];

/// High, level 4, 1920x1080 (1088 cropped by 8), 25 fps, two reordered frames at most; as an encoder wrote it.
pub(crate) const SAMPLE_HIGH_1080P: &[u8] = &[
    0x67, 0x64, 0x00, 0x28, 0xac, 0xd9, 0x40, 0x78, 0x02, 0x27, 0xe5, 0xc0, 0x44, 0x00, 0x00, 0x03, 0x00,
    0x04, 0x00, 0x00, 0x03, 0x00, 0xc8, 0x3c, 0x60, 0xc6, 0x58,
];

pub(crate) fn parse(nal: &[u8]) -> Sps {
    Sps::parse(nal).unwrap()
}

#[test]
fn baseline_without_usability_information_is_read() {
    let sps = parse(SAMPLE_BASELINE_VGA);
    assert_eq!((sps.profile, sps.level), (66, 30));
    assert_eq!((sps.width, sps.height), (640, 480));
    assert_eq!(sps.frame_rate, None);
    assert_eq!(sps.reorder_frames, Some(0));
    assert_eq!(sps.profile_name(), "Baseline");
}

#[test]
fn high_profile_with_cropping_timing_and_reorder_depth_is_read() {
    let sps = parse(SAMPLE_HIGH_1080P);
    assert_eq!((sps.profile, sps.level), (100, 40));
    assert_eq!((sps.width, sps.height), (1920, 1080));
    assert_eq!(sps.fps(), Some(25.0));
    assert_eq!(sps.reorder_frames, Some(2));
    assert_eq!((sps.chroma_format, sps.luma_bits, sps.frames_only), (1, 8, true));
    assert_eq!(sps.profile_name(), "High");
}

#[rstest]
#[case::another_kind(&[0x68, 0x42, 0, 30], SpsError::NotAnSps)]
#[case::empty(&[], SpsError::NotAnSps)]
fn other_units_are_refused(#[case] nal: &[u8], #[case] error: SpsError) {
    assert_eq!(Sps::parse(nal), Err(error));
}

#[test]
fn every_cut_before_the_usability_information_is_an_error() {
    for length in 0..SAMPLE_BASELINE_VGA.len() - 1 {
        assert!(Sps::parse(&SAMPLE_BASELINE_VGA[..length]).is_err(), "cut at {length}");
    }
}

#[test]
fn usability_information_cut_short_leaves_the_size_known() {
    let sps = parse(&SAMPLE_HIGH_1080P[..16]);
    assert_eq!((sps.width, sps.height), (1920, 1080));
    assert_eq!(sps.frame_rate, None);
}

proptest! {
    #[test]
    fn any_bytes_are_parsed_or_refused(mut data: Vec<u8>) {
        if let Some(first) = data.first_mut() {
            *first = 0x67;
        }
        if let Ok(sps) = Sps::parse(&data) {
            prop_assert!(sps.width > 0 && sps.width <= 16_384);
            prop_assert!(sps.height > 0 && sps.height <= 32_768);
        }
    }
}
