use super::*;
use proptest::prelude::*;
use rstest::rstest;

const HEVC: VideoFormat = VideoFormat::H265 { order_numbers: false };

fn packet(timestamp: u32, marker: bool, payload: &[u8]) -> RtpPacket {
    RtpPacket {
        marker,
        payload_type: 96,
        sequence: 0,
        timestamp,
        ssrc: 1,
        payload: Bytes::copy_from_slice(payload),
    }
}

fn run_as(format: VideoFormat, packets: &[RtpPacket]) -> Vec<VideoUnit> {
    let mut depacketizer = VideoDepacketizer::new(format);
    packets.iter().flat_map(|packet| depacketizer.handle_packet(packet)).collect()
}

fn run(packets: &[RtpPacket]) -> Vec<VideoUnit> {
    run_as(VideoFormat::H264, packets)
}

/// A depacketizer that has seen one keyframe and trusts the camera's markers.
fn begun(format: VideoFormat) -> VideoDepacketizer {
    let (key, inter): (&[u8], &[u8]) = match format {
        VideoFormat::H264 => (&[0x65, 0x80], &[0x41, 0x80]),
        VideoFormat::H265 { .. } => (&[0x26, 1, 0x80], &[0x02, 1, 0x80]),
    };
    let mut depacketizer = VideoDepacketizer::new(format);
    assert!(depacketizer.handle_packet(&packet(1, true, key)).is_empty());
    assert_eq!(depacketizer.handle_packet(&packet(2, true, inter)).len(), 2);
    depacketizer
}

fn times(units: &[VideoUnit]) -> Vec<u32> {
    units.iter().map(|unit| unit.timestamp).collect()
}

#[test]
fn single_units_up_to_the_marker_make_an_access_unit() {
    let units = run(&[
        packet(1, false, &[0x67, 1]),
        packet(1, false, &[0x68, 2]),
        packet(1, true, &[0x65, 0x83]),
        packet(2, true, &[0x41, 0x84]),
    ]);
    assert_eq!(units.len(), 2);
    assert_eq!(units[0].nals, vec![&[0x67, 1][..], &[0x68, 2], &[0x65, 0x83]]);
    assert!(units[0].keyframe && !units[1].keyframe);
}

#[test]
fn once_markers_are_proven_a_picture_is_complete_at_once() {
    let mut depacketizer = begun(VideoFormat::H264);
    assert_eq!(times(&depacketizer.handle_packet(&packet(3, true, &[0x41, 0x80]))), vec![3]);
}

#[rstest]
#[case::h264(
    VideoFormat::H264,
    &[0x78, 0, 2, 0x67, 1, 0, 1, 0x68, 0, 2, 0x65, 0x83],
    &[&[0x67, 1][..], &[0x68], &[0x65, 0x83]]
)]
#[case::h265(HEVC, &[0x60, 1, 0, 3, 0x42, 1, 7, 0, 3, 0x26, 1, 0x80], &[&[0x42, 1, 7][..], &[0x26, 1, 0x80]])]
#[case::h265_with_order(
    VideoFormat::H265 { order_numbers: true },
    &[0x60, 1, 9, 9, 0, 3, 0x42, 1, 7, 5, 0, 3, 0x26, 1, 0x80],
    &[&[0x42, 1, 7][..], &[0x26, 1, 0x80]]
)]
fn an_aggregate_holds_several_units(
    #[case] format: VideoFormat,
    #[case] payload: &[u8],
    #[case] nals: &[&[u8]],
) {
    let units = run_as(format, &[packet(1, true, payload), packet(2, true, &[0x02, 1, 0x80])]);
    assert_eq!(units[0].nals, nals);
    assert!(units[0].keyframe);
}

#[rstest]
#[case::h264(VideoFormat::H264, [&[0x7c, 0x85, 0x81, 2][..], &[0x7c, 0x05, 3], &[0x7c, 0x45, 4]], &[0x65, 0x81, 2, 3, 4])]
#[case::h265(HEVC, [&[0x62, 1, 0x93, 0x81, 2][..], &[0x62, 1, 0x13, 3], &[0x62, 1, 0x53, 4]], &[0x26, 1, 0x81, 2, 3, 4])]
#[case::h265_with_order(
    VideoFormat::H265 { order_numbers: true },
    [&[0x62, 1, 0x93, 7, 7, 0x81, 2][..], &[0x62, 1, 0x13, 3], &[0x62, 1, 0x53, 4]],
    &[0x26, 1, 0x81, 2, 3, 4]
)]
fn fragments_are_joined_under_the_original_header(
    #[case] format: VideoFormat,
    #[case] fragments: [&[u8]; 3],
    #[case] nal: &[u8],
) {
    let [first, second, third] = fragments;
    let next = packet(2, true, &[0x02, 1, 0x80]);
    let units =
        run_as(format, &[packet(1, false, first), packet(1, false, second), packet(1, true, third), next]);
    assert_eq!(units[0].nals, vec![nal]);
    assert!(units[0].keyframe);
}

#[test]
fn order_numbers_of_single_h265_units_are_cut_out() {
    let format = VideoFormat::H265 { order_numbers: true };
    let units = run_as(
        format,
        &[packet(1, true, &[0x26, 1, 9, 9, 0x80, 5]), packet(2, true, &[0x02, 1, 0, 1, 0x80])],
    );
    assert_eq!(units[0].nals, vec![&[0x26, 1, 0x80, 5][..]]);
}

#[rstest]
#[case::h264(VideoFormat::H264, &[0x65, 0x40], &[0x41, 0x80], &[0x65, 0x80])]
#[case::h265(HEVC, &[0x26, 1, 0x00], &[0x02, 1, 0x80], &[0x26, 1, 0x80])]
fn stream_that_begins_within_a_picture_is_used_from_the_next_keyframe(
    #[case] format: VideoFormat,
    #[case] later_slice: &[u8],
    #[case] dependent: &[u8],
    #[case] keyframe: &[u8],
) {
    let packets = [(1, later_slice), (2, dependent), (3, keyframe), (4, dependent), (5, dependent)];
    let units = run_as(format, &packets.map(|(time, nal)| packet(time, true, nal)));
    assert_eq!(times(&units), [3, 4, 5]);
}

#[test]
fn first_picture_may_begin_with_a_unit_of_no_known_role() {
    let units =
        run(&[packet(1, false, &[30, 7]), packet(1, true, &[0x65, 0x80]), packet(2, true, &[0x41, 0x80])]);
    assert_eq!(times(&units), [1, 2]);
}

#[test]
fn missing_marker_is_replaced_by_the_change_of_time() {
    let slice = |time| packet(time, false, &[0x65, 0x80]);
    assert_eq!(times(&run(&[slice(1), slice(2), slice(3)])), vec![1, 2]);
}

#[test]
fn a_marker_on_every_slice_is_never_trusted() {
    let slices = |time| [packet(time, true, &[0x65, 0x80]), packet(time, true, &[0x65, 0x40])];
    let units = run(&[slices(1), slices(2), slices(3)].concat());
    let counts: Vec<(u32, usize)> = units.iter().map(|unit| (unit.timestamp, unit.nals.len())).collect();
    assert_eq!(counts, vec![(1, 2), (2, 2)]);
}

#[test]
fn a_marker_that_turns_false_later_costs_the_rest_of_that_group() {
    let mut depacketizer = begun(VideoFormat::H264);
    let slice = |time, first| packet(time, true, if first { &[0x41, 0x80] } else { &[0x41, 0x40] });
    assert_eq!(depacketizer.handle_packet(&slice(3, true)).len(), 1, "given away too early, once");
    assert!(depacketizer.handle_packet(&slice(3, false)).is_empty());
    assert!(depacketizer.handle_packet(&slice(4, true)).is_empty());
    assert!(depacketizer.handle_packet(&slice(4, false)).is_empty());
    let key = [packet(5, true, &[0x65, 0x80]), packet(5, true, &[0x65, 0x40]), slice(6, true)];
    let units: Vec<VideoUnit> = key.iter().flat_map(|packet| depacketizer.handle_packet(packet)).collect();
    assert_eq!((times(&units), units[0].nals.len()), (vec![5], 2));
}

#[test]
fn parameter_sets_of_their_own_time_go_with_the_next_picture() {
    let units = run(&[
        packet(1, true, &[0x67, 1]),
        packet(1, true, &[0x68, 1]),
        packet(2, true, &[0x65, 0x80]),
        packet(3, true, &[0x41, 0x80]),
    ]);
    assert_eq!((units[0].timestamp, units[0].nals.len()), (2, 3));
}

#[test]
fn after_a_loss_everything_up_to_the_next_keyframe_is_dropped_and_counted() {
    let mut depacketizer = begun(VideoFormat::H264);
    depacketizer.handle_packet(&packet(3, false, &[0x7c, 0x81, 1]));
    depacketizer.handle_loss();
    assert!(depacketizer.handle_packet(&packet(3, true, &[0x7c, 0x41, 2])).is_empty());
    assert!(depacketizer.handle_packet(&packet(4, true, &[0x41, 0x83])).is_empty());
    assert_eq!(depacketizer.handle_packet(&packet(5, true, &[0x65, 0x84])).len(), 1);
    assert_eq!(depacketizer.handle_packet(&packet(6, true, &[0x41, 0x85])).len(), 1);
    assert_eq!(depacketizer.dropped(), 2);
}

#[test]
fn a_keyframe_that_lost_its_first_slice_is_no_keyframe() {
    let mut depacketizer = begun(VideoFormat::H264);
    depacketizer.handle_loss();
    // The second slice of a keyframe: what went before it is gone.
    assert!(depacketizer.handle_packet(&packet(4, false, &[0x65, 0x40])).is_empty());
    assert!(depacketizer.handle_packet(&packet(4, true, &[0x65, 0x20])).is_empty());
    assert_eq!(times(&depacketizer.handle_packet(&packet(5, true, &[0x65, 0x80]))), vec![5]);
}

#[test]
fn a_keyframe_that_lost_its_parameter_sets_waits_for_the_next_where_they_are_in_band() {
    let mut depacketizer = VideoDepacketizer::new(VideoFormat::H264);
    for packet in
        [packet(1, false, &[0x67, 1]), packet(1, true, &[0x65, 0x80]), packet(2, true, &[0x41, 0x80])]
    {
        depacketizer.handle_packet(&packet);
    }
    depacketizer.handle_loss();
    assert!(depacketizer.handle_packet(&packet(3, true, &[0x65, 0x80])).is_empty());
    depacketizer.handle_packet(&packet(4, false, &[0x67, 1]));
    assert_eq!(depacketizer.handle_packet(&packet(4, true, &[0x65, 0x80])).len(), 1);
}

#[test]
fn a_picture_whose_end_was_lost_is_dropped() {
    let mut depacketizer = begun(VideoFormat::H264);
    depacketizer.handle_packet(&packet(3, false, &[0x65, 0x80]));
    depacketizer.handle_loss();
    assert_eq!(times(&depacketizer.handle_packet(&packet(4, true, &[0x65, 0x80]))), vec![4]);
}

#[test]
fn leading_pictures_with_missing_references_are_dropped() {
    // CRA, a skipped leading picture (RASL_R, 9), a trailing one.
    let stream = |at| {
        [
            packet(at, true, &[0x2a, 1, 0x80]),
            packet(at + 1, true, &[0x12, 1, 0x80]),
            packet(at + 2, true, &[0x02, 1, 0x80]),
        ]
    };
    let mut depacketizer = VideoDepacketizer::new(HEVC);
    let mut feed = |packets: &[RtpPacket]| -> Vec<u32> {
        packets
            .iter()
            .flat_map(|packet| depacketizer.handle_packet(packet))
            .map(|unit| unit.timestamp)
            .collect()
    };
    assert_eq!(feed(&stream(1)), vec![1, 3]);
    // In the middle of a whole stream they are as good as others.
    assert_eq!(feed(&stream(4)), vec![4, 5, 6]);
}

#[test]
fn a_restart_keeps_the_count_and_waits_for_a_keyframe() {
    let mut depacketizer = begun(VideoFormat::H264);
    depacketizer.handle_packet(&packet(3, false, &[0x41, 0x80]));
    depacketizer.restart();
    assert!(depacketizer.handle_packet(&packet(900, true, &[0x41, 0x80])).is_empty());
    assert_eq!(depacketizer.handle_packet(&packet(901, true, &[0x65, 0x80])).len(), 1);
}

#[test]
fn an_endless_access_unit_is_given_up() {
    let mut depacketizer = begun(VideoFormat::H264);
    depacketizer.handle_packet(&packet(3, false, &[0x7c, 0x85]));
    let piece = [&[0x7c, 0x05][..], &[7; 60_000]].concat();
    for _ in 0..200 {
        depacketizer.handle_packet(&packet(3, false, &piece));
    }
    assert!(depacketizer.handle_packet(&packet(3, true, &[0x7c, 0x45, 1])).is_empty());
    assert_eq!(depacketizer.handle_packet(&packet(4, true, &[0x65, 0x80])).len(), 1);
}

proptest! {
    #[test]
    fn any_payloads_in_any_order_are_handled(
        packets in prop::collection::vec(
            (0_u32..4, any::<bool>(), prop::collection::vec(any::<u8>(), 0..20), any::<bool>()), 0..60),
        format in prop_oneof![
            Just(VideoFormat::H264), Just(HEVC), Just(VideoFormat::H265 { order_numbers: true })],
    ) {
        let mut depacketizer = VideoDepacketizer::new(format);
        for (timestamp, marker, payload, loss) in packets {
            if loss {
                depacketizer.handle_loss();
            }
            for unit in depacketizer.handle_packet(&packet(timestamp, marker, &payload)) {
                prop_assert!(!unit.nals.is_empty());
                prop_assert!(unit.nals.iter().all(|nal| !nal.is_empty()));
            }
        }
    }

    /// Pictures of several slices over a way that loses packets: what comes out is whole, and decodable.
    #[test]
    fn no_damaged_picture_ever_comes_out(
        lost in prop::collection::vec(prop::bool::weighted(0.1), 400),
        slices in 1_usize..5,
        group in 2_u32..8,
    ) {
        let mut depacketizer = VideoDepacketizer::new(VideoFormat::H264);
        let (mut gap, mut at, mut last) = (false, 0, None::<u32>);
        'pictures: for time in 0.. {
            for slice in 0..slices {
                let header = if time % group == 0 { 0x65 } else { 0x41 };
                let first = if slice == 0 { 0x80 } else { 0x40 };
                let packet = packet(time, slice + 1 == slices, &[header, first, u8::try_from(slice).unwrap()]);
                let Some(lost) = lost.get(at) else { break 'pictures };
                at += 1;
                if *lost {
                    gap = true;
                    continue;
                }
                if std::mem::take(&mut gap) {
                    depacketizer.handle_loss();
                }
                for unit in depacketizer.handle_packet(&packet) {
                    prop_assert_eq!(unit.nals.len(), slices);
                    let follows = last.is_some_and(|last| unit.timestamp == last + 1);
                    prop_assert!(unit.keyframe || follows || last.is_none(), "{} after {:?}", unit.timestamp, last);
                    last = Some(unit.timestamp);
                }
            }
        }
    }
}

/// A payload of a reserved or vendor type before each picture, as some firmware sends it.
#[rstest]
#[case::h264_30(VideoFormat::H264, &[0x1e, 1, 2, 3], &[0x65, 0x80], &[0x41, 0x80])]
#[case::h264_31(VideoFormat::H264, &[0x1f], &[0x65, 0x80], &[0x41, 0x80])]
#[case::h264_0(VideoFormat::H264, &[0x00, 9, 9], &[0x65, 0x80], &[0x41, 0x80])]
#[case::h265_paci(HEVC, &[0x64, 1, 0], &[0x26, 1, 0x80], &[0x02, 1, 0x80])]
#[case::h265_63(HEVC, &[0x7e, 1, 0], &[0x26, 1, 0x80], &[0x02, 1, 0x80])]
fn reserved_types_are_ignored_and_counted(
    #[case] format: VideoFormat,
    #[case] vendor: &[u8],
    #[case] key: &[u8],
    #[case] inter: &[u8],
) {
    let mut depacketizer = VideoDepacketizer::new(format);
    let mut units = Vec::new();
    for time in 1..=5 {
        units.extend(depacketizer.handle_packet(&packet(time, false, vendor)));
        let picture = if time == 1 { key } else { inter };
        units.extend(depacketizer.handle_packet(&packet(time, true, picture)));
    }
    assert_eq!(times(&units), [1, 2, 3, 4, 5]);
    assert_eq!((depacketizer.drops().ignored, depacketizer.dropped()), (5, 0));
}

#[rstest]
#[case::h264(VideoFormat::H264, &[0, 0, 0, 1, 0x67, 7, 0, 0, 1, 0x68, 8, 0, 0, 0, 1, 0x65, 0x80, 0], &[&[0x67, 7][..], &[0x68, 8], &[0x65, 0x80]])]
#[case::h265(HEVC, &[0, 0, 1, 0x42, 1, 7, 0, 0, 0, 1, 0x26, 1, 0x80], &[&[0x42, 1, 7][..], &[0x26, 1, 0x80]])]
fn a_payload_with_start_codes_is_split_at_them(
    #[case] format: VideoFormat,
    #[case] payload: &[u8],
    #[case] nals: &[&[u8]],
) {
    let units = run_as(format, &[packet(1, true, payload), packet(2, true, &[0x02, 1, 0x80])]);
    assert_eq!(units[0].nals, nals);
    assert!(units[0].keyframe);
}

#[test]
fn units_with_decoding_order_numbers_are_read_in_the_order_of_the_packets() {
    // STAP-B, and a unit in FU-B and FU-A.
    let units = run(&[
        packet(1, true, &[0x79, 0, 5, 0, 2, 0x67, 1, 0, 2, 0x65, 0x83]),
        packet(2, false, &[0x7d, 0x85, 0, 6, 1, 2]),
        packet(2, true, &[0x7c, 0x45, 3]),
        packet(3, true, &[0x41, 0x80]),
    ]);
    assert_eq!(units[0].nals, vec![&[0x67, 1][..], &[0x65, 0x83]]);
    assert_eq!(units[1].nals, vec![&[0x65, 1, 2, 3][..]]);
}

#[test]
fn a_fragmented_unit_without_its_end_mark_is_used() {
    let mut depacketizer = begun(VideoFormat::H264);
    let mut units = Vec::new();
    for time in 3..=6 {
        let fragments: [&[u8]; 2] = [&[0x5c, 0x81, 0x80, 1], &[0x5c, 0x01, 2]];
        units.extend(depacketizer.handle_packet(&packet(time, false, fragments[0])));
        units.extend(depacketizer.handle_packet(&packet(time, true, fragments[1])));
    }
    assert_eq!(times(&units), [3, 4, 5], "the last one waits for the next");
    assert!(units.iter().all(|unit| unit.nals == [&[0x41, 0x80, 1, 2][..]]), "{units:?}");
    assert_eq!((depacketizer.drops().unterminated, depacketizer.dropped()), (3, 0));
}

#[test]
fn a_fragmented_unit_whose_end_was_lost_is_not_used() {
    let mut depacketizer = begun(VideoFormat::H264);
    depacketizer.handle_packet(&packet(3, false, &[0x5c, 0x81, 0x80, 1]));
    depacketizer.handle_loss();
    assert!(depacketizer.handle_packet(&packet(4, true, &[0x41, 0x80])).is_empty());
    assert_eq!((depacketizer.drops().unterminated, depacketizer.dropped()), (0, 1));
}

#[test]
fn unusable_payloads_are_counted_by_reason() {
    let mut depacketizer = begun(VideoFormat::H264);
    for payload in [&[0x78, 0, 9, 0x67][..], &[0x7c], &[0x5c, 0x01, 2], &[0x7a, 0, 0, 0, 1], &[0x79]] {
        depacketizer.handle_packet(&packet(3, false, payload));
    }
    let expected = DropCounts { cut_short: 3, headless: 1, interleaved: 1, ..DropCounts::default() };
    assert_eq!(depacketizer.drops(), expected);
}

/// `recovery_frame_cnt` 0 (ITU-T H.264, D.1.8).
const RECOVERY_POINT: &[u8] = &[0x06, 0x06, 0x01, 0xc4, 0x80];
const I_SLICE: &[u8] = &[0x61, 0x88, 0x80];
const P_SLICE: &[u8] = &[0x61, 0x9a, 0x80];
const B_SLICE: &[u8] = &[0x01, 0x9e, 0x80];

#[test]
fn decoding_starts_at_a_recovery_point_where_no_idr_comes() {
    let mut depacketizer = begun(VideoFormat::H264);
    depacketizer.handle_loss();
    let packets = [
        packet(3, true, P_SLICE),
        packet(6, false, RECOVERY_POINT),
        packet(6, true, I_SLICE),
        // Shown before the I picture: they refer to the group before it, which was lost.
        packet(4, true, B_SLICE),
        packet(5, true, B_SLICE),
        packet(9, true, P_SLICE),
        packet(7, true, B_SLICE),
        packet(12, false, RECOVERY_POINT),
        packet(12, true, I_SLICE),
        // The group before this one is whole.
        packet(10, true, B_SLICE),
    ];
    let units: Vec<VideoUnit> =
        packets.iter().flat_map(|packet| depacketizer.handle_packet(packet)).collect();
    assert_eq!(times(&units), [6, 9, 7, 12, 10]);
    assert_eq!(units.iter().map(|unit| unit.keyframe).collect::<Vec<_>>(), [true, false, false, true, false]);
    assert_eq!(depacketizer.dropped(), 3);
}
