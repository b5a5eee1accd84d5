//! Entry points.

mod camera;
mod platform;

pub(crate) use platform::seeds as platform_seeds;

/// Entry point: a parser of untrusted bytes.
#[derive(Debug, Clone, Copy)]
pub struct Entry {
    /// Name, also of its corpus.
    pub name: &'static str,
    /// Parses the input; must return soon, without a panic, and with bounded memory.
    pub run: fn(&[u8]),
}

/// All entry points.
pub const ENTRIES: [Entry; 15] = [
    Entry { name: "rtsp-dialogue", run: camera::rtsp_dialogue },
    Entry { name: "sdp", run: camera::session_description },
    Entry { name: "rtp-interleaved", run: camera::rtp_interleaved },
    Entry { name: "rtp-datagrams", run: camera::rtp_datagrams },
    Entry { name: "parameter-sets", run: camera::parameter_sets },
    Entry { name: "onvif", run: camera::onvif },
    Entry { name: "amf0", run: platform::amf0 },
    Entry { name: "rtmp-publisher", run: platform::rtmp_publisher },
    Entry { name: "rtmp-receiver", run: platform::rtmp_receiver },
    Entry { name: "srt-handshake", run: platform::srt_handshake },
    Entry { name: "srt-connection", run: platform::srt_connection },
    Entry { name: "transport-stream", run: platform::transport_stream },
    Entry { name: "pasted", run: platform::pasted },
    Entry { name: "ingest-rtmp", run: platform::ingest_rtmp },
    Entry { name: "ingest-srt", run: platform::ingest_srt },
];
