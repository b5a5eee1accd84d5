//! A pull: the RTSP dialogue together with the reception of its tracks.

use std::collections::VecDeque;
use std::time::Duration;

use bytes::{Bytes, BytesMut};
use yonder_media::aac::AudioSpecificConfig;
use yonder_media::h264::ParameterSets;
use yonder_media::{AudioConfig, Payload, StreamHeaders, Track};

use crate::client::{Channel, Client, ClientConfig, ClientEvent, ClientTrack, Codec, Step};
use crate::error::PullError;
use crate::rtp::{
    self, AacDepacketiser, Arrival, H264Depacketiser, ReceptionFigures, Rtcp, RtpPacket, Source,
};

/// How often receiver reports are sent (RFC 3550, 6.2 recommends at least five seconds).
const REPORT_INTERVAL: Duration = Duration::from_secs(5);

/// A picture or a frame of sound on the camera's own clock.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RawUnit {
    /// Track.
    pub track: Track,
    /// RTP time.
    pub rtp_time: u32,
    /// A decoder may start here.
    pub keyframe: bool,
    /// The bytes.
    pub payload: Payload,
}

/// A track as it was described.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Described {
    /// Track.
    pub track: Track,
    /// RTP ticks per second.
    pub clock_rate: u32,
}

/// What a pull tells its owner.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PullEvent {
    /// The dialogue reached a step.
    Step(Step),
    /// The tracks to come.
    Tracks(Vec<Described>),
    /// Stream headers became known or changed; they apply from the next unit on.
    Headers(StreamHeaders),
    /// A unit.
    Unit(RawUnit),
    /// The camera's two clocks, for alignment.
    SenderReport {
        /// Track.
        track: Track,
        /// 64-bit NTP time.
        ntp: u64,
        /// RTP time of that instant.
        rtp: u32,
    },
    /// The camera restarted its numbering: times before and after have nothing to do with each other.
    Restarted(Track),
}

/// Figures of one track.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TrackFigures {
    /// Track.
    pub track: Track,
    /// Packets.
    pub reception: ReceptionFigures,
    /// Units dropped because of loss.
    pub units_dropped: u64,
}

#[derive(Debug)]
enum Depacketiser {
    H264(H264Depacketiser),
    Aac(AacDepacketiser),
}

#[derive(Debug)]
struct Reception {
    track: Track,
    payload_type: u8,
    source: Source,
    depacketiser: Depacketiser,
}

/// One pull of one camera over one connection.
#[derive(Debug)]
pub struct Pull {
    client: Client,
    own_ssrc: u32,
    tracks: Vec<Reception>,
    parameters: ParameterSets,
    headers: StreamHeaders,
    report_at: Option<Duration>,
    events: VecDeque<PullEvent>,
}

impl Pull {
    /// A pull that has not begun.
    #[must_use]
    pub fn new(config: ClientConfig) -> Self {
        let own_ssrc = u32::try_from(config.seed & 0xffff_ffff).unwrap_or_default();
        Self {
            client: Client::new(config),
            own_ssrc,
            tracks: Vec::new(),
            parameters: ParameterSets::default(),
            headers: StreamHeaders::default(),
            report_at: None,
            events: VecDeque::new(),
        }
    }

    /// Begins, once the connection stands.
    pub fn start(&mut self, now: Duration) {
        self.client.start(now);
    }

    /// Takes what the socket delivered.
    ///
    /// # Errors
    /// [`PullError`] when the pull is over.
    pub fn handle_input(&mut self, buffer: &mut BytesMut, now: Duration) -> Result<(), PullError> {
        let result = self.client.handle_input(buffer, now);
        // What came before the end still counts.
        self.forward_events(now)?;
        result
    }

    /// Lets time pass.
    ///
    /// # Errors
    /// [`PullError`] when the pull is over.
    pub fn handle_timeout(&mut self, now: Duration) -> Result<(), PullError> {
        self.client.handle_timeout(now)?;
        if self.report_at.is_some_and(|at| at <= now) {
            self.report_at = Some(now + REPORT_INTERVAL);
            for (at, track) in self.tracks.iter_mut().enumerate() {
                if let Some(block) = track.source.report(now) {
                    self.client.send_control(at, &rtp::receiver_report(self.own_ssrc, &block));
                }
            }
        }
        Ok(())
    }

    /// The next deadline.
    #[must_use]
    pub fn poll_timeout(&self) -> Option<Duration> {
        [self.client.poll_timeout(), self.report_at].into_iter().flatten().min()
    }

    /// The next bytes for the socket.
    pub fn poll_transmit(&mut self) -> Option<Bytes> {
        self.client.poll_transmit()
    }

    /// The next event.
    pub fn poll_event(&mut self) -> Option<PullEvent> {
        self.events.pop_front()
    }

    /// Ends in order.
    pub fn close(&mut self, now: Duration) {
        self.report_at = None;
        self.client.close(now);
    }

    /// Figures per track.
    pub fn figures(&self) -> impl Iterator<Item = TrackFigures> {
        self.tracks.iter().map(|track| TrackFigures {
            track: track.track,
            reception: track.source.figures(),
            units_dropped: match &track.depacketiser {
                Depacketiser::H264(depacketiser) => depacketiser.dropped(),
                Depacketiser::Aac(depacketiser) => depacketiser.dropped(),
            },
        })
    }

    fn forward_events(&mut self, now: Duration) -> Result<(), PullError> {
        while let Some(event) = self.client.poll_event() {
            match event {
                ClientEvent::Step(step) => {
                    if step == Step::Playing {
                        self.report_at = Some(now + REPORT_INTERVAL);
                    }
                    self.events.push_back(PullEvent::Step(step));
                }
                ClientEvent::Tracks(tracks) => self.begin_tracks(&tracks),
                ClientEvent::Data { track, channel: Channel::Media, payload } => {
                    self.handle_media(track, payload, now);
                }
                ClientEvent::Data { track, channel: Channel::Control, payload } => {
                    self.handle_control(track, &payload, now)?;
                }
            }
        }
        Ok(())
    }

    fn begin_tracks(&mut self, tracks: &[ClientTrack]) {
        let described =
            tracks.iter().map(|t| Described { track: t.track, clock_rate: t.clock_rate }).collect();
        self.events.push_back(PullEvent::Tracks(described));
        for track in tracks {
            let depacketiser = match &track.codec {
                Codec::H264 { parameter_sets } => {
                    for set in parameter_sets {
                        self.parameters.take(set);
                    }
                    Depacketiser::H264(H264Depacketiser::default())
                }
                Codec::Aac { config, format } => {
                    self.headers.audio = AudioSpecificConfig::parse(config)
                        .ok()
                        .map(|facts| AudioConfig { facts, specific: config.clone() });
                    Depacketiser::Aac(AacDepacketiser::new(*format))
                }
            };
            self.tracks.push(Reception {
                track: track.track,
                payload_type: track.payload_type,
                source: Source::new(track.clock_rate),
                depacketiser,
            });
        }
        self.headers.video = self.parameters.config();
        self.events.push_back(PullEvent::Headers(self.headers.clone()));
    }

    fn handle_media(&mut self, track: usize, payload: Bytes, now: Duration) {
        // A packet that cannot be read shows as a gap in the sequence numbers.
        let Ok(packet) = RtpPacket::parse(payload) else { return };
        let Some(reception) = self.tracks.get_mut(track) else { return };
        if packet.payload_type != reception.payload_type {
            return;
        }
        let arrival = reception.source.handle_packet(packet.ssrc, packet.sequence, packet.timestamp, now);
        let first = reception.source.figures().received == 1;
        match arrival {
            Arrival::Old => return,
            Arrival::InOrder => {}
            Arrival::AfterLoss(_) => match &mut reception.depacketiser {
                Depacketiser::H264(depacketiser) => depacketiser.handle_loss(),
                Depacketiser::Aac(depacketiser) => depacketiser.handle_loss(),
            },
            Arrival::NewSource if first => {}
            Arrival::NewSource => {
                match &mut reception.depacketiser {
                    Depacketiser::H264(depacketiser) => {
                        depacketiser.restart();
                        depacketiser.handle_loss();
                    }
                    Depacketiser::Aac(depacketiser) => depacketiser.handle_loss(),
                }
                self.events.push_back(PullEvent::Restarted(reception.track));
            }
        }
        match &mut reception.depacketiser {
            Depacketiser::H264(depacketiser) => {
                for unit in depacketiser.handle_packet(&packet) {
                    self.emit_picture(unit);
                }
            }
            Depacketiser::Aac(depacketiser) => {
                for frame in depacketiser.handle_packet(&packet) {
                    self.events.push_back(PullEvent::Unit(RawUnit {
                        track: Track::Audio,
                        rtp_time: frame.timestamp,
                        keyframe: true,
                        payload: Payload::Frame(frame.data),
                    }));
                }
            }
        }
    }

    fn emit_picture(&mut self, unit: rtp::H264Unit) {
        let mut changed = false;
        for nal in &unit.nals {
            changed |= self.parameters.take(nal);
        }
        if changed {
            let config = self.parameters.config();
            if config.is_some() && config != self.headers.video {
                self.headers.video = config;
                self.events.push_back(PullEvent::Headers(self.headers.clone()));
            }
        }
        self.events.push_back(PullEvent::Unit(RawUnit {
            track: Track::Video,
            rtp_time: unit.timestamp,
            keyframe: unit.keyframe,
            payload: Payload::Nals(unit.nals),
        }));
    }

    fn handle_control(&mut self, track: usize, packet: &[u8], now: Duration) -> Result<(), PullError> {
        let Some(reception) = self.tracks.get_mut(track) else { return Ok(()) };
        for control in rtp::parse_compound(packet) {
            match control {
                Rtcp::SenderReport(report) => {
                    reception.source.handle_sender_report(report.ntp, now);
                    self.events.push_back(PullEvent::SenderReport {
                        track: reception.track,
                        ntp: report.ntp,
                        rtp: report.rtp,
                    });
                }
                Rtcp::Bye { ssrc } => {
                    if ssrc.is_none() || ssrc == reception.source.ssrc() {
                        return Err(PullError::ClosedByCamera);
                    }
                }
            }
        }
        Ok(())
    }
}
