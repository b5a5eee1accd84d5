//! Surveys: measurements in the background, whose results are kept for a while.

use std::collections::VecDeque;
use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use tokio::task::AbortHandle;
use yonder_api::{
    DropFacts, MeasuredFacts, NewFeed, NewSurvey, OfferedTrack, RelayEvent, Survey, SurveyAdvice,
    SurveyStream,
};
use yonder_core::DialStep;
use yonder_engine::{FeedSpec, ReceptionView, SURVEY_RANGE, Still, StreamView, SurveyRequest, SurveyView};

use super::Previews;
use crate::error::ServiceError;
use crate::records::unstored_specs;
use crate::sync::lock;
use crate::views;

/// Surveys kept; the oldest goes first.
const KEPT: usize = 32;
/// Surveys under way at a time: each may hold two of a camera's few viewers.
const MAX_RUNNING: usize = 8;
/// Seconds measured where nothing is said.
const DEFAULT_SECONDS: u32 = 10;

/// The surveys of late, oldest first.
#[derive(Debug, Default)]
pub(super) struct Surveys {
    kept: VecDeque<Kept>,
    next: u64,
}

#[derive(Debug)]
struct Kept {
    id: String,
    feed: Option<String>,
    view: SurveyView,
    /// The measurement, while it runs.
    task: Option<AbortHandle>,
}

impl Previews {
    /// Begins a survey.
    ///
    /// # Errors
    /// A feed that is not there, an address or a time that is not usable, or too many surveys under way.
    pub fn begin_survey(self: &Arc<Self>, new: NewSurvey) -> Result<Survey, ServiceError> {
        let duration = read_duration(new.for_s)?;
        let feed = new.feed.clone();
        let (main, sub) = self.survey_specs(new)?;
        let begun = {
            let mut surveys = lock(&self.surveys);
            if surveys.kept.iter().filter(|kept| !kept.view.done).count() >= MAX_RUNNING {
                return Err(ServiceError::TooManySurveys(MAX_RUNNING));
            }
            surveys.next += 1;
            let id = surveys.next.to_string();
            let address =
                |spec: &FeedSpec| StreamView { address: spec.url.to_string(), ..StreamView::default() };
            let view =
                SurveyView { main: address(&main), sub: sub.as_ref().map(address), ..SurveyView::default() };
            let kept = Kept { id, feed, view, task: None };
            let begun = survey(&kept);
            surveys.kept.push_back(kept);
            if surveys.kept.len() > KEPT {
                surveys.kept.pop_front();
            }
            begun
        };
        let (previews, id) = (Arc::clone(self), begun.id.clone());
        let task = self.engine.runtime().spawn(async move {
            let request = SurveyRequest { main, sub, duration };
            previews.engine.survey(request, |view| previews.note_survey(&id, view)).await;
        });
        let mut surveys = lock(&self.surveys);
        if let Some(kept) = surveys.kept.iter_mut().find(|kept| kept.id == begun.id) {
            kept.task = Some(task.abort_handle());
        }
        drop(surveys);
        Ok(begun)
    }

    /// A survey of late.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`].
    pub fn survey(&self, id: &str) -> Result<Survey, ServiceError> {
        let surveys = lock(&self.surveys);
        surveys.kept.iter().find(|kept| kept.id == id).map(survey).ok_or_else(|| not_found(id))
    }

    /// The still picture of one of a survey's streams.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or [`ServiceError::NoStill`] with the reason.
    pub fn survey_still(&self, id: &str, is_sub: bool) -> Result<Bytes, ServiceError> {
        let surveys = lock(&self.surveys);
        let kept = surveys.kept.iter().find(|kept| kept.id == id).ok_or_else(|| not_found(id))?;
        let stream = if is_sub { kept.view.sub.as_ref() } else { Some(&kept.view.main) };
        match stream.and_then(|stream| stream.still.as_ref()) {
            Some(Ok(still)) => Ok(still.jpeg.clone()),
            Some(Err(error)) => Err(ServiceError::NoStill(error.to_string())),
            None => Err(ServiceError::NoStill("no picture has come yet".to_owned())),
        }
    }

    /// Ends a survey early; what it has measured stays.
    ///
    /// # Errors
    /// [`ServiceError::NoSuchSurvey`].
    pub fn cancel_survey(&self, id: &str) -> Result<Survey, ServiceError> {
        let mut surveys = lock(&self.surveys);
        let kept = surveys.kept.iter_mut().find(|kept| kept.id == id).ok_or_else(|| not_found(id))?;
        if let Some(task) = kept.task.take() {
            task.abort();
        }
        kept.view.done = true;
        Ok(survey(kept))
    }

    fn note_survey(&self, id: &str, view: &SurveyView) {
        let mut surveys = lock(&self.surveys);
        let Some(kept) = surveys.kept.iter_mut().find(|kept| kept.id == id) else { return };
        // The picture is decoded once and does not come again with every figure.
        kept.view = view.clone();
        let event = RelayEvent::Survey { survey: Box::new(survey(kept)) };
        self.events.publish(&event);
    }

    fn survey_specs(&self, new: NewSurvey) -> Result<(FeedSpec, Option<FeedSpec>), ServiceError> {
        match (new.feed, new.url) {
            (Some(name), None) => {
                let feed = self.records.store.feed(&name).map_err(|error| self.records.explain(error))?;
                Ok((self.records.dialable_feed_spec(&feed)?, self.records.sub_spec(&feed)?))
            }
            (None, Some(url)) => unstored_specs(NewFeed {
                name: "survey".to_owned(),
                url,
                sub_url: new.sub_url,
                transport: new.transport.unwrap_or_default(),
                user: new.user,
                password: new.password,
                pin: new.pin,
                site: None,
            }),
            (feed, _) => Err(ServiceError::Invalid {
                field: "feed",
                detail: if feed.is_some() {
                    "both a feed and an address are named".to_owned()
                } else {
                    "neither a feed nor an address is named".to_owned()
                },
                hint: "Name a feed that is kept, or give an address.",
            }),
        }
    }
}

fn not_found(id: &str) -> ServiceError {
    ServiceError::NoSuchSurvey(id.to_owned())
}

fn read_duration(seconds: Option<u32>) -> Result<Duration, ServiceError> {
    let duration = Duration::from_secs(u64::from(seconds.unwrap_or(DEFAULT_SECONDS)));
    if duration < SURVEY_RANGE.0 || duration > SURVEY_RANGE.1 {
        return Err(ServiceError::Invalid {
            field: "for_s",
            detail: format!("{} s is not from 2 to 300 s", duration.as_secs()),
            hint: "Ten seconds tell most; sixty tell the clock's drift as well.",
        });
    }
    Ok(duration)
}

fn survey(kept: &Kept) -> Survey {
    let advice = |advice: &yonder_core::Advice| SurveyAdvice {
        code: advice.code.to_owned(),
        about: advice.about.to_owned(),
        message: advice.message.clone(),
    };
    Survey {
        id: kept.id.clone(),
        feed: kept.feed.clone(),
        done: kept.view.done,
        main: stream(&kept.view.main),
        sub: kept.view.sub.as_ref().map(stream),
        advice: kept.view.advice.iter().map(advice).collect(),
    }
}

fn stream(view: &StreamView) -> SurveyStream {
    let first = view.steps.iter().find(|step| step.step == DialStep::FirstKeyframe);
    SurveyStream {
        address: view.address.clone(),
        cause: view.cause.clone().map(views::cause),
        steps: view.steps.iter().map(views::step).collect(),
        shared: view.shared,
        transport: view.transport.map(|carrier| carrier.as_str().to_owned()),
        video: view.video.clone().map(views::video),
        audio: view.audio.clone().map(views::audio),
        offered: view
            .offered
            .iter()
            .map(|track| OfferedTrack {
                kind: track.kind.clone(),
                encoding: track.encoding.clone(),
                carried: track.carried,
            })
            .collect(),
        measured: measured(view),
        first_picture_ms: first.map(|step| views::millis(step.after)),
        has_still: matches!(view.still, Some(Ok(Still { .. }))),
        no_still: match &view.still {
            Some(Err(error)) => Some(error.to_string()),
            _ => None,
        },
    }
}

fn measured(view: &StreamView) -> Option<MeasuredFacts> {
    let measured = view.measured?;
    let declared = view.video.as_ref().and_then(|video| video.declared_fps);
    let declared = declared.or_else(|| view.offered.iter().find_map(|track| track.frame_rate));
    let sum = |of: fn(&ReceptionView) -> u64| view.reception.iter().map(of).sum();
    let picture = view.reception.first();
    let drift = picture.and_then(|track| track.drift_ppm);
    let keyframes = measured.keyframes;
    let hundredths = views::to_hundredths;
    Some(MeasuredFacts {
        span_s: hundredths(measured.span.as_secs_f64()),
        fps: measured.fps.map(hundredths),
        declared_fps: declared.map(hundredths),
        video_kbps: measured.video_kbps,
        audio_kbps: measured.audio_kbps,
        peak_kbps: measured.peak_kbps,
        keyframe_min_s: keyframes.map(|interval| hundredths(interval.min_s)),
        keyframe_median_s: keyframes.map(|interval| hundredths(interval.median_s)),
        keyframe_max_s: keyframes.map(|interval| hundredths(interval.max_s)),
        b_frames: measured.reordered,
        packets: sum(|track| track.received),
        packets_lost: sum(|track| track.lost),
        packets_reordered: sum(|track| track.reordered),
        units_dropped: sum(|track| track.units_dropped),
        drops: view
            .drops()
            .into_iter()
            .map(|(reason, count)| DropFacts { reason: reason.to_owned(), count })
            .collect(),
        jitter_ms: hundredths(picture.map_or(0.0, |track| track.jitter_s * 1_000.0)),
        drift_ppm: drift.map(|(ppm, _)| hundredths(ppm)),
        drift_error_ppm: drift.map(|(_, error)| hundredths(error)),
    })
}
