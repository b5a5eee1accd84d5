//! Demultiplexer for one program. Lost and damaged packets are reported and skipped; memory is bounded.

use std::collections::VecDeque;

use bytes::{Buf as _, Bytes, BytesMut};

use crate::aac;
use crate::nal::split_nals;
use crate::stream::{AudioConfig, VideoCodec};
use crate::unit::Track;

use super::packet::{PACKET, PacketView, SYNC};
use super::pes;
use super::section::{self, StreamType};
use super::wrap::Unwrapped;

/// Maximum size of a PES packet: two seconds at 16 Mbit/s.
const MAX_PES: usize = 4 * 1024 * 1024;
/// Maximum events in the queue.
const MAX_EVENTS: usize = 4_096;

/// Violation of the transport stream.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum TsProblem {
    /// Bytes between packets.
    #[error("{0} bytes between transport packets")]
    OutOfStep(usize),
    /// Packet with inconsistent fields.
    #[error("a transport packet cannot be read")]
    Packet,
    /// Packets are missing before this one.
    #[error("packets are missing (continuity counter of PID {0})")]
    Lost(u16),
    /// PES packet that is invalid or too large.
    #[error("a PES packet cannot be read")]
    Pes,
    /// Audio that is not AAC in ADTS.
    #[error("audio that is not ADTS")]
    Sound,
}

/// Event of a demultiplexer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum TsEvent {
    /// Program map that differs from the previous one.
    Program {
        /// Video codec.
        video: Option<VideoCodec>,
        /// The program has AAC audio.
        audio: bool,
    },
    /// Clock reference, in ticks since the first one, unwrapped.
    Clock(i64),
    /// Video frame.
    VideoFrame {
        /// Decoding time in ticks, unwrapped.
        dts: i64,
        /// Presentation time in ticks, unwrapped.
        pts: i64,
        /// `random_access_indicator` is set.
        random_access: bool,
        /// NAL units.
        nals: Vec<Bytes>,
    },
    /// Audio frames.
    AudioFrames {
        /// Presentation time of the first frame, in ticks, unwrapped.
        pts: i64,
        /// Codec configuration.
        config: AudioConfig,
        /// Raw frames.
        frames: Vec<Bytes>,
    },
    /// Violation.
    Problem(TsProblem),
}

#[derive(Debug, Default)]
struct Stream {
    pid: Option<u16>,
    continuity: Option<u8>,
    random_access: bool,
    data: BytesMut,
    /// Size of the complete PES packet; `None` if only the start of the next one ends it.
    needs: Option<usize>,
    running: bool,
}

/// Demultiplexer of one program.
#[derive(Debug, Default)]
pub struct Demuxer {
    map_pid: Option<u16>,
    pcr_pid: Option<u16>,
    codec: Option<VideoCodec>,
    video: Stream,
    audio: Stream,
    clock: Unwrapped,
    events: VecDeque<TsEvent>,
}

impl Demuxer {
    /// Parses complete packets of `input` and leaves the rest in it.
    pub fn handle_input(&mut self, input: &mut BytesMut) {
        loop {
            let skip = input.iter().position(|byte| *byte == SYNC).unwrap_or(input.len());
            if skip > 0 {
                input.advance(skip);
                self.emit(TsEvent::Problem(TsProblem::OutOfStep(skip)));
            }
            if input.len() < PACKET {
                return;
            }
            let packet = input.split_to(PACKET).freeze();
            match PacketView::read(&packet) {
                Some(view) => self.handle_packet(&view),
                None => self.emit(TsEvent::Problem(TsProblem::Packet)),
            }
        }
    }

    /// Ends the stream: reports access units that are complete by then.
    pub fn finish(&mut self) {
        self.end_unit(Track::Video);
        self.end_unit(Track::Audio);
    }

    /// Returns the next event, oldest first.
    pub fn poll_event(&mut self) -> Option<TsEvent> {
        self.events.pop_front()
    }

    fn emit(&mut self, event: TsEvent) {
        if self.events.len() < MAX_EVENTS {
            self.events.push_back(event);
        }
    }

    fn handle_packet(&mut self, view: &PacketView<'_>) {
        if let Some(pcr) = view.pcr.filter(|_| Some(view.pid) == self.pcr_pid) {
            let clock = self.clock.advance(pcr);
            self.emit(TsEvent::Clock(clock));
        }
        if view.pid == 0 && view.starts {
            self.map_pid = section::read_association(view.payload).or(self.map_pid);
        } else if Some(view.pid) == self.map_pid && view.starts {
            self.handle_map(view.payload);
        } else if Some(view.pid) == self.video.pid {
            self.handle_stream(Track::Video, view);
        } else if Some(view.pid) == self.audio.pid {
            self.handle_stream(Track::Audio, view);
        }
    }

    fn handle_map(&mut self, payload: &[u8]) {
        let Some(map) = section::read_map(payload) else { return };
        let video = map.streams.iter().find_map(|(kind, pid)| match kind {
            StreamType::H264 => Some((VideoCodec::H264, *pid)),
            StreamType::H265 => Some((VideoCodec::H265, *pid)),
            StreamType::Adts | StreamType::Other(_) => None,
        });
        let audio = map.streams.iter().find(|(kind, _)| *kind == StreamType::Adts).map(|(_, pid)| *pid);
        let known = (self.codec, self.video.pid, self.audio.pid);
        let now = (video.map(|(codec, _)| codec), video.map(|(_, pid)| pid), audio);
        self.pcr_pid = Some(map.pcr_pid);
        if known != now {
            self.finish();
            self.video = Stream { pid: now.1, ..Stream::default() };
            self.audio = Stream { pid: audio, ..Stream::default() };
            self.codec = now.0;
            self.emit(TsEvent::Program { video: now.0, audio: audio.is_some() });
        }
    }

    fn stream(&mut self, track: Track) -> &mut Stream {
        match track {
            Track::Video => &mut self.video,
            Track::Audio => &mut self.audio,
        }
    }

    fn handle_stream(&mut self, track: Track, view: &PacketView<'_>) {
        let stream = self.stream(track);
        // The counter does not advance for packets without payload; a repeated counter is a duplicate (2.4.3.3).
        if !view.payload.is_empty() {
            let last = stream.continuity.replace(view.continuity);
            let follows = last.is_none_or(|last| last.wrapping_add(1) & 0x0f == view.continuity);
            if last == Some(view.continuity) && !view.starts {
                return;
            }
            if !follows && !view.discontinuity {
                stream.running = false;
                stream.data.clear();
                self.emit(TsEvent::Problem(TsProblem::Lost(view.pid)));
            }
        }
        if view.starts {
            self.end_unit(track);
            let stream = self.stream(track);
            stream.data.clear();
            stream.running = true;
            stream.random_access = view.random_access;
            stream.needs = pes::read(view.payload)
                .and_then(|header| header.payload.map(|payload| payload + header.payload_at));
        }
        let stream = self.stream(track);
        if !stream.running {
            return;
        }
        if stream.data.len() + view.payload.len() > MAX_PES {
            stream.running = false;
            stream.data = BytesMut::new();
            self.emit(TsEvent::Problem(TsProblem::Pes));
            return;
        }
        stream.data.extend_from_slice(view.payload);
        if stream.needs.is_some_and(|needs| stream.data.len() >= needs) {
            self.end_unit(track);
        }
    }

    fn end_unit(&mut self, track: Track) {
        let stream = self.stream(track);
        if !std::mem::take(&mut stream.running) {
            return;
        }
        let mut data = stream.data.split().freeze();
        let random_access = stream.random_access;
        let header = pes::read(&data).filter(|header| header.payload_at <= data.len());
        let Some(header) = header else { return self.emit(TsEvent::Problem(TsProblem::Pes)) };
        data.advance(header.payload_at);
        if let Some(length) = header.payload {
            data.truncate(length);
        }
        // Times of both tracks are unwrapped together, so that they can be compared.
        let (dts, pts) = (self.clock.near(header.dts), self.clock.near(header.pts));
        let event = match track {
            Track::Video => TsEvent::VideoFrame { dts, pts, random_access, nals: split_nals(&data) },
            Track::Audio => match aac::split_adts(&data) {
                Ok((config, frames)) => TsEvent::AudioFrames { pts, config, frames },
                Err(_) => TsEvent::Problem(TsProblem::Sound),
            },
        };
        self.emit(event);
    }
}
