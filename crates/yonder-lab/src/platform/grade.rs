//! What a platform sees of a stream, and what it is worth.

use std::time::Duration;

use tokio::time::Instant;
use yonder_media::flv::Content;
use yonder_media::{Track, VideoCodec, h264, h265};

/// Longest keyframe interval that grades as good.
const MAX_KEYFRAME_MS: u64 = 4_000;
/// Longest hole in media time that grades as good.
const MAX_GAP_MS: u64 = 1_500;
/// Largest distance between picture and sound that grades as good.
const MAX_SKEW_MS: u64 = 500;

/// Something a platform would complain about.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Finding {
    /// A picture came before its headers.
    NoHeaders,
    /// The first picture was no keyframe.
    FirstNotKeyframe,
    /// Time stepped back.
    TimeStepsBack(Track),
    /// Keyframes are too far apart, in milliseconds.
    KeyframesFarApart(u64),
    /// A hole in media time, in milliseconds.
    Gap(Track, u64),
    /// Picture and sound are apart, in milliseconds.
    Skew(u64),
    /// Something that cannot be read.
    Unreadable(String),
    /// Nothing came at all.
    Empty,
}

impl Finding {
    /// The finding in words.
    #[must_use]
    pub fn sentence(&self) -> String {
        let track = |track: &Track| if *track == Track::Video { "picture" } else { "sound" };
        match self {
            Self::NoHeaders => "a picture came before its headers".to_owned(),
            Self::FirstNotKeyframe => "the first picture was no keyframe".to_owned(),
            Self::TimeStepsBack(which) => format!("the time of the {} stepped back", track(which)),
            Self::KeyframesFarApart(ms) => format!("keyframes are {ms} ms apart"),
            Self::Gap(which, ms) => format!("a hole of {ms} ms in the {}", track(which)),
            Self::Skew(ms) => format!("picture and sound are {ms} ms apart"),
            Self::Unreadable(what) => format!("something cannot be read: {what}"),
            Self::Empty => "no picture came".to_owned(),
        }
    }
}

/// A channel's figures and findings.
#[derive(Debug, Clone, PartialEq)]
pub struct ChannelReport {
    /// A broadcast runs.
    pub live: bool,
    /// Broadcasts so far.
    pub broadcasts: u64,
    /// Pictures received in all broadcasts.
    pub pictures: u64,
    /// Frames of sound received in all broadcasts.
    pub sounds: u64,
    /// Size by the stream's own headers.
    pub size: Option<(u32, u32)>,
    /// Mean rate of the last broadcast.
    pub kbps: u64,
    /// Longest keyframe interval of the last broadcast, in milliseconds.
    pub keyframe_ms: u64,
    /// What was found wrong in the last broadcast.
    pub findings: Vec<Finding>,
}

impl ChannelReport {
    /// Nothing was found wrong.
    #[must_use]
    pub fn is_good(&self) -> bool {
        self.findings.is_empty()
    }
}

/// Watches one channel.
#[derive(Debug, Default)]
pub(super) struct Grader {
    pictures: u64,
    sounds: u64,
    size: Option<(u32, u32)>,
    broadcast: Broadcast,
}

#[derive(Debug, Default)]
struct Broadcast {
    began: Option<Instant>,
    ended: Option<Instant>,
    bytes: u64,
    headers: bool,
    last: [Option<u32>; 2],
    keyframe_at: Option<u32>,
    keyframe_ms: u64,
    findings: Vec<Finding>,
}

impl Grader {
    pub(super) fn begin_broadcast(&mut self) {
        self.broadcast = Broadcast { began: Some(Instant::now()), ..Broadcast::default() };
    }

    pub(super) fn end_broadcast(&mut self) {
        self.broadcast.ended = Some(Instant::now());
    }

    pub(super) fn add(&mut self, timestamp: u32, bytes: usize, content: &Content) {
        let broadcast = &mut self.broadcast;
        broadcast.bytes += u64::try_from(bytes).unwrap_or_default();
        match content {
            Content::VideoHeaders { codec, record } => {
                broadcast.headers = true;
                self.size = size_of_record(*codec, record).or(self.size);
            }
            Content::Picture { keyframe, .. } => {
                self.pictures += 1;
                broadcast.add_picture(timestamp, *keyframe);
            }
            Content::Sound(_) | Content::G711 { .. } => {
                self.sounds += 1;
                broadcast.add_time(Track::Audio, timestamp);
            }
            Content::AudioHeaders(_) | Content::VideoEnd => {}
        }
    }

    pub(super) fn add_unreadable(&mut self, what: String) {
        self.broadcast.find(Finding::Unreadable(what));
    }

    pub(super) fn report(&self, live: bool, broadcasts: u64) -> ChannelReport {
        let broadcast = &self.broadcast;
        let mut findings = broadcast.findings.clone();
        if self.pictures == 0 {
            findings.push(Finding::Empty);
        }
        let until = broadcast.ended.unwrap_or_else(Instant::now);
        let span = broadcast.began.map_or(Duration::ZERO, |began| until.saturating_duration_since(began));
        let span_ms = u64::try_from(span.as_millis()).unwrap_or(u64::MAX);
        ChannelReport {
            live,
            broadcasts,
            pictures: self.pictures,
            sounds: self.sounds,
            size: self.size,
            kbps: (broadcast.bytes * 8).checked_div(span_ms).unwrap_or_default(),
            keyframe_ms: broadcast.keyframe_ms,
            findings,
        }
    }
}

impl Broadcast {
    /// Each kind of finding is kept once: the first tells enough.
    fn find(&mut self, finding: Finding) {
        let kind = std::mem::discriminant(&finding);
        if !self.findings.iter().any(|known| std::mem::discriminant(known) == kind) {
            self.findings.push(finding);
        }
    }

    fn add_picture(&mut self, timestamp: u32, keyframe: bool) {
        if !self.headers {
            self.find(Finding::NoHeaders);
        }
        if self.keyframe_at.is_none() && !keyframe {
            self.find(Finding::FirstNotKeyframe);
        }
        if keyframe && let Some(last) = self.keyframe_at.replace(timestamp) {
            let interval = u64::from(timestamp.wrapping_sub(last));
            self.keyframe_ms = self.keyframe_ms.max(interval);
            if interval > MAX_KEYFRAME_MS {
                self.find(Finding::KeyframesFarApart(interval));
            }
        }
        self.add_time(Track::Video, timestamp);
    }

    fn add_time(&mut self, track: Track, timestamp: u32) {
        let (own, other) = if track == Track::Video { (0, 1) } else { (1, 0) };
        if let Some(last) = self.last[own].replace(timestamp) {
            let step = timestamp.wrapping_sub(last);
            if step >= 1 << 31 {
                self.find(Finding::TimeStepsBack(track));
            } else if u64::from(step) > MAX_GAP_MS {
                self.find(Finding::Gap(track, u64::from(step)));
            }
        }
        if let Some(other) = self.last[other] {
            let skew = timestamp.wrapping_sub(other).min(other.wrapping_sub(timestamp));
            if u64::from(skew) > MAX_SKEW_MS {
                self.find(Finding::Skew(u64::from(skew)));
            }
        }
    }
}

/// The size by the first sequence parameter set in a configuration record.
fn size_of_record(codec: VideoCodec, record: &[u8]) -> Option<(u32, u32)> {
    match codec {
        // ISO/IEC 14496-15, 5.3.3.1: the first sequence parameter set stands behind six bytes.
        VideoCodec::H264 => {
            let sps = h264::Sps::parse(sized(record.get(6..)?)?.0).ok()?;
            Some((sps.width, sps.height))
        }
        // 8.3.3.1: arrays of sets of one kind each, behind 23 bytes.
        VideoCodec::H265 => {
            let mut rest = record.get(23..)?;
            while let Some((&[_, high, low], sets)) = rest.split_first_chunk::<3>() {
                rest = sets;
                for _ in 0..u16::from_be_bytes([high, low]) {
                    let (nal, after) = sized(rest)?;
                    if let Ok(sps) = h265::Sps::parse(nal) {
                        return Some((sps.width, sps.height));
                    }
                    rest = after;
                }
            }
            None
        }
    }
}

/// A NAL unit behind its 16-bit length, and what follows it.
fn sized(data: &[u8]) -> Option<(&[u8], &[u8])> {
    let (length, rest) = data.split_first_chunk::<2>()?;
    rest.split_at_checked(usize::from(u16::from_be_bytes(*length)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use bytes::Bytes;
    use rstest::rstest;

    fn picture(keyframe: bool) -> Content {
        Content::Picture { composition_ms: 0, keyframe, nals: Vec::new() }
    }

    fn grade(contents: &[(u32, Content)]) -> Vec<Finding> {
        let mut grader = Grader::default();
        grader.begin_broadcast();
        for (timestamp, content) in contents {
            grader.add(*timestamp, 100, content);
        }
        grader.report(true, 1).findings
    }

    fn headers() -> (u32, Content) {
        (0, Content::VideoHeaders { codec: VideoCodec::H264, record: Bytes::new() })
    }

    #[test]
    fn a_proper_stream_is_good() {
        let frames: Vec<(u32, Content)> =
            std::iter::once(headers()).chain((0..200).map(|i| (i * 40, picture(i % 50 == 0)))).collect();
        assert_eq!(grade(&frames), Vec::new());
    }

    #[rstest]
    #[case::nothing(vec![], Finding::Empty)]
    #[case::no_headers(vec![(0, picture(true))], Finding::NoHeaders)]
    #[case::no_keyframe(vec![headers(), (0, picture(false))], Finding::FirstNotKeyframe)]
    #[case::step_back(vec![headers(), (40, picture(true)), (0, picture(false))], Finding::TimeStepsBack(Track::Video))]
    #[case::hole(vec![headers(), (0, picture(true)), (2_000, picture(false))], Finding::Gap(Track::Video, 2_000))]
    #[case::skew(
        vec![headers(), (900, picture(true)), (0, Content::Sound(Bytes::new()))],
        Finding::Skew(900)
    )]
    fn faults_are_found(#[case] contents: Vec<(u32, Content)>, #[case] finding: Finding) {
        assert_eq!(grade(&contents), vec![finding]);
    }

    #[test]
    fn keyframes_far_apart_are_found() {
        let frames: Vec<(u32, Content)> =
            std::iter::once(headers()).chain((0..=10).map(|i| (i * 1_000, picture(i % 5 == 0)))).collect();
        assert_eq!(grade(&frames), vec![Finding::KeyframesFarApart(5_000)]);
    }
}
