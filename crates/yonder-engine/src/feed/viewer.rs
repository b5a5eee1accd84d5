//! Subscriber of a feed on another thread.

use std::sync::Arc;

use tokio::sync::mpsc;
use yonder_media::Frame;

/// Subscriber on another thread.
#[derive(Debug)]
pub(super) struct Viewer {
    pub(super) frames: mpsc::Sender<Arc<Frame>>,
    /// Frames are skipped up to the next keyframe: the viewer was too slow, or the feed was absent when it subscribed.
    pub(super) skips: bool,
}

impl Viewer {
    /// Sends a frame. Returns false if the viewer has disconnected.
    pub(super) fn send(&mut self, frame: &Arc<Frame>) -> bool {
        if self.skips && !frame.is_keyframe() {
            return !self.frames.is_closed();
        }
        match self.frames.try_send(Arc::clone(frame)) {
            Ok(()) => {
                self.skips = false;
                true
            }
            Err(mpsc::error::TrySendError::Full(_)) => {
                self.skips = true;
                true
            }
            Err(mpsc::error::TrySendError::Closed(_)) => false,
        }
    }
}
