//! From drawn frames and sampled sound to the files that the cameras serve.

use std::error::Error;
use std::ffi::OsString;
use std::io::Write as _;
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::Arc;

use bytes::Bytes;
use resvg::tiny_skia::{Pixmap, Transform};
use resvg::usvg::{Options, Tree, fontdb};
use yonder_media::{h264, h265, split_nals};

use crate::scenes::Scene;
use crate::sound::{self, Sound};

/// Length of every loop. 8 s are exactly 375 AAC frames at 48 kHz, so that sound loops without a seam.
pub const LOOP_SECONDS: u32 = 8;
const KEYFRAME_SECONDS: u32 = 2;

pub struct VideoSettings {
    pub file: &'static str,
    /// `h264` or `h265`; also the file's ending.
    pub codec: &'static str,
    pub width: u32,
    pub height: u32,
    pub fps: (u32, u32),
    pub kbps: u32,
    pub options: Vec<&'static str>,
}

pub fn write_video(folder: &Path, scene: Scene, settings: &VideoSettings) -> Result<(), Box<dyn Error>> {
    let mut fonts = fontdb::Database::new();
    fonts.load_system_fonts();
    let options = Options { fontdb: Arc::new(fonts), ..Options::default() };
    let target = folder.join(format!("{}.{}", settings.file, settings.codec));
    let (rate, per) = settings.fps;
    let keyframe = (KEYFRAME_SECONDS * rate / per).to_string();
    let mut encoder = encoder(settings.codec)
        .args(["--input-csp", "i420", "--no-progress"])
        .args(["--input-res", &format!("{}x{}", settings.width, settings.height)])
        .args(["--fps", &format!("{rate}/{per}"), "--bitrate", &settings.kbps.to_string()])
        .args(["--vbv-maxrate", &(settings.kbps * 5 / 4).to_string(), "--vbv-bufsize", &settings.kbps.to_string()])
        .args(["--keyint", &keyframe, "--min-keyint", &keyframe, "--no-scenecut", "--preset", "slow"])
        .args(if settings.codec == "h265" { ["--range", "limited"] } else { ["--range", "tv"] })
        .args(["--colormatrix", "bt709"])
        .args(&settings.options)
        .args(input_and_output(settings.codec, &target))
        .stdin(Stdio::piped())
        .spawn()?;
    let mut input = encoder.stdin.take().ok_or("the encoder takes no input")?;
    let frames = LOOP_SECONDS * rate / per;
    for frame in 0..frames {
        let seconds = f64::from(frame * per) / f64::from(rate);
        let picture = draw(scene, seconds, settings, &options)?;
        input.write_all(&to_i420(&picture))?;
    }
    drop(input);
    if !encoder.wait()?.success() {
        return Err("the encoder failed".into());
    }
    drop_user_data(&target, settings.codec)
}

/// The encoder with what its command line calls by names of its own.
fn encoder(codec: &str) -> Command {
    let (program, own) = match codec {
        "h265" => ("x265", ["--log-level", "error", "--no-info"].as_slice()),
        _ => ("x264", ["--demuxer", "raw", "--quiet"].as_slice()),
    };
    let mut command = Command::new(program);
    command.args(own);
    command
}

fn draw(
    scene: Scene,
    seconds: f64,
    settings: &VideoSettings,
    options: &Options<'_>,
) -> Result<Pixmap, Box<dyn Error>> {
    let svg = scene.svg(seconds, f64::from(LOOP_SECONDS));
    let tree = Tree::from_str(&svg, options)?;
    let mut pixmap = Pixmap::new(settings.width, settings.height).ok_or("no such size")?;
    let scale = settings.width as f32 / tree.size().width();
    resvg::render(&tree, Transform::from_scale(scale, scale), &mut pixmap.as_mut());
    Ok(pixmap)
}

fn input_and_output(codec: &str, target: &Path) -> Vec<OsString> {
    let output = [OsString::from("--output"), target.into()];
    let input: &[&str] = if codec == "h265" { &["--input", "-"] } else { &["-"] };
    output.into_iter().chain(input.iter().map(OsString::from)).collect()
}

/// ITU-R BT.709, limited range, chroma averaged over two by two.
fn to_i420(picture: &Pixmap) -> Vec<u8> {
    let (width, height) = (picture.width() as usize, picture.height() as usize);
    let rgb: Vec<[f32; 3]> = picture
        .data()
        .chunks_exact(4)
        .map(|p| [f32::from(p[0]), f32::from(p[1]), f32::from(p[2])])
        .collect();
    let luma = |p: &[f32; 3]| 0.2126 * p[0] + 0.7152 * p[1] + 0.0722 * p[2];
    let mut out = Vec::with_capacity(width * height * 3 / 2);
    out.extend(rgb.iter().map(|p| (16.0 + luma(p) * 219.0 / 255.0).round() as u8));
    for plane in [2_usize, 0] {
        let spread = if plane == 2 { 1.8556 } else { 1.5748 };
        for y in (0..height).step_by(2) {
            for x in (0..width).step_by(2) {
                let corners = [y * width + x, y * width + x + 1, (y + 1) * width + x, (y + 1) * width + x + 1];
                let mean = corners.iter().map(|at| (rgb[*at][plane] - luma(&rgb[*at])) / spread).sum::<f32>() / 4.0;
                out.push((128.0 + mean * 224.0 / 255.0).round() as u8);
            }
        }
    }
    out
}

fn is_user_data(nal: &[u8], codec: &str) -> bool {
    match codec {
        "h265" => h265::kind_of(nal) == h265::NalKind::PrefixSei,
        _ => h264::kind_of(nal) == h264::NalKind::Sei,
    }
}

/// Takes out supplemental information: encoders sign their work there, and no viewer needs it.
fn drop_user_data(file: &Path, codec: &str) -> Result<(), Box<dyn Error>> {
    let nals = split_nals(&Bytes::from(std::fs::read(file)?));
    let mut out = Vec::new();
    for nal in nals.iter().filter(|nal| !is_user_data(nal, codec)) {
        out.extend_from_slice(&[0, 0, 0, 1]);
        out.extend_from_slice(nal);
    }
    std::fs::write(file, out)?;
    Ok(())
}

pub fn write_sound(folder: &Path, file: &str, sound: Sound) -> Result<(), Box<dyn Error>> {
    use fdk_aac::enc::{AudioObjectType, BitRate, ChannelMode, Encoder, EncoderParams, Transport};
    let encoder = Encoder::new(EncoderParams {
        bit_rate: BitRate::Cbr(96_000),
        sample_rate: sound::RATE,
        transport: Transport::Adts,
        channels: ChannelMode::Stereo,
        audio_object_type: AudioObjectType::Mpeg4LowComplexity,
    })
    .map_err(|error| format!("{error:?}"))?;
    let per_loop = (LOOP_SECONDS * sound::RATE / 1024) as usize;
    let samples = sound(LOOP_SECONDS);
    let mut frames: Vec<Vec<u8>> = Vec::new();
    let mut buffer = [0_u8; 8192];
    // Two rounds: the second begins with the encoder settled, so that its end leads into its beginning.
    for chunk in samples.iter().chain(&samples).chain(&samples).copied().collect::<Vec<i16>>().chunks(2048) {
        let info = encoder.encode(chunk, &mut buffer).map_err(|error| format!("{error:?}"))?;
        if info.output_size > 0 {
            frames.push(buffer[..info.output_size].to_vec());
        }
    }
    let looped: Vec<u8> = frames.iter().skip(per_loop).take(per_loop).flatten().copied().collect();
    std::fs::write(folder.join(format!("{file}.aac")), looped)?;
    Ok(())
}
