//! Streams of running feeds, as they were last received: renditions are chosen by them after a restart, before the camera
//! is back.

use yonder_core::FeedPhase;
use yonder_core::SourceKind;
use yonder_core::preflight::FeedFacts;
use yonder_core::{MeasuredAudio, MeasuredVideo};
use yonder_engine::FeedView;

use super::History;
use yonder_records::ServiceError;

impl History {
    /// Stores the streams of flowing feeds that differ from the last measurement.
    ///
    /// # Errors
    /// If the records cannot be read or written.
    pub(super) fn note_streams(&self) -> Result<(), ServiceError> {
        let (_, feeds) = self.engine.running();
        for facts in feeds.iter().filter(|feed| feed.state == FeedPhase::Flowing).filter_map(facts) {
            let mut noted = self.noted_streams.lock();
            if noted.get(&facts.name).is_some_and(|noted| noted.is_same_stream(&facts)) {
                continue;
            }
            let stored = self.records.store.feed(&facts.name)?.measured;
            // A survey has measured more than this.
            if !stored.is_some_and(|stored| stored.is_same_stream(&facts)) {
                self.records.store.set_measured(&facts.name, &facts)?;
            }
            noted.insert(facts.name.clone(), facts);
        }
        Ok(())
    }
}

/// Returns the streams of a feed; `None` before its video is known.
fn facts(feed: &FeedView) -> Option<FeedFacts> {
    let video = feed.video.as_ref()?;
    let video = MeasuredVideo::declared(&video.codec, video.width, video.height, video.declared_fps);
    let audio = feed.audio.as_ref().map(MeasuredAudio::from);
    Some(FeedFacts {
        name: feed.name.clone(),
        source: SourceKind::default(),
        cause: None,
        video: Some(video),
        audio,
    })
}
