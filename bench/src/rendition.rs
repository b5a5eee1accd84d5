//! Cost, delay and quality of renditions, on the scenes of the stand-in cameras.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use anyhow::Context as _;
use fast_image_resize::images::{TypedImage, TypedImageRef};
use fast_image_resize::pixels::U8;
use fast_image_resize::{FilterType, ResizeAlg, ResizeOptions, Resizer};
use nix::time::{ClockId, clock_gettime};
use openh264::decoder::{DecodeOptions, Decoder, Flush};
use openh264::formats::YUVSource as _;
use yonder_codec::{AudioTarget, RenditionTarget, RenditionTranscoder, VideoTarget};
use yonder_media::{AccessUnit, Frame, Payload, StreamHeaders, Track, VideoCodec, VideoConfig};
use yonder_sim::{LoopMedia, railway_feeds, tunnel_media};

/// Side of the windows of SSIM, in samples.
const WINDOW: usize = 8;

/// Measures renditions of all scenes; `loops` repetitions of eight seconds each.
pub(crate) fn run(loops: i64) -> anyhow::Result<()> {
    let find =
        |name: &str| railway_feeds().into_iter().find(|feed| feed.name == name).map(|feed| feed.main());
    let g711 = find("Signal Box").context("the Signal Box")?;
    let audio = AudioTarget { sample_rate: 48_000, channels: 1, kbps: 64 };
    measure("G.711 → AAC 48 kHz mono", &g711, RenditionTarget { audio: Some(audio), video: None }, loops)?;
    let aac = find("Summit Station").context("the Summit")?;
    let stereo = AudioTarget { sample_rate: 44_100, channels: 2, kbps: 128 };
    measure("AAC 48 → 44.1 kHz stereo", &aac, RenditionTarget { audio: Some(stereo), video: None }, loops)?;
    for (name, media, width, height, kbps) in [
        ("Summit 720 lines H.264 → 720 lines", find("Summit Station"), 1_280, 720, 2_500),
        ("Bandstand 1080 lines H.264 → 720 lines", find("Bandstand"), 1_280, 720, 2_500),
        ("Bandstand 1080 lines H.264 → 360 lines", find("Bandstand"), 640, 360, 800),
        ("Tunnel 720 lines H.265 → 720 lines", Some(tunnel_media()), 1_280, 720, 2_500),
    ] {
        let media = media.context(name)?;
        let fps = media.frame_rate.fps();
        let video = VideoTarget { width, height, frame_divisor: 1, fps, kbps, keyframe_interval_s: 2.0 };
        measure(name, &media, RenditionTarget { video: Some(video), audio: None }, loops)?;
    }
    Ok(())
}

#[expect(clippy::print_stdout, reason = "the figures")]
fn measure(name: &str, media: &LoopMedia, target: RenditionTarget, loops: i64) -> anyhow::Result<()> {
    let frames = frames(media, loops, target.audio.is_some());
    let span_s = frames.last().map_or(1.0, |frame| frame.unit.dts as f64 / 90_000.0);
    let mut transcoder = RenditionTranscoder::new(target)?;
    let (mut times, mut delays, mut made) = (Vec::new(), Vec::new(), Vec::new());
    let begin = cpu_time()?;
    for frame in &frames {
        let at = Instant::now();
        transcoder.push(frame)?;
        while let Some(out) = transcoder.next_frame() {
            delays.push(frame.unit.dts.max(frame.unit.pts) - out.unit.pts);
            made.push(out);
        }
        times.push(at.elapsed());
    }
    let cores = (cpu_time()? - begin).as_secs_f64() / span_s;
    times.sort_unstable();
    delays.sort_unstable();
    let milliseconds = |percent: usize| times[(times.len() - 1) * percent / 100].as_secs_f64() * 1e3;
    let bytes: usize =
        made.iter().filter(|out| is_encoded(out, &target)).map(|out| out.unit.payload.len()).sum();
    let mut line = format!(
        "{name}: {cores:.3} cores, {:.0} kbit/s, per frame p50 {:.1} ms p99 {:.1} ms, media delay p50 {} ms",
        bytes as f64 * 0.008 / span_s,
        milliseconds(50),
        milliseconds(99),
        delays.get(delays.len() / 2).copied().unwrap_or_default() / 90,
    );
    // The bench has no decoder of H.265 for the source.
    if let Some(video) = target.video.filter(|_| media.video.codec() == VideoCodec::H264) {
        let (psnr, ssim) = quality(media, &frames, &made, &video)?;
        line += &format!(", PSNR {psnr:.1} dB, SSIM {ssim:.4}");
    }
    println!("{line}");
    Ok(())
}

fn is_encoded(frame: &Frame, target: &RenditionTarget) -> bool {
    match frame.unit.track {
        Track::Video => target.video.is_some(),
        Track::Audio => target.audio.is_some(),
    }
}

/// Returns the frames of a scene in the order of arrival.
fn frames(media: &LoopMedia, loops: i64, with_audio: bool) -> Vec<Frame> {
    let audio = media.audio.as_ref().filter(|_| with_audio);
    let headers = std::sync::Arc::new(StreamHeaders {
        video: Some(media.video.clone()),
        audio: audio.map(|audio| audio.config.clone()),
    });
    let length = i64::try_from(media.frames.len()).unwrap_or(1);
    let delay =
        media.frames.iter().zip(0_i64..).map(|(frame, at)| at - frame.shown).max().unwrap_or_default();
    let mut frames = Vec::new();
    let mut add = |track, dts, pts, keyframe, payload| {
        frames.push(Frame::new(AccessUnit { track, dts, pts, keyframe, payload }, headers.clone()));
    };
    for turn in 0..loops {
        for (frame, at) in media.frames.iter().zip(0_i64..) {
            let dts = media.picture_time(turn * length + at);
            let pts = media.picture_time(turn * length + frame.shown + delay);
            add(Track::Video, dts, pts, frame.keyframe, Payload::Nals(frame.nals.clone()));
        }
        for (frame, at) in audio.iter().flat_map(|audio| &audio.frames).zip(0_i64..) {
            let Some(audio) = audio else { continue };
            let ticks = at * i64::from(audio.samples) * 90_000 / i64::from(audio.config.sample_rate());
            let dts = media.picture_time(turn * length) + ticks;
            add(Track::Audio, dts, dts, true, Payload::Frame(frame.clone()));
        }
    }
    frames.sort_by_key(|frame| frame.unit.dts);
    frames
}

/// Returns the mean PSNR in decibels and the mean SSIM of the luma, against the source that was scaled by another filter.
fn quality(
    media: &LoopMedia,
    source: &[Frame],
    made: &[std::sync::Arc<Frame>],
    video: &VideoTarget,
) -> anyhow::Result<(f64, f64)> {
    let expected = luma(&media.video, source.iter().map(|frame| &frame.unit), video)?;
    let config = made.iter().find_map(|frame| frame.headers.video.clone()).context("nothing was made")?;
    let result = luma(&config, made.iter().map(|frame| &frame.unit), video)?;
    let (mut psnrs, mut ssims) = (Vec::new(), Vec::new());
    for (pts, made) in &result {
        let Some(expected) = expected.get(pts) else { continue };
        psnrs.push(psnr(expected, made));
        ssims.push(ssim(expected, made, video.width as usize));
    }
    let mean = |values: &[f64]| values.iter().sum::<f64>() / values.len().max(1) as f64;
    Ok((mean(&psnrs), mean(&ssims)))
}

/// Decodes the video of a stream, and returns the luma of its pictures by presentation time, scaled.
fn luma<'a>(
    config: &VideoConfig,
    units: impl Iterator<Item = &'a AccessUnit>,
    video: &VideoTarget,
) -> anyhow::Result<BTreeMap<i64, Vec<u8>>> {
    let mut decoder = Decoder::new()?;
    let mut resizer = Resizer::new();
    let mut waiting = std::collections::BTreeSet::new();
    let mut pictures = BTreeMap::new();
    for unit in units.filter(|unit| unit.track == Track::Video) {
        let Payload::Nals(nals) = &unit.payload else { continue };
        let sets = config.parameter_sets().filter(|_| unit.keyframe);
        let stream: Vec<u8> =
            sets.chain(nals).flat_map(|nal| [0, 0, 0, 1].into_iter().chain(nal.iter().copied())).collect();
        waiting.insert(unit.pts);
        let options = DecodeOptions::new().flush_after_decode(Flush::NoFlush);
        let Some(picture) = decoder.decode_with_options(&stream, options)? else { continue };
        let Some(pts) = waiting.pop_first() else { continue };
        let (width, height) = picture.dimensions();
        let stride = picture.strides().0;
        let packed: Vec<u8> =
            picture.y().chunks(stride).take(height).flat_map(|line| &line[..width]).copied().collect();
        let source = TypedImageRef::<U8>::from_buffer(width.try_into()?, height.try_into()?, &packed)?;
        let mut scaled = vec![0; video.width as usize * video.height as usize];
        let mut target = TypedImage::<U8>::from_buffer(video.width, video.height, &mut scaled)?;
        let options = ResizeOptions::new().resize_alg(ResizeAlg::Convolution(FilterType::Lanczos3));
        resizer.resize_typed(&source, &mut target, &options)?;
        pictures.insert(pts, scaled);
    }
    Ok(pictures)
}

fn psnr(one: &[u8], other: &[u8]) -> f64 {
    let squares: f64 = one.iter().zip(other).map(|(a, b)| (f64::from(*a) - f64::from(*b)).powi(2)).sum();
    10.0 * (255.0_f64.powi(2) * one.len() as f64 / squares.max(1e-9)).log10()
}

/// Returns the structural similarity, over windows that do not overlap.
fn ssim(one: &[u8], other: &[u8], width: usize) -> f64 {
    let height = one.len() / width;
    let (c1, c2) = ((0.01 * 255.0_f64).powi(2), (0.03 * 255.0_f64).powi(2));
    let (mut sum, mut count) = (0.0, 0.0);
    for top in (0..height.saturating_sub(WINDOW - 1)).step_by(WINDOW) {
        for left in (0..width.saturating_sub(WINDOW - 1)).step_by(WINDOW) {
            let (mut a, mut b, mut aa, mut bb, mut ab) = (0.0, 0.0, 0.0, 0.0, 0.0);
            for line in top..top + WINDOW {
                let range = line * width + left..line * width + left + WINDOW;
                for (x, y) in one[range.clone()].iter().zip(&other[range]) {
                    let (x, y) = (f64::from(*x), f64::from(*y));
                    a += x;
                    b += y;
                    aa += x * x;
                    bb += y * y;
                    ab += x * y;
                }
            }
            let n = (WINDOW * WINDOW) as f64;
            let (a, b) = (a / n, b / n);
            let (aa, bb, ab) = (aa / n - a * a, bb / n - b * b, ab / n - a * b);
            sum += (2.0 * a * b + c1) * (2.0 * ab + c2) / ((a * a + b * b + c1) * (aa + bb + c2));
            count += 1.0;
        }
    }
    sum / f64::max(count, 1.0)
}

fn cpu_time() -> anyhow::Result<Duration> {
    Ok(Duration::from(clock_gettime(ClockId::CLOCK_THREAD_CPUTIME_ID)?))
}
