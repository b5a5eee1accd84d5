use bytes::Bytes;
use proptest::prelude::*;

use super::*;
use crate::chunk::{ChunkStream, ChunkWriter};
use yonder_protocol::Outbox;

fn read_all(reader: &mut ChunkReader, bytes: &[u8]) -> Vec<Message> {
    let (mut rest, mut messages) = (bytes, Vec::new());
    while let Some(message) = reader.next_message(&mut rest).unwrap() {
        messages.push(message);
    }
    assert!(rest.is_empty());
    messages
}

fn write(writer: &mut ChunkWriter, timestamp: u32, payload: &[u8]) -> Vec<u8> {
    let mut out = Outbox::default();
    let header = (MessageKind::Video, 1, timestamp);
    writer.write(&mut out, ChunkStream::Video, header, &[Bytes::copy_from_slice(payload)]);
    out.take_all()
}

#[test]
fn the_four_header_kinds_are_chosen_as_5_3_1_2_says() {
    let mut writer = ChunkWriter::default();
    let full = write(&mut writer, 1000, &[7; 2]);
    assert_eq!(full, [0x06, 0, 3, 0xe8, 0, 0, 2, 9, 1, 0, 0, 0, 7, 7]);
    let other_length = write(&mut writer, 1040, &[7; 3]);
    assert_eq!(other_length, [0x46, 0, 0, 40, 0, 0, 3, 9, 7, 7, 7]);
    let other_delta = write(&mut writer, 1060, &[7; 3]);
    assert_eq!(other_delta, [0x86, 0, 0, 20, 7, 7, 7]);
    let same_again = write(&mut writer, 1080, &[7; 3]);
    assert_eq!(same_again, [0xc6, 7, 7, 7]);
    let step_back = write(&mut writer, 500, &[7; 3]);
    assert_eq!(step_back[0], 0x06);
}

#[test]
fn continued_chunks_without_the_extended_timestamp_are_read() {
    let mut reader = ChunkReader { chunk_size: 2, ..ChunkReader::default() };
    let bytes = [0x06, 0xff, 0xff, 0xff, 0, 0, 5, 9, 1, 0, 0, 0, 1, 0, 0, 0, 1, 2, 0xc6, 3, 4, 0xc6, 5];
    let messages = read_all(&mut reader, &bytes);
    assert_eq!((messages[0].timestamp, &messages[0].payload[..]), (0x0100_0000, &[1, 2, 3, 4, 5][..]));
}

#[test]
fn a_long_message_is_cut_and_continued() {
    let mut writer = ChunkWriter::default();
    writer.set_chunk_size(4);
    let bytes = write(&mut writer, 0, &[1, 2, 3, 4, 5, 6]);
    assert_eq!(bytes[12..], [1, 2, 3, 4, 0xc6, 5, 6]);
}

#[test]
fn extended_timestamps_are_on_every_chunk() {
    let mut writer = ChunkWriter::default();
    writer.set_chunk_size(2);
    let bytes = write(&mut writer, 0x0100_0000, &[1, 2, 3]);
    assert_eq!(
        bytes,
        [0x06, 0xff, 0xff, 0xff, 0, 0, 3, 9, 1, 0, 0, 0, 1, 0, 0, 0, 1, 2, 0xc6, 1, 0, 0, 0, 3]
    );
    let mut reader = ChunkReader { chunk_size: 2, ..ChunkReader::default() };
    assert_eq!(read_all(&mut reader, &bytes)[0].timestamp, 0x0100_0000);
}

#[test]
fn the_wrap_of_32_bit_time_is_an_ordinary_delta() {
    let (mut writer, mut reader) = (ChunkWriter::default(), ChunkReader::default());
    let times = [u32::MAX - 50, u32::MAX - 10, 29, 69];
    for time in times {
        let bytes = write(&mut writer, time, &[1]);
        assert_eq!(read_all(&mut reader, &bytes)[0].timestamp, time);
    }
    assert_eq!(write(&mut writer, 109, &[1]), [0xc6, 1]);
}

#[test]
fn two_and_three_byte_chunk_streams_are_read() {
    let mut reader = ChunkReader::default();
    let body = [0, 0, 5, 0, 0, 1, 9, 1, 0, 0, 0, 7];
    let mut bytes = [&[0x00, 10][..], &body].concat();
    bytes.extend([&[0x01, 0x00, 0x01][..], &body].concat());
    assert_eq!(read_all(&mut reader, &bytes).len(), 2);
    assert!(reader.streams.contains_key(&74) && reader.streams.contains_key(&320));
}

#[test]
fn interleaved_messages_are_kept_apart_and_abort_drops_one() {
    let mut reader = ChunkReader { chunk_size: 2, ..ChunkReader::default() };
    let head = |id: u8, length: u8| [id, 0, 0, 0, 0, 0, length, 9, 1, 0, 0, 0];
    let mut bytes = [&head(6, 3)[..], &[1, 2], &head(4, 3), &[3, 4], &[0xc6, 5]].concat();
    bytes.extend([&[0x02, 0, 0, 0, 0, 0, 4, 2, 0, 0, 0, 0][..], &[0, 0], &[0xc2, 0, 4]].concat());
    bytes.extend([&head(4, 1)[..], &[9]].concat());
    let messages = read_all(&mut reader, &bytes);
    assert_eq!(
        messages.iter().map(|m| m.payload.to_vec()).collect::<Vec<_>>(),
        vec![vec![1, 2, 5], vec![0, 0, 0, 4], vec![9]]
    );
}

#[test]
fn hostile_headers_are_refused() {
    let mut reader = ChunkReader::default();
    let refuse = |reader: &mut ChunkReader, bytes: &[u8]| reader.next_message(&mut { bytes }).unwrap_err();
    assert_eq!(refuse(&mut reader, &[0xc6, 1]), ChunkError::NoPrevious(6));
    let long = [0x06, 0, 0, 0, 0xff, 0xff, 0xff, 9, 0, 0, 0, 0];
    assert_eq!(refuse(&mut reader, &long), ChunkError::TooLong { length: 0xff_ffff, limit: 8 * 1024 * 1024 });
    let zero = [0x02, 0, 0, 0, 0, 0, 4, 1, 0, 0, 0, 0, 0, 0, 0, 0];
    assert_eq!(refuse(&mut reader, &zero), ChunkError::ChunkSize(0));
}

proptest! {
    #[test]
    fn messages_survive_cutting_and_any_segmentation(
        messages in prop::collection::vec((any::<u32>(), prop::collection::vec(any::<u8>(), 1..300), any::<bool>()), 1..20),
        chunk_size in 1_usize..200,
        segment in 1_usize..400,
    ) {
        let mut writer = ChunkWriter::default();
        writer.set_chunk_size(chunk_size);
        let mut out = Outbox::default();
        for (timestamp, payload, video) in &messages {
            let (kind, on) = if *video { (MessageKind::Video, ChunkStream::Video) } else { (MessageKind::Audio, ChunkStream::Audio) };
            let middle = payload.len() / 2;
            let pieces = [Bytes::copy_from_slice(&payload[..middle]), Bytes::copy_from_slice(&payload[middle..])];
            writer.write(&mut out, on, (kind, 1, *timestamp), &pieces);
        }
        let mut reader = ChunkReader { chunk_size, ..ChunkReader::default() };
        let mut buffer = Vec::new();
        let mut read = Vec::new();
        for part in out.take_all().chunks(segment) {
            buffer.extend_from_slice(part);
            let mut rest = &buffer[..];
            while let Some(message) = reader.next_message(&mut rest).unwrap() {
                read.push((message.timestamp, message.payload.to_vec(), message.kind == MessageKind::Video));
            }
            buffer = rest.to_vec();
        }
        prop_assert_eq!(read, messages);
    }

    #[test]
    fn any_bytes_are_parsed_or_refused(data: Vec<u8>) {
        let mut reader = ChunkReader::default();
        let mut rest = &data[..];
        while let Ok(Some(_)) = reader.next_message(&mut rest) {}
    }
}
