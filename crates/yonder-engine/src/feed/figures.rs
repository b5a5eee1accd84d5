//! What is measured of a feed.

use std::sync::Arc;
use std::time::Duration;

use yonder_core::{PictureMeter, RateMeter};
use yonder_media::{AccessUnit, StreamHeaders, Track};

use crate::view::{AudioView, VideoView};

/// Figures of one feed.
#[derive(Debug, Default)]
pub(crate) struct FeedFigures {
    pub(crate) connected: bool,
    rate: RateMeter,
    picture: PictureMeter,
    headers: Option<Arc<StreamHeaders>>,
    /// Packets lost in sessions that ended, and in the one that runs.
    lost: (u64, u64),
}

impl FeedFigures {
    pub(crate) fn begin_session(&mut self) {
        self.picture.restart();
        self.lost.0 += std::mem::take(&mut self.lost.1);
        self.connected = true;
    }

    pub(crate) fn add_bytes(&mut self, bytes: usize, now: Duration) {
        self.rate.add(bytes, now);
    }

    pub(crate) fn add_unit(&mut self, unit: &AccessUnit) {
        if unit.track == Track::Video {
            self.picture.add(unit.dts, unit.keyframe);
        }
    }

    pub(crate) fn set_headers(&mut self, headers: Arc<StreamHeaders>) {
        self.headers = Some(headers);
    }

    pub(crate) fn set_session_loss(&mut self, packets: u64) {
        self.lost.1 = packets;
    }

    pub(crate) fn packets_lost(&self) -> u64 {
        self.lost.0 + self.lost.1
    }

    pub(crate) fn video(&mut self, now: Duration) -> Option<VideoView> {
        let facts = self.headers.as_ref()?.video.as_ref()?.facts;
        Some(VideoView {
            codec: "H.264",
            profile: facts.profile_name(),
            level: facts.level,
            width: facts.width,
            height: facts.height,
            fps: self.picture.fps(),
            kbps: self.rate.kbps(now),
            keyframe_interval_s: self.picture.keyframe_interval_s(),
        })
    }

    pub(crate) fn audio(&self) -> Option<AudioView> {
        let facts = self.headers.as_ref()?.audio.as_ref()?.facts;
        Some(AudioView { codec: "AAC", rate_hz: facts.sample_rate, channels: facts.channels })
    }
}
