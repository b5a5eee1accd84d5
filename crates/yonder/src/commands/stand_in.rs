//! `yonder stand-in …`: a camera or a platform by itself, to rehearse with: switch it off and on, and watch what
//! the service makes of it.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use anyhow::Context as _;
use clap::Subcommand;
use yonder_lab::{Camera, CameraConfig, CameraStream, Platform, PlatformConfig, railway_feeds};

use crate::failure::Failure;
use crate::output::print;
use crate::secrets::Source;
use crate::serve;

/// The one channel of a stand-in platform.
const CHANNEL: &str = "rehearsal";

#[derive(Debug, Subcommand)]
pub(crate) enum StandInCommand {
    /// A camera with the railway's scenes, until interrupted.
    Camera {
        /// Port on this machine's loopback address; 0 picks one.
        #[arg(long, default_value_t = 8554)]
        port: u16,
        /// User name that it asks for.
        #[arg(long, value_name = "NAME", requires = "password_file")]
        user: Option<String>,
        /// File with the password that it asks for.
        #[arg(long, value_name = "FILE", requires = "user")]
        password_file: Option<PathBuf>,
    },
    /// A platform that checks the key and grades what it receives, until interrupted.
    Platform {
        /// Port on this machine's loopback address; 0 picks one.
        #[arg(long, default_value_t = 1935)]
        port: u16,
        /// File with the stream key that it knows.
        #[arg(long, value_name = "FILE")]
        key_file: PathBuf,
    },
}

pub(crate) fn run(command: &StandInCommand) -> Result<(), Failure> {
    serve::start_log("warn");
    let runtime = tokio::runtime::Builder::new_multi_thread()
        .worker_threads(1)
        .enable_all()
        .build()
        .context("the stand-in cannot be started")?;
    runtime.block_on(async {
        match command {
            StandInCommand::Camera { port, user, password_file } => {
                run_camera(*port, user.as_deref(), password_file.as_ref()).await
            }
            StandInCommand::Platform { port, key_file } => run_platform(*port, key_file).await,
        }
    })
}

async fn run_camera(port: u16, user: Option<&str>, password_file: Option<&PathBuf>) -> Result<(), Failure> {
    let password = Source::of(password_file, false).map(|source| source.read_password()).transpose()?;
    let account = user.map(str::to_owned).zip(password.map(yonder_api::Secret::into_inner));
    let mut streams = Vec::new();
    for feed in railway_feeds() {
        streams.push(CameraStream { path: feed.path.into(), media: Arc::new(feed.main()) });
        let sub = feed.sub().map(|(path, media)| CameraStream { path: path.into(), media: Arc::new(media) });
        streams.extend(sub);
    }
    let paths: Vec<String> = streams.iter().map(|stream| stream.path.clone()).collect();
    let camera = Camera::start(CameraConfig { streams, account, port, ..CameraConfig::default() })
        .context("the camera cannot be started")?;
    let addresses: Vec<String> = paths.iter().map(|path| format!("  {}\n", camera.url(path))).collect();
    print(&format!("Stand-in camera at\n{}Ctrl-C switches it off.\n", addresses.concat()));
    serve::stop_signal().await;
    Ok(())
}

async fn run_platform(port: u16, key_file: &Path) -> Result<(), Failure> {
    let key = Source::File(key_file).read_password()?.into_inner();
    let config = PlatformConfig {
        app: "live".to_owned(),
        channels: vec![(CHANNEL.to_owned(), key)],
        port,
        record: false,
    };
    let platform = Platform::start(config).context("the platform cannot be started")?;
    print(&format!(
        "Stand-in platform at {}\nCtrl-C switches it off and prints its grade.\n",
        platform.server()
    ));
    serve::stop_signal().await;
    let Some(report) = platform.report(CHANNEL) else {
        print("Nothing was broadcast.\n");
        return Ok(());
    };
    let grade = if report.is_good() {
        "good".to_owned()
    } else {
        report.findings.iter().map(yonder_lab::Finding::sentence).collect::<Vec<_>>().join("; ")
    };
    let (broadcasts, pictures, kbps) = (report.broadcasts, report.pictures, report.kbps);
    print(&format!("{broadcasts} broadcast(s), {pictures} pictures, {kbps} kbit/s in the last: {grade}\n"));
    Ok(())
}
