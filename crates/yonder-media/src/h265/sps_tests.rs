use super::*;
use crate::h265::{Tier, Vps};
use proptest::prelude::*;
use rstest::rstest;

/// Main, level 4, 1920x1080, 25 fps, pictures reordered by up to two; as an encoder wrote it.
pub(crate) const SAMPLE_MAIN_1080P: &[u8] = &[
    0x42, 0x01, 0x01, 0x01, 0x60, 0x00, 0x00, 0x03, 0x00, 0x90, 0x00, 0x00, 0x03, 0x00, 0x00, 0x03, 0x00,
    0x78, 0xa0, 0x03, 0xc0, 0x80, 0x11, 0x07, 0xcb, 0x96, 0x56, 0x64, 0xa4, 0xc2, 0xe0, 0x10, 0x00, 0x00,
    0x3e, 0x80, 0x00, 0x06, 0x1a, 0x80, 0x80,
];
pub(crate) const SAMPLE_VPS: &[u8] = &[
    0x40, 0x01, 0x0c, 0x01, 0xff, 0xff, 0x01, 0x60, 0x00, 0x00, 0x03, 0x00, 0x90, 0x00, 0x00, 0x03, 0x00,
    0x00, 0x03, 0x00, 0x78, 0x95, 0x98, 0x09,
];
pub(crate) const SAMPLE_PPS: &[u8] = &[0x44, 0x01, 0xc0, 0x73, 0xc1, 0x89];
/// Main 10, level 2.1, 640x360, 30000/1001 fps, scaling lists on.
const SAMPLE_MAIN_10: &[u8] = &[
    0x42, 0x01, 0x01, 0x02, 0x20, 0x00, 0x00, 0x03, 0x00, 0x90, 0x00, 0x00, 0x03, 0x00, 0x00, 0x03, 0x00,
    0x3f, 0xa0, 0x05, 0x02, 0x01, 0x71, 0xf2, 0xb6, 0x5b, 0xa4, 0xa4, 0xe1, 0x70, 0x08, 0x00, 0x00, 0x1f,
    0x48, 0x00, 0x03, 0xa9, 0x80, 0x40,
];
/// High tier, level 5.1, 176x144, without timing.
const SAMPLE_HIGH_TIER: &[u8] = &[
    0x42, 0x01, 0x01, 0x21, 0x60, 0x00, 0x00, 0x03, 0x00, 0x90, 0x00, 0x00, 0x03, 0x00, 0x00, 0x03, 0x00,
    0x99, 0xa0, 0x16, 0x20, 0x24, 0x59, 0x65, 0x64, 0x4a, 0x4c, 0x2e, 0x00, 0x10,
];
/// 638x358 in 640x360 coded samples.
const SAMPLE_CROPPED: &[u8] = &[
    0x42, 0x01, 0x01, 0x01, 0x60, 0x00, 0x00, 0x03, 0x00, 0x90, 0x00, 0x00, 0x03, 0x00, 0x00, 0x03, 0x00,
    0x3f, 0xa0, 0x05, 0x02, 0x01, 0x71, 0xd4, 0xd9, 0x65, 0x65, 0x4a, 0x4c, 0x2e, 0x01, 0x00, 0x00, 0x03,
    0x03, 0xe8, 0x00, 0x00, 0x61, 0xa8, 0x08,
];

#[rstest]
#[case::full_hd(SAMPLE_MAIN_1080P, ("Main", Tier::Main, 120), (1920, 1080), Some((25, 1)), 2)]
#[case::ten_bits_and_scaling_lists(SAMPLE_MAIN_10, ("Main 10", Tier::Main, 63), (640, 360), Some((30_000, 1_001)), 0)]
#[case::high_tier_without_timing(SAMPLE_HIGH_TIER, ("Main", Tier::High, 153), (176, 144), None, 2)]
#[case::cropped(SAMPLE_CROPPED, ("Main", Tier::Main, 63), (638, 358), Some((25, 1)), 2)]
fn encoders_parameter_sets_are_read(
    #[case] nal: &[u8],
    #[case] (profile, tier, level): (&str, Tier, u8),
    #[case] size: (u32, u32),
    #[case] rate: Option<(u32, u32)>,
    #[case] reorder: u8,
) {
    let sps = Sps::parse(nal).unwrap();
    assert_eq!((sps.level.profile_name(), sps.level.tier, sps.level.level), (profile, tier, level));
    let rate = rate.map(|(frames, per)| FrameRate { frames, per });
    assert_eq!(((sps.width, sps.height), sps.frame_rate, sps.reorder_frames), (size, rate, reorder));
    assert_eq!((sps.chroma_format, sps.sub_layers, sps.nested), (1, 1, true));
    assert_eq!(sps.luma_bits, if profile == "Main 10" { 10 } else { 8 });
}

#[test]
fn a_video_parameter_set_without_timing_declares_no_rate() {
    assert_eq!(Vps::parse(SAMPLE_VPS), Ok(Vps { frame_rate: None }));
    assert!(Vps::parse(&SAMPLE_VPS[..12]).is_err());
}

#[test]
fn a_set_cut_short_is_refused_or_lacks_only_its_rate() {
    for length in 0..SAMPLE_MAIN_1080P.len() {
        if let Ok(sps) = Sps::parse(&SAMPLE_MAIN_1080P[..length]) {
            assert_eq!((sps.width, sps.height), (1920, 1080), "{length} bytes");
        }
    }
    assert_eq!(Sps::parse(SAMPLE_PPS), Err(SpsError::NotAnSps));
}

#[rstest]
#[case::usual(1, 25, Some((25, 1)))]
#[case::reduced(1_000, 25_000, Some((25, 1)))]
#[case::no_units(0, 25, None)]
#[case::no_scale(1, 0, None)]
#[case::absurd(1, 90_000, None)]
fn only_real_rates_count(#[case] units: u32, #[case] scale: u32, #[case] rate: Option<(u32, u32)>) {
    assert_eq!(frame_rate(units, scale), rate.map(|(frames, per)| FrameRate { frames, per }));
}

/// Writes bits as text: `0` and `1`, blanks left aside.
fn bits(text: &str) -> Vec<u8> {
    let digits: Vec<u8> = text.bytes().filter(|b| *b != b' ').map(|b| b - b'0').collect();
    digits.chunks(8).map(|c| c.iter().enumerate().fold(0, |byte, (at, bit)| byte | bit << (7 - at))).collect()
}

#[test]
fn short_term_sets_coded_as_differences_are_skipped() {
    // Three sets: one negative picture; by difference (two flags used); by difference from that one, whose three
    // pictures are: not used but kept, used, neither.
    let data = bits("00100 010 1 1 1  1 0 1 1 1  1 0 1 01 1 00  1");
    let mut r = BitReader::new(&data);
    skip_short_term_sets(&mut r).unwrap();
    assert_eq!(r.bit(), Ok(true), "the bit behind the sets");
    assert_eq!(r.position(), 25);
}

#[test]
fn too_many_sets_or_pictures_are_refused() {
    let many = bits("0000001000010");
    assert!(matches!(
        skip_short_term_sets(&mut BitReader::new(&many)),
        Err(SpsError::OutOfRange { field: "num_short_term_ref_pic_sets", .. })
    ));
}

proptest! {
    #[test]
    fn any_bytes_are_parsed_or_refused(body in prop::collection::vec(any::<u8>(), 0..200)) {
        let mut nal = vec![0x42, 0x01];
        nal.extend(body);
        let _ = Sps::parse(&nal);
        let _ = Vps::parse(&nal);
    }

    #[test]
    fn damaged_sets_are_read_or_refused(at in 2_usize..40, value: u8) {
        let mut nal = SAMPLE_MAIN_1080P.to_vec();
        nal[at] = value;
        if let Ok(sps) = Sps::parse(&nal) {
            prop_assert!(sps.width <= MAX_EDGE && sps.height <= MAX_EDGE);
        }
    }
}
