//! Faults and limits of a stand-in platform, which can be changed while it runs.

use std::time::Duration;

use crate::camera::Impairment;

/// Steps of an RTMP dialogue at which a platform may stop responding.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Stage {
    /// Before its part of the handshake.
    Handshake,
    /// At `connect`.
    Connect,
    /// At `publish`.
    Publish,
}

/// Limits of the streams that a platform accepts.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Limits {
    /// Maximum video height, in lines.
    pub lines: Option<u32>,
    /// Maximum bit rate, in kilobits per second.
    pub kbps: Option<u64>,
    /// Accepts H.264 only.
    pub h264_only: bool,
    /// Requires audio.
    pub needs_audio: bool,
}

/// Faults and limits of a platform. Counters are events: each increase takes effect once.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct PlatformFaults {
    /// Stops reading, with connections open.
    pub frozen: bool,
    /// Bytes per second read from each publisher.
    pub slow: Option<u32>,
    /// Stops responding at this step.
    pub silent_from: Option<Stage>,
    /// Resets all connections.
    pub resets: u64,
    /// Resets each connection after about this time.
    pub flaky: Option<Duration>,
    /// Ends all broadcasts, with this description.
    pub ends: (u64, String),
    /// Time for which a stream key stays in use after a dropped connection.
    pub busy_after_drop: Duration,
    /// Refuses every application, with this description.
    pub refuses_app: Option<String>,
    /// Redirects every `connect` to this address.
    pub redirects_to: Option<String>,
    /// Requests a reconnect of all publishers, to this address if given.
    pub reconnects: (u64, Option<String>),
    /// Enhanced RTMP video codecs that are announced.
    pub announces: Vec<String>,
    /// Refuses every stream key, with this description.
    pub refuses_key: Option<String>,
    /// Limits of the streams that are accepted.
    pub limits: Limits,
    /// Grace period after which a silent broadcast ends; a publisher that returns within it continues the broadcast.
    pub grace: Option<Duration>,
    /// A stream key is valid for one broadcast.
    pub one_broadcast_keys: bool,
    /// Impairment of datagrams, in both directions.
    pub impairment: Impairment,
    /// Drops the state of its SRT connections.
    pub forgets: u64,
}
