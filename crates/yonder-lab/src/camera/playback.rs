//! Playing a loop in real time, without a seam: RTP time goes on where the loop begins again.

use std::sync::Arc;
use std::time::{Duration, SystemTime};

use bytes::BytesMut;
use tokio::time::Instant;

use crate::media::LoopMedia;

use super::packets::Packetiser;

/// How often sender reports are sent.
const REPORT_EVERY: Duration = Duration::from_secs(3);
/// Seconds from 1900 to 1970.
const NTP_TO_UNIX: u64 = 2_208_988_800;

/// One viewer's playback.
#[derive(Debug)]
pub(super) struct Playback {
    media: Arc<LoopMedia>,
    began: Instant,
    began_wall: SystemTime,
    picture: Packetiser,
    picture_base: u32,
    next_picture: u64,
    sound: Option<SoundPlayback>,
    report_at: Instant,
}

#[derive(Debug)]
struct SoundPlayback {
    packets: Packetiser,
    base: u32,
    rate: u32,
    next: u64,
}

impl Playback {
    /// Starts at the beginning of the loop, as a camera answers PLAY with a fresh keyframe.
    pub(super) fn new(media: Arc<LoopMedia>, picture_channel: u8, sound_channel: Option<u8>) -> Self {
        let sound = sound_channel.zip(media.sound.as_ref()).map(|(channel, (config, _))| SoundPlayback {
            packets: Packetiser::new(channel, 97),
            base: rand::random(),
            rate: config.facts.sample_rate,
            next: 0,
        });
        Self {
            media,
            began: Instant::now(),
            began_wall: SystemTime::now(),
            picture: Packetiser::new(picture_channel, 96),
            picture_base: rand::random(),
            next_picture: 0,
            sound,
            report_at: Instant::now(),
        }
    }

    /// When something is due next.
    pub(super) fn due(&self) -> Instant {
        let sound = self.sound.as_ref().map(|sound| self.began + sound.due());
        sound.map_or_else(|| self.picture_due(), |sound| sound.min(self.picture_due()))
    }

    /// Appends all that is due at `now`.
    pub(super) fn put_due(&mut self, now: Instant, out: &mut BytesMut) {
        if now >= self.report_at {
            self.report_at = now + REPORT_EVERY;
            self.put_reports(now, out);
        }
        // In the order of their times, also when a busy machine made them late.
        while self.due() <= now {
            if self.sound.as_ref().is_some_and(|sound| self.began + sound.due() < self.picture_due()) {
                self.put_sound(out);
            } else {
                self.put_picture(out);
            }
        }
    }

    fn put_sound(&mut self, out: &mut BytesMut) {
        if let (Some(sound), Some((_, frames))) = (self.sound.as_mut(), self.media.sound.as_ref()) {
            let at = usize::try_from(sound.next % length(frames)).unwrap_or_default();
            sound.packets.put_sound(&frames[at], wrapping(sound.base, sound.next * 1024), out);
            sound.next += 1;
        }
    }

    fn picture_due(&self) -> Instant {
        let (rate, per) = self.media.frame_rate;
        self.began + Duration::from_micros(self.next_picture * u64::from(per) * 1_000_000 / u64::from(rate))
    }

    fn put_picture(&mut self, out: &mut BytesMut) {
        let count = length(&self.media.frames);
        let (round, at) = (self.next_picture / count, self.next_picture % count);
        let frame = &self.media.frames[usize::try_from(at).unwrap_or_default()];
        let shown = i64::try_from(round * count).unwrap_or_default() + frame.shown;
        let time = u64::try_from(self.media.picture_time(shown)).unwrap_or_default();
        self.picture.put_picture(&frame.nals, wrapping(self.picture_base, time), out);
        self.next_picture += 1;
    }

    fn put_reports(&self, now: Instant, out: &mut BytesMut) {
        let elapsed = now.saturating_duration_since(self.began);
        let ntp = ntp_time(self.began_wall + elapsed);
        let micros = u64::try_from(elapsed.as_micros()).unwrap_or_default();
        let picture = wrapping(self.picture_base, micros * 9 / 100);
        self.picture.put_report(ntp, picture, out);
        if let Some(sound) = &self.sound {
            let time = wrapping(sound.base, micros * u64::from(sound.rate) / 1_000_000);
            sound.packets.put_report(ntp, time, out);
        }
    }
}

impl SoundPlayback {
    fn due(&self) -> Duration {
        Duration::from_micros(self.next * 1024 * 1_000_000 / u64::from(self.rate))
    }
}

fn length<T>(items: &[T]) -> u64 {
    u64::try_from(items.len()).unwrap_or(1).max(1)
}

/// RTP time wraps in service.
fn wrapping(base: u32, ticks: u64) -> u32 {
    base.wrapping_add(u32::try_from(ticks & 0xffff_ffff).unwrap_or_default())
}

fn ntp_time(wall: SystemTime) -> u64 {
    let since = wall.duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
    let fraction = (u64::from(since.subsec_nanos()) << 32) / 1_000_000_000;
    (since.as_secs() + NTP_TO_UNIX) << 32 | fraction
}
