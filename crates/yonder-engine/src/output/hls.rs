//! HLS stream of a relay: segments for viewers with browsers, in memory.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::{Duration, SystemTime};

use parking_lot::RwLock;
use tokio::runtime::Handle;
use tokio::sync::watch;
use tokio::time::sleep;
use yonder_media::Frame;
use yonder_media::hls::{LiveWindow, Packager, PackagerConfig, Segment};
use yonder_media::ticks::{TICKS_PER_SECOND, from_millis};
use yonder_media::timeline::Timestamps;

use crate::clock::Clock;

/// Duration from which a segment ends at the next keyframe, in ticks.
const MIN_SEGMENT_TICKS: i64 = from_millis(1_500);
/// Maximum size of a segment, in bytes: ten seconds at 25 Mbit/s.
const MAX_SEGMENT_BYTES: usize = 32 * 1024 * 1024;
/// Maximum size of all segments of a stream, in bytes.
const MAX_WINDOW_BYTES: usize = 64 * 1024 * 1024;

/// Time for which the last segments of a stream are available after its end.
const KEEP_ENDED: Duration = Duration::from_secs(60);

/// HLS streams by relay. Clones share them.
#[derive(Debug, Clone, Default)]
pub(crate) struct HlsStreams(Arc<RwLock<HashMap<String, watch::Receiver<Arc<LiveWindow>>>>>);

impl HlsStreams {
    /// Returns the stream of a relay; also one that has ended, until it is removed.
    pub(crate) fn get(&self, relay: &str) -> Option<watch::Receiver<Arc<LiveWindow>>> {
        self.0.read().get(relay).cloned()
    }

    /// Removes the stream of a stopped relay once its viewers have fetched the last segments, unless it has begun again.
    pub(crate) fn remove_later(&self, relay: &str, runtime: &Handle) {
        let (streams, relay) = (self.clone(), relay.to_owned());
        if self.get(&relay).is_none() {
            return;
        }
        runtime.spawn(async move {
            sleep(KEEP_ENDED).await;
            let mut streams = streams.0.write();
            if streams.get(&relay).is_some_and(|stream| stream.borrow().is_ended()) {
                streams.remove(&relay);
            }
        });
    }

    fn begin(&self, relay: &str, window: LiveWindow) -> watch::Sender<Arc<LiveWindow>> {
        let (sender, receiver) = watch::channel(Arc::new(window));
        self.0.write().insert(relay.to_owned(), receiver);
        sender
    }
}

/// HLS stream of an output. Dropping it ends the stream.
#[derive(Debug)]
pub(crate) struct HlsOutput {
    clock: Clock,
    packager: Packager,
    window: LiveWindow,
    published: watch::Sender<Arc<LiveWindow>>,
}

impl HlsOutput {
    /// Begins the stream of a relay.
    pub(crate) fn begin(relay: &str, clock: Clock, streams: &HlsStreams) -> Self {
        // Rises with every start, faster than segments are made.
        let now = clock.wall(clock.now()).duration_since(SystemTime::UNIX_EPOCH);
        let first_number = now.map_or(0, |now| now.as_secs());
        let config =
            PackagerConfig { first_number, min_ticks: MIN_SEGMENT_TICKS, max_bytes: MAX_SEGMENT_BYTES };
        let window = LiveWindow::new(first_number);
        let published = streams.begin(relay, window.clone());
        Self { clock, packager: Packager::new(config), window, published }
    }

    /// Handles a frame with its timestamps on the output.
    pub(super) fn handle_frame(&mut self, frame: &Frame, times: Timestamps) {
        let clock = self.clock;
        let made =
            self.packager.handle_unit(&frame.unit, times, &frame.headers, |ticks| wall_ms(clock, ticks));
        self.publish(made);
    }

    /// Ends the open segment: the frames that follow have the timestamps of another output.
    pub(crate) fn cut(&mut self) {
        let made = self.packager.cut();
        self.publish(made);
    }

    fn publish(&mut self, segment: Option<Segment>) {
        if let Some(segment) = segment {
            self.window.push(segment, MAX_WINDOW_BYTES);
            self.published.send_replace(Arc::new(self.window.clone()));
        }
    }
}

impl Drop for HlsOutput {
    fn drop(&mut self) {
        self.cut();
        self.window.end();
        self.published.send_replace(Arc::new(self.window.clone()));
    }
}

/// Returns the wall time of a time on the output, in milliseconds since 1970.
fn wall_ms(clock: Clock, ticks: i64) -> i64 {
    let wall = clock.wall(clock.time_of(ticks)).duration_since(SystemTime::UNIX_EPOCH);
    wall.map_or(0, |wall| i64::try_from(wall.as_millis()).unwrap_or(i64::MAX))
}

const _: () = assert!(MIN_SEGMENT_TICKS < 2 * TICKS_PER_SECOND, "below the minimum target duration");
