//! Renditions of a feed: each is made once, on a thread of its own, for all pushes that need it.

mod speed;
mod stage;
mod worker;

use std::sync::Arc;
use std::task::Context;
use std::time::Duration;

use yonder_core::rendition::Rendition;
use yonder_media::Frame;

use crate::feed::FeedSignal;
use crate::view::RenditionView;

pub use speed::codec_speed;
pub(crate) use stage::RenditionStage;

/// Renditions in use.
#[derive(Debug, Default)]
pub(crate) struct Renditions {
    stages: Vec<RenditionStage>,
    /// A state has changed and must be published.
    is_changed: bool,
}

/// State of the feed that its renditions use.
pub(crate) struct RenditionContext<'a, 'w> {
    pub(crate) task: &'a mut Context<'w>,
    pub(crate) now: Duration,
    /// This poll is a tick, with evaluations.
    pub(crate) is_tick: bool,
    pub(crate) signal: &'a FeedSignal,
    /// Frames of the feed since its last keyframe, for renditions that start.
    pub(crate) gop: &'a [Arc<Frame>],
}

impl Renditions {
    /// Starts the renditions that are used by pushes, and ends all others. `used` contains one item for each push.
    pub(crate) fn set_used(&mut self, used: &[Rendition], feed: &str, now: Duration) {
        self.stages.retain(|stage| used.contains(&stage.rendition));
        for rendition in used.iter().filter(|rendition| !rendition.is_original()) {
            if self.get(*rendition).is_none() {
                self.stages.push(RenditionStage::new(*rendition, feed, now));
            }
        }
        for stage in &mut self.stages {
            let count = used.iter().filter(|rendition| **rendition == stage.rendition).count();
            stage.set_shared_by(u32::try_from(count).unwrap_or(u32::MAX));
        }
    }

    /// Returns the stage of a rendition; `None` for the original.
    pub(crate) fn get(&mut self, rendition: Rendition) -> Option<&mut RenditionStage> {
        self.stages.iter_mut().find(|stage| stage.rendition == rendition)
    }

    /// Passes a frame of the feed to all renditions.
    pub(crate) fn push(&mut self, frame: &Arc<Frame>, now: Duration) {
        for stage in &mut self.stages {
            stage.push(frame, now);
        }
    }

    /// Starts what is due, and returns the frames that were made since the last call.
    pub(crate) fn poll(&mut self, context: &mut RenditionContext<'_, '_>) -> Vec<(Rendition, Arc<Frame>)> {
        let mut made = Vec::new();
        for stage in &mut self.stages {
            self.is_changed |= stage.poll(context, &mut made);
        }
        made
    }

    /// Returns the next time at which [`Self::poll`] is due.
    pub(crate) fn poll_timeout(&self) -> Option<Duration> {
        self.stages.iter().filter_map(RenditionStage::start_at).min()
    }

    /// Returns true once something has changed since the last call.
    pub(crate) fn take_change(&mut self) -> bool {
        std::mem::take(&mut self.is_changed)
    }

    /// Returns the view of a rendition; `None` for the original.
    pub(crate) fn view(&self, rendition: Rendition) -> Option<RenditionView> {
        self.stages.iter().find(|stage| stage.rendition == rendition).map(RenditionStage::view)
    }

    /// Returns the views of all renditions.
    pub(crate) fn views(&self) -> Vec<RenditionView> {
        self.stages.iter().map(RenditionStage::view).collect()
    }

    /// Makes the threads do nothing for some time, for tests.
    #[cfg(debug_assertions)]
    pub(crate) fn stall(&mut self, time: Duration) {
        self.stages.iter().for_each(|stage| stage.stall(time));
    }

    /// Makes the thread of the first rendition panic, for tests.
    #[cfg(debug_assertions)]
    pub(crate) fn panic_next(&mut self) {
        if let Some(stage) = self.stages.first_mut() {
            stage.panic_next();
        }
    }
}
