//! One rendition of a feed, with its supervision and statistics.

use std::collections::VecDeque;
use std::sync::Arc;
use std::task::Poll;
use std::time::Duration;

use yonder_codec::{AudioTarget, RenditionTarget, VideoTarget};
use yonder_core::rendition::{AudioSource, PathSample, RateController, Rendition};
use yonder_core::{Cause, RenditionMachine, RenditionState};
use yonder_media::{Frame, PerTrack, Track};

use crate::feed::{FeedSignal, FeedStats, GopCache};
use crate::view::RenditionView;

use super::RenditionContext;
use super::worker::{Queued, Worker, WorkerEvent};

/// Ticks over which processor time is averaged.
const CPU_TICKS: usize = 5;

/// Counts of a rendition since its first start.
#[derive(Debug, Clone, Copy, Default)]
struct Counts {
    frames_in: u64,
    frames_out: u64,
    skipped: u64,
}

/// Rendition of a feed.
#[derive(Debug)]
pub(crate) struct RenditionStage {
    pub(crate) rendition: Rendition,
    /// Number of pushes that use it.
    pub(crate) shared_by: u32,
    /// Statistics of the stream that is made.
    pub(crate) stats: FeedStats,
    /// State of the rendition for its pushes.
    pub(crate) signal: FeedSignal,
    /// Cause while frames are skipped.
    pub(crate) overload: Option<Cause>,
    /// Frames since the last keyframe, for outputs that join.
    pub(crate) gop: GopCache,
    /// Name of the feed, for the log.
    feed: String,
    machine: RenditionMachine,
    worker: Option<Worker>,
    /// Decoding times of the last frames made.
    last: PerTrack<Option<i64>>,
    counts: Counts,
    /// The feed has audio.
    has_audio: bool,
    /// Bit rate of the video, while one push uses it.
    rate: Option<RateController>,
    /// Processor time at the last ticks.
    cpu: VecDeque<(Duration, Duration)>,
}

impl RenditionStage {
    pub(super) fn new(rendition: Rendition, feed: &str, now: Duration) -> Self {
        Self {
            rendition,
            shared_by: 0,
            stats: FeedStats::default(),
            signal: FeedSignal::default(),
            overload: None,
            gop: GopCache::default(),
            feed: feed.to_owned(),
            machine: RenditionMachine::new(rand::random(), now),
            worker: None,
            last: PerTrack::default(),
            counts: Counts::default(),
            has_audio: false,
            rate: rendition.video.map(|video| RateController::new(video.kbps)),
            cpu: VecDeque::new(),
        }
    }

    /// Sets the number of pushes that use it. The bit rate follows the network path of a single push only: with more of them
    /// it is the planned one.
    pub(super) fn set_shared_by(&mut self, count: u32) {
        self.shared_by = count;
        let planned = self.rendition.video.map(|video| video.kbps);
        if count > 1
            && let (Some(kbps), Some(worker)) = (planned, &self.worker)
            && self.rate.as_ref().is_some_and(|rate| rate.kbps() != kbps)
            && worker.set_video_kbps(kbps)
        {
            self.rate = Some(RateController::new(kbps));
        }
    }

    /// Returns the time of the next start; `None` while it runs.
    pub(super) fn start_at(&self) -> Option<Duration> {
        self.machine.start_at()
    }

    /// Passes a frame of the feed to the thread.
    pub(super) fn push(&mut self, frame: &Arc<Frame>, now: Duration) {
        self.has_audio = frame.headers.audio.is_some();
        let Some(worker) = &mut self.worker else { return };
        let is_video = u64::from(frame.unit.track == Track::Video);
        match worker.push(frame, now) {
            Queued::Yes => self.counts.frames_in += is_video,
            Queued::Skipped => {
                self.counts.skipped += is_video;
                self.machine.on_skipped(now);
            }
        }
    }

    /// Starts the thread if due, and adds the frames that it has made to `made`. Returns true if the state has changed.
    pub(super) fn poll(
        &mut self,
        context: &mut RenditionContext<'_, '_>,
        made: &mut Vec<(Rendition, Arc<Frame>)>,
    ) -> bool {
        let now = context.now;
        if self.machine.start_at().is_some_and(|at| now >= at) {
            self.start(context);
        }
        self.take_events(context, made);
        if context.is_tick {
            self.machine.on_tick(now);
            if let Some(worker) = &self.worker {
                self.cpu.push_back((now, worker.cpu_time()));
                if self.cpu.len() > CPU_TICKS {
                    self.cpu.pop_front();
                }
            }
        }
        self.update_signal(context.signal)
    }

    /// Starts the thread with the feed's present GOP.
    fn start(&mut self, context: &RenditionContext<'_, '_>) {
        self.cpu.clear();
        self.rate = self.rendition.video.map(|video| RateController::new(video.kbps));
        match Worker::start(target(&self.rendition)) {
            Ok(mut worker) => {
                self.machine.on_started(context.now);
                // The last frames of an absent feed are outdated, and encoded video continues at a keyframe.
                let is_continued = self.rendition.video.is_some() && self.last.video.is_some();
                let gop = context.gop.iter().filter(|_| context.signal.flows && !is_continued);
                worker.start_with(gop, context.now);
                self.worker = Some(worker);
                tracing::info!(feed = self.feed, rendition = %self.rendition, "rendition started");
            }
            Err(error) => self.fail(&format!("its thread cannot be started ({error})"), context.now),
        }
    }

    fn take_events(
        &mut self,
        context: &mut RenditionContext<'_, '_>,
        made: &mut Vec<(Rendition, Arc<Frame>)>,
    ) {
        while let Some(worker) = &mut self.worker {
            let event = match worker.poll_event(context.task) {
                Poll::Pending => return,
                Poll::Ready(event) => event,
            };
            match event {
                Some(WorkerEvent::Frame(frame)) => {
                    let last = self.last.get_mut(frame.unit.track);
                    // After a restart the thread makes the last frames again.
                    if last.is_none_or(|last| last < frame.unit.dts) {
                        *last = Some(frame.unit.dts);
                        self.count(&frame, context.now);
                        made.push((self.rendition, frame));
                    }
                }
                Some(WorkerEvent::Failed(reason)) => self.fail(&reason, context.now),
                None => self.fail("its thread has ended", context.now),
            }
        }
    }

    fn count(&mut self, frame: &Arc<Frame>, now: Duration) {
        self.counts.frames_out += u64::from(frame.unit.track == Track::Video);
        self.stats.set_headers(Arc::clone(&frame.headers));
        self.stats.add_bytes(frame.unit.payload.len(), now);
        self.stats.add_unit(&frame.unit, now);
        self.gop.push(frame);
    }

    fn fail(&mut self, reason: &str, now: Duration) {
        tracing::error!(feed = self.feed, rendition = %self.rendition, reason, "rendition failed");
        self.worker = None;
        self.machine.on_failed(reason, now);
    }

    /// Updates the state for the pushes. Returns true if it has changed.
    fn update_signal(&mut self, feed: &FeedSignal) -> bool {
        let signal = match (self.machine.state(), self.machine.cause()) {
            (RenditionState::Stopped { .. }, Some(cause)) if feed.flows => {
                FeedSignal { flows: false, cause: Some(cause.clone()) }
            }
            _ => feed.clone(),
        };
        let is_overloaded = self.machine.state() == RenditionState::Overloaded;
        let overload = self.machine.cause().filter(|_| is_overloaded).cloned();
        let is_changed = self.signal != signal || self.overload != overload;
        (self.signal, self.overload) = (signal, overload);
        is_changed
    }

    /// Adapts the bit rate of the video to the network path of the only push.
    pub(crate) fn follow_path(&mut self, sample: PathSample, now: Duration) {
        let (Some(rate), Some(worker)) = (&mut self.rate, &self.worker) else { return };
        if rate.update(sample, now) {
            let kbps = rate.kbps();
            if worker.set_video_kbps(kbps) {
                tracing::info!(feed = self.feed, rendition = %self.rendition, kbps, "bit rate changed");
            }
        }
    }

    /// Returns the view of the rendition.
    pub(super) fn view(&self) -> RenditionView {
        let cores = match (self.cpu.front(), self.cpu.back()) {
            (Some((from, before)), Some((until, after))) if until > from => {
                after.saturating_sub(*before).as_secs_f64() / until.saturating_sub(*from).as_secs_f64()
            }
            _ => 0.0,
        };
        RenditionView {
            rendition: self.rendition,
            audio_source: AudioSource::of(self.has_audio),
            video_kbps: self.rate.as_ref().map(RateController::kbps),
            shared_by: self.shared_by,
            cpu_cores: cores,
            frames_in: self.counts.frames_in,
            frames_out: self.counts.frames_out,
            skipped: self.counts.skipped,
            restarts: self.machine.restarts(),
        }
    }

    /// Makes the thread do nothing for some time, for tests.
    #[cfg(debug_assertions)]
    pub(super) fn stall(&self, time: Duration) {
        if let Some(worker) = &self.worker {
            worker.stall(time);
        }
    }

    /// Makes the thread panic, for tests.
    #[cfg(debug_assertions)]
    pub(super) fn panic_next(&self) {
        if let Some(worker) = &self.worker {
            worker.panic_next();
        }
    }
}

/// Returns the parameters of the encoders.
fn target(rendition: &Rendition) -> RenditionTarget {
    let audio = rendition.audio.map(|audio| AudioTarget {
        sample_rate: audio.rate_hz,
        channels: u8::try_from(audio.channels).unwrap_or(u8::MAX),
        kbps: audio.kbps,
    });
    let video = rendition.video.map(|video| VideoTarget {
        width: video.width,
        height: video.height,
        frame_divisor: video.frame_divisor,
        fps: video.fps,
        kbps: video.kbps,
        keyframe_interval_s: video.keyframe_interval_s,
    });
    RenditionTarget { video, audio }
}
