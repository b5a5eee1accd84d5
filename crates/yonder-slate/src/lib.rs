//! Slate (holding picture): shown by a broadcast while its feed is away, or on request.
//!
//! H.264 feeds get a still image, encoded once as one GOP that is repeated. Feeds that cannot be encoded here, such as
//! H.265, repeat their last keyframe in their own parameter sets. AAC and G.711 audio continues as silence.

mod card;
mod compress;
mod gop;
mod picture;
mod repeat;
mod saved;

use std::io::Cursor;
use std::num::NonZero;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::{Arc, Mutex, OnceLock, PoisonError, mpsc};
use std::time::SystemTime;

use image::ImageFormat;
use tokio::sync::oneshot;
use yonder_media::VideoCodec;

use yonder_media::Frame;

pub use gop::{SlateGop, SlatePlayer};
pub use picture::{Picture, PictureError};
pub use saved::SlateFolder;

/// Frame rates that a holding picture is sent at.
const FRAME_RATES: (f64, f64) = (5.0, 60.0);
/// Frame rate where the feed's is not known.
const DEFAULT_FRAME_RATE: f64 = 25.0;
/// Largest width and height that is drawn and encoded, in samples.
const MAX_SIDE: u32 = 8_192;
/// Seconds from keyframe to keyframe: what every platform takes.
const GOP_SECONDS: f64 = 2.0;

/// Parameters of a slate.
#[derive(Debug, Clone)]
pub struct SlateRequest {
    /// The feed's last keyframe, with its headers.
    pub keyframe: Arc<Frame>,
    /// Its frame rate.
    pub fps: Option<f64>,
    /// Name of the relay.
    pub name: String,
    /// Since when the feed is away; `None` when a person wants the picture.
    pub away_since: Option<SystemTime>,
    /// A picture of the user's own.
    pub picture: Option<Arc<Picture>>,
}

/// Why a slate could not be made.
#[derive(Debug, thiserror::Error)]
pub enum SlateError {
    /// The feed has no picture yet.
    #[error("the feed's picture is not known")]
    NoPicture,
    /// The encoder refused it.
    #[error("the encoder refused the picture ({0})")]
    Encoder(#[from] openh264::Error),
    /// The encoder's output is not a stream that starts with a keyframe.
    #[error("the encoder made no stream")]
    NoStream,
    /// The feed's size is beyond what is encoded here.
    #[error("the size {width}x{height} is beyond the encoder's limits")]
    Size {
        /// Samples.
        width: u32,
        /// Samples.
        height: u32,
    },
    /// The rendering thread cannot be started.
    #[error("the rendering thread could not be started")]
    NoThread,
    /// Rendering panicked.
    #[error("rendering panicked")]
    Panicked,
}

/// Renders the slate as a PNG of 1280×720.
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

/// Makes the slate for `request`. Takes up to a second of CPU time.
///
/// A feed that cannot be encoded here (H.265, or a size that the encoder refuses) gets its own last keyframe, repeated.
///
/// # Errors
/// [`SlateError`] when the request holds no video.
fn render(request: &SlateRequest) -> Result<SlateGop, SlateError> {
    let headers = &request.keyframe.headers;
    let video = headers.video.as_ref().ok_or(SlateError::NoPicture)?;
    let facts = video.facts();
    if facts.codec == VideoCodec::H265 {
        return repeat::keyframe(&request.keyframe);
    }
    let declared = facts.frame_rate.map(|(rate, per)| f64::from(rate) / f64::from(per.max(1)));
    let fps = request.fps.or(declared).unwrap_or(DEFAULT_FRAME_RATE).clamp(FRAME_RATES.0, FRAME_RATES.1);
    // Chroma is subsampled by two: sizes are even.
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

/// Refuses sizes whose image would not fit into memory or into any level of the encoder.
fn image_size(width: u32, height: u32) -> Result<(), SlateError> {
    let fits = (16..=MAX_SIDE).contains(&width) && (16..=MAX_SIDE).contains(&height);
    if fits { Ok(()) } else { Err(SlateError::Size { width, height }) }
}

/// Work for the rendering threads.
enum Job {
    Render(SlateRequest, oneshot::Sender<Result<SlateGop, SlateError>>),
    Save { folder: SlateFolder, relay: String, keyframe: Arc<Frame> },
    Remove { folder: SlateFolder, relay: String },
}

impl Job {
    fn run(self) {
        match self {
            Self::Render(request, done) => {
                let rendered = catch_unwind(AssertUnwindSafe(|| render(&request)));
                // A relay that has ended does not wait for its slate any more.
                let _unused = done.send(rendered.unwrap_or(Err(SlateError::Panicked)));
            }
            Self::Save { folder, relay, keyframe } => {
                if let Err(error) = folder.save(&relay, &keyframe) {
                    tracing::warn!(relay, %error, "slate source not saved");
                }
            }
            Self::Remove { folder, relay } => folder.remove(&relay),
        }
    }
}

/// Renders a slate on a thread that does nothing else, so that neither media nor a busy thread pool delays it.
///
/// # Errors
/// [`SlateError`] when the request holds no video, and when the thread cannot be started.
///
/// # Cancel safety
/// When dropped, the result is thrown away once it is there.
pub async fn render_on_own_thread(request: SlateRequest) -> Result<SlateGop, SlateError> {
    let (done, result) = oneshot::channel();
    submit(Job::Render(request, done))?;
    result.await.unwrap_or(Err(SlateError::NoThread))
}

/// Saves the source of a relay's slate, in the background.
pub fn save(folder: &SlateFolder, relay: &str, keyframe: &Arc<Frame>) {
    let job = Job::Save { folder: folder.clone(), relay: relay.to_owned(), keyframe: Arc::clone(keyframe) };
    if let Err(error) = submit(job) {
        tracing::warn!(relay, %error, "slate source not saved");
    }
}

/// Removes the source of a relay's slate, in the background, after what was saved before.
pub fn forget(folder: &SlateFolder, relay: &str) {
    // Without a thread nothing was saved.
    let _submitted = submit(Job::Remove { folder: folder.clone(), relay: relay.to_owned() });
}

fn submit(job: Job) -> Result<(), SlateError> {
    static JOBS: OnceLock<Option<mpsc::Sender<Job>>> = OnceLock::new();
    let jobs = JOBS.get_or_init(|| start_renderers().ok()).as_ref().ok_or(SlateError::NoThread)?;
    jobs.send(job).map_err(|_| SlateError::NoThread)
}

/// Starts the rendering threads: one for each two cores.
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
    // A queue is consistent also after a panic.
    queue.lock().unwrap_or_else(PoisonError::into_inner).recv()
}

#[cfg(test)]
mod tests {
    use super::*;
    use bytes::Bytes;
    use yonder_media::Frame;
    use yonder_media::h264::ParameterSets;
    use yonder_media::{AccessUnit, Payload, StreamHeaders, Track, VideoConfig};

    /// A keyframe whose sequence parameter set declares 9600x16 samples, beyond the encoder's limits.
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
