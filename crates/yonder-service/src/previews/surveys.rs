//! Surveys: measurements in the background, with results that are cached for a while.

use std::collections::VecDeque;
use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use tokio::task::AbortHandle;
use yonder_api::{
    DropFacts, MeasuredFacts, NewFeed, NewSurvey, OfferedTrack, RelayEvent, Survey, SurveyAdvice,
    SurveyStream,
};
use yonder_core::tuning::Setting;
use yonder_core::{DialStep, VideoInfo};
use yonder_engine::{FeedSpec, ReceptionView, SURVEY_RANGE, Still, StreamView, SurveyRequest, SurveyView};

use super::Previews;
use yonder_records::ServiceError;
use yonder_records::unstored_specs;
use yonder_records::views;

/// Maximum number of surveys; the oldest are dropped.
const MAX_SURVEYS: usize = 32;
/// Maximum running surveys: each may occupy two sessions of a camera.
const MAX_RUNNING: usize = 8;
/// Default duration, in seconds.
const DEFAULT_SECONDS: u32 = 10;

/// Recent surveys, the oldest first.
#[derive(Debug, Default)]
pub(super) struct Surveys {
    recent: VecDeque<CachedSurvey>,
    next: u64,
}

#[derive(Debug)]
struct CachedSurvey {
    id: String,
    feed: Option<String>,
    view: SurveyView,
    /// Running measurement.
    task: Option<AbortHandle>,
}

impl Previews {
    /// Starts a survey.
    ///
    /// # Errors
    /// An unknown feed, an invalid address or duration, or too many running surveys.
    pub fn begin_survey(self: &Arc<Self>, new: NewSurvey) -> Result<Survey, ServiceError> {
        let duration = read_duration(new.for_s)?;
        let feed = new.feed.clone();
        let (main, sub) = self.survey_specs(new)?;
        let begun = {
            let mut surveys = self.surveys.lock();
            if surveys.recent.iter().filter(|survey| !survey.view.done).count() >= MAX_RUNNING {
                return Err(ServiceError::TooManySurveys(MAX_RUNNING));
            }
            surveys.next += 1;
            let id = surveys.next.to_string();
            let address = |spec: &FeedSpec| StreamView { address: spec.address(), ..StreamView::default() };
            let view =
                SurveyView { main: address(&main), sub: sub.as_ref().map(address), ..SurveyView::default() };
            let cached = CachedSurvey { id, feed, view, task: None };
            let begun = to_api(&cached);
            surveys.recent.push_back(cached);
            if surveys.recent.len() > MAX_SURVEYS {
                surveys.recent.pop_front();
            }
            begun
        };
        let (previews, id) = (Arc::clone(self), begun.id.clone());
        let task = self.engine.runtime().spawn(async move {
            let request = SurveyRequest { main, sub, duration };
            previews.engine.survey(request, |view| previews.note_survey(&id, view)).await;
        });
        let mut surveys = self.surveys.lock();
        if let Some(survey) = surveys.recent.iter_mut().find(|survey| survey.id == begun.id) {
            survey.task = Some(task.abort_handle());
        }
        drop(surveys);
        Ok(begun)
    }

    /// Returns a recent survey.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`].
    pub fn survey(&self, id: &str) -> Result<Survey, ServiceError> {
        let surveys = self.surveys.lock();
        surveys.recent.iter().find(|survey| survey.id == id).map(to_api).ok_or_else(|| not_found(id))
    }

    /// Returns the still picture of one of a survey's streams.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or [`ServiceError::NoStill`] with the reason.
    pub fn survey_still(&self, id: &str, is_sub: bool) -> Result<Bytes, ServiceError> {
        let surveys = self.surveys.lock();
        let survey = surveys.recent.iter().find(|survey| survey.id == id).ok_or_else(|| not_found(id))?;
        let stream = if is_sub { survey.view.sub.as_ref() } else { Some(&survey.view.main) };
        match stream.and_then(|stream| stream.still.as_ref()) {
            Some(Ok(still)) => Ok(still.jpeg.clone()),
            Some(Err(error)) => Err(ServiceError::NoStill(error.to_string())),
            None => Err(ServiceError::NoStill("no frame was received yet".to_owned())),
        }
    }

    /// Ends a survey early; its measurements are retained.
    ///
    /// # Errors
    /// [`ServiceError::NoSuchSurvey`].
    pub fn cancel_survey(&self, id: &str) -> Result<Survey, ServiceError> {
        let mut surveys = self.surveys.lock();
        let survey = surveys.recent.iter_mut().find(|survey| survey.id == id).ok_or_else(|| not_found(id))?;
        if let Some(task) = survey.task.take() {
            task.abort();
        }
        survey.view.done = true;
        Ok(to_api(survey))
    }

    fn note_survey(&self, id: &str, view: &SurveyView) {
        let mut surveys = self.surveys.lock();
        let Some(survey) = surveys.recent.iter_mut().find(|survey| survey.id == id) else { return };
        // The still is encoded once, and not sent again with each update.
        survey.view = view.clone();
        let event = RelayEvent::Survey { survey: Box::new(to_api(survey)) };
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
                ..NewFeed::default()
            }),
            (feed, _) => Err(ServiceError::Invalid {
                field: "feed",
                detail: if feed.is_some() {
                    "both a feed and an address are given".to_owned()
                } else {
                    "neither a feed nor an address is given".to_owned()
                },
                hint: "Name a saved feed, or give an address.",
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
            hint: "Ten seconds are usually enough; sixty also measure clock drift.",
        });
    }
    Ok(duration)
}

fn to_api(survey: &CachedSurvey) -> Survey {
    let advice = |advice: &yonder_core::Advice| SurveyAdvice {
        code: advice.code.to_owned(),
        about: advice.about.to_owned(),
        message: advice.message.clone(),
        tune: survey.feed.is_some()
            && survey.view.main.publisher.is_none()
            && advice.about != "sub"
            && Setting::of_advice(advice.code).is_some(),
    };
    Survey {
        id: survey.id.clone(),
        feed: survey.feed.clone(),
        done: survey.view.done,
        main: stream(&survey.view.main),
        sub: survey.view.sub.as_ref().map(stream),
        advice: survey.view.advice.iter().map(advice).collect(),
    }
}

fn stream(view: &StreamView) -> SurveyStream {
    let first = view.steps.iter().find(|step| step.step == DialStep::FirstKeyframe);
    SurveyStream {
        address: view.address.clone(),
        cause: view.cause.clone().map(views::cause),
        steps: view.steps.iter().map(views::step).collect(),
        shared: view.shared,
        transport: match view.publisher {
            Some(protocol) => Some(protocol.as_str().to_owned()),
            None => view.transport.map(|carrier| carrier.as_str().to_owned()),
        },
        video: view.video.clone().map(VideoInfo::rounded),
        audio: view.audio.clone(),
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
