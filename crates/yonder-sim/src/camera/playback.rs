//! Real-time playback of a loop. RTP timestamps continue where the loop restarts.

use std::sync::Arc;
use std::time::{Duration, SystemTime};

use bytes::BytesMut;
use tokio::time::Instant;
use yonder_media::{AudioConfig, FrameRate};

use super::describe;
use super::faults::CameraFaults;
use super::packets::Packetiser;
use super::rtp_transport::RtpTransport;
use crate::media::LoopMedia;

/// Interval of sender reports.
const REPORT_EVERY: Duration = Duration::from_secs(3);
/// Seconds from the NTP epoch (1900) to the Unix epoch.
const NTP_TO_UNIX: u64 = 2_208_988_800;

/// Playback of one session.
#[derive(Debug)]
pub(super) struct Playback {
    media: Arc<LoopMedia>,
    began: Instant,
    began_wall: SystemTime,
    picture: Packetiser,
    /// RTP timestamp of the first frame.
    picture_base: u32,
    /// Video frames sent since `began`.
    next_picture: u64,
    audio: Option<AudioPlayback>,
    report_at: Instant,
    /// Time of the next sender report of the audio track.
    audio_report_at: Instant,
    /// Delay of keyframes.
    keyframe_delay: Duration,
    /// Clock drift, in parts per million.
    drift_ppm: i32,
}

#[derive(Debug)]
struct AudioPlayback {
    packets: Packetiser,
    base: u32,
    rate: u32,
    samples: u64,
    next: u64,
}

impl Playback {
    /// Begins at the start of the loop, with a keyframe.
    pub(super) fn new(
        media: Arc<LoopMedia>,
        picture: RtpTransport,
        audio: Option<RtpTransport>,
        drift_ppm: i32,
    ) -> Self {
        let audio = audio.zip(media.audio.as_ref()).map(|(way, audio)| AudioPlayback {
            packets: Packetiser::new(way, describe::sound_type(&audio.config)),
            base: rand::random(),
            rate: audio.config.sample_rate(),
            samples: u64::from(audio.samples),
            next: 0,
        });
        Self {
            media,
            began: Instant::now(),
            began_wall: SystemTime::now(),
            picture: Packetiser::new(picture, 96),
            picture_base: rand::random(),
            next_picture: 0,
            audio,
            report_at: Instant::now(),
            audio_report_at: Instant::now(),
            keyframe_delay: Duration::ZERO,
            drift_ppm,
        }
    }

    /// Continues with another loop, from its start. Timestamps continue.
    pub(super) fn show(&mut self, media: Arc<LoopMedia>, now: Instant) {
        let passed = self.camera_time(now);
        self.picture_base = self.picture_base.wrapping_add(ticks(passed, 90_000));
        if let Some(audio) = self.audio.as_mut() {
            audio.base = audio.base.wrapping_add(ticks(passed, audio.rate));
            audio.next = 0;
        }
        self.began_wall += now.saturating_duration_since(self.began);
        self.began = now;
        self.next_picture = 0;
        self.media = media;
    }

    /// Lets timestamps jump, as after setting the camera's clock.
    pub(super) fn jump(&mut self, by: i64) {
        let by = i32::try_from(by).unwrap_or_default();
        self.picture_base = self.picture_base.wrapping_add_signed(by);
        if let Some(audio) = self.audio.as_mut() {
            let by = i64::from(by) * i64::from(audio.rate) / 90_000;
            audio.base = audio.base.wrapping_add_signed(i32::try_from(by).unwrap_or_default());
        }
    }

    /// Restarts with other SSRCs and sequence numbers.
    pub(super) fn start_anew(&mut self) {
        self.picture.start_anew();
        if let Some(audio) = self.audio.as_mut() {
            audio.packets.start_anew();
        }
    }

    /// Sends a BYE for all tracks.
    pub(super) fn put_goodbye(&mut self, out: &mut BytesMut) {
        self.picture.put_goodbye(out);
        if let Some(audio) = self.audio.as_mut() {
            audio.packets.put_goodbye(out);
        }
    }

    /// Applies the faults of the line: delay of keyframes, and loss, reordering and duplication of datagrams.
    pub(super) fn set_line(&mut self, faults: &CameraFaults) {
        self.keyframe_delay = faults.keyframe_delay;
        let audio = self.audio.as_mut().map(|audio| &mut audio.packets.way);
        for way in [Some(&mut self.picture.way), audio].into_iter().flatten() {
            if let RtpTransport::Datagrams(way) = way {
                way.impairment = faults.impairment;
            }
        }
    }

    /// Returns the time of the next frame or report.
    pub(super) fn due(&self) -> Instant {
        let audio = self.audio.as_ref().map(|audio| self.moment(audio.due()));
        audio.map_or_else(|| self.picture_due(), |audio| audio.min(self.picture_due()))
    }

    /// Sends everything that is due at `now`, or skips it when `silent`.
    pub(super) fn put_due(&mut self, now: Instant, faults: &CameraFaults, out: &mut BytesMut) {
        if now >= self.report_at && !faults.frozen {
            self.report_at = now + REPORT_EVERY;
            // A camera with a clock sends the reports of both tracks together.
            self.audio_report_at = now + if faults.ntp_zero { REPORT_EVERY / 2 } else { Duration::ZERO };
            self.put_picture_report(now, faults, out);
        }
        if now >= self.audio_report_at && !faults.frozen {
            self.audio_report_at = now + REPORT_EVERY;
            self.put_audio_report(now, faults, out);
        }
        // In order of their times, even when several are late.
        while self.due() <= now {
            if self.audio.as_ref().is_some_and(|audio| self.moment(audio.due()) < self.picture_due()) {
                self.put_audio(faults, out);
            } else {
                self.put_picture(faults, out);
            }
        }
    }

    fn put_audio(&mut self, faults: &CameraFaults, out: &mut BytesMut) {
        let (Some(audio), Some(media)) = (self.audio.as_mut(), self.media.audio.as_ref()) else {
            // The present loop has no audio: checked again a second later.
            if let Some(audio) = self.audio.as_mut() {
                audio.next += u64::from(audio.rate) / audio.samples;
            }
            return;
        };
        let at = usize::try_from(audio.next % length(&media.frames)).unwrap_or_default();
        let time = wrapping(audio.base, audio.next * audio.samples);
        audio.next += 1;
        if faults.frozen {
            return;
        }
        let frame = &media.frames[at];
        match media.config {
            AudioConfig::Aac { .. } if faults.latm => audio.packets.put_latm(frame, time, out),
            AudioConfig::Aac { .. } => audio.packets.put_aac(frame, time, out),
            AudioConfig::G711 { .. } => audio.packets.put_samples(frame, time, out),
        }
    }

    fn picture_due(&self) -> Instant {
        let FrameRate { frames: rate, per } = self.media.frame_rate;
        let due = Duration::from_micros(self.next_picture * u64::from(per) * 1_000_000 / u64::from(rate));
        let delay = if self.next_is_keyframe() { self.keyframe_delay } else { Duration::ZERO };
        self.moment(due) + delay
    }

    fn next_is_keyframe(&self) -> bool {
        let at = usize::try_from(self.next_picture % length(&self.media.frames)).unwrap_or_default();
        self.media.frames.get(at).is_some_and(|frame| frame.keyframe)
    }

    /// Returns the time at which the camera's clock has advanced by `passed`.
    fn moment(&self, passed: Duration) -> Instant {
        self.began + scaled(passed, -i64::from(self.drift_ppm))
    }

    /// Returns the time of the camera's clock at `now`.
    fn camera_time(&self, now: Instant) -> Duration {
        scaled(now.saturating_duration_since(self.began), i64::from(self.drift_ppm))
    }

    fn put_picture(&mut self, faults: &CameraFaults, out: &mut BytesMut) {
        let count = length(&self.media.frames);
        let (round, at) = (self.next_picture / count, self.next_picture % count);
        let frame = &self.media.frames[usize::try_from(at).unwrap_or_default()];
        let shown = i64::try_from(round * count).unwrap_or_default() + frame.shown;
        let time = u64::try_from(self.media.picture_time(shown)).unwrap_or_default();
        self.next_picture += 1;
        if faults.frozen || faults.no_keyframes && frame.keyframe {
            return;
        }
        let marked = (wrapping(self.picture_base, time), faults.marker);
        self.picture.oddities = faults.oddities;
        self.picture.put_picture(describe::codec(&self.media), &frame.nals, marked, out);
    }

    fn ntp(&self, now: Instant, faults: &CameraFaults) -> u64 {
        if faults.ntp_zero {
            0
        } else {
            ntp_time(self.began_wall + now.saturating_duration_since(self.began))
        }
    }

    fn put_picture_report(&mut self, now: Instant, faults: &CameraFaults, out: &mut BytesMut) {
        let (ntp, passed) = (self.ntp(now, faults), self.camera_time(now));
        self.picture.put_report(ntp, self.picture_base.wrapping_add(ticks(passed, 90_000)), out);
    }

    fn put_audio_report(&mut self, now: Instant, faults: &CameraFaults, out: &mut BytesMut) {
        let (ntp, passed) = (self.ntp(now, faults), self.camera_time(now));
        if let Some(audio) = self.audio.as_mut() {
            audio.packets.put_report(ntp, audio.base.wrapping_add(ticks(passed, audio.rate)), out);
        }
    }
}

impl AudioPlayback {
    fn due(&self) -> Duration {
        Duration::from_micros(self.next * self.samples * 1_000_000 / u64::from(self.rate))
    }
}

fn scaled(time: Duration, ppm: i64) -> Duration {
    let micros = i64::try_from(time.as_micros()).unwrap_or(i64::MAX / 2_000_000);
    let scaled = micros + micros / 1_000 * ppm / 1_000;
    Duration::from_micros(u64::try_from(scaled).unwrap_or_default())
}

fn ticks(time: Duration, rate: u32) -> u32 {
    let micros = u64::try_from(time.as_micros()).unwrap_or_default();
    u32::try_from((micros * u64::from(rate) / 1_000_000) & 0xffff_ffff).unwrap_or_default()
}

fn length<T>(items: &[T]) -> u64 {
    u64::try_from(items.len()).unwrap_or(1).max(1)
}

/// Converts to a wrapping RTP timestamp.
fn wrapping(base: u32, ticks: u64) -> u32 {
    base.wrapping_add(u32::try_from(ticks & 0xffff_ffff).unwrap_or_default())
}

fn ntp_time(wall: SystemTime) -> u64 {
    let since = wall.duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
    let fraction = (u64::from(since.subsec_nanos()) << 32) / 1_000_000_000;
    (since.as_secs() + NTP_TO_UNIX) << 32 | fraction
}
