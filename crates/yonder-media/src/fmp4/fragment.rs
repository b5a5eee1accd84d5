//! Movie fragments (ISO/IEC 14496-12, 8.8): runs of samples of both tracks.

use std::sync::Arc;

use bytes::{BufMut, Bytes, BytesMut};

use crate::stream::{VideoCodec, VideoConfig};
use crate::unit::{AccessUnit, Frame, Payload, PerTrack, Track};

use super::boxes::{put_box, put_full_box};
use super::{AUDIO_TRACK, VIDEO_TRACK};

/// `sample_depends_on` 2: an intra frame (8.8.3.1).
const SYNC_SAMPLE: u32 = 0x0200_0000;
/// `sample_depends_on` 1, and not a sync sample.
const OTHER_SAMPLE: u32 = 0x0101_0000;

/// Sample of a track run.
#[derive(Debug, Clone, Copy)]
struct Sample {
    /// Duration in ticks.
    duration: u32,
    /// Size in bytes.
    size: u32,
    is_sync: bool,
    /// Presentation time minus decoding time, in ticks.
    composition: u32,
}

/// Samples of one track for one fragment, with their data.
#[derive(Debug)]
pub(crate) struct TrackRun {
    track: Track,
    /// Decoding time of the first sample, in ticks.
    time: u64,
    samples: Vec<Sample>,
    data: BytesMut,
}

impl TrackRun {
    /// Creates an empty run whose first sample is decoded at `time`, in ticks.
    pub(crate) fn new(track: Track, time: u64) -> Self {
        Self { track, time, samples: Vec::new(), data: BytesMut::new() }
    }

    /// Appends a unit, and copies its payload. `composition` is in ticks. The duration is zero until it is set.
    pub(crate) fn push(&mut self, unit: &AccessUnit, codec: VideoCodec, composition: u32) {
        let before = self.data.len();
        match &unit.payload {
            Payload::Nals(nals) => {
                for nal in nals.iter().filter(|nal| codec.is_in_sample(nal)) {
                    self.data.put_u32(u32::try_from(nal.len()).unwrap_or(u32::MAX));
                    self.data.put_slice(nal);
                }
            }
            Payload::Frame(frame) => self.data.put_slice(frame),
        }
        let size = u32::try_from(self.data.len() - before).unwrap_or(u32::MAX);
        let is_sync = unit.track == Track::Audio || unit.keyframe;
        self.samples.push(Sample { duration: 0, size, is_sync, composition });
    }

    /// Sets the duration of the last sample, in ticks: it is known when the next unit of the track arrives.
    pub(crate) fn set_last_duration(&mut self, duration: u32) {
        if let Some(last) = self.samples.last_mut() {
            last.duration = duration;
        }
    }

    /// Returns the size of the sample data, in bytes.
    pub(crate) fn len(&self) -> usize {
        self.data.len()
    }

    /// Returns the duration of all samples, in ticks.
    pub(crate) fn ticks(&self) -> i64 {
        self.samples.iter().map(|sample| i64::from(sample.duration)).sum()
    }

    /// Size of the `traf` box.
    fn box_bytes(&self) -> usize {
        8 + 16 + 20 + 20 + 16 * self.samples.len()
    }

    fn put(&self, out: &mut BytesMut, data_offset: usize) {
        let number = if self.track == Track::Video { VIDEO_TRACK } else { AUDIO_TRACK };
        put_box(out, b"traf", |out| {
            // default-base-is-moof
            put_full_box(out, b"tfhd", 0, 0x02_0000, |out| out.put_u32(number));
            put_full_box(out, b"tfdt", 1, 0, |out| out.put_u64(self.time));
            // Data offset; duration, size, flags and composition offset of each sample.
            put_full_box(out, b"trun", 0, 0x0f01, |out| {
                out.put_u32(u32::try_from(self.samples.len()).unwrap_or(u32::MAX));
                out.put_u32(u32::try_from(data_offset).unwrap_or(u32::MAX));
                for sample in &self.samples {
                    let flags = if sample.is_sync { SYNC_SAMPLE } else { OTHER_SAMPLE };
                    for value in [sample.duration, sample.size, flags, sample.composition] {
                        out.put_u32(value);
                    }
                }
            });
        });
    }
}

/// Returns a fragment as pieces: `moof` with the header of `mdat`, then the data of each run, without a copy of it. Empty runs
/// are left out.
pub(crate) fn fragment(sequence: u32, runs: impl IntoIterator<Item = TrackRun>) -> Vec<Bytes> {
    let runs: Vec<TrackRun> = runs.into_iter().filter(|run| !run.samples.is_empty()).collect();
    let movie_bytes = 8 + 16 + runs.iter().map(TrackRun::box_bytes).sum::<usize>();
    let data_bytes: usize = runs.iter().map(TrackRun::len).sum();
    let mut out = BytesMut::with_capacity(movie_bytes + 8);
    put_box(&mut out, b"moof", |out| {
        put_full_box(out, b"mfhd", 0, 0, |out| out.put_u32(sequence));
        let mut offset = movie_bytes + 8;
        for run in &runs {
            run.put(out, offset);
            offset += run.len();
        }
    });
    out.put_u32(u32::try_from(data_bytes + 8).unwrap_or(u32::MAX));
    out.put_slice(b"mdat");
    let mut pieces = vec![out.freeze()];
    pieces.extend(runs.into_iter().map(|run| run.data.freeze()));
    pieces
}

/// Writer of fragments with one frame each. A frame waits for the next one of its track, from which its duration is known.
#[derive(Debug, Default)]
pub struct Fragmenter {
    sequence: u32,
    /// Decoding time of the segment's zero.
    origin: Option<i64>,
    waiting: PerTrack<Option<Arc<Frame>>>,
}

impl Fragmenter {
    /// Adds a frame, and returns the fragment of the one before it.
    pub fn add(&mut self, frame: &Arc<Frame>) -> Option<Bytes> {
        let next = frame.unit.dts;
        let origin = *self.origin.get_or_insert(next);
        let before = self.waiting.get_mut(frame.unit.track).replace(Arc::clone(frame))?;
        let codec = before.headers.video.as_ref().map_or(VideoCodec::H264, VideoConfig::codec);
        let unit = &before.unit;
        // Frames before the origin have no time in the segment.
        let time = u64::try_from(unit.dts - origin).ok()?;
        let duration = u32::try_from(next - unit.dts).unwrap_or(1).max(1);
        let composition = u32::try_from(unit.pts.saturating_sub(unit.dts)).unwrap_or_default();
        self.sequence = self.sequence.wrapping_add(1);
        let mut run = TrackRun::new(unit.track, time);
        run.push(unit, codec, composition);
        run.set_last_duration(duration);
        Some(fragment(self.sequence, [run]).concat().into())
    }
}
