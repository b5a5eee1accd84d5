//! Surveys: a feed's streams are watched for some seconds, side by side, and measured.
//!
//! A stream that runs already is watched where it comes in: cameras serve few viewers, and a survey must not take
//! the place of one.

use std::sync::Arc;
use std::time::Duration;

use tokio::runtime::Handle;
use tokio::sync::{oneshot, watch};
use tokio::time::sleep_until;
use yonder_core::{Advice, Cause, CauseCode, Measured, SurveyMeter, SurveyedStream, advise};
use yonder_media::Track;
use yonder_media::timeline::Timeline;
use yonder_rtsp::Offered;

use crate::clock::Clock;
use crate::feed::{Feed, FeedStep, lock};
use crate::hub::{Cursor, Entry, Taken};
use crate::pull;
use crate::spec::FeedSpec;
use crate::still::{self, Still, StillError};
use crate::tasks::{ClosingTasks, catch_panic};
use crate::view::{AudioView, CauseView, ReceptionView, StepView, VideoView};

/// How long the first picture may take to come.
const FIRST_PICTURE: Duration = Duration::from_secs(20);
/// Shortest and longest time that a survey measures for.
pub const SURVEY_RANGE: (Duration, Duration) = (Duration::from_secs(2), Duration::from_secs(300));

/// What is to be surveyed.
#[derive(Debug, Clone)]
pub struct SurveyRequest {
    /// The main stream.
    pub main: FeedSpec,
    /// The lighter one, where there is one.
    pub sub: Option<FeedSpec>,
    /// How long to measure, once pictures come; held within [`SURVEY_RANGE`].
    pub duration: Duration,
}

/// How a survey goes on.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct SurveyView {
    /// The main stream.
    pub main: StreamView,
    /// The lighter one, where there is one.
    pub sub: Option<StreamView>,
    /// What to make of it, once it is done.
    pub advice: Vec<Advice>,
    /// It is done.
    pub done: bool,
}

/// One stream of a survey.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct StreamView {
    /// Its address.
    pub address: String,
    /// Why it could not be measured.
    pub cause: Option<CauseView>,
    /// Steps of the dial; the last is the first picture.
    pub steps: Vec<StepView>,
    /// It was watched where it runs already.
    pub shared: bool,
    /// `tcp` or `udp`.
    pub transport: Option<&'static str>,
    /// Picture.
    pub video: Option<VideoView>,
    /// Sound.
    pub audio: Option<AudioView>,
    /// Everything the camera offers at this address.
    pub offered: Vec<Offered>,
    /// What was measured.
    pub measured: Option<Measured>,
    /// Packets, by track.
    pub reception: Vec<ReceptionView>,
    /// A picture, or why there is none.
    pub still: Option<Result<Still, StillError>>,
}

/// A stream that is being watched: one that runs, or one that is pulled for this alone.
pub(crate) struct Watched {
    feed: Arc<Feed>,
    /// The pull that was started for this; ended when dropped.
    own: Option<OwnPull>,
}

struct OwnPull {
    feed: Arc<Feed>,
    ended: oneshot::Receiver<Result<(), Cause>>,
}

impl Drop for OwnPull {
    fn drop(&mut self) {
        // The pull hangs up in order; the engine owns its task until then.
        self.feed.set_enabled(false);
    }
}

impl Watched {
    /// Watches a feed that runs.
    pub(crate) fn shared(feed: Arc<Feed>) -> Self {
        Self { feed, own: None }
    }

    /// Pulls a stream for this alone, on a task that `tasks` own. To be called within a tokio runtime.
    pub(crate) fn pulled(spec: FeedSpec, clock: Clock, tasks: &ClosingTasks) -> Self {
        let feed = Feed::new(spec, clock, watch::Sender::new(0));
        feed.set_enabled(true);
        let (done, ended) = oneshot::channel();
        // A feed that was just enabled is to be connected.
        if let FeedStep::Connect(hang_up) = feed.decide() {
            let pulled = Arc::clone(&feed);
            tasks.spawn(&Handle::current(), async move {
                let mut timeline = Timeline::new(Duration::ZERO);
                let outcome = catch_panic(Box::pin(pull::run(&pulled, &mut timeline, hang_up))).await;
                let outcome = outcome.unwrap_or_else(|panic| {
                    tracing::error!(panic, "pull panicked");
                    let message = "The service failed while pulling this stream.";
                    Err(Cause::new(CauseCode::FeedInternal, message))
                });
                // The viewer may have gone first.
                let _unused = done.send(outcome);
            });
        }
        let own = Some(OwnPull { feed: Arc::clone(&feed), ended });
        Self { feed, own }
    }

    /// The clock that the feed is watched by.
    pub(crate) fn now(&self) -> Duration {
        self.feed.clock.now()
    }

    /// Resolves when the pull that was started for this ends; never for one that is shared.
    async fn ended(&mut self) -> Cause {
        let Some(own) = self.own.as_mut() else { return std::future::pending().await };
        match (&mut own.ended).await {
            Ok(Err(cause)) => cause,
            Ok(Ok(())) | Err(_) => Cause::new(CauseCode::FeedClosedByCamera, "The pull was ended."),
        }
    }

    /// The next entries, as they come, until `until`; or why there are no more.
    pub(crate) async fn follow(
        &mut self,
        until: Duration,
        mut take: impl FnMut(Arc<Entry>) -> bool,
    ) -> Option<Cause> {
        let feed = Arc::clone(&self.feed);
        let mut head = feed.hub.head();
        let mut cursor = Cursor::default();
        loop {
            head.mark_unchanged();
            while let Taken::Entry { entry, .. } = feed.hub.take(&mut cursor) {
                if !take(entry) {
                    return None;
                }
            }
            tokio::select! {
                _ = head.changed() => {}
                cause = self.ended() => return Some(cause),
                () = sleep_until(feed.clock.instant(until)) => return None,
            }
        }
    }

    /// The first keyframe that can be had.
    pub(crate) async fn keyframe(&mut self) -> Result<Arc<Entry>, Cause> {
        let until = self.feed.clock.now() + FIRST_PICTURE;
        let mut found = None;
        let ended = self.follow(until, |entry| {
            let wanted = entry.unit.track == Track::Video && entry.unit.keyframe;
            if wanted {
                found = Some(entry);
            }
            !wanted
        });
        let ended = ended.await;
        found.ok_or_else(|| ended.or_else(|| self.feed.cause()).unwrap_or_else(no_picture))
    }
}

fn no_picture() -> Cause {
    let message = format!("No picture came within {} s.", FIRST_PICTURE.as_secs());
    Cause::new(CauseCode::FeedNoKeyframe, message)
}

/// Watches one stream for `duration`, telling `tell` how it looks from time to time.
pub(crate) async fn survey_stream(
    mut watched: Watched,
    duration: Duration,
    tell: impl Fn(StreamView),
) -> StreamView {
    let feed = Arc::clone(&watched.feed);
    let mut view = StreamView {
        address: feed.spec().url.to_string(),
        shared: watched.own.is_none(),
        ..StreamView::default()
    };
    let began = match watched.keyframe().await {
        Ok(entry) => {
            view.still = Some(decode(entry).await);
            feed.clock.now()
        }
        Err(cause) => {
            describe(&feed, &mut view);
            view.cause = Some(CauseView::from(&cause));
            return view;
        }
    };
    // A stream that runs has counted since long before.
    let before = lock(&feed.figures).reception();
    let until = began + duration.clamp(SURVEY_RANGE.0, SURVEY_RANGE.1);
    let mut meter = SurveyMeter::default();
    let mut told = began;
    let ended = watched.follow(until, |entry| {
        let unit = &entry.unit;
        match unit.track {
            Track::Video => meter.add_picture(unit.dts, unit.pts, unit.payload.len(), unit.keyframe),
            Track::Audio => meter.add_sound(unit.dts, unit.payload.len()),
        }
        let now = feed.clock.now();
        if now.saturating_sub(told) >= Duration::from_secs(1) {
            told = now;
            describe(&feed, &mut view);
            view.measured = Some(meter.measured());
            tell(view.clone());
        }
        true
    });
    let ended = ended.await;
    describe(&feed, &mut view);
    if view.shared {
        for (track, before) in view.reception.iter_mut().zip(&before) {
            track.count_from(before);
        }
    }
    view.measured = Some(meter.measured());
    view.cause = ended.as_ref().map(CauseView::from);
    view
}

fn describe(feed: &Feed, view: &mut StreamView) {
    let now = feed.clock.now();
    let mut figures = lock(&feed.figures);
    view.steps = figures.steps();
    view.transport = figures.carrier().map(crate::view::Carrier::word).or(view.transport);
    view.video = figures.video(now);
    view.audio = figures.audio();
    view.offered = figures.offered().to_vec();
    view.reception = figures.reception();
}

/// Decodes a keyframe where that blocks nobody.
pub(crate) async fn decode(entry: Arc<Entry>) -> Result<Still, StillError> {
    let decoded = tokio::task::spawn_blocking(move || still::of_keyframe(&entry)).await;
    decoded.unwrap_or_else(|_| Err(StillError::Undecodable("the decoder failed".to_owned())))
}

/// What to say of the streams.
pub(crate) fn advice(main: &StreamView, sub: Option<&StreamView>) -> Vec<Advice> {
    let sub = sub.and_then(surveyed);
    advise(surveyed(main).as_ref(), sub.as_ref())
}

fn surveyed(view: &StreamView) -> Option<SurveyedStream> {
    let (video, measured) = (view.video.as_ref()?, view.measured?);
    let offered =
        |kind: &str| view.offered.iter().filter(move |track| track.kind == kind).collect::<Vec<_>>();
    let declared = offered("video").iter().find_map(|track| track.frame_rate);
    let left = offered("audio").into_iter().filter(|track| !track.carried);
    let received = view.reception.iter().map(|track| track.received).sum();
    let lost = view.reception.iter().map(|track| track.lost).sum();
    Some(SurveyedStream {
        codec: video.codec.to_owned(),
        width: video.width,
        height: video.height,
        declared_fps: video.declared_fps.or(declared),
        measured,
        audio: view.audio.as_ref().map(|audio| audio.codec.to_owned()),
        audio_left: left.map(|track| track.encoding.clone()).collect(),
        transport: view.transport.unwrap_or_default().to_owned(),
        packets: (received, lost),
        drift_ppm: view.reception.first().and_then(|track| track.drift_ppm),
    })
}
