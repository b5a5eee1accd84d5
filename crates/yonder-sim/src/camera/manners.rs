//! How a stand-in camera behaves, and misbehaves. Everything can be changed while it runs.

use std::sync::Arc;
use std::time::Duration;

use crate::media::LoopMedia;

/// How it asks who is there.
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
    /// All of them are offered.
    Everything,
}

/// Which transports it serves.
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

/// Where it sets the marker bit.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Marker {
    /// On the last packet of each picture.
    #[default]
    Right,
    /// Nowhere.
    Missing,
    /// On the last packet of each slice.
    EverySlice,
}

/// How its session description is bent.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
#[expect(clippy::struct_excessive_bools, reason = "each is an oddity of its own")]
pub struct Description {
    /// Lines end with LF alone.
    pub bare_line_ends: bool,
    /// Parameter sets come in-band only.
    pub no_parameter_sets: bool,
    /// A comma stands behind the last parameter set.
    pub trailing_comma: bool,
    /// Control addresses are absolute, with a query.
    pub absolute_controls: bool,
    /// A metadata track and a second sound are offered as well.
    pub extra_tracks: bool,
    /// The reply names no base address.
    pub no_base: bool,
    /// G.711 is offered by its static payload type alone.
    pub static_types: bool,
}

/// Deviations from the standards that real firmware has, and that a receiver has to bear.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
#[expect(clippy::struct_excessive_bools, reason = "each is an oddity of its own")]
pub struct Oddities {
    /// A payload of a reserved type stands before each picture.
    pub vendor_units: bool,
    /// The last fragment of a NAL unit is not marked.
    pub no_end_marks: bool,
    /// NAL units that fit one packet have a start code before them.
    pub start_codes: bool,
    /// Bytes of nothing stand between interleaved frames.
    pub stray_bytes: bool,
    /// Padding bit with a count of zero at the end of the payload.
    pub empty_padding: bool,
    /// Keep-alives are answered 401, with or without credentials.
    pub refused_keep_alives: bool,
    /// Replies have a line that is no field, and a name that is not UTF-8.
    pub odd_heads: bool,
    /// OPTIONS is not answered.
    pub silent_options: bool,
    /// PLAY with a `Range` is refused.
    pub no_range: bool,
    /// Packets have another payload type than the description names.
    pub other_payload_type: bool,
    /// Every picture is sent in a form that cannot be read (MTAP).
    pub unreadable: bool,
}

/// What happens to datagrams on the way, in thousandths.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Weather {
    /// Never arrive.
    pub lost: u16,
    /// Arrive after the next one.
    pub reordered: u16,
    /// Arrive twice.
    pub repeated: u16,
}

/// How a camera behaves.
#[derive(Debug, Clone, Default)]
#[expect(clippy::struct_excessive_bools, reason = "each is a fault of its own")]
pub struct Manners {
    /// Sign-in.
    pub sign_in: SignIn,
    /// Nonces are stale after so many requests.
    pub stale_after: Option<u32>,
    /// Transports.
    pub transports: Transports,
    /// Viewers at a time; further ones are told 453.
    pub most_viewers: Option<usize>,
    /// Session description.
    pub description: Description,
    /// Deviations from the standards.
    pub oddities: Oddities,
    /// Marker bits.
    pub marker: Marker,
    /// AAC goes as LATM.
    pub latm: bool,
    /// Datagrams.
    pub weather: Weather,
    /// `GET_PARAMETER` is refused.
    pub no_get_parameter: bool,
    /// Session timeout in seconds.
    pub timeout_s: Option<u32>,
    /// It asks its viewers for their options now and then.
    pub asks_back: bool,
    /// DESCRIBE is answered with this status and these words.
    pub refuses: Option<(u16, String)>,
    /// DESCRIBE is answered with a redirect to this address.
    pub redirects_to: Option<String>,
    /// No media is sent, and nothing is answered.
    pub frozen: bool,
    /// Keyframes are left out.
    pub no_keyframes: bool,
    /// Keyframes are sent this much after their time, and the frames behind them wait: the effect of a slow line on large
    /// frames.
    pub keyframe_delay: Duration,
    /// Sender reports carry an NTP time of zero, and those of audio and video are sent at different times, as by a camera
    /// without a clock (RFC 3550, 6.4.1).
    pub ntp_zero: bool,
    /// The clock runs fast by so many parts per million.
    pub drift_ppm: i32,
    /// Another picture takes the place of the stream's own.
    pub shows: Option<Arc<LoopMedia>>,
    /// Each change of the number makes RTP time jump by these ticks of 1/90 000 s.
    pub time_jump: (u32, i64),
    /// Each change of the number starts sources and sequence numbers anew.
    pub new_source: u32,
    /// Each change of the number sends bytes that make no sense.
    pub garbage: u32,
    /// Each change of the number says goodbye by RTCP.
    pub goodbye: u32,
}
