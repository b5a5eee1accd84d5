//! How a stand-in platform behaves, and misbehaves. Everything can be changed while it runs.

use std::time::Duration;

use crate::camera::Weather;

/// Steps of an RTMP dialogue at which a platform may fall silent.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Stage {
    /// Before its half of the handshake.
    Greeting,
    /// When it is asked for the application.
    Connect,
    /// When it is given the key.
    Publish,
}

/// What a platform takes. What is not limited is taken as it comes.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Limits {
    /// Lines of the picture, at most.
    pub lines: Option<u32>,
    /// Kilobits per second, at most.
    pub kbps: Option<u64>,
    /// It takes H.264 only.
    pub h264_only: bool,
    /// It wants sound.
    pub needs_sound: bool,
}

/// How a platform behaves. Counters are events: each increase happens once.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct PlatformManners {
    /// Reads nothing, with connections open.
    pub frozen: bool,
    /// Bytes per second that it reads of each publisher.
    pub slow: Option<u32>,
    /// Says nothing from this step on.
    pub silent_from: Option<Stage>,
    /// Resets all connections.
    pub resets: u64,
    /// Resets each connection after about so long.
    pub flaky: Option<Duration>,
    /// Ends all broadcasts, with these words.
    pub ends: (u64, String),
    /// After a drop the key stays in use for so long.
    pub busy_after_drop: Duration,
    /// Refuses every application with these words.
    pub refuses_app: Option<String>,
    /// Refers every application to this address.
    pub redirects_to: Option<String>,
    /// Asks all publishers to connect again, at this address where there is one.
    pub reconnects: (u64, Option<String>),
    /// Video codecs of Enhanced RTMP that it announces.
    pub announces: Vec<String>,
    /// Refuses every key with these words.
    pub refuses_key: Option<String>,
    /// What it takes.
    pub limits: Limits,
    /// Ends a broadcast for which nothing came for so long; before that, a publisher who comes back goes on with it.
    pub grace: Option<Duration>,
    /// A key is good for one broadcast.
    pub one_broadcast_keys: bool,
    /// What happens to datagrams, both ways.
    pub weather: Weather,
    /// Forgets its SRT connections.
    pub forgets: u64,
}
