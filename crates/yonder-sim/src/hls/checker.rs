//! Checker of a stream over successive playlists.

use std::collections::BTreeMap;

use bytes::Bytes;

use super::mp4::{TrackFragment, TrackHeader, read_init, read_segment};
use super::playlist::{Entry, MediaPlaylist};

/// Largest difference between the duration of a segment in its playlist and that of its video, in seconds.
const MAX_DURATION_ERROR_S: f64 = 0.001;
/// Largest step of a track between two segments that continue each other, in seconds: some audio frames.
const MAX_STEP_S: f64 = 0.05;
/// Largest deviation of a date from that of the segment before it, in seconds.
const MAX_DATE_ERROR_S: f64 = 0.1;
/// Faults that are kept.
const MAX_FAULTS: usize = 50;

/// File that a viewer fetches.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Wanted {
    /// Initialization section.
    Init(String),
    /// Segment, with its media sequence number.
    Segment(u64, String),
}

/// Checks playlists, initialization sections and segments of one stream against RFC 8216 and ISO/IEC 14496-12, and keeps what
/// a viewer decodes.
#[derive(Debug, Default)]
pub struct HlsChecker {
    target_s: Option<u64>,
    first: u64,
    entries: BTreeMap<u64, Entry>,
    inits: BTreeMap<String, Vec<TrackHeader>>,
    /// End of each track of the last segment, in seconds, with the segment's number.
    ends: BTreeMap<Vec<u8>, (u64, f64)>,
    pictures: Vec<Bytes>,
    audio: Vec<Bytes>,
    discontinuities: u64,
    seconds: f64,
    is_ended: bool,
    ignores_dates: bool,
    faults: Vec<String>,
}

impl HlsChecker {
    /// Creates a checker that ignores dates, for tests in simulated time.
    #[must_use]
    pub fn without_dates() -> Self {
        Self { ignores_dates: true, ..Self::default() }
    }

    /// Returns the faults that were found.
    #[must_use]
    pub fn faults(&self) -> &[String] {
        &self.faults
    }

    /// Returns the pictures of all segments, as samples with length prefixes.
    #[must_use]
    pub fn pictures(&self) -> &[Bytes] {
        &self.pictures
    }

    /// Returns the audio frames of all segments.
    #[must_use]
    pub fn audio(&self) -> &[Bytes] {
        &self.audio
    }

    /// Returns the number of discontinuities between checked segments.
    #[must_use]
    pub fn discontinuities(&self) -> u64 {
        self.discontinuities
    }

    /// Returns the duration of all checked segments, in seconds.
    #[must_use]
    pub fn seconds(&self) -> f64 {
        self.seconds
    }

    /// Returns true after a playlist with `EXT-X-ENDLIST`.
    #[must_use]
    pub fn is_ended(&self) -> bool {
        self.is_ended
    }

    /// Returns the end of a listed segment by its date, in milliseconds since 1970.
    #[must_use]
    pub fn end_ms(&self, number: u64) -> Option<f64> {
        let entry = self.entries.get(&number)?;
        let begin = entry.begins?.duration_since(jiff::Timestamp::UNIX_EPOCH).as_secs_f64();
        Some((begin + entry.duration_s) * 1_000.0)
    }

    fn fault(&mut self, fault: String) {
        if self.faults.len() < MAX_FAULTS {
            self.faults.push(fault);
        }
    }

    /// Checks a media playlist, and returns the files that are new in it, in the order in which a player needs them.
    pub fn playlist(&mut self, text: &str) -> Vec<Wanted> {
        let playlist = match MediaPlaylist::read(text) {
            Ok(playlist) => playlist,
            Err(fault) => {
                self.fault(format!("playlist: {fault}"));
                return Vec::new();
            }
        };
        if self.target_s.replace(playlist.target_s).is_some_and(|before| before != playlist.target_s) {
            self.fault(format!("the target duration changed to {} (6.2.1)", playlist.target_s));
        }
        if playlist.first < self.first {
            self.fault(format!("media sequence number {} after {} (6.2.1)", playlist.first, self.first));
        }
        self.first = playlist.first;
        self.is_ended |= playlist.is_ended;
        let mut wanted = Vec::new();
        for entry in playlist.entries {
            self.entry(entry, playlist.target_s, &mut wanted);
        }
        wanted
    }

    fn entry(&mut self, entry: Entry, target_s: u64, wanted: &mut Vec<Wanted>) {
        let number = entry.number;
        if let Some(known) = self.entries.get(&number) {
            // The first entry of a playlist has lost its tag with the segment before it only if that has none.
            if *known != entry {
                self.fault(format!("segment {number} changed: {known:?} is now {entry:?}"));
            }
            return;
        }
        if entry.duration_s.round() > f64::from(u32::try_from(target_s).unwrap_or(u32::MAX)) {
            self.fault(format!("segment {number} lasts {} s (4.3.3.1)", entry.duration_s));
        }
        if let Some(before) = number.checked_sub(1).and_then(|before| self.entries.get(&before)) {
            let fault = check_neighbours(before, &entry, self.ignores_dates);
            self.discontinuities += u64::from(entry.is_discontinuous);
            if let Some(fault) = fault {
                self.fault(format!("segment {number}: {fault}"));
            }
        }
        if !self.inits.contains_key(&entry.map) {
            wanted.push(Wanted::Init(entry.map.clone()));
        }
        wanted.push(Wanted::Segment(number, entry.uri.clone()));
        self.entries.insert(number, entry);
    }

    /// Checks an initialization section.
    pub fn init(&mut self, uri: &str, data: &[u8]) {
        match read_init(data) {
            Ok(tracks) => {
                self.inits.insert(uri.to_owned(), tracks);
            }
            Err(fault) => self.fault(format!("{uri}: {fault}")),
        }
    }

    /// Checks a segment. They are passed in order.
    pub fn segment(&mut self, number: u64, data: &Bytes) {
        let Some(entry) = self.entries.get(&number).cloned() else { return };
        let Some(tracks) = self.inits.get(&entry.map).cloned() else {
            self.fault(format!("segment {number}: {} was not read", entry.map));
            return;
        };
        let fragments = match read_segment(data) {
            Ok(fragments) => fragments,
            Err(fault) => {
                self.fault(format!("segment {number}: {fault}"));
                return;
            }
        };
        self.seconds += entry.duration_s;
        let mut video_s = 0.0;
        for header in &tracks {
            let parts: Vec<_> = fragments.iter().filter(|part| part.track == header.track).collect();
            if parts.is_empty() {
                self.fault(format!("segment {number} has no samples of track {}", header.track));
            }
            for part in parts {
                let seconds = self.track(&entry, header, part);
                if header.handler == b"vide" {
                    video_s += seconds;
                }
            }
        }
        if (video_s - entry.duration_s).abs() > MAX_DURATION_ERROR_S {
            self.fault(format!("segment {number} has {video_s} s of video, not {}", entry.duration_s));
        }
    }

    /// Checks the samples of a track, and returns their duration in seconds.
    fn track(&mut self, entry: &Entry, header: &TrackHeader, part: &TrackFragment) -> f64 {
        let scale = f64::from(header.timescale.max(1));
        let seconds = |time: u64| {
            f64::from(u32::try_from(time >> 16).unwrap_or(u32::MAX)) * 65_536.0 / scale
                + f64::from(u32::try_from(time & 0xffff).unwrap_or_default()) / scale
        };
        let (begin, end) = (seconds(part.time), seconds(part.end()));
        let number = entry.number;
        let before = self.ends.insert(header.handler.clone(), (number, end));
        let continues = before.filter(|(before, _)| *before + 1 == number && !entry.is_discontinuous);
        if let Some((_, before)) = continues
            && (begin - before).abs() > MAX_STEP_S
        {
            self.fault(format!("segment {number}: track {} steps from {before} to {begin} s", header.track));
        }
        let data = part.samples.iter().map(|sample| sample.data.clone());
        if header.handler == b"vide" {
            if part.samples.first().is_none_or(|first| !first.is_sync) {
                self.fault(format!("segment {number} does not begin with a keyframe"));
            }
            self.pictures.extend(data);
        } else {
            self.audio.extend(data);
        }
        end - begin
    }
}

/// Returns the fault of an entry that follows another one.
fn check_neighbours(before: &Entry, entry: &Entry, ignores_dates: bool) -> Option<String> {
    if entry.discontinuity != before.discontinuity + u64::from(entry.is_discontinuous) {
        return Some(format!("discontinuity {} after {}", entry.discontinuity, before.discontinuity));
    }
    if entry.map != before.map && !entry.is_discontinuous {
        return Some("another initialization section without a discontinuity (4.3.2.3)".into());
    }
    let (Some(from), Some(to)) = (before.begins, entry.begins) else { return Some("no date".into()) };
    let apart = to.duration_since(from).as_secs_f64() - before.duration_s;
    let is_off = apart.abs() > MAX_DATE_ERROR_S && !entry.is_discontinuous && !ignores_dates;
    is_off.then(|| format!("its date is off by {apart} s"))
}
