//! Thread of a rendition.

use std::collections::VecDeque;
use std::io;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::task::{Context, Poll};
use std::thread;
use std::time::Duration;

use tokio::sync::mpsc;
use tokio::sync::mpsc::error::TrySendError;
use yonder_codec::{CodecError, RenditionTarget, RenditionTranscoder};
use yonder_media::{Frame, Track};

use super::speed::cpu_time;

/// Maximum frames that wait for the thread: a long GOP, with which it starts.
const MAX_QUEUE: usize = 2_048;

/// Maximum wait of a frame for the thread: a slower one skips frames.
const MAX_WAIT: Duration = Duration::from_secs(4);
/// The same for the GOP with which the thread starts.
const MAX_CATCH_UP: Duration = Duration::from_secs(15);

/// Input of the thread.
enum Input {
    Frame(Arc<Frame>),
    /// Video frame that is not transcoded, since the thread is too slow. Audio continues beyond it.
    Skipped(Arc<Frame>),
    /// Bit rate of the video, in kilobits per second.
    VideoRate(u32),
    /// Panic, for tests.
    #[cfg(debug_assertions)]
    Panic,
    /// Do nothing for some time, for tests.
    #[cfg(debug_assertions)]
    Stall(Duration),
}

/// Output of the thread.
#[derive(Debug)]
pub(super) enum WorkerEvent {
    /// Frame of the rendition.
    Frame(Arc<Frame>),
    /// The thread has ended: the reason, as a part of a sentence.
    Failed(String),
}

/// Result of passing a frame to the thread.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Queued {
    /// The frame was queued.
    Yes,
    /// The frame was skipped, since the thread is too slow.
    Skipped,
}

/// Handle of a rendition's thread, which ends when this is dropped.
#[derive(Debug)]
pub(super) struct Worker {
    input: mpsc::Sender<Input>,
    events: mpsc::UnboundedReceiver<WorkerEvent>,
    progress: Arc<Progress>,
    /// Times at which the queued frames arrived.
    queued: VecDeque<Duration>,
    /// Number of frames that were queued before those.
    done: u64,
    /// Number of frames with which the thread has started.
    first: u64,
    /// Video frames are skipped up to the next keyframe.
    skips: bool,
}

/// Progress of the thread.
#[derive(Debug, Default)]
struct Progress {
    /// Number of frames that were processed.
    frames: AtomicU64,
    /// Processor time in nanoseconds.
    cpu: AtomicU64,
}

impl Worker {
    /// Starts a thread that makes a rendition of a feed.
    ///
    /// # Errors
    /// If the thread cannot be started.
    pub(super) fn start(target: RenditionTarget) -> io::Result<Self> {
        let (input, frames) = mpsc::channel(MAX_QUEUE);
        // Bounded by the input: each frame yields few frames.
        let (reporter, events) = mpsc::unbounded_channel();
        let progress = Arc::<Progress>::default();
        let counter = Arc::clone(&progress);
        thread::Builder::new().name("yonder-rendition".to_owned()).spawn(move || {
            let run = || transcode(frames, &reporter, &counter, target);
            let reason = match catch_unwind(AssertUnwindSafe(run)) {
                Ok(Ok(())) => return,
                Ok(Err(error)) => error.to_string(),
                Err(_) => "its thread has panicked".to_owned(),
            };
            // The feed may have ended.
            let _unused = reporter.send(WorkerEvent::Failed(reason));
        })?;
        Ok(Self { input, events, progress, queued: VecDeque::new(), done: 0, first: 0, skips: false })
    }

    /// Passes the frames since the last keyframe to the thread at its start. They do not count as waiting frames, of which there
    /// may be many at once.
    pub(super) fn start_with<'a>(&mut self, frames: impl Iterator<Item = &'a Arc<Frame>>, now: Duration) {
        for frame in frames {
            self.push(frame, now);
        }
        self.first = self.done + u64::try_from(self.queued.len()).unwrap_or(u64::MAX);
    }

    /// Returns true if the thread is too slow: a frame waits for longer than is allowed.
    fn is_late(&mut self, now: Duration) -> bool {
        let processed = self.progress.frames.load(Ordering::Relaxed);
        while self.done < processed && self.queued.pop_front().is_some() {
            self.done += 1;
        }
        let max = if processed < self.first { MAX_CATCH_UP } else { MAX_WAIT };
        self.queued.front().is_some_and(|arrived| now.saturating_sub(*arrived) > max)
    }

    /// Passes a frame of the feed to the thread. If the thread is too slow, video frames are skipped up to a keyframe. Audio,
    /// whose transcoding costs little, is passed on: a platform may end a connection with a gap in both tracks.
    pub(super) fn push(&mut self, frame: &Arc<Frame>, now: Duration) -> Queued {
        let skips = self.is_late(now) || (self.skips && !frame.is_keyframe());
        let (input, result) = match frame.unit.track {
            Track::Video if skips => (Input::Skipped(Arc::clone(frame)), Queued::Skipped),
            _ => (Input::Frame(Arc::clone(frame)), Queued::Yes),
        };
        if frame.unit.track == Track::Video {
            self.skips = skips;
        }
        match self.input.try_send(input) {
            Ok(()) => self.queued.push_back(now),
            // Its end is an event.
            Err(TrySendError::Closed(_)) => {}
            Err(TrySendError::Full(_)) => {
                self.skips = true;
                return Queued::Skipped;
            }
        }
        result
    }

    /// Changes the bit rate of the video, in kilobits per second. Returns false if the thread is too slow to accept that.
    pub(super) fn set_video_kbps(&self, kbps: u32) -> bool {
        self.input.try_send(Input::VideoRate(kbps)).is_ok()
    }

    /// Returns the next event; `None` after the end of the thread.
    pub(super) fn poll_event(&mut self, task: &mut Context<'_>) -> Poll<Option<WorkerEvent>> {
        self.events.poll_recv(task)
    }

    /// Returns the processor time of the thread.
    pub(super) fn cpu_time(&self) -> Duration {
        Duration::from_nanos(self.progress.cpu.load(Ordering::Relaxed))
    }

    /// Makes the thread do nothing for some time, for tests.
    #[cfg(debug_assertions)]
    pub(super) fn stall(&self, time: Duration) {
        let _queued = self.input.try_send(Input::Stall(time));
    }

    /// Makes the thread panic, for tests.
    #[cfg(debug_assertions)]
    pub(super) fn panic_next(&self) {
        let _queued = self.input.try_send(Input::Panic);
    }
}

/// Transcodes frames until the owner drops the sender.
fn transcode(
    mut frames: mpsc::Receiver<Input>,
    reporter: &mpsc::UnboundedSender<WorkerEvent>,
    progress: &Progress,
    target: RenditionTarget,
) -> Result<(), CodecError> {
    let mut transcoder = RenditionTranscoder::new(target)?;
    while let Some(input) = frames.blocking_recv() {
        match input {
            Input::Frame(frame) => transcoder.push(&frame)?,
            Input::Skipped(frame) => transcoder.skip(&frame)?,
            Input::VideoRate(kbps) => {
                transcoder.set_video_kbps(kbps)?;
                continue;
            }
            #[cfg(debug_assertions)]
            Input::Stall(time) => {
                thread::sleep(time);
                continue;
            }
            #[cfg(debug_assertions)]
            Input::Panic => panic!("panic requested by a test"),
        }
        while let Some(made) = transcoder.next_frame() {
            if reporter.send(WorkerEvent::Frame(made)).is_err() {
                return Ok(());
            }
        }
        progress.frames.fetch_add(1, Ordering::Relaxed);
        progress.cpu.store(u64::try_from(cpu_time().as_nanos()).unwrap_or(u64::MAX), Ordering::Relaxed);
    }
    Ok(())
}
