//! Streams of other muxers.

use bytes::BufMut as _;
use rstest::rstest;

use super::super::packet::{Adaptation, write_head};
use super::super::section::{ProgramMap, association, map};
use super::*;

const MAP_PID: u16 = 0x1000;
const VIDEO_PID: u16 = 0x100;
const AUDIO_PID: u16 = 0x101;

/// Writes packets as another muxer would.
#[derive(Default)]
struct Foreign {
    out: BytesMut,
    counters: std::collections::HashMap<u16, u8>,
}

impl Foreign {
    fn put(&mut self, pid: u16, mut payload: &[u8]) {
        let mut starts = true;
        while starts || !payload.is_empty() {
            let counter = self.counters.entry(pid).or_default();
            let (part, rest) = payload.split_at(payload.len().min(PACKET - 4));
            write_head(&mut self.out, pid, (starts, *counter), Adaptation::default(), part.len());
            self.out.put_slice(part);
            *counter = (*counter + 1) & 0x0f;
            (starts, payload) = (false, rest);
        }
    }

    fn put_section(&mut self, pid: u16, section: &[u8]) {
        // Begins after some bytes of stuffing that the pointer field skips.
        self.put(pid, &[&[3, 0xff, 0xff, 0xff][..], section].concat());
    }

    fn put_tables(&mut self, streams: &[(StreamType, u16)]) {
        self.put_section(0, &association(MAP_PID, 0));
        // No clock reference.
        self.put_section(MAP_PID, &map(&ProgramMap { pcr_pid: 0x1fff, streams: streams.to_vec() }, 0));
    }

    fn put_picture(&mut self, dts: i64) {
        let header = pes::header(0xe0, dts + 3_600, dts, 0);
        self.put(VIDEO_PID, &[&header[..], &[0, 0, 0, 1, 0x65, 1, 2, 3]].concat());
    }

    fn events(&self) -> Vec<TsEvent> {
        let (mut demuxer, mut input) = (Demuxer::default(), self.out.clone());
        demuxer.handle_input(&mut input);
        demuxer.finish();
        std::iter::from_fn(|| demuxer.poll_event()).collect()
    }
}

fn times(events: &[TsEvent]) -> Vec<i64> {
    let dts = |event: &TsEvent| match event {
        TsEvent::VideoFrame { dts, .. } => Some(*dts),
        _ => None,
    };
    events.iter().filter_map(dts).collect()
}

#[rstest]
fn stream_is_found_at_any_packet_phase(
    #[values(0, 1, 47, 100, 187)] phase: usize,
    #[values(1, 70, 188, 1_316)] segment: usize,
) {
    let mut stream = Foreign::default();
    for at in 0..10 {
        stream.put_tables(&[(StreamType::H264, VIDEO_PID)]);
        // Many bytes of the payload look like the beginning of a packet.
        let picture: Vec<u8> = (0..900).map(|at| if at % 17 == 0 { SYNC } else { 9 }).collect();
        let header = pes::header(0xe0, at * 3_600, at * 3_600, 0);
        stream.put(VIDEO_PID, &[&header[..], &[0, 0, 1, 0x65], &picture].concat());
    }
    let sent = stream.out;
    let (mut demuxer, mut input) = (Demuxer::default(), BytesMut::new());
    let mut events = Vec::new();
    for part in sent[phase..].chunks(segment) {
        input.extend_from_slice(part);
        demuxer.handle_input(&mut input);
        events.extend(std::iter::from_fn(|| demuxer.poll_event()));
    }
    assert!(times(&events).len() >= 8, "{events:?}");
}

#[test]
fn times_without_a_clock_reference_continue_across_the_wrap() {
    let mut stream = Foreign::default();
    stream.put_tables(&[(StreamType::H264, VIDEO_PID)]);
    let begin = (1 << 33) - 2 * 3_600;
    for at in 0..5 {
        stream.put_picture(begin + at * 3_600);
    }
    assert_eq!(times(&stream.events()), (0..5).map(|at| begin + at * 3_600).collect::<Vec<_>>());
}

#[test]
fn private_streams_are_ignored_and_unsupported_codecs_reported() {
    let mut stream = Foreign::default();
    let streams = [
        (StreamType::Other(0x06), 0x1f0),
        (StreamType::H264, VIDEO_PID),
        (StreamType::Other(0x81), AUDIO_PID),
    ];
    stream.put_tables(&streams);
    stream.put(0x1f0, &[0xaa; 300]);
    stream.put(AUDIO_PID, &[0, 0, 1, 0xbd, 0, 9, 0x80, 0x80, 5, 0x21, 0, 1, 0, 1, 0x0b]);
    stream.put_picture(0);
    let events = stream.events();
    assert_eq!(times(&events), [0]);
    let problems: Vec<_> = events.iter().filter(|event| matches!(event, TsEvent::Problem(_))).collect();
    assert_eq!(problems, [&TsEvent::Problem(TsProblem::Unsupported(0x81))]);
}

#[test]
fn streams_follow_a_change_of_the_program_map() {
    let mut stream = Foreign::default();
    stream.put_tables(&[(StreamType::H264, VIDEO_PID)]);
    stream.put_picture(0);
    stream.put_tables(&[(StreamType::H265, VIDEO_PID + 8), (StreamType::Adts, AUDIO_PID)]);
    stream.put_picture(3_600);
    let header = pes::header(0xe0, 7_200, 7_200, 0);
    stream.put(VIDEO_PID + 8, &[&header[..], &[0, 0, 1, 0x26, 1, 9]].concat());
    let events = stream.events();
    let programs: Vec<_> = events.iter().filter(|event| matches!(event, TsEvent::Program { .. })).collect();
    let first = TsEvent::Program { video: Some(VideoCodec::H264), audio: false };
    let second = TsEvent::Program { video: Some(VideoCodec::H265), audio: true };
    assert_eq!(programs, [&first, &second]);
    // The picture on the former PID is not part of the program any more.
    assert_eq!(times(&events), [0, 7_200]);
}
