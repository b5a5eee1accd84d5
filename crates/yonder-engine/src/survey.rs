//! Surveys: the streams of a feed are measured concurrently for some seconds.
//!
//! The pull of a running feed is used: cameras serve few viewers, and a survey must not replace one.

use std::sync::Arc;
use std::time::Duration;

use yonder_core::{Advice, Measured, SourceKind, SurveyMeter, SurveyedStream, advise};
use yonder_ingest::IngestProtocol;
use yonder_media::{Frame, Payload, Track, VideoConfig, h264};
use yonder_rtsp::{DropCounts, Offered, Skipped};

use crate::clock::Clock;
use crate::feed::FeedSnapshot;
use crate::lease::FeedLease;
use crate::spec::FeedSpec;
use crate::still::{self, Still, StillError};
use crate::view::{CauseView, ReceptionView, RtpTransport, StepView};
use yonder_core::{AudioInfo, VideoInfo};

/// Interval of reports.
const REPORT_INTERVAL: Duration = Duration::from_secs(1);
/// Range of the duration of a survey.
pub const SURVEY_RANGE: (Duration, Duration) = (Duration::from_secs(2), Duration::from_secs(300));

/// Survey request.
#[derive(Debug, Clone)]
pub struct SurveyRequest {
    /// Main stream.
    pub main: FeedSpec,
    /// Sub stream, if there is one.
    pub sub: Option<FeedSpec>,
    /// Duration once frames arrive, clamped to [`SURVEY_RANGE`].
    pub duration: Duration,
}

/// Progress of a survey.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct SurveyView {
    /// Main stream.
    pub main: StreamView,
    /// Sub stream, if there is one.
    pub sub: Option<StreamView>,
    /// Advice, once the survey is done.
    pub advice: Vec<Advice>,
    /// The survey is complete.
    pub done: bool,
}

/// Stream of a survey.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct StreamView {
    /// Its address.
    pub address: String,
    /// Cause of a failed measurement.
    pub cause: Option<CauseView>,
    /// Steps of the dial; the last one is the first keyframe.
    pub steps: Vec<StepView>,
    /// The pull of a running feed was used.
    pub shared: bool,
    /// Transport of RTP packets.
    pub transport: Option<RtpTransport>,
    /// Protocol of the encoder that publishes the feed.
    pub publisher: Option<IngestProtocol>,
    /// Video.
    pub video: Option<VideoInfo>,
    /// Audio.
    pub audio: Option<AudioInfo>,
    /// Media that the camera offers at this address.
    pub offered: Vec<Offered>,
    /// Measurements.
    pub measured: Option<Measured>,
    /// Reception by track.
    pub reception: Vec<ReceptionView>,
    /// Data skipped on the RTSP connection.
    pub skipped: Skipped,
    /// Still picture, or the error.
    pub still: Option<Result<Still, StillError>>,
}

impl StreamView {
    /// Returns the dropped parts by reason, of the connection and all tracks.
    #[must_use]
    pub fn drops(&self) -> Vec<(&'static str, u64)> {
        let sum = self.reception.iter().fold(DropCounts::default(), |sum, track| sum.sum(track.drops));
        sum.by_reason().into_iter().chain(self.skipped.by_reason()).filter(|(_, count)| *count > 0).collect()
    }
}

/// Measures the stream at `address` for `duration`, and passes its view to `report` about once a second.
pub(crate) async fn survey_stream(
    lease: FeedLease,
    address: String,
    duration: Duration,
    report: impl Fn(StreamView),
) -> StreamView {
    let clock = lease.clock();
    let mut view = StreamView { address, shared: lease.is_shared(), ..StreamView::default() };
    let began = match lease.keyframe().await {
        Ok(frame) => {
            view.still = Some(decode(frame).await);
            clock.now()
        }
        Err(cause) => {
            describe(lease.snapshot().as_deref(), clock, &mut view);
            view.cause = Some(cause);
            return view;
        }
    };
    // The counts of a running feed include the time before the survey.
    let before = lease.snapshot().map(|snapshot| snapshot.feed(clock));
    let until = began + duration.clamp(SURVEY_RANGE.0, SURVEY_RANGE.1);
    let mut meter = SurveyMeter::default();
    let mut reported_at = began;
    let snapshots = lease.snapshots();
    let ended = lease.follow(until, |frame| {
        let unit = &frame.unit;
        match unit.track {
            Track::Video => {
                meter.add_frame(unit.dts, unit.pts, unit.payload.len(), unit.keyframe);
                if unit.keyframe && is_recovery_point(&frame) {
                    meter.add_recovery_point();
                }
            }
            Track::Audio => meter.add_audio(unit.dts, unit.payload.len()),
        }
        let now = clock.now();
        if now.saturating_sub(reported_at) >= REPORT_INTERVAL {
            reported_at = now;
            describe(snapshots.as_ref().map(|cell| cell.load()).as_deref(), clock, &mut view);
            view.measured = Some(meter.measured());
            report(view.clone());
        }
        true
    });
    let ended = ended.await;
    describe(lease.snapshot().as_deref(), clock, &mut view);
    if let Some(before) = before.filter(|_| view.shared) {
        for (track, before) in view.reception.iter_mut().zip(&before.reception) {
            track.count_from(before);
        }
        view.skipped = view.skipped.since(before.skipped);
    }
    view.measured = Some(meter.measured());
    view.cause = ended;
    view
}

fn describe(snapshot: Option<&FeedSnapshot>, clock: Clock, view: &mut StreamView) {
    let Some(snapshot) = snapshot else { return };
    let feed = snapshot.feed(clock);
    view.steps = feed.steps;
    view.transport = feed.transport.or(view.transport);
    view.publisher = feed.publisher.map(|publisher| publisher.info.protocol).or(view.publisher);
    view.video = feed.video;
    view.audio = feed.audio;
    view.offered.clone_from(&snapshot.offered);
    view.reception = feed.reception;
    view.skipped = feed.skipped;
}

/// Returns true for a keyframe of H.264 without an IDR picture.
fn is_recovery_point(keyframe: &Frame) -> bool {
    match (&keyframe.headers.video, &keyframe.unit.payload) {
        (Some(VideoConfig::H264(_)), Payload::Nals(nals)) => {
            !nals.iter().any(|nal| h264::kind_of(nal) == h264::NalKind::IdrSlice)
        }
        _ => false,
    }
}

/// Decodes a keyframe on a blocking thread.
pub(crate) async fn decode(frame: Arc<Frame>) -> Result<Still, StillError> {
    let decoded = tokio::task::spawn_blocking(move || still::of_keyframe(&frame)).await;
    decoded.unwrap_or_else(|_| Err(StillError::Undecodable("the decoder failed".to_owned())))
}

/// Returns advice about the streams.
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
        source: if view.publisher.is_some() { SourceKind::Encoder } else { SourceKind::Camera },
        codec: video.codec.to_owned(),
        width: video.width,
        height: video.height,
        declared_fps: video.declared_fps.or(declared),
        measured,
        audio: view.audio.as_ref().map(|audio| audio.codec.to_owned()),
        audio_left: left.map(|track| track.encoding.clone()).collect(),
        transport: view.transport.map_or("", RtpTransport::as_str).to_owned(),
        packets: (received, lost),
        drops: view.drops(),
        drift_ppm: view.reception.first().and_then(|track| track.drift_ppm),
    })
}
