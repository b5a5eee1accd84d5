//! Playlists (RFC 8216, section 4).

use std::fmt::Write as _;

use crate::ticks::TICKS_PER_SECOND;

use super::segment::Segment;
use super::window::LiveWindow;

/// Media type of playlists (section 4).
pub const PLAYLIST_TYPE: &str = "application/vnd.apple.mpegurl";
/// Version with `EXT-X-MAP` in playlists of media segments (section 7).
const VERSION: u32 = 6;

/// Returns the master playlist; `None` before [`LiveWindow::is_ready`]. The media playlist is named `media-I-T.m3u8` by the
/// number of the stream and its target duration: another stream and another target duration are another playlist.
#[must_use]
pub fn master_playlist(window: &LiveWindow) -> Option<String> {
    let newest = window.newest().filter(|_| window.is_ready())?;
    let (peak, average) = (window.peak_rate(), window.average_rate());
    let (init, rate) = (&newest.init, Millis(frames_per_second(window, newest)));
    let mut text = format!("#EXTM3U\n#EXT-X-VERSION:{VERSION}\n#EXT-X-INDEPENDENT-SEGMENTS\n");
    let _written = writeln!(
        text,
        "#EXT-X-STREAM-INF:BANDWIDTH={peak},AVERAGE-BANDWIDTH={average},CODECS=\"{}\",RESOLUTION={}x{},FRAME-RATE={rate}",
        init.codecs, init.width, init.height
    );
    let _written = writeln!(text, "media-{}-{}.m3u8", window.id(), window.target_s());
    Some(text)
}

/// Returns the media playlist; `None` before [`LiveWindow::is_ready`]. Segments are named `segment-N.m4s`, and initialization
/// sections `init-N.mp4`.
#[must_use]
pub fn media_playlist(window: &LiveWindow) -> Option<String> {
    let first = window.listed().next().filter(|_| window.is_ready())?;
    let mut text = format!(
        "#EXTM3U\n#EXT-X-VERSION:{VERSION}\n#EXT-X-TARGETDURATION:{}\n#EXT-X-MEDIA-SEQUENCE:{}\n\
         #EXT-X-DISCONTINUITY-SEQUENCE:{}\n#EXT-X-INDEPENDENT-SEGMENTS\n",
        window.target_s(),
        first.number,
        window.discontinuity_sequence(),
    );
    let mut init = None;
    for segment in window.listed() {
        if segment.is_discontinuous {
            text.push_str("#EXT-X-DISCONTINUITY\n");
        }
        if init != Some(segment.init.number) {
            init = Some(segment.init.number);
            let _written = writeln!(text, "#EXT-X-MAP:URI=\"init-{}.mp4\"", segment.init.number);
        }
        put_segment(&mut text, segment);
    }
    if window.is_ended() {
        text.push_str("#EXT-X-ENDLIST\n");
    }
    Some(text)
}

fn put_segment(text: &mut String, segment: &Segment) {
    if let Ok(begins) = jiff::Timestamp::from_millisecond(segment.begins_ms) {
        let _written = writeln!(text, "#EXT-X-PROGRAM-DATE-TIME:{begins:.3}");
    }
    // Durations are written exactly enough that their sum does not drift.
    let micros = crate::ticks::to_micros(segment.ticks);
    let _written = writeln!(text, "#EXTINF:{}.{:06},", micros / 1_000_000, micros % 1_000_000);
    let _written = writeln!(text, "segment-{}.m4s", segment.number);
}

/// Returns the frame rate of the segments with the newest headers, in thousandths.
fn frames_per_second(window: &LiveWindow, newest: &Segment) -> i64 {
    let same = window.listed().filter(|segment| segment.init == newest.init);
    let (frames, ticks) = same.fold((0_i64, 0_i64), |(frames, ticks), segment| {
        (frames + i64::from(segment.frames), ticks + segment.ticks)
    });
    frames.saturating_mul(TICKS_PER_SECOND).saturating_mul(1_000) / ticks.max(1)
}

/// Number in thousandths, written with three decimals.
struct Millis(i64);

impl std::fmt::Display for Millis {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}.{:03}", self.0 / 1_000, self.0 % 1_000)
    }
}
