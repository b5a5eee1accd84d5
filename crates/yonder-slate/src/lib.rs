//! Slate (holding picture), sent while a feed is away, or on request.
//!
//! H.264 feeds get a still image, encoded once as a GOP that is repeated. Feeds that cannot be encoded here, such as
//! H.265, repeat their last keyframe with their own parameter sets. AAC and G.711 audio continues as silence.

mod card;
mod compress;
mod gop;
mod picture;
mod repeat;
mod saved;

use std::io::Cursor;
use std::num::NonZero;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::{Arc, OnceLock, mpsc};
use std::time::SystemTime;

use image::ImageFormat;
use parking_lot::Mutex;
use tokio::sync::oneshot;
use yonder_media::{FrameRate, VideoCodec};

use yonder_media::Frame;

pub use gop::{SlateGop, SlatePlayer};
pub use picture::{Picture, PictureError};
pub use saved::{SlateFolder, SlateKey};

/// Range of a slate's frame rate.
const FRAME_RATES: (f64, f64) = (5.0, 60.0);
/// Frame rate if the feed's is unknown.
const DEFAULT_FRAME_RATE: f64 = 25.0;
/// Maximum width and height of an encoded slate, in samples.
const MAX_SIDE: u32 = 8_192;
/// Keyframe interval in seconds, accepted by every platform.
const GOP_SECONDS: f64 = 2.0;

/// Parameters of a slate.
#[derive(Debug, Clone)]
pub struct SlateRequest {
    /// The feed's last keyframe, with its headers.
    pub keyframe: Arc<Frame>,
    /// The feed's frame rate.
    pub fps: Option<f64>,
    /// Name of the relay.
    pub name: String,
    /// Since when the feed is away; `None` if an operator requested the hold.
    pub away_since: Option<SystemTime>,
    /// Image of the user, in place of the default one.
    pub picture: Option<Arc<Picture>>,
}

/// Error for a slate that cannot be made.
#[derive(Debug, thiserror::Error)]
pub enum SlateError {
    /// The feed has had no video frame yet.
    #[error("the feed's picture is not known")]
    NoPicture,
    /// The encoder failed.
    #[error("the encoder refused the picture ({0})")]
    Encoder(#[from] openh264::Error),
    /// The encoder's output does not begin with a keyframe.
    #[error("the encoder made no stream")]
    NoStream,
    /// The frame size exceeds the encoder's limit.
    #[error("the size {width}x{height} is beyond the encoder's limits")]
    Size {
        /// Width in samples.
        width: u32,
        /// Height in samples.
        height: u32,
    },
    /// The rendering thread could not be started.
    #[error("the rendering thread could not be started")]
    NoThread,
    /// Rendering panicked.
    #[error("rendering panicked")]
    Panicked,
}

/// Renders a slate as a PNG of 1280×720.
#[must_use]
pub fn holding_preview(name: &str, picture: Option<&Picture>) -> Option<Vec<u8>> {
    let (width, height) = (1_280, 720);
    let image = match picture {
        Some(picture) => picture.fitted(width, height),
        None => card::draw(width, height, name, Some(SystemTime::now())),
    };
    let mut file = Cursor::new(Vec::new());
    image.write_to(&mut file, ImageFormat::Png).ok()?;
    Some(file.into_inner())
}

/// Renders the slate of `request`, with up to a second of CPU time.
///
/// A feed that cannot be encoded here (H.265, or a size beyond the encoder's limit) gets its own last keyframe, repeated.
///
/// # Errors
/// [`SlateError`] if the request contains no video.
fn render(request: &SlateRequest) -> Result<SlateGop, SlateError> {
    let headers = &request.keyframe.headers;
    let video = headers.video.as_ref().ok_or(SlateError::NoPicture)?;
    let facts = video.facts();
    if facts.codec == VideoCodec::H265 {
        return repeat::keyframe(&request.keyframe);
    }
    let declared = facts.frame_rate.map(FrameRate::fps);
    let fps = request.fps.or(declared).unwrap_or(DEFAULT_FRAME_RATE).clamp(FRAME_RATES.0, FRAME_RATES.1);
    // Chroma is subsampled by two, so sizes are even.
    let (width, height) = (facts.width & !1, facts.height & !1);
    let encoded = image_size(width, height).and_then(|()| {
        let image = match &request.picture {
            Some(picture) => picture.fitted(width, height),
            None => card::draw(width, height, &request.name, request.away_since),
        };
        compress::gop(&image, fps, GOP_SECONDS, headers.audio.as_ref())
    });
    encoded.or_else(|error| {
        tracing::warn!(relay = request.name, width, height, %error, "slate not encoded, last keyframe repeated");
        repeat::keyframe(&request.keyframe)
    })
}

/// Checks that the image fits into memory and into a level of the encoder.
fn image_size(width: u32, height: u32) -> Result<(), SlateError> {
    let fits = (16..=MAX_SIDE).contains(&width) && (16..=MAX_SIDE).contains(&height);
    if fits { Ok(()) } else { Err(SlateError::Size { width, height }) }
}

/// Work for the rendering threads.
enum Job {
    Render(SlateRequest, oneshot::Sender<Result<SlateGop, SlateError>>),
    Save { folder: SlateFolder, key: SlateKey, keyframe: Arc<Frame> },
    Remove { folder: SlateFolder, relay: String },
}

impl Job {
    fn run(self) {
        match self {
            Self::Render(request, done) => {
                let rendered = catch_unwind(AssertUnwindSafe(|| render(&request)));
                // The relay may have been stopped meanwhile.
                let _unused = done.send(rendered.unwrap_or(Err(SlateError::Panicked)));
            }
            Self::Save { folder, key, keyframe } => {
                if let Err(error) = folder.save(&key, &keyframe) {
                    tracing::warn!(relay = key.relay, %error, "slate source not saved");
                }
            }
            Self::Remove { folder, relay } => folder.remove(&relay),
        }
    }
}

/// Renders a slate on a dedicated thread, so that neither media nor a busy thread pool delays it.
///
/// # Errors
/// [`SlateError`] if the request contains no video, or the thread cannot be started.
///
/// # Cancel safety
/// When dropped, the result is discarded.
pub async fn render_on_own_thread(request: SlateRequest) -> Result<SlateGop, SlateError> {
    let (done, result) = oneshot::channel();
    submit(Job::Render(request, done))?;
    result.await.unwrap_or(Err(SlateError::NoThread))
}

/// Saves the source of a slate, in the background.
pub fn save(folder: &SlateFolder, key: SlateKey, keyframe: &Arc<Frame>) {
    let relay = key.relay.clone();
    let job = Job::Save { folder: folder.clone(), key, keyframe: Arc::clone(keyframe) };
    if let Err(error) = submit(job) {
        tracing::warn!(relay, %error, "slate source not saved");
    }
}

/// Removes the sources of a relay's slates, in the background, after what was saved before.
pub fn forget(folder: &SlateFolder, relay: &str) {
    // Without a thread nothing was saved.
    let _submitted = submit(Job::Remove { folder: folder.clone(), relay: relay.to_owned() });
}

fn submit(job: Job) -> Result<(), SlateError> {
    static JOBS: OnceLock<Option<mpsc::Sender<Job>>> = OnceLock::new();
    let jobs = JOBS.get_or_init(|| start_renderers().ok()).as_ref().ok_or(SlateError::NoThread)?;
    jobs.send(job).map_err(|_| SlateError::NoThread)
}

/// Starts the rendering threads: one for every two cores.
fn start_renderers() -> std::io::Result<mpsc::Sender<Job>> {
    let (jobs, queue) = mpsc::channel::<Job>();
    let queue = Arc::new(Mutex::new(queue));
    let cores = std::thread::available_parallelism().map_or(1, NonZero::get);
    for number in 0..cores.div_ceil(2) {
        let queue = Arc::clone(&queue);
        std::thread::Builder::new().name(format!("yonder-slate-{number}")).spawn(move || {
            while let Ok(job) = next_job(&queue) {
                job.run();
            }
        })?;
    }
    Ok(jobs)
}

fn next_job(queue: &Mutex<mpsc::Receiver<Job>>) -> Result<Job, mpsc::RecvError> {
    // The queue is consistent even after a panic.
    queue.lock().recv()
}

#[cfg(test)]
mod tests {
    use super::*;
    use bytes::Bytes;
    use yonder_media::Frame;
    use yonder_media::h264::ParameterSets;
    use yonder_media::{AccessUnit, Payload, StreamHeaders, Track, VideoConfig};

    /// Returns a keyframe with a sequence parameter set for 9600x16 samples, beyond the encoder's limit.
    fn oversized() -> Arc<Frame> {
        let mut sets = ParameterSets::default();
        // Profile 66, level 6.2, 600 x 1 macroblocks.
        sets.take(&Bytes::from_static(&[103, 66, 192, 62, 218, 0, 37, 142, 64]));
        sets.take(&Bytes::from_static(&[0x68, 0xce, 0x3c, 0x80]));
        let config = sets.config().expect("parameter sets of a wide picture");
        let headers = StreamHeaders { video: Some(VideoConfig::H264(config)), audio: None };
        let payload = Payload::Nals(vec![Bytes::from_static(&[0x65, 1, 2, 3])]);
        let unit = AccessUnit { track: Track::Video, dts: 0, pts: 0, keyframe: true, payload };
        Arc::new(Frame::new(unit, Arc::new(headers)))
    }

    #[test]
    fn feed_that_cannot_be_encoded_repeats_its_keyframe() {
        let keyframe = oversized();
        let request = SlateRequest {
            keyframe: Arc::clone(&keyframe),
            fps: Some(25.0),
            name: "Viaduct".into(),
            away_since: None,
            picture: None,
        };
        let gop = render(&request).unwrap();
        assert!(Arc::ptr_eq(&gop.headers, &keyframe.headers));
        let mut player = SlatePlayer::new(gop, 0);
        assert_eq!(player.next_unit().payload, keyframe.unit.payload);
        assert!(player.next_unit().keyframe);
    }
}
