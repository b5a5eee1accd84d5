//! Live preview: frames of a feed as fragmented MP4 for a browser. A feed that does not run is pulled while it has viewers.

use std::pin::pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use bytes::Bytes;
use tokio::sync::mpsc;
use tokio::time::{Instant, interval_at};
use yonder_media::fmp4::{self, Fragmenter};
use yonder_media::{AudioConfig, Frame, StreamHeaders, Track};

use crate::lease::FeedLease;
use crate::view::CauseView;

/// Maximum duration of a preview, so that a forgotten page does not occupy a camera.
const LONGEST: Duration = Duration::from_secs(15 * 60);
/// How long a viewer waits for an absent feed: longer than the interval between two dials.
const ABSENCE_TIMEOUT: Duration = Duration::from_secs(6);

/// Message to a viewer.
#[derive(Debug, Clone, PartialEq)]
pub enum PreviewMessage {
    /// MIME type of the following segments; an initialization segment follows.
    Type(String),
    /// A segment.
    Segment(Bytes),
    /// End, with its cause; `None` at the maximum duration.
    Ended(Option<CauseView>),
}

/// Sends segments to `viewer` until it disconnects or the stream ends. A viewer that is too slow skips to the next
/// keyframe. A viewer of an absent feed gets its cause after [`ABSENCE_TIMEOUT`].
pub(crate) async fn run(lease: FeedLease, viewer: mpsc::Sender<PreviewMessage>) {
    let mut preview =
        Preview { viewer: viewer.clone(), headers: None, fragments: Fragmenter::default(), skips: false };
    let has_begun = AtomicBool::new(false);
    let until = lease.now() + LONGEST;
    let mut followed = pin!(lease.follow(until, |frame| {
        has_begun.store(true, Ordering::Relaxed);
        preview.take(&frame)
    }));
    let mut checks = interval_at(Instant::now() + ABSENCE_TIMEOUT, ABSENCE_TIMEOUT);
    let ended: Option<CauseView> = loop {
        tokio::select! {
            ended = &mut followed => break ended,
            () = viewer.closed() => return,
            _ = checks.tick() => {
                let absence = lease.absence().filter(|_| !has_begun.load(Ordering::Relaxed));
                if absence.is_some() {
                    break absence;
                }
            }
        }
    };
    // The viewer may have closed its channel.
    let _sent = viewer.send(PreviewMessage::Ended(ended)).await;
}

struct Preview {
    viewer: mpsc::Sender<PreviewMessage>,
    headers: Option<Arc<StreamHeaders>>,
    fragments: Fragmenter,
    /// The viewer was too slow: frames are skipped up to the next keyframe.
    skips: bool,
}

impl Preview {
    /// Handles a frame. Returns false if the viewer has disconnected.
    fn take(&mut self, frame: &Arc<Frame>) -> bool {
        let begins = frame.unit.track == Track::Video && frame.unit.keyframe;
        if (self.skips || self.headers.is_none()) && !begins {
            return true;
        }
        self.skips = false;
        let known = self.headers.as_ref().is_some_and(|known| Arc::ptr_eq(known, &frame.headers));
        if !known && !self.announce(&frame.headers) {
            return false;
        }
        if frame.unit.track == Track::Audio && !matches!(frame.headers.audio, Some(AudioConfig::Aac { .. })) {
            return true;
        }
        match self.fragments.add(frame) {
            Some(fragment) => self.send(PreviewMessage::Segment(fragment)),
            None => true,
        }
    }

    fn announce(&mut self, headers: &Arc<StreamHeaders>) -> bool {
        let same = self.headers.as_ref().is_some_and(|known| **known == **headers);
        self.headers = Some(Arc::clone(headers));
        let (Some(kind), Some(segment)) = (fmp4::mime_type(headers), fmp4::initialisation(headers)) else {
            return true;
        };
        if same {
            return true;
        }
        self.send(PreviewMessage::Type(kind)) && self.send(PreviewMessage::Segment(segment))
    }

    fn send(&mut self, message: PreviewMessage) -> bool {
        match self.viewer.try_send(message) {
            Ok(()) => true,
            Err(mpsc::error::TrySendError::Full(_)) => {
                self.skips = true;
                // Headers may have been skipped: they are sent again.
                self.headers = None;
                true
            }
            Err(mpsc::error::TrySendError::Closed(_)) => false,
        }
    }
}
