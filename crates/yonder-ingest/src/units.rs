//! Access units of a publisher, in the form that a feed takes from any source.

use bytes::{Bytes, BytesMut};
use yonder_media::aac::SAMPLES_PER_FRAME;
use yonder_media::flv::{self, BodyError, Content};
use yonder_media::ticks::{from_millis, of_samples};
use yonder_media::ts::{Demuxer, TsEvent};
use yonder_media::{AudioConfig, ParameterSets, Payload, StreamHeaders, Track, VideoCodec};

use crate::stream_info::{length_size, nals_of_record};

/// Access unit with the times of the publisher.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PublishedUnit {
    /// Track.
    pub track: Track,
    /// Decoding time on the publisher's clock, unwrapped, in ticks of 1/90 000 s.
    pub dts: i64,
    /// Presentation time on the same clock.
    pub pts: i64,
    /// Decoding can start here (always true for audio).
    pub keyframe: bool,
    /// Payload.
    pub payload: Payload,
}

/// Event of a publisher's stream.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum UnitEvent {
    /// Headers of all tracks, before the first unit they apply to.
    Headers(StreamHeaders),
    /// An access unit.
    Unit(PublishedUnit),
    /// Media that cannot be parsed or is not supported, with the reason.
    Problem(String),
}

/// Headers of a stream, and the parameter sets that they are made of.
#[derive(Debug, Default)]
struct Headers {
    sets: Option<(VideoCodec, ParameterSets)>,
    known: StreamHeaders,
}

impl Headers {
    /// Returns the parameter sets of a codec, which are new ones after a change of the codec.
    fn sets(&mut self, codec: VideoCodec) -> &mut ParameterSets {
        let sets = self.sets.take().filter(|(known, _)| *known == codec);
        &mut self.sets.insert(sets.unwrap_or_else(|| (codec, ParameterSets::new(codec)))).1
    }

    /// Handles parameter sets among the NAL units.
    fn read_nals<'a>(
        &mut self,
        codec: VideoCodec,
        nals: impl IntoIterator<Item = &'a Bytes>,
    ) -> Option<UnitEvent> {
        let sets = self.sets(codec);
        let mut is_changed = false;
        for nal in nals {
            is_changed |= sets.take(nal);
        }
        let video = if is_changed { sets.config() } else { return None };
        self.change(|known| known.video = video)
    }

    fn set_audio(&mut self, audio: Option<AudioConfig>) -> Option<UnitEvent> {
        self.change(|known| known.audio = audio)
    }

    fn change(&mut self, change: impl FnOnce(&mut StreamHeaders)) -> Option<UnitEvent> {
        let mut headers = self.known.clone();
        change(&mut headers);
        let is_changed = headers != self.known;
        self.known = headers;
        is_changed.then(|| UnitEvent::Headers(self.known.clone()))
    }
}

/// Converter of RTMP messages.
#[derive(Debug)]
pub struct RtmpUnits {
    headers: Headers,
    codec: Option<VideoCodec>,
    /// Size of the length fields of NAL units.
    length_size: usize,
    last_ms: Option<i64>,
}

impl Default for RtmpUnits {
    fn default() -> Self {
        Self { headers: Headers::default(), codec: None, length_size: 4, last_ms: None }
    }
}

impl RtmpUnits {
    /// Parses a video message, and appends its events.
    pub fn read_video(&mut self, timestamp: u32, body: Bytes, events: &mut Vec<UnitEvent>) {
        let dts = from_millis(self.unwrap_time(timestamp));
        let content = flv::read_video_with(body, self.length_size);
        self.handle(content, dts, events);
    }

    /// Parses an audio message, and appends its events.
    pub fn read_audio(&mut self, timestamp: u32, body: Bytes, events: &mut Vec<UnitEvent>) {
        let pts = from_millis(self.unwrap_time(timestamp));
        // An empty message is a mark of some publishers.
        if !body.is_empty() {
            self.handle(flv::read_audio(body), pts, events);
        }
    }

    fn handle(&mut self, content: Result<Content, BodyError>, dts: i64, events: &mut Vec<UnitEvent>) {
        let audio = |frame| {
            let payload = Payload::Frame(frame);
            UnitEvent::Unit(PublishedUnit { track: Track::Audio, dts, pts: dts, keyframe: true, payload })
        };
        match content {
            Ok(Content::VideoHeaders { codec, record }) => {
                self.codec = Some(codec);
                self.length_size = length_size(codec, &record);
                let nals: Vec<Bytes> =
                    nals_of_record(codec, &record).into_iter().map(Bytes::copy_from_slice).collect();
                events.extend(self.headers.read_nals(codec, &nals));
            }
            Ok(Content::VideoFrame { composition_ms, nals, .. }) => {
                let Some(codec) = self.codec else {
                    return events.push(UnitEvent::Problem("video before its sequence header".to_owned()));
                };
                events.extend(self.headers.read_nals(codec, &nals));
                let keyframe = codec.is_random_access(&nals);
                let pts = dts.saturating_add(from_millis(i64::from(composition_ms)));
                let (track, payload) = (Track::Video, Payload::Nals(nals));
                events.push(UnitEvent::Unit(PublishedUnit { track, dts, pts, keyframe, payload }));
            }
            Ok(Content::AudioHeaders(specific)) => match AudioConfig::aac(specific) {
                Some(config) => events.extend(self.headers.set_audio(Some(config))),
                None => events.push(UnitEvent::Problem("an AAC configuration cannot be read".to_owned())),
            },
            Ok(Content::AudioFrame(frame)) => events.push(audio(frame)),
            Ok(Content::G711 { law, samples }) => {
                // G.711 has no headers: each message contains its format.
                let config = AudioConfig::G711 { law, sample_rate: 8_000, channels: 1 };
                events.extend(self.headers.set_audio(Some(config)));
                events.push(audio(samples));
            }
            Ok(Content::VideoEnd) => {}
            Err(error) => events.push(UnitEvent::Problem(error.to_string())),
        }
    }

    /// Unwraps a 32-bit timestamp in milliseconds.
    fn unwrap_time(&mut self, timestamp: u32) -> i64 {
        let time = match self.last_ms {
            None => i64::from(timestamp),
            Some(last) => {
                let low = u32::try_from(last.rem_euclid(1 << 32)).unwrap_or_default();
                last + i64::from(timestamp.wrapping_sub(low).cast_signed())
            }
        };
        self.last_ms = Some(time);
        time
    }
}

/// Converter of an MPEG transport stream.
#[derive(Debug, Default)]
pub struct TsUnits {
    demuxer: Demuxer,
    input: BytesMut,
    headers: Headers,
    codec: Option<VideoCodec>,
}

impl TsUnits {
    /// Parses a part of the stream, and appends its events.
    pub fn read(&mut self, data: &[u8], events: &mut Vec<UnitEvent>) {
        self.input.extend_from_slice(data);
        self.demuxer.handle_input(&mut self.input);
        while let Some(event) = self.demuxer.poll_event() {
            self.handle(event, events);
        }
    }

    fn handle(&mut self, event: TsEvent, events: &mut Vec<UnitEvent>) {
        match event {
            TsEvent::Program { video, audio } => {
                self.codec = video;
                if !audio {
                    events.extend(self.headers.set_audio(None));
                }
            }
            TsEvent::VideoFrame { dts, pts, nals, .. } => {
                let Some(codec) = self.codec else { return };
                events.extend(self.headers.read_nals(codec, &nals));
                let keyframe = codec.is_random_access(&nals);
                let (track, payload) = (Track::Video, Payload::Nals(nals));
                events.push(UnitEvent::Unit(PublishedUnit { track, dts, pts, keyframe, payload }));
            }
            TsEvent::AudioFrames { pts, config, frames } => {
                // Frames of one packet follow each other without a gap (ISO/IEC 13818-1, 2.7.5).
                let sample_rate = config.sample_rate();
                events.extend(self.headers.set_audio(Some(config)));
                let samples = i64::from(SAMPLES_PER_FRAME);
                events.extend(frames.into_iter().zip(0_i64..).map(|(frame, at)| {
                    let pts = pts + of_samples(at * samples, sample_rate);
                    let payload = Payload::Frame(frame);
                    UnitEvent::Unit(PublishedUnit {
                        track: Track::Audio,
                        dts: pts,
                        pts,
                        keyframe: true,
                        payload,
                    })
                }));
            }
            TsEvent::Problem(problem) => events.push(UnitEvent::Problem(problem.to_string())),
            TsEvent::Clock(_) => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use yonder_media::flv::Body;
    use yonder_media::ts::Muxer;
    use yonder_media::{AccessUnit, VideoConfig};

    const SPS: &[u8] = &[0x67, 0x42, 0xc0, 0x1e, 0xd9, 0x00, 0xa0, 0x47, 0xfe, 0x88];
    const PPS: &[u8] = &[0x68, 0xce, 0x3c, 0x80];
    /// AAC-LC, 48 kHz, stereo.
    const AAC: &[u8] = &[0x11, 0x90];

    fn headers() -> StreamHeaders {
        let mut sets = ParameterSets::new(VideoCodec::H264);
        for nal in [SPS, PPS] {
            sets.take(&Bytes::from_static(nal));
        }
        StreamHeaders { video: sets.config(), audio: AudioConfig::aac(Bytes::from_static(AAC)) }
    }

    fn joined(body: &Body) -> Bytes {
        body.pieces.concat().into()
    }

    fn unit(track: Track, dts: i64, pts: i64) -> AccessUnit {
        let payload = match track {
            Track::Video => Payload::Nals(vec![Bytes::from_static(&[0x65, 1, 2])]),
            Track::Audio => Payload::Frame(Bytes::from_static(&[1, 2, 3, 4])),
        };
        AccessUnit { track, dts, pts, keyframe: true, payload }
    }

    fn published(unit: &AccessUnit) -> UnitEvent {
        let AccessUnit { track, dts, pts, keyframe, payload } = unit.clone();
        UnitEvent::Unit(PublishedUnit { track, dts, pts, keyframe, payload })
    }

    #[test]
    fn rtmp_messages_become_units_with_headers_before_them() {
        let (headers, mut units, mut events) = (headers(), RtmpUnits::default(), Vec::new());
        let video = Body::video_headers(headers.video.as_ref().unwrap());
        let audio = Body::audio_headers(headers.audio.as_ref().unwrap()).unwrap();
        units.read_video(40, joined(&video), &mut events);
        units.read_audio(40, joined(&audio), &mut events);
        let (picture, sound) = (unit(Track::Video, 3_600, 10_800), unit(Track::Audio, 4_500, 4_500));
        units.read_video(40, joined(&Body::of_unit(&picture, &headers)), &mut events);
        units.read_audio(50, joined(&Body::of_unit(&sound, &headers)), &mut events);
        let without_audio = StreamHeaders { audio: None, ..headers.clone() };
        let expected = [
            UnitEvent::Headers(without_audio),
            UnitEvent::Headers(headers),
            published(&picture),
            published(&sound),
        ];
        assert_eq!(events, expected);
        // The same headers again are no change.
        events.clear();
        units.read_video(80, joined(&video), &mut events);
        assert_eq!(events, []);
    }

    #[test]
    fn transport_stream_becomes_units_with_the_same_times() {
        let (headers, mut muxer, mut units, mut events) =
            (headers(), Muxer::default(), TsUnits::default(), Vec::new());
        let sent: Vec<AccessUnit> = (0..5_i64)
            .flat_map(|at| {
                let dts = 90_000 + at * 3_600;
                [unit(Track::Video, dts, dts + 3_600), unit(Track::Audio, dts + 9, dts + 9)]
            })
            .collect();
        for unit in &sent {
            units.read(&muxer.write(unit, &headers).bytes, &mut events);
        }
        assert!(events.contains(&UnitEvent::Headers(headers.clone())), "{events:?}");
        let VideoConfig::H264(_) = headers.video.unwrap() else { panic!("H.264") };
        let times = |track| {
            let received: Vec<(i64, i64)> = events
                .iter()
                .filter_map(|event| match event {
                    UnitEvent::Unit(unit) if unit.track == track => Some((unit.dts, unit.pts)),
                    _ => None,
                })
                .collect();
            let first = received[0].0;
            received.iter().map(|(dts, pts)| (dts - first, pts - first)).collect::<Vec<_>>()
        };
        assert_eq!(times(Track::Video)[..3], [(0, 3_600), (3_600, 7_200), (7_200, 10_800)]);
        assert_eq!(times(Track::Audio)[..3], [(0, 0), (3_600, 3_600), (7_200, 7_200)]);
    }

    #[test]
    fn times_continue_across_the_wrap() {
        let mut units = RtmpUnits::default();
        assert_eq!(units.unwrap_time(u32::MAX - 9), i64::from(u32::MAX) - 9);
        assert_eq!(units.unwrap_time(30), i64::from(u32::MAX) + 31);
        assert_eq!(units.unwrap_time(u32::MAX), i64::from(u32::MAX));
    }

    #[test]
    fn media_that_cannot_be_read_is_reported() {
        let mut events = Vec::new();
        RtmpUnits::default().read_video(
            0,
            Bytes::from_static(&[0x17, 1, 0, 0, 0, 0, 0, 0, 1, 9]),
            &mut events,
        );
        RtmpUnits::default().read_audio(0, Bytes::from_static(&[0x2f, 1]), &mut events);
        TsUnits::default().read(&[0; 188], &mut events);
        assert!(events.len() >= 3 && events.iter().all(|event| matches!(event, UnitEvent::Problem(_))));
    }
}
