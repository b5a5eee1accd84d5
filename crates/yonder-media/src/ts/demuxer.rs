//! Demultiplexer for one program. Lost and damaged packets are reported and skipped; memory is bounded for any input.

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

/// Largest PES packet that is put together: a keyframe of two seconds at 16 Mbit/s.
const MAX_PES: usize = 4 * 1024 * 1024;
/// Events kept for a caller that does not ask.
const MAX_EVENTS: usize = 4_096;

/// Violation of the transport stream.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum TsProblem {
    /// Bytes between packets.
    #[error("{0} bytes between transport packets")]
    OutOfStep(usize),
    /// A packet contradicts itself.
    #[error("a transport packet cannot be read")]
    Packet,
    /// Packets are missing before this one.
    #[error("packets are missing (continuity counter of PID {0})")]
    Lost(u16),
    /// A PES packet cannot be read, or is too long.
    #[error("a PES packet cannot be read")]
    Pes,
    /// Sound that is no AAC in ADTS.
    #[error("sound that is no ADTS")]
    Sound,
}

/// Event of a demultiplexer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum TsEvent {
    /// A program map that differs from the one before.
    Program {
        /// Codec of the picture.
        video: Option<VideoCodec>,
        /// There is AAC.
        audio: bool,
    },
    /// A clock reference, in ticks since the first, across wraps.
    Clock(i64),
    /// A picture.
    Picture {
        /// Decoding time in ticks, across wraps.
        dts: i64,
        /// Presentation time in ticks, across wraps.
        pts: i64,
        /// Marked as a place to start.
        random_access: bool,
        /// Its NAL units.
        nals: Vec<Bytes>,
    },
    /// Frames of sound.
    Sound {
        /// Presentation time of the first, in ticks, across wraps.
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
    /// Whole once it has so many bytes; `None` when only the next start tells.
    needs: Option<usize>,
    running: bool,
}

/// The reader of one program.
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
    /// Takes whole packets out of `input`; what is cut short stays in it.
    pub fn handle_input(&mut self, input: &mut BytesMut) {
        loop {
            let skip = input.iter().position(|byte| *byte == SYNC).unwrap_or(input.len());
            if skip > 0 {
                input.advance(skip);
                self.tell(TsEvent::Problem(TsProblem::OutOfStep(skip)));
            }
            if input.len() < PACKET {
                return;
            }
            let packet = input.split_to(PACKET).freeze();
            match PacketView::read(&packet) {
                Some(view) => self.handle_packet(&view),
                None => self.tell(TsEvent::Problem(TsProblem::Packet)),
            }
        }
    }

    /// Ends the stream: reports access units that are complete by that.
    pub fn finish(&mut self) {
        self.end_unit(Track::Video);
        self.end_unit(Track::Audio);
    }

    /// Returns the next event, oldest first.
    pub fn poll_event(&mut self) -> Option<TsEvent> {
        self.events.pop_front()
    }

    fn tell(&mut self, event: TsEvent) {
        if self.events.len() < MAX_EVENTS {
            self.events.push_back(event);
        }
    }

    fn handle_packet(&mut self, view: &PacketView<'_>) {
        if let Some(pcr) = view.pcr.filter(|_| Some(view.pid) == self.pcr_pid) {
            let clock = self.clock.advance(pcr);
            self.tell(TsEvent::Clock(clock));
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
            self.tell(TsEvent::Program { video: now.0, audio: audio.is_some() });
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
        // Packets without payload do not count on; a repeated counter is a duplicate (2.4.3.3).
        if !view.payload.is_empty() {
            let last = stream.continuity.replace(view.continuity);
            let follows = last.is_none_or(|last| last.wrapping_add(1) & 0x0f == view.continuity);
            if last == Some(view.continuity) && !view.starts {
                return;
            }
            if !follows && !view.discontinuity {
                stream.running = false;
                stream.data.clear();
                self.tell(TsEvent::Problem(TsProblem::Lost(view.pid)));
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
            self.tell(TsEvent::Problem(TsProblem::Pes));
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
        let Some(header) = header else { return self.tell(TsEvent::Problem(TsProblem::Pes)) };
        data.advance(header.payload_at);
        if let Some(length) = header.payload {
            data.truncate(length);
        }
        // All times are unwrapped on one timeline, so that those of both tracks can be compared.
        let (dts, pts) = (self.clock.near(header.dts), self.clock.near(header.pts));
        let event = match track {
            Track::Video => TsEvent::Picture { dts, pts, random_access, nals: split_nals(&data) },
            Track::Audio => match aac::split_adts(&data) {
                Ok((config, frames)) => TsEvent::Sound { pts, config, frames },
                Err(_) => TsEvent::Problem(TsProblem::Sound),
            },
        };
        self.tell(event);
    }
}
