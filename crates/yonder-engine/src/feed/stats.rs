//! Statistics of a feed.

use std::sync::Arc;
use std::time::Duration;

use yonder_core::{DialStep, FrameMeter, RateMeter};
use yonder_media::h264::SpsError;
use yonder_media::h265::Tier;
use yonder_media::{AccessUnit, FrameRate, PerTrack, StreamHeaders, Track};
use yonder_rtmp::MeasuredRates;
use yonder_rtsp::{Offered, Skipped, TrackStats};

use crate::view::{ReceptionView, RtpTransport, StepView};
use yonder_core::{AudioInfo, VideoInfo};

/// Statistics of one feed.
#[derive(Debug, Default)]
pub(crate) struct FeedStats {
    rate: RateMeter,
    bytes: u64,
    picture: FrameMeter,
    /// Payload bit rates.
    track_rates: PerTrack<RateMeter>,
    headers: Option<Arc<StreamHeaders>>,
    /// Transport of the present session.
    carrier: Option<RtpTransport>,
    /// Media that the camera offers.
    offered: Vec<Offered>,
    /// Reception of the present or last session.
    reception: Vec<TrackStats>,
    /// Data skipped on the connection of that session.
    skipped: Skipped,
    /// Totals of earlier sessions.
    before: EarlierSessions,
    dial_began: Duration,
    steps: Vec<StepView>,
}

/// Totals of the sessions before the present one.
#[derive(Debug, Default)]
struct EarlierSessions {
    packets_lost: u64,
    units_dropped: u64,
    skipped: Skipped,
}

impl FeedStats {
    /// Begins a dial.
    pub(crate) fn begin_dial(&mut self, now: Duration) {
        self.dial_began = now;
        self.steps.clear();
    }

    /// Records a completed step of the dial. A repeated step, as after a redirect, replaces the earlier one.
    pub(crate) fn note_step(&mut self, step: DialStep, now: Duration) {
        self.steps.retain(|other| other.step != step);
        self.steps.push(StepView { step, after: now.saturating_sub(self.dial_began) });
    }

    /// Returns true if the last dial got a connection.
    pub(crate) fn was_reached(&self) -> bool {
        self.steps.iter().any(|step| step.step == DialStep::Connected)
    }

    /// Returns the step at which a dial failed, and its duration; no step once video flowed.
    pub(crate) fn failing_step(&self, now: Duration) -> (Option<&'static str>, Duration) {
        let step = match self.steps.last().map(|step| step.step) {
            None => Some("looking up the name"),
            Some(DialStep::NameFound) => Some("connecting"),
            Some(DialStep::Connected | DialStep::Encrypted) => Some("greeting"),
            Some(DialStep::Greeted) => Some("signing in and asking for the stream"),
            Some(DialStep::SignedIn) => Some("asking for the stream"),
            Some(DialStep::StreamDescribed) => Some("setting up the tracks"),
            Some(DialStep::TracksSetUp) => Some("asking to play"),
            Some(DialStep::Playing) => Some("waiting for the first keyframe"),
            Some(_) => None,
        };
        (step, now.saturating_sub(self.dial_began))
    }

    /// Begins a session, with the transport of a camera.
    pub(crate) fn begin_session(&mut self, carrier: Option<RtpTransport>) {
        self.picture.restart();
        self.before = EarlierSessions {
            packets_lost: self.packets_lost(),
            units_dropped: self.units_dropped(),
            skipped: self.skipped(),
        };
        self.reception.clear();
        self.skipped = Skipped::default();
        self.carrier = carrier;
    }

    pub(crate) fn end_session(&mut self) {
        self.carrier = None;
    }

    pub(crate) fn add_bytes(&mut self, bytes: usize, now: Duration) {
        self.rate.add(bytes, now);
        self.bytes += u64::try_from(bytes).unwrap_or_default();
    }

    /// Returns the bytes received since the feed was enabled.
    pub(crate) fn bytes(&self) -> u64 {
        self.bytes
    }

    pub(crate) fn add_unit(&mut self, unit: &AccessUnit, now: Duration) {
        self.track_rates.get_mut(unit.track).add(unit.payload.len(), now);
        if unit.track == Track::Video {
            self.picture.add(unit.dts, unit.keyframe);
        }
    }

    pub(crate) fn set_headers(&mut self, headers: Arc<StreamHeaders>) {
        self.headers = Some(headers);
    }

    pub(crate) fn set_offered(&mut self, offered: Vec<Offered>) {
        self.offered = offered;
    }

    pub(crate) fn set_reception(&mut self, reception: Vec<TrackStats>, skipped: Skipped) {
        self.reception = reception;
        self.skipped = skipped;
    }

    pub(crate) fn carrier(&self) -> Option<RtpTransport> {
        self.carrier
    }

    pub(crate) fn offered(&self) -> &[Offered] {
        &self.offered
    }

    pub(crate) fn steps(&self) -> Vec<StepView> {
        self.steps.clone()
    }

    pub(crate) fn packets_lost(&self) -> u64 {
        self.before.packets_lost + self.reception.iter().map(|track| track.reception.lost).sum::<u64>()
    }

    pub(crate) fn units_dropped(&self) -> u64 {
        self.before.units_dropped + self.reception.iter().map(|track| track.units_dropped).sum::<u64>()
    }

    pub(crate) fn skipped(&self) -> Skipped {
        self.before.skipped.sum(self.skipped)
    }

    /// Returns the most frequent reason for unusable video packets in this session.
    pub(crate) fn main_obstacle(&self) -> Option<(&'static str, u64)> {
        let video = self.reception.iter().find(|track| track.track == Track::Video)?;
        video.drops.main_obstacle()
    }

    /// Returns the error of the last sequence parameter set, if it could not be parsed.
    pub(crate) fn parameter_problem(&self) -> Option<SpsError> {
        self.reception.iter().find_map(|track| track.parameter_problem)
    }

    pub(crate) fn reception(&self) -> Vec<ReceptionView> {
        let view = |track: &TrackStats| ReceptionView {
            track: track.track,
            received: track.reception.received,
            lost: track.reception.lost,
            reordered: track.order.reordered,
            repeated: track.order.repeated,
            units_dropped: track.units_dropped,
            drops: track.drops,
            jitter_s: track.reception.jitter_s,
            drift_ppm: track.reception.drift.map(|drift| (drift.ppm, drift.uncertainty_ppm)),
        };
        self.reception.iter().map(view).collect()
    }

    /// Returns the measured rates of the stream; unknown ones are zero.
    pub(crate) fn measured_rates(&mut self, now: Duration) -> MeasuredRates {
        let PerTrack { video, audio } = &mut self.track_rates;
        let known = |kbps: u64| u32::try_from(kbps).ok().filter(|kbps| *kbps > 0).map(f64::from);
        MeasuredRates {
            fps: self.picture.fps(),
            video_kbps: known(video.kbps(now)),
            audio_kbps: known(audio.kbps(now)),
        }
    }

    pub(crate) fn video(&mut self, now: Duration) -> Option<VideoInfo> {
        let facts = self.headers.as_ref()?.video.as_ref()?.facts();
        Some(VideoInfo {
            codec: facts.codec.name().to_owned(),
            profile: facts.profile.to_owned(),
            tier: facts.tier.map(|tier| if tier == Tier::High { "High" } else { "Main" }.to_owned()),
            level: facts.level,
            width: facts.width,
            height: facts.height,
            declared_fps: facts.frame_rate.map(FrameRate::fps),
            fps: self.picture.fps(),
            kbps: self.rate.kbps(now),
            keyframe_interval_s: self.picture.keyframe_interval_s(),
        })
    }

    pub(crate) fn audio(&self) -> Option<AudioInfo> {
        let audio = self.headers.as_ref()?.audio.as_ref()?;
        Some(AudioInfo {
            codec: audio.codec_name().to_owned(),
            rate_hz: audio.sample_rate(),
            channels: audio.channels(),
            is_decodable: yonder_codec::can_decode(audio),
        })
    }
}
