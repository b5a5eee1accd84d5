//! Demultiplexer for one program. Lost and damaged packets are reported and skipped; memory is bounded.

use std::collections::VecDeque;

use bytes::{Buf as _, Bytes, BytesMut};

use crate::nal::split_nals;
use crate::stream::{AudioConfig, VideoCodec};
use crate::unit::Track;

use super::assembler::SectionAssembler;
use super::audio::AudioReader;
use super::packet::{PACKET, PacketView, SYNC};
use super::pes;
use super::programs::{Programs, Selection};
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
    /// Audio that is neither AAC in ADTS nor in LATM, as the program map says.
    #[error("audio that cannot be read as AAC")]
    Sound,
    /// Codec of the program that is not supported, by its stream type.
    #[error("stream type {0:#04x} is not supported")]
    Unsupported(u8),
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
    is_in_step: bool,
    association: SectionAssembler,
    /// Maps of the programs, by their PIDs.
    maps: Vec<(u16, SectionAssembler)>,
    sections: Vec<Bytes>,
    programs: Programs,
    selection: Selection,
    video: Stream,
    audio: Stream,
    audio_reader: AudioReader,
    clock: Unwrapped,
    /// The program has clock references; without, its decoding times are unwrapped one by one.
    has_clock: bool,
    events: VecDeque<TsEvent>,
}

impl Demuxer {
    /// Parses complete packets of `input` and leaves the rest in it.
    pub fn handle_input(&mut self, input: &mut BytesMut) {
        loop {
            if !self.is_in_step || input.first().is_some_and(|byte| *byte != SYNC) {
                let skip = step_of(input);
                input.advance(skip.bytes);
                if skip.bytes > 0 {
                    self.emit(TsEvent::Problem(TsProblem::OutOfStep(skip.bytes)));
                }
                self.is_in_step = skip.is_in_step;
            }
            if input.len() < PACKET || !self.is_in_step {
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
        if let Some(pcr) = view.pcr.filter(|_| Some(view.pid) == self.selection.pcr_pid) {
            self.has_clock = true;
            let clock = self.clock.advance(pcr);
            self.emit(TsEvent::Clock(clock));
        }
        if view.pid == 0 {
            self.handle_association(view);
        } else if self.programs.has_map(view.pid) {
            self.handle_map(view);
        } else if Some(view.pid) == self.video.pid {
            self.handle_stream(Track::Video, view);
        } else if Some(view.pid) == self.audio.pid {
            self.handle_stream(Track::Audio, view);
        }
    }

    fn handle_association(&mut self, view: &PacketView<'_>) {
        let mut sections = std::mem::take(&mut self.sections);
        self.association.push(view, &mut sections);
        for pids in sections.drain(..).filter_map(|section| section::read_association(&section)) {
            self.programs.set_association(&pids);
            self.maps.retain(|(pid, _)| self.programs.has_map(*pid));
        }
        self.sections = sections;
    }

    fn handle_map(&mut self, view: &PacketView<'_>) {
        let mut sections = std::mem::take(&mut self.sections);
        if !self.maps.iter().any(|(pid, _)| *pid == view.pid) {
            self.maps.push((view.pid, SectionAssembler::default()));
        }
        if let Some((_, assembler)) = self.maps.iter_mut().find(|(pid, _)| *pid == view.pid) {
            assembler.push(view, &mut sections);
        }
        for map in sections.drain(..).filter_map(|section| section::read_map(&section)) {
            if let Some(selection) = self.programs.set_map(view.pid, map) {
                self.select(selection);
            }
        }
        self.sections = sections;
    }

    fn select(&mut self, selection: Selection) {
        if selection == self.selection {
            return;
        }
        let before = std::mem::replace(&mut self.selection, selection);
        if (before.video, before.audio) == (selection.video, selection.audio) {
            return;
        }
        self.finish();
        self.video = Stream { pid: selection.video.map(|(_, pid)| pid), ..Stream::default() };
        self.audio = Stream { pid: selection.audio.map(|(_, pid)| pid), ..Stream::default() };
        self.audio_reader = AudioReader::default();
        self.has_clock = false;
        let video = selection.video.map(|(codec, _)| codec);
        self.emit(TsEvent::Program { video, audio: selection.audio.is_some() });
        if let Some(number) = selection.unsupported {
            self.emit(TsEvent::Problem(TsProblem::Unsupported(number)));
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
                if track == Track::Audio {
                    self.audio_reader.reset();
                }
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
        match track {
            Track::Video => {
                if !self.has_clock {
                    self.clock.advance(header.dts);
                }
                self.emit(TsEvent::VideoFrame { dts, pts, random_access, nals: split_nals(&data) });
            }
            Track::Audio => {
                let kind = self.selection.audio.map_or(StreamType::Adts, |(kind, _)| kind);
                match self.audio_reader.read(kind, pts, data) {
                    Some(groups) => {
                        for (pts, config, frames) in groups {
                            self.emit(TsEvent::AudioFrames { pts, config, frames });
                        }
                    }
                    None => self.emit(TsEvent::Problem(TsProblem::Sound)),
                }
            }
        }
    }
}

/// Result of a search for packets.
struct Step {
    /// Bytes before the first packet.
    bytes: usize,
    /// A packet begins there, as far as it can be known.
    is_in_step: bool,
}

/// Searches a sync byte that another one follows a packet later (2.4.3.2), or the end of the data.
fn step_of(input: &[u8]) -> Step {
    let is_sync = |at: &usize| {
        input.get(*at) == Some(&SYNC)
            && (input.len() == at + PACKET || input.get(at + PACKET).is_none_or(|byte| *byte == SYNC))
    };
    match (0..input.len()).find(is_sync) {
        Some(bytes) => Step { bytes, is_in_step: input.len() >= bytes + PACKET },
        None => Step { bytes: input.len(), is_in_step: false },
    }
}

#[cfg(test)]
#[path = "demuxer_tests.rs"]
mod tests;
