//! Reader of media playlists (RFC 8216).

use jiff::Timestamp;

/// Entry of a media playlist.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Entry {
    /// Media sequence number.
    pub(super) number: u64,
    /// Discontinuity sequence number (6.2.2).
    pub(super) discontinuity: u64,
    /// `EXT-X-DISCONTINUITY` precedes it.
    pub(super) is_discontinuous: bool,
    /// Duration in seconds.
    pub(super) duration_s: f64,
    /// `EXT-X-PROGRAM-DATE-TIME`.
    pub(super) begins: Option<Timestamp>,
    /// Initialization section.
    pub(super) map: String,
    pub(super) uri: String,
}

/// Media playlist.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct MediaPlaylist {
    pub(super) target_s: u64,
    pub(super) first: u64,
    pub(super) is_ended: bool,
    pub(super) entries: Vec<Entry>,
}

impl MediaPlaylist {
    /// Reads a playlist; the error is a fault of it.
    pub(super) fn read(text: &str) -> Result<Self, String> {
        if text.lines().next() != Some("#EXTM3U") {
            return Err("does not begin with #EXTM3U (4.3.1.1)".into());
        }
        let number = |tag: &str| -> Result<Option<u64>, String> {
            let mut found = text.lines().filter_map(|line| line.strip_prefix(tag));
            let first = found.next().map(|value| value.parse().map_err(|_| format!("{tag}{value}")));
            if found.next().is_some() {
                return Err(format!("{tag} occurs more than once"));
            }
            first.transpose()
        };
        let target_s = number("#EXT-X-TARGETDURATION:")?.ok_or("no target duration (4.3.3.1)")?;
        let first = number("#EXT-X-MEDIA-SEQUENCE:")?.unwrap_or_default();
        let mut discontinuity = number("#EXT-X-DISCONTINUITY-SEQUENCE:")?.unwrap_or_default();
        if number("#EXT-X-VERSION:")?.is_none_or(|version| version < 6) {
            return Err("EXT-X-MAP needs version 6 (section 7)".into());
        }
        let mut entries: Vec<Entry> = Vec::new();
        let (mut map, mut duration_s, mut begins, mut is_discontinuous) = (None, None, None, false);
        for line in text.lines() {
            if let Some(value) = line.strip_prefix("#EXTINF:") {
                let value = value.split(',').next().unwrap_or_default();
                duration_s = Some(value.parse().map_err(|_| format!("#EXTINF:{value}"))?);
            } else if let Some(value) = line.strip_prefix("#EXT-X-PROGRAM-DATE-TIME:") {
                begins = Some(value.parse().map_err(|_| format!("the date {value}"))?);
            } else if let Some(value) = line.strip_prefix("#EXT-X-MAP:URI=\"") {
                map = Some(value.trim_end_matches('"').to_owned());
            } else if line == "#EXT-X-DISCONTINUITY" {
                discontinuity += 1;
                is_discontinuous = true;
            } else if !line.starts_with('#') && !line.is_empty() {
                entries.push(Entry {
                    number: first + u64::try_from(entries.len()).unwrap_or_default(),
                    discontinuity,
                    is_discontinuous,
                    duration_s: duration_s.take().ok_or_else(|| format!("{line} has no EXTINF (4.3.2.1)"))?,
                    begins: begins.take(),
                    map: map.clone().ok_or_else(|| format!("{line} has no EXT-X-MAP"))?,
                    uri: line.to_owned(),
                });
                is_discontinuous = false;
            }
        }
        let is_ended = text.lines().any(|line| line == "#EXT-X-ENDLIST");
        Ok(Self { target_s, first, is_ended, entries })
    }
}
