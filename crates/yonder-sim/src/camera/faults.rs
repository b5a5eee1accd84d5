//! Faults and variants of a stand-in camera, which can be changed while it runs.

use std::sync::Arc;
use std::time::Duration;

use crate::media::LoopMedia;

/// Authentication scheme.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum SignIn {
    /// Digest with MD5 and without `qop` (RFC 2617).
    #[default]
    Digest,
    /// Digest with MD5 and `qop=auth`.
    DigestQop,
    /// Digest with SHA-256 (RFC 7616).
    DigestSha256,
    /// Basic.
    Basic,
    /// All schemes are offered.
    Everything,
}

/// Supported RTP transports.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Transports {
    /// Interleaved and datagrams.
    #[default]
    Both,
    /// Interleaved only.
    TcpOnly,
    /// Datagrams only.
    UdpOnly,
}

/// Packets with the marker bit.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Marker {
    /// The last packet of each frame.
    #[default]
    Right,
    /// No packet.
    Missing,
    /// The last packet of each slice.
    EverySlice,
}

/// Deviations of the session description.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
#[expect(clippy::struct_excessive_bools, reason = "each is an oddity of its own")]
pub struct Description {
    /// Lines end with LF alone.
    pub bare_line_ends: bool,
    /// Parameter sets come in-band only.
    pub no_parameter_sets: bool,
    /// A comma follows the last parameter set.
    pub trailing_comma: bool,
    /// Control addresses are absolute, with a query.
    pub absolute_controls: bool,
    /// A metadata track and a second audio track are offered as well.
    pub extra_tracks: bool,
    /// The response has no base address.
    pub no_base: bool,
    /// G.711 is offered by its static payload type alone.
    pub static_types: bool,
}

/// Deviations from the standards that occur in firmware and that a receiver has to tolerate.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
#[expect(clippy::struct_excessive_bools, reason = "each is an oddity of its own")]
pub struct Oddities {
    /// A payload of a reserved type precedes each frame.
    pub vendor_units: bool,
    /// The last fragment of a NAL unit is not marked.
    pub no_end_marks: bool,
    /// NAL units that fit one packet begin with a start code.
    pub start_codes: bool,
    /// Stray bytes between interleaved frames.
    pub stray_bytes: bool,
    /// Padding bit with a count of zero at the end of the payload.
    pub empty_padding: bool,
    /// Keep-alives are answered 401, with or without credentials.
    pub refused_keep_alives: bool,
    /// Responses have a line that is no header field, and a value that is not UTF-8.
    pub odd_heads: bool,
    /// OPTIONS is not answered.
    pub silent_options: bool,
    /// PLAY with a `Range` is refused.
    pub no_range: bool,
    /// Packets have another payload type than the description names.
    pub other_payload_type: bool,
    /// Every frame is sent in a payload format that is not supported (MTAP).
    pub unreadable: bool,
}

/// Network impairment of datagrams, in thousandths.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Impairment {
    /// Lost.
    pub loss_permille: u16,
    /// Delivered after the next one.
    pub reorder_permille: u16,
    /// Delivered twice.
    pub duplicate_permille: u16,
}

/// Faults and variants of a camera.
#[derive(Debug, Clone, Default)]
#[expect(clippy::struct_excessive_bools, reason = "each is a fault of its own")]
pub struct CameraFaults {
    /// Authentication.
    pub sign_in: SignIn,
    /// Number of requests after which a nonce is stale.
    pub stale_after: Option<u32>,
    /// Transports.
    pub transports: Transports,
    /// Maximum number of sessions; further ones are refused with 453.
    pub max_viewers: Option<usize>,
    /// Session description.
    pub description: Description,
    /// Deviations from the standards.
    pub oddities: Oddities,
    /// Marker bits.
    pub marker: Marker,
    /// AAC is sent as LATM.
    pub latm: bool,
    /// Datagrams.
    pub impairment: Impairment,
    /// `GET_PARAMETER` is refused.
    pub no_get_parameter: bool,
    /// Session timeout in seconds.
    pub timeout_s: Option<u32>,
    /// The camera sends OPTIONS requests.
    pub asks_back: bool,
    /// DESCRIBE is answered with this status and reason phrase.
    pub refuses: Option<(u16, String)>,
    /// DESCRIBE is answered with a redirect to this address.
    pub redirects_to: Option<String>,
    /// No media is sent, and requests are not answered.
    pub frozen: bool,
    /// Keyframes are left out.
    pub no_keyframes: bool,
    /// Keyframes are delayed by this time, together with the frames after them, like large frames on a slow line.
    pub keyframe_delay: Duration,
    /// Sender reports carry an NTP time of zero, and those of audio and video are sent at different times, as by a camera
    /// without a clock (RFC 3550, 6.4.1).
    pub ntp_zero: bool,
    /// Clock drift, in parts per million.
    pub drift_ppm: i32,
    /// Media in place of the stream's own.
    pub shows: Option<Arc<LoopMedia>>,
    /// Jump of RTP timestamps, in ticks of 1/90 000 s, whenever the counter changes.
    pub time_jump: (u32, i64),
    /// Whenever it changes, SSRCs and sequence numbers restart.
    pub new_source: u32,
    /// Whenever it changes, random bytes are sent.
    pub garbage: u32,
    /// Whenever it changes, an RTCP BYE is sent.
    pub goodbye: u32,
}
