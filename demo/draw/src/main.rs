//! Draws the railway's scenes and encodes them for the stand-in cameras. See the README beside it.

mod encode;
mod scenery;
mod scenes;
mod sound;

use std::path::PathBuf;
use std::process::ExitCode;

use encode::VideoSettings;
use scenes::Scene;

/// The encoder programs, by codec.
const H264: &str = "h264";
const H265: &str = "h265";

/// What is written: scene, size, rate, bits, and the encoder's options.
fn videos() -> Vec<(Scene, VideoSettings)> {
    let video = |scene, file, width, height, fps: (u32, u32), kbps, options: &[&'static str]| {
        (scene, VideoSettings { file, codec: H264, width, height, fps, kbps, options: options.to_vec() })
    };
    let plain = ["--profile", "high", "--bframes", "0"];
    let (tunnel, settings) = video(
        Scene::Viaduct,
        "viaduct-hevc",
        1280,
        720,
        (25, 1),
        500,
        &["--bframes", "3", "--b-pyramid", "--no-open-gop", "--slices", "2"],
    );
    vec![
        (tunnel, VideoSettings { codec: H265, ..settings }),
        video(Scene::Summit, "summit-main", 1280, 720, (25, 1), 1900, &plain),
        video(Scene::Summit, "summit-sub", 640, 360, (25, 2), 320, &["--profile", "baseline"]),
        video(Scene::Viaduct, "viaduct", 1280, 720, (25, 1), 900, &["--profile", "main", "--bframes", "0"]),
        video(
            Scene::EngineShed,
            "engine-shed",
            1280,
            720,
            (20, 1),
            800,
            &["--profile", "high", "--bframes", "0", "--slices", "4"],
        ),
        video(
            Scene::Bandstand,
            "bandstand",
            1920,
            1080,
            (30, 1),
            1500,
            &["--profile", "high", "--bframes", "2", "--b-adapt", "0"],
        ),
        video(Scene::LevelCrossing, "level-crossing", 1920, 1080, (6, 1), 900, &plain),
    ]
}

/// One drawn frame as text, to look at without encoding: `--svg FILE SECONDS`.
fn print_svg(arguments: &[String]) -> ExitCode {
    let [file, seconds] = arguments else { return ExitCode::from(2) };
    let scene = videos().into_iter().find(|(_, settings)| settings.file == file).map(|(scene, _)| scene);
    let (Some(scene), Ok(seconds)) = (scene, seconds.parse::<f64>()) else { return ExitCode::from(2) };
    println!("{}", scene.svg(seconds, f64::from(encode::LOOP_SECONDS)));
    ExitCode::SUCCESS
}

fn main() -> ExitCode {
    let mut arguments = std::env::args().skip(1).peekable();
    if arguments.next_if_eq("--svg").is_some() {
        return print_svg(&arguments.collect::<Vec<_>>());
    }
    let Some(folder) = arguments.next().map(PathBuf::from) else {
        eprintln!("usage: yonder-draw FOLDER [FILE]");
        return ExitCode::from(2);
    };
    let only = arguments.next();
    let wanted = |file: &str| only.as_deref().is_none_or(|only| only == file);
    for (scene, settings) in videos().into_iter().filter(|(_, settings)| wanted(settings.file)) {
        if let Err(error) = encode::write_video(&folder, scene, &settings) {
            eprintln!("{}: {error}", settings.file);
            return ExitCode::FAILURE;
        }
        println!("{} done", settings.file);
    }
    for (file, sound) in [("summit-main", sound::summit as sound::Sound), ("bandstand", sound::bandstand)] {
        if wanted(file) && let Err(error) = encode::write_sound(&folder, file, sound) {
            eprintln!("{file}: {error}");
            return ExitCode::FAILURE;
        }
    }
    ExitCode::SUCCESS
}
