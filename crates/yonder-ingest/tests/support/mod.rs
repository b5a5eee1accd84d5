//! Encoders that publish over real sockets, with our own publishing halves.

use std::net::SocketAddr;
use std::time::Duration;

use bytes::{Bytes, BytesMut};
use tokio::io::{AsyncRead, AsyncReadExt as _, AsyncWrite, AsyncWriteExt as _};
use tokio::net::UdpSocket;
use tokio::time::{Instant, timeout};
use yonder_address::{KeyLength, Passphrase, StreamKey};
use yonder_ingest::{PublishedUnit, PublisherEnd, PublisherMessage, UnitEvent};
use yonder_media::flv::Body;
use yonder_media::ts::{Muxer, PACKET};
use yonder_media::{AccessUnit, AudioConfig, ParameterSets, Payload, StreamHeaders, Track, VideoCodec};
use yonder_protocol::{Core as _, DatagramCore as _, deliver, take_transmit};
use yonder_rtmp::{MeasuredRates, Publisher, PublisherConfig, PushError, PushStep};
use yonder_srt::{Caller, CallerConfig, CallerStep, KeyRefresh, MAX_PAYLOAD, SrtError};

const WAIT: Duration = Duration::from_secs(20);
/// H.264, 640×360, and AAC-LC, 48 kHz, stereo.
const SPS: &[u8] = &[0x67, 0x42, 0xc0, 0x1e, 0xd9, 0x00, 0xa0, 0x47, 0xfe, 0x88];
const PPS: &[u8] = &[0x68, 0xce, 0x3c, 0x80];
const AAC: &[u8] = &[0x11, 0x90];

pub(crate) fn headers() -> StreamHeaders {
    let mut sets = ParameterSets::new(VideoCodec::H264);
    for nal in [SPS, PPS] {
        sets.take(&Bytes::from_static(nal));
    }
    StreamHeaders { video: sets.config(), audio: AudioConfig::aac(Bytes::from_static(AAC)) }
}

/// Returns seconds of 25 frames with B-frames, and audio; a keyframe each second. Times begin at `base`.
pub(crate) fn clip(seconds: i64, base: i64) -> Vec<AccessUnit> {
    let mut units = Vec::new();
    for at in 0..seconds * 25 {
        let dts = base + at * 3_600;
        let keyframe = at % 25 == 0;
        let pts = dts + if at % 3 == 1 { 3 * 3_600 } else { 3_600 };
        let size = if keyframe { 20_000 } else { 1_500 };
        let first = if keyframe { 0x65 } else { 0x41 };
        let byte = u8::try_from(at % 251).unwrap() | 1;
        let payload = Payload::Nals(vec![Bytes::from([&[first][..], &vec![byte; size]].concat())]);
        units.push(AccessUnit { track: Track::Video, dts, pts, keyframe, payload });
        let payload = Payload::Frame(Bytes::from(vec![byte; 200]));
        units.push(AccessUnit {
            track: Track::Audio,
            dts: dts + 900,
            pts: dts + 900,
            keyframe: true,
            payload,
        });
    }
    units
}

/// Units of a track in the order of arrival: times relative to the first video unit, and payload.
pub(crate) fn timed(units: &[(Track, i64, i64, Payload)], track: Track) -> Vec<(i64, i64, Payload)> {
    let first = units.iter().find(|unit| unit.0 == Track::Video).map_or(0, |unit| unit.1);
    let of_track = units.iter().filter(|unit| unit.0 == track);
    of_track.map(|(_, dts, pts, payload)| (dts - first, pts - first, payload.clone())).collect()
}

pub(crate) fn sent(units: &[AccessUnit]) -> Vec<(Track, i64, i64, Payload)> {
    units.iter().map(|unit| (unit.track, unit.dts, unit.pts, unit.payload.clone())).collect()
}

/// Media that a feed has received.
#[derive(Default)]
pub(crate) struct Received {
    pub(crate) headers: Option<StreamHeaders>,
    pub(crate) units: Vec<(Track, i64, i64, Payload)>,
    pub(crate) bytes: usize,
    pub(crate) end: Option<PublisherEnd>,
}

/// Receives messages until the end, or until there are so many units.
pub(crate) async fn receive(publisher: &mut yonder_ingest::Publisher, count: usize) -> Received {
    let mut received = Received::default();
    while received.units.len() < count && received.end.is_none() {
        let message = timeout(WAIT, publisher.messages.recv()).await.expect("no message of the publisher");
        match message.expect("the server has gone") {
            PublisherMessage::Received(bytes) => received.bytes += bytes,
            PublisherMessage::Media(UnitEvent::Headers(headers)) => received.headers = Some(headers),
            PublisherMessage::Media(UnitEvent::Unit(unit)) => {
                let PublishedUnit { track, dts, pts, payload, .. } = unit;
                received.units.push((track, dts, pts, payload));
            }
            PublisherMessage::Media(UnitEvent::Problem(problem)) => panic!("{problem}"),
            PublisherMessage::Software(_) | PublisherMessage::Link(_) => {}
            PublisherMessage::End(end) => received.end = Some(end),
        }
    }
    received
}

/// RTMP encoder.
pub(crate) struct RtmpEncoder<S> {
    publisher: Publisher,
    stream: S,
    began: Instant,
}

impl<S: AsyncRead + AsyncWrite + Unpin> RtmpEncoder<S> {
    /// Publishes to `rtmp://ingest.example.net/{app}` with a key.
    pub(crate) async fn publish(stream: S, app: &str, key: &str) -> Result<Self, PushError> {
        let server = format!("rtmp://ingest.example.net/{app}").parse().unwrap();
        let key = StreamKey::from_stored(key.to_owned().into());
        let mut publisher = Publisher::new(PublisherConfig { server, key, seed: 3 });
        publisher.start(Duration::ZERO);
        let mut encoder = Self { publisher, stream, began: Instant::now() };
        let mut input = BytesMut::new();
        loop {
            encoder.flush().await;
            if let Some(end) = encoder.publisher.end() {
                return Err(end.why.clone());
            }
            if encoder.publisher.step() == PushStep::Live {
                return Ok(encoder);
            }
            let read = timeout(WAIT, encoder.stream.read_buf(&mut input)).await.expect("no answer").unwrap();
            assert!(read > 0, "closed without an answer");
            // The end is read above.
            let _unused = deliver(&mut encoder.publisher, &mut input, encoder.began.elapsed());
        }
    }

    async fn flush(&mut self) {
        let out = take_transmit(&mut self.publisher, self.began.elapsed());
        self.stream.write_all(&out).await.unwrap();
    }

    /// Sends headers and units; timestamps are their decoding times, modulo 2^32 milliseconds.
    pub(crate) async fn send(&mut self, units: &[AccessUnit], headers: &StreamHeaders) {
        let time = |unit: &AccessUnit| u32::try_from((unit.dts / 90).rem_euclid(1 << 32)).unwrap();
        self.publisher.send_headers(headers, MeasuredRates::default(), units.first().map_or(0, time));
        for unit in units {
            self.publisher.send_body(&Body::of_unit(unit, headers), time(unit));
            self.flush().await;
        }
    }

    /// Ends the broadcast in order.
    pub(crate) async fn close(mut self) {
        self.publisher.close();
        self.flush().await;
    }
}

/// SRT encoder that loses some of its datagrams.
pub(crate) struct SrtEncoder {
    caller: Caller,
    socket: UdpSocket,
    began: Instant,
    muxer: Muxer,
    /// Every so many datagrams one is lost; zero for none.
    loss: u64,
    count: u64,
}

impl SrtEncoder {
    pub(crate) async fn publish(
        server: SocketAddr,
        stream_id: &str,
        encryption: Option<(&str, KeyLength)>,
        loss: u64,
    ) -> Result<Self, SrtError> {
        let socket = UdpSocket::bind("127.0.0.1:0").await.unwrap();
        socket.connect(server).await.unwrap();
        let config = CallerConfig {
            stream_id: Some(StreamKey::from_stored(stream_id.to_owned().into())),
            encryption: encryption.map(|(text, length)| (Passphrase::parse(text).unwrap(), length)),
            // A busy machine must not lose packets.
            latency: Duration::from_secs(1),
            refresh: KeyRefresh { every: 300, announce: 80 },
            address: server.ip(),
            induction_only: false,
            entropy: Box::new(|bytes: &mut [u8]| rand::fill(bytes)),
        };
        let caller = Caller::new(config, Duration::ZERO);
        let mut encoder =
            Self { caller, socket, began: Instant::now(), muxer: Muxer::default(), loss, count: 0 };
        while encoder.caller.step() != CallerStep::Connected {
            encoder.run(Duration::from_millis(5)).await;
            if let Some(end) = encoder.caller.end() {
                return Err(end.why);
            }
            assert!(encoder.began.elapsed() < WAIT, "no answer");
        }
        Ok(encoder)
    }

    /// Exchanges datagrams for some time.
    pub(crate) async fn run(&mut self, time: Duration) {
        let until = Instant::now() + time;
        let (mut input, mut out) = (vec![0; 2_048], BytesMut::new());
        loop {
            let now = self.began.elapsed();
            self.caller.handle_timeout(now);
            while self.caller.poll_datagram(now, now, &mut out).is_some() {
                let datagram = out.split();
                self.count += 1;
                if self.loss == 0
                    || self.caller.step() != CallerStep::Connected
                    || !self.count.is_multiple_of(self.loss)
                {
                    // Refused once the server has gone.
                    let _unused = self.socket.send(&datagram).await;
                }
            }
            let left = until.saturating_duration_since(Instant::now());
            if left.is_zero() {
                return;
            }
            let wait = left.min(Duration::from_millis(2));
            if let Ok(Ok(count)) = timeout(wait, self.socket.recv(&mut input)).await {
                let datagram = Bytes::copy_from_slice(&input[..count]);
                self.caller.handle_datagram((), datagram, self.began.elapsed());
            }
        }
    }

    /// Sends units at the pace of their decoding times.
    pub(crate) async fn send(&mut self, units: &[AccessUnit], headers: &StreamHeaders) {
        let mut last = units.first().map_or(0, |unit| unit.dts);
        for unit in units {
            let chunk = self.muxer.write(unit, headers);
            let now = self.began.elapsed();
            for (_, packets) in chunk.groups(MAX_PAYLOAD / PACKET) {
                self.caller.send(packets, now);
            }
            let micros = u64::try_from((unit.dts - last).max(0)).unwrap() * 100 / 9;
            last = last.max(unit.dts);
            self.run(Duration::from_micros(micros)).await;
        }
    }

    /// Ends the connection in order.
    pub(crate) async fn close(mut self) {
        self.caller.close(self.began.elapsed(), Duration::from_millis(1_300));
        self.run(Duration::from_millis(1_500)).await;
    }
}
