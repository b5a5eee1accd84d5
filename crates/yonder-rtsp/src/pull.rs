//! Pull: the RTSP dialogue and the reception of its tracks.

use std::collections::VecDeque;
use std::time::Duration;

use bytes::{Bytes, BytesMut};
use yonder_media::aac::AudioSpecificConfig;
use yonder_media::{AudioConfig, ParameterSets, Payload, StreamHeaders, Track};
use yonder_protocol::{Core, DatagramCore, End, Outbox, StreamCore};

use crate::client::{
    Channel, Client, ClientConfig, ClientEvent, ClientTrack, Codec, Data, Skipped, Step, Transport,
};
use crate::error::PullError;
use crate::pull_event::{DatagramPath, Described, PullEvent, RtpAccessUnit, TrackStats};
use crate::reception::Reception;
use crate::rtp::{
    self, AacDepacketizer, Arrival, Depacketizer, DropCounts, JitterBuffer, LatmDepacketizer, OrderStats,
    Rtcp, RtpPacket, Source, TrackUnit, VideoDepacketizer,
};

/// Interval of receiver reports (RFC 3550, 6.2 recommends at least five seconds).
const REPORT_INTERVAL: Duration = Duration::from_secs(5);

/// Pull of one camera over one connection.
#[derive(Debug)]
pub struct Pull {
    client: Client,
    own_ssrc: u32,
    by_datagrams: bool,
    tracks: Vec<Reception>,
    parameters: Option<ParameterSets>,
    headers: StreamHeaders,
    report_at: Option<Duration>,
    /// Payloads may be empty (RFC 6263, 4.1), to open NAT bindings.
    datagrams: VecDeque<(DatagramPath, Bytes)>,
    events: VecDeque<PullEvent>,
    end: Option<End<PullError>>,
}

impl Pull {
    /// Creates a pull.
    #[must_use]
    pub fn new(config: ClientConfig) -> Self {
        let own_ssrc = u32::try_from(config.seed & 0xffff_ffff).unwrap_or_default();
        let by_datagrams = matches!(config.transport, Transport::Datagrams(_));
        Self {
            client: Client::new(config),
            own_ssrc,
            by_datagrams,
            tracks: Vec::new(),
            parameters: None,
            headers: StreamHeaders::default(),
            report_at: None,
            datagrams: VecDeque::new(),
            events: VecDeque::new(),
            end: None,
        }
    }

    /// Starts the dialogue, once the connection is established.
    pub fn start(&mut self, now: Duration) {
        self.client.start(now);
    }

    fn read_input(&mut self, input: &mut &[u8], now: Duration) -> Result<(), PullError> {
        loop {
            let result = self.client.handle_input(input, now);
            // Events that precede the data, or the end, come first.
            self.forward_events(now);
            let Some(Data { track, channel, packet }) = result? else { return Ok(()) };
            match channel {
                Channel::Media => self.handle_media(track, packet, now),
                Channel::Control => self.handle_control(track, packet, now)?,
            }
        }
    }

    fn finish(&mut self, why: PullError) {
        self.report_at = None;
        self.end.get_or_insert_with(|| End { by: why.side(), why });
    }

    /// Ends the session. A TEARDOWN remains to be transmitted if there is a session, even after an end by the camera.
    pub fn close(&mut self, now: Duration) {
        self.client.close(now);
        self.finish(PullError::Closed);
    }

    /// Returns the counts of skipped data on the RTSP connection.
    #[must_use]
    pub fn skipped(&self) -> Skipped {
        self.client.skipped()
    }

    /// Returns the statistics of each track.
    pub fn stats(&self) -> impl Iterator<Item = TrackStats> {
        self.tracks.iter().map(|track| TrackStats {
            track: track.track,
            reception: track.source.stats(),
            order: track.reorder.as_ref().map_or(track.order, JitterBuffer::stats),
            units_dropped: track.depacketizer.dropped(),
            drops: track.drops.sum(track.depacketizer.drops()),
            parameter_problem: self
                .parameters
                .as_ref()
                .filter(|_| track.track == Track::Video)
                .and_then(ParameterSets::problem),
        })
    }

    fn report(&mut self, now: Duration) {
        for (at, track) in self.tracks.iter_mut().enumerate() {
            let block = track.source.report(now);
            let report = match &block {
                Some(block) => rtp::receiver_report(self.own_ssrc, block),
                None => rtp::empty_report(self.own_ssrc),
            };
            if self.by_datagrams {
                let path = |channel| DatagramPath { track: at, channel };
                self.datagrams.push_back((path(Channel::Control), report));
                self.datagrams.push_back((path(Channel::Media), Bytes::new()));
            } else if block.is_some() {
                self.client.send_control(at, &report);
            }
        }
    }

    fn forward_events(&mut self, now: Duration) {
        while let Some(event) = self.client.poll_event() {
            match event {
                ClientEvent::Step(step) => {
                    if step == Step::Playing {
                        self.report_at = Some(now + REPORT_INTERVAL);
                    }
                    self.events.push_back(PullEvent::Step(step));
                }
                ClientEvent::DigestOffered => self.events.push_back(PullEvent::DigestOffered),
                ClientEvent::Offered(offered) => self.events.push_back(PullEvent::Offered(offered)),
                ClientEvent::Tracks(tracks) => self.begin_tracks(&tracks, now),
            }
        }
    }

    fn begin_tracks(&mut self, tracks: &[ClientTrack], now: Duration) {
        let describe = |t: &ClientTrack| Described { track: t.track, clock_rate: t.clock_rate, peer: t.peer };
        self.events.push_back(PullEvent::Tracks(tracks.iter().map(describe).collect()));
        for track in tracks {
            let depacketizer = self.depacketizer(&track.codec, track.clock_rate);
            self.tracks.push(Reception {
                track: track.track,
                described_type: track.payload_type,
                payload_type: track.payload_type,
                other_run: 0,
                source: Source::new(track.clock_rate),
                reorder: self.by_datagrams.then(JitterBuffer::default),
                order: OrderStats::default(),
                depacketizer,
                drops: DropCounts::default(),
            });
        }
        self.headers.video = self.parameters.as_ref().and_then(ParameterSets::config);
        self.events.push_back(PullEvent::Headers(self.headers.clone()));
        if self.by_datagrams {
            // A first packet opens firewalls and NAT bindings.
            self.report(now);
        }
    }

    fn depacketizer(&mut self, codec: &Codec, clock_rate: u32) -> Depacketizer {
        match codec {
            Codec::VideoUnit { format, parameter_sets } => {
                let mut sets = ParameterSets::new(format.codec());
                for set in parameter_sets {
                    sets.take(set);
                }
                self.parameters = Some(sets);
                Depacketizer::VideoUnit(Box::new(VideoDepacketizer::new(*format)))
            }
            Codec::Aac { config, format } => {
                self.headers.audio = AudioConfig::aac(config.clone());
                Depacketizer::Aac(AacDepacketizer::new(*format))
            }
            Codec::Latm { mux, in_band } => {
                self.headers.audio = mux.as_ref().and_then(|mux| AudioConfig::aac(mux.specific.clone()));
                Depacketizer::Latm(LatmDepacketizer::new(mux.clone(), *in_band))
            }
            Codec::G711 { law, channels } => {
                self.headers.audio =
                    Some(AudioConfig::G711 { law: *law, sample_rate: clock_rate, channels: *channels });
                Depacketizer::Samples
            }
        }
    }

    /// Handles an interleaved packet, which is in order. One that cannot be parsed becomes a gap in the sequence numbers.
    fn handle_media(&mut self, track: usize, packet: &[u8], now: Duration) {
        let Ok(packet) = RtpPacket::read(packet) else { return };
        if self.tracks.get_mut(track).is_some_and(|own| !own.is_foreign(packet.payload_type, packet.ssrc)) {
            self.take_packet(track, &packet, now);
        }
    }

    fn handle_media_datagram(&mut self, track: usize, payload: &Bytes, now: Duration) {
        let Ok(packet) = RtpPacket::parse(payload) else { return };
        let Some(reception) = self.tracks.get_mut(track) else { return };
        if reception.is_foreign(packet.payload_type, packet.ssrc) {
            return;
        }
        if let Some(reorder) = reception.reorder.as_mut() {
            reorder.push(packet, now);
            self.release(track, now);
        }
    }

    /// Depacketizes the packets that are in order.
    fn release(&mut self, track: usize, now: Duration) {
        while let Some((packet, came)) =
            self.tracks.get_mut(track).and_then(|reception| reception.reorder.as_mut()?.pop(now))
        {
            self.take_packet(track, &packet, came);
        }
    }

    fn take_packet<P: AsRef<[u8]>>(&mut self, track: usize, packet: &RtpPacket<P>, came: Duration) {
        let Some(reception) = self.tracks.get_mut(track) else { return };
        let is_used = reception.accepts(packet.payload_type);
        let arrival = reception.source.handle_packet(packet.ssrc, packet.sequence, packet.timestamp, came);
        let first = reception.source.received() == 1;
        match arrival {
            Arrival::Old => {
                reception.order.repeated += 1;
                return;
            }
            Arrival::InOrder => {}
            Arrival::AfterLoss(_) => reception.depacketizer.handle_loss(),
            Arrival::NewSource if first => {}
            Arrival::NewSource => {
                reception.depacketizer.restart();
                self.events.push_back(PullEvent::Restarted(reception.track));
            }
        }
        if !is_used {
            // The packet is part of the sequence, so a frame may be missing.
            reception.depacketizer.handle_loss();
            return;
        }
        let which = reception.track;
        for unit in reception.depacketizer.handle_packet(packet) {
            match which {
                Track::Video => self.emit_picture(unit),
                Track::Audio => self.emit_audio(track, unit),
            }
        }
    }

    fn emit_picture(&mut self, unit: TrackUnit) {
        if let (Some(parameters), Payload::Nals(nals)) = (self.parameters.as_mut(), &unit.payload) {
            let mut changed = false;
            for nal in nals {
                changed |= parameters.take(nal);
            }
            if changed {
                let config = parameters.config();
                if config.is_some() && config != self.headers.video {
                    self.headers.video = config;
                    self.events.push_back(PullEvent::Headers(self.headers.clone()));
                }
            }
        }
        self.emit(Track::Video, unit);
    }

    fn emit_audio(&mut self, track: usize, unit: TrackUnit) {
        let config = self.tracks.get(track).and_then(|reception| reception.depacketizer.in_band_config());
        if let Some(config) = config {
            let known =
                matches!(&self.headers.audio, Some(AudioConfig::Aac { specific, .. }) if specific == config);
            if !known && AudioSpecificConfig::parse(config).is_ok() {
                self.headers.audio = AudioConfig::aac(config.clone());
                self.events.push_back(PullEvent::Headers(self.headers.clone()));
            }
        }
        // No decoder can use the frame without its configuration.
        if self.headers.audio.is_none() {
            if let Some(reception) = self.tracks.get_mut(track) {
                reception.drops.unconfigured += 1;
            }
            return;
        }
        self.emit(Track::Audio, unit);
    }

    fn emit(&mut self, track: Track, unit: TrackUnit) {
        let TrackUnit { timestamp: rtp_time, keyframe, payload } = unit;
        self.events.push_back(PullEvent::Unit(RtpAccessUnit { track, rtp_time, keyframe, payload }));
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

impl Core for Pull {
    type Event = PullEvent;
    type Why = PullError;

    fn handle_timeout(&mut self, now: Duration) {
        if self.end.is_some() {
            return;
        }
        if let Err(error) = self.client.handle_timeout(now) {
            return self.finish(error);
        }
        for track in 0..self.tracks.len() {
            self.release(track, now);
        }
        if self.report_at.is_some_and(|at| at <= now) {
            self.report_at = Some(now + REPORT_INTERVAL);
            self.report(now);
        }
    }

    fn poll_timeout(&self) -> Option<Duration> {
        if self.end.is_some() {
            return None;
        }
        let late = self.tracks.iter().filter_map(|track| track.reorder.as_ref()?.poll_timeout());
        late.chain(self.client.poll_timeout()).chain(self.report_at).min()
    }

    fn poll_event(&mut self) -> Option<PullEvent> {
        self.events.pop_front()
    }

    fn end(&self) -> Option<&End<PullError>> {
        self.end.as_ref()
    }
}

impl StreamCore for Pull {
    /// Interleaved packets are parsed without a copy.
    fn handle_input(&mut self, input: &[u8], now: Duration) -> usize {
        if self.end.is_some() {
            return input.len();
        }
        let mut rest = input;
        if let Err(error) = self.read_input(&mut rest, now) {
            self.finish(error);
        }
        input.len() - rest.len()
    }

    fn poll_transmit(&mut self, _now: Duration, _horizon: Duration, out: &mut Outbox) -> Option<usize> {
        let bytes = self.client.poll_transmit()?;
        let length = bytes.len();
        out.push(bytes);
        Some(length)
    }
}

impl DatagramCore for Pull {
    type Path = DatagramPath;

    /// Media is handled after an RTCP BYE as well, which may have overtaken it.
    fn handle_datagram(&mut self, path: DatagramPath, datagram: Bytes, now: Duration) {
        match path.channel {
            Channel::Media => self.handle_media_datagram(path.track, &datagram, now),
            Channel::Control if self.end.is_none() => {
                if let Err(error) = self.handle_control(path.track, &datagram, now) {
                    self.finish(error);
                }
            }
            Channel::Control => {}
        }
    }

    fn poll_datagram(
        &mut self,
        _now: Duration,
        _horizon: Duration,
        out: &mut BytesMut,
    ) -> Option<(DatagramPath, usize)> {
        let (path, payload) = self.datagrams.pop_front()?;
        out.extend_from_slice(&payload);
        Some((path, payload.len()))
    }
}
