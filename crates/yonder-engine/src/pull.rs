//! One pull: dial the camera, run the dialogue, and publish what comes into the hub.

use std::io::ErrorKind;
use std::sync::Arc;
use std::time::Duration;

use bytes::BytesMut;
use tokio::net::TcpStream;
use tokio::sync::watch;
use tokio::time::{sleep_until, timeout};
use yonder_core::{Cause, CauseCode};
use yonder_media::timeline::{Timeline, TrackTiming};
use yonder_media::{AccessUnit, StreamHeaders, TICKS_PER_SECOND, Track};
use yonder_rtsp::{ClientConfig, Described, Pull, PullEvent, RawUnit};

use crate::causes;
use crate::dial;
use crate::feed::{Feed, lock};
use crate::hub::Entry;

/// Nothing for so long on an open connection shows as stalled …
const SILENT_AFTER: Duration = Duration::from_secs(2);
/// … and for so long is a failure.
const STALLED_AFTER: Duration = Duration::from_secs(5);
/// Pictures without a keyframe for so long are a failure: another dial usually brings one.
const KEYFRAME_PATIENCE: Duration = Duration::from_secs(30);
/// Room for one read. Large reads keep system calls few at high rates.
const READ_BYTES: usize = 64 * 1024;
/// An orderly close may take this long.
const CLOSE_PATIENCE: Duration = Duration::from_millis(500);

/// Runs until the camera ends it (an error) or `hang_up` changes.
pub(crate) async fn run(
    feed: &Feed,
    timeline: &mut Timeline,
    mut hang_up: watch::Receiver<u64>,
) -> Result<(), Cause> {
    hang_up.mark_unchanged();
    let spec = feed.spec();
    let stream = tokio::select! {
        stream = reach(&spec.url.host, spec.url.port) => stream?,
        _ = hang_up.changed() => return Ok(()),
    };
    let config = ClientConfig { url: spec.url, credentials: spec.credentials, seed: rand::random() };
    lock(&feed.figures).begin_session();
    timeline.begin_session();
    let mut session = Session::new(feed, timeline, config);
    let result = tokio::select! {
        result = session.run(&stream) => result,
        _ = hang_up.changed() => Ok(()),
    };
    session.close(&stream).await;
    result
}

async fn reach(host: &str, port: u16) -> Result<TcpStream, Cause> {
    let target = format!("{host}:{port}");
    let addresses = dial::resolve(host, port).await.map_err(|error| causes::feed_dial(&error, &target))?;
    dial::connect(&addresses).await.map_err(|error| causes::feed_dial(&error, &target))
}

/// One session with the camera.
struct Session<'a> {
    feed: &'a Feed,
    timeline: &'a mut Timeline,
    pull: Pull,
    headers: Arc<StreamHeaders>,
    tracks: Vec<Described>,
    /// When media last came, or the session began.
    heard: Duration,
    began: Duration,
    flowing: bool,
}

impl<'a> Session<'a> {
    fn new(feed: &'a Feed, timeline: &'a mut Timeline, config: ClientConfig) -> Self {
        let now = feed.clock.now();
        Self {
            feed,
            timeline,
            pull: Pull::new(config),
            headers: Arc::default(),
            tracks: Vec::new(),
            heard: now,
            began: now,
            flowing: false,
        }
    }

    async fn run(&mut self, stream: &TcpStream) -> Result<(), Cause> {
        let mut buffer = BytesMut::with_capacity(READ_BYTES);
        self.pull.start(self.feed.clock.now());
        loop {
            self.transmit(stream).await?;
            let deadline = self.next_deadline();
            tokio::select! {
                ready = stream.readable() => {
                    ready.map_err(|error| lost(&error))?;
                    self.read(stream, &mut buffer)?;
                }
                () = sleep_until(self.feed.clock.instant(deadline)) => self.handle_deadline()?,
            }
        }
    }

    fn read(&mut self, stream: &TcpStream, buffer: &mut BytesMut) -> Result<(), Cause> {
        // Asking for room below this would make reads small at the end of each block.
        if buffer.capacity() - buffer.len() < READ_BYTES / 4 {
            buffer.reserve(READ_BYTES);
        }
        let count = match stream.try_read_buf(buffer) {
            Ok(0) => {
                let message = "The camera closed the connection.";
                return Err(Cause::new(CauseCode::FeedClosedByCamera, message));
            }
            Ok(count) => count,
            Err(error) if error.kind() == ErrorKind::WouldBlock => return Ok(()),
            Err(error) => return Err(lost(&error)),
        };
        let now = self.feed.clock.now();
        lock(&self.feed.figures).add_bytes(count, now);
        let result = self.pull.handle_input(buffer, now);
        // What came before an end still counts.
        self.drain()?;
        result.map_err(|error| causes::feed(&error))
    }

    async fn transmit(&mut self, stream: &TcpStream) -> Result<(), Cause> {
        while let Some(bytes) = self.pull.poll_transmit() {
            write_all(stream, &bytes).await.map_err(|error| lost(&error))?;
        }
        Ok(())
    }

    fn drain(&mut self) -> Result<(), Cause> {
        while let Some(event) = self.pull.poll_event() {
            match event {
                PullEvent::Step(step) => tracing::debug!(?step, "camera dialogue"),
                PullEvent::Tracks(tracks) => self.tracks = tracks,
                PullEvent::Headers(headers) => self.set_headers(headers),
                PullEvent::SenderReport { track, ntp, rtp } => {
                    self.timeline.handle_sender_report(track, ntp, rtp);
                }
                // The timeline sees the jump itself and bridges it.
                PullEvent::Restarted(track) => tracing::info!(?track, "the camera restarted its numbering"),
                PullEvent::Unit(unit) => self.publish(unit)?,
            }
        }
        Ok(())
    }

    fn set_headers(&mut self, headers: StreamHeaders) {
        if *self.headers != headers {
            self.headers = Arc::new(headers);
            lock(&self.feed.figures).set_headers(Arc::clone(&self.headers));
        }
        for described in &self.tracks {
            let (reorder_frames, frame_ticks) =
                match (described.track, &self.headers.video, &self.headers.audio) {
                    (Track::Video, Some(video), _) => {
                        (video.facts.reorder_frames, video.facts.frame_rate.map(frame_duration))
                    }
                    (Track::Audio, _, Some(audio)) => {
                        let samples = i64::from(yonder_media::aac::SAMPLES_PER_FRAME);
                        (Some(0), Some(samples * TICKS_PER_SECOND / i64::from(audio.facts.sample_rate)))
                    }
                    _ => (None, None),
                };
            let timing = TrackTiming { clock_rate: described.clock_rate, reorder_frames, frame_ticks };
            self.timeline.configure(described.track, timing);
        }
    }

    /// The broadcast begins with a keyframe; what comes before it is of no use to anybody.
    fn publish(&mut self, raw: RawUnit) -> Result<(), Cause> {
        let now = self.feed.clock.now();
        self.heard = now;
        if !self.flowing {
            let begins = raw.track == Track::Video && raw.keyframe && self.headers.video.is_some();
            if !begins {
                return self.check_keyframe_patience(raw.track, now);
            }
            self.flowing = true;
        }
        let stamp = self.timeline.stamp(raw.track, raw.rtp_time, now);
        let unit = AccessUnit {
            track: raw.track,
            dts: stamp.dts,
            pts: stamp.pts,
            keyframe: raw.keyframe,
            payload: raw.payload,
        };
        lock(&self.feed.figures).add_unit(&unit);
        self.feed.hub.publish(Entry::new(unit, Arc::clone(&self.headers)));
        self.feed.note_flowing();
        Ok(())
    }

    fn check_keyframe_patience(&self, track: Track, now: Duration) -> Result<(), Cause> {
        if track == Track::Video && now.saturating_sub(self.began) > KEYFRAME_PATIENCE {
            let message = format!("Pictures come, but no keyframe for {} s.", KEYFRAME_PATIENCE.as_secs());
            return Err(Cause::new(CauseCode::FeedNoKeyframe, message));
        }
        Ok(())
    }

    fn next_deadline(&self) -> Duration {
        let silence = if self.feed_is_silent() { STALLED_AFTER } else { SILENT_AFTER };
        let media = self.heard + if self.flowing { silence } else { STALLED_AFTER * 2 };
        self.pull.poll_timeout().map_or(media, |deadline| deadline.min(media))
    }

    fn feed_is_silent(&self) -> bool {
        self.feed.clock.now().saturating_sub(self.heard) >= SILENT_AFTER
    }

    fn handle_deadline(&mut self) -> Result<(), Cause> {
        let now = self.feed.clock.now();
        self.pull.handle_timeout(now).map_err(|error| causes::feed(&error))?;
        let lost = self.pull.figures().map(|track| track.reception.lost).sum();
        lock(&self.feed.figures).set_session_loss(lost);
        let silent = now.saturating_sub(self.heard);
        let patience = if self.flowing { STALLED_AFTER } else { STALLED_AFTER * 2 };
        if silent >= patience {
            let message = format!("The connection is open but nothing came for {} s.", patience.as_secs());
            return Err(Cause::new(CauseCode::FeedStalled, message));
        }
        if self.flowing && silent >= SILENT_AFTER {
            self.feed.note_silent();
        }
        Ok(())
    }

    /// Says goodbye, if the socket takes it.
    async fn close(&mut self, stream: &TcpStream) {
        self.pull.close(self.feed.clock.now());
        // A camera that is gone cannot be told.
        let _told = timeout(CLOSE_PATIENCE, self.transmit(stream)).await;
    }
}

/// Duration of one frame in ticks.
fn frame_duration((rate, per): (u32, u32)) -> i64 {
    i64::from(per) * TICKS_PER_SECOND / i64::from(rate.max(1))
}

fn lost(error: &std::io::Error) -> Cause {
    let message = format!("The connection to the camera broke ({error}).");
    Cause::new(CauseCode::FeedClosedByCamera, message)
}

async fn write_all(stream: &TcpStream, mut bytes: &[u8]) -> std::io::Result<()> {
    while !bytes.is_empty() {
        stream.writable().await?;
        match stream.try_write(bytes) {
            Ok(count) => bytes = bytes.split_at(count).1,
            Err(error) if error.kind() == ErrorKind::WouldBlock => {}
            Err(error) => return Err(error),
        }
    }
    Ok(())
}
