//! HTTP Live Streaming (RFC 8216) with fragmented MP4: a [`Packager`] makes segments of the units of an output, a
//! [`LiveWindow`] keeps the latest of them, and playlists are written from it.
//!
//! ```text
//!  unit ──> Packager ──> Segment ──> LiveWindow ──> master_playlist, media_playlist
//!              │ cuts at a keyframe once the segment is long enough,
//!              │ at a gap of the video, and at a change of the headers
//! ```
//!
//! Media sequence numbers begin at a value of the caller's choice. With one that rises with every start, such as the time in
//! seconds, a number is never used for another segment. Discontinuity sequence numbers begin at zero: players have arrays of
//! them. A restart is therefore another playlist, with a name of its own, which viewers find in the master playlist.

mod packager;
mod playlist;
mod segment;
mod window;

#[cfg(test)]
mod tests;

pub use packager::{Packager, PackagerConfig};
pub use playlist::{PLAYLIST_TYPE, master_playlist, media_playlist};
pub use segment::{InitSection, Segment};
pub use window::LiveWindow;
