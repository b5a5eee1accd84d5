//! `yonder stand-in …`: a single camera, platform or encoder for rehearsals, which can be switched off and on.

use std::fs;
use std::path::{Path, PathBuf};
use std::pin::pin;
use std::sync::Arc;

use anyhow::Context as _;
use clap::Subcommand;
use secrecy::SecretString;
use tokio::sync::mpsc;
use yonder_address::{KeyLength, Passphrase, StreamKey, read_server};
use yonder_sim::{
    CAMERA_COMMANDS, Camera, CameraConfig, CameraStream, Certificate, Device, DeviceConfig, DeviceProfile,
    ENCODER_COMMANDS, Encoder, EncoderConfig, EncoderQuirk, EncoderState, LoopMedia, PLATFORM_COMMANDS,
    Platform, PlatformConfig, SrtConfig, SrtEncryption, TestAuthority, railway_feeds, tunnel_media,
};

use crate::failure::Failure;
use crate::logging::Log;
use crate::output::print;
use crate::secrets::Source;
use crate::serve::StopSignal;

/// Channel of a stand-in platform.
const CHANNEL: &str = "rehearsal";
/// Path of the stand-in camera's H.265 stream.
const TUNNEL: &str = "/tunnel";

#[derive(Debug, Subcommand)]
pub(crate) enum StandInCommand {
    /// Run a camera with demo scenes until interrupted. Standard input accepts commands that inject faults: type `help`.
    Camera {
        /// Port on the loopback address; 0 picks one.
        #[arg(long, default_value_t = 8554)]
        port: u16,
        /// Port of its ONVIF device service; 0 picks one.
        #[arg(long, default_value_t = 0)]
        device_port: u16,
        /// Answer probes in the local network as well.
        #[arg(long)]
        findable: bool,
        /// Required user name.
        #[arg(long, value_name = "NAME", requires = "password_file")]
        user: Option<String>,
        /// File with the required password.
        #[arg(long, value_name = "FILE", requires = "user")]
        password_file: Option<PathBuf>,
    },
    /// Run a platform that checks the stream key and grades the received stream, until interrupted. Standard input
    /// accepts commands that inject faults: type `help`.
    Platform {
        /// Port on the loopback address; 0 picks one.
        #[arg(long, default_value_t = 1935)]
        port: u16,
        /// File with the valid stream key.
        #[arg(long, value_name = "FILE")]
        key_file: PathBuf,
        /// Port for RTMPS, with a certificate of a test authority; 0 picks one.
        #[arg(long, value_name = "PORT", requires = "authority")]
        tls_port: Option<u16>,
        /// File for the certificate of the test authority.
        #[arg(long, value_name = "CA.pem", requires = "tls_port")]
        authority: Option<PathBuf>,
        /// Port for SRT; 0 picks one.
        #[arg(long, value_name = "PORT")]
        srt_port: Option<u16>,
        /// File with the passphrase for SRT publishers.
        #[arg(long, value_name = "FILE", requires = "srt_port")]
        passphrase_file: Option<PathBuf>,
    },
    /// Run an encoder that publishes a demo scene to a server, until interrupted. Standard input accepts commands that inject
    /// faults: type `help`.
    Encoder {
        /// Server address: rtmp://, rtmps:// (any certificate is accepted) or srt://.
        #[arg(long, value_name = "URL")]
        server: String,
        /// File with the stream key.
        #[arg(long, value_name = "FILE")]
        key_file: PathBuf,
        /// File with the passphrase for SRT.
        #[arg(long, value_name = "FILE")]
        passphrase_file: Option<PathBuf>,
        /// Length of the SRT encryption key, in bits.
        #[arg(long, default_value_t = 128, value_name = "BITS", requires = "passphrase_file")]
        key_length: u16,
    },
}

pub(crate) fn run(command: &StandInCommand) -> Result<(), Failure> {
    let _log = Log::start("warn");
    let runtime = tokio::runtime::Builder::new_multi_thread()
        .worker_threads(1)
        .enable_all()
        .build()
        .context("the stand-in cannot be started")?;
    runtime.block_on(async {
        match command {
            StandInCommand::Camera { port, device_port, findable, user, password_file } => {
                let account = account_of(user.as_deref(), password_file.as_ref())?;
                run_camera(*port, *device_port, *findable, account).await
            }
            StandInCommand::Platform { port, key_file, tls_port, authority, srt_port, passphrase_file } => {
                let key = Source::File(key_file).read_password()?.into_inner();
                let tls = tls_of(*tls_port, authority.as_deref())?;
                let srt = srt_of(*srt_port, passphrase_file.as_ref())?;
                run_platform(PlatformConfig {
                    app: "live".to_owned(),
                    channels: vec![(CHANNEL.to_owned(), key)],
                    port: *port,
                    tls,
                    srt,
                    ..PlatformConfig::default()
                })
                .await
            }
            StandInCommand::Encoder { server, key_file, passphrase_file, key_length } => {
                let key = Source::File(key_file).read_password()?.into_inner();
                run_encoder(server, key, passphrase_file.as_ref(), *key_length).await
            }
        }
    })
}

async fn run_encoder(
    server: &str,
    key: SecretString,
    passphrase_file: Option<&PathBuf>,
    key_length: u16,
) -> Result<(), Failure> {
    let (server, _) = read_server(server).map_err(|error| Failure::Usage(format!("--server: {error}")))?;
    let key_length = KeyLength::from_bits(key_length)
        .ok_or_else(|| Failure::Usage("--key-length is 128, 192 or 256".to_owned()))?;
    let encryption = match Source::of(passphrase_file, false)
        .map(|source| source.read_password())
        .transpose()?
    {
        Some(text) => {
            let refused = |error| Failure::Usage(format!("--passphrase-file: {error}"));
            Some(SrtEncryption { passphrase: Passphrase::parse(text.expose()).map_err(refused)?, key_length })
        }
        None => None,
    };
    let scene = |name: &str| {
        let feed = railway_feeds().into_iter().find(|feed| feed.name == name);
        feed.map(|feed| Arc::new(feed.main())).context("the scene is missing")
    };
    let (media, other) = (scene("Bandstand")?, scene("Viaduct")?);
    let encoder =
        Encoder::start(EncoderConfig { server, key: StreamKey::from_stored(key), encryption, media });
    print("Stand-in encoder.\nType `help` for the commands that inject faults; Ctrl-C ends the broadcast.\n");
    let mut lines = spoken_lines();
    let mut stop = pin!(StopSignal::listen().heard());
    let mut shown = EncoderState::Idle;
    loop {
        tokio::select! {
            () = &mut stop => {
                encoder.change(|faults| faults.off = true);
                // Time for the end in order.
                tokio::time::sleep(std::time::Duration::from_millis(700)).await;
                return Ok(());
            }
            () = tokio::time::sleep(std::time::Duration::from_millis(200)) => {
                let state = encoder.state();
                if state != shown {
                    print(&match &state {
                        EncoderState::Idle => "Off.\n".to_owned(),
                        EncoderState::Live => "Live.\n".to_owned(),
                        EncoderState::Failed(reason) => format!("Failed: {reason}\n"),
                    });
                    shown = state;
                }
            }
            Some(line) = lines.recv() => match line.trim() {
                "" => {}
                "help" => {
                    let rows = ENCODER_COMMANDS.iter();
                    let rows: Vec<String> = rows.map(|(words, meaning)| format!("  {words:<18} {meaning}\n")).collect();
                    print(&rows.concat());
                }
                line => {
                    let done = encoder.apply_command(line, &other);
                    print(&done.map_or_else(|error| format!("{error}\n"), |()| "Done.\n".to_owned()));
                }
            },
        }
    }
}

fn account_of(
    user: Option<&str>,
    password_file: Option<&PathBuf>,
) -> Result<Option<(String, SecretString)>, Failure> {
    let password = Source::of(password_file, false).map(|source| source.read_password()).transpose()?;
    Ok(user.map(str::to_owned).zip(password.map(yonder_api::Secret::into_inner)))
}

async fn run_camera(
    port: u16,
    device_port: u16,
    findable: bool,
    account: Option<(String, SecretString)>,
) -> Result<(), Failure> {
    let mut streams = Vec::new();
    for feed in railway_feeds() {
        streams.push(CameraStream { path: feed.path.into(), media: Arc::new(feed.main()) });
        let sub = feed.sub().map(|(path, media)| CameraStream { path: path.into(), media: Arc::new(media) });
        streams.extend(sub);
    }
    let tunnel = Arc::new(tunnel_media());
    streams.push(CameraStream { path: TUNNEL.into(), media: Arc::clone(&tunnel) });
    let other =
        streams.iter().find(|stream| stream.path == "/bandstand").map(|stream| Arc::clone(&stream.media));
    let described = streams.clone();
    let config = CameraConfig { streams, account: account.clone(), port, ..CameraConfig::default() };
    let camera = Camera::start(config).context("the camera cannot be started")?;
    let device = start_device(&camera, &described, account, device_port, findable).await?;
    let addresses: Vec<String> =
        described.iter().map(|stream| format!("  {}\n", camera.url(&stream.path))).collect();
    print(&format!(
        "Stand-in camera at\n{}Found by: yonder feed find --at {}\nType `help` for the commands that inject faults; Ctrl-C switches it off.\n",
        addresses.concat(),
        device.address()
    ));
    let mut lines = spoken_lines();
    let mut stop = pin!(StopSignal::listen().heard());
    loop {
        tokio::select! {
            () = &mut stop => return Ok(()),
            line = lines.recv() => match line {
                Some(line) => say(&line, &camera, &device, other.as_ref().unwrap_or(&tunnel)).await,
                // Without interactive input, it runs unchanged.
                None => {
                    stop.await;
                    return Ok(());
                }
            },
        }
    }
}

/// Returns the lines of standard input. Reading blocks, so it has its own thread, for which the process does not wait.
fn spoken_lines() -> mpsc::Receiver<String> {
    let (sender, receiver) = mpsc::channel(8);
    std::thread::spawn(move || {
        for line in std::io::stdin().lines().map_while(Result::ok) {
            if sender.blocking_send(line).is_err() {
                return;
            }
        }
    });
    receiver
}

/// Executes a command, and prints the result.
async fn say(line: &str, camera: &Camera, device: &Device, other: &Arc<LoopMedia>) {
    let answer = match line.trim() {
        "" => return,
        "help" => {
            let words: Vec<String> =
                CAMERA_COMMANDS.iter().map(|(words, meaning)| format!("  {words:<38} {meaning}\n")).collect();
            format!(
                "  {:<38} {}\n  {:<38} {}\n{}",
                "off | on",
                "close the port and cut viewers off | serve again",
                "encoder none|refuses|read-only|rounds|restart|elsewhere|elsewhere-once|ignores",
                "how it deviates when its encoders are configured",
                words.concat()
            )
        }
        "off" => {
            device.restart();
            camera.switch_off().await;
            "Off.\n".to_owned()
        }
        "on" => camera
            .switch_on()
            .map_or_else(|error| format!("It stays off: {error}\n"), |()| "On.\n".to_owned()),
        line if line.starts_with("encoder ") => {
            let name = line.trim_start_matches("encoder ").trim();
            let quirk = EncoderQuirk::from_name(name);
            quirk.map_or_else(
                || format!("{name:?} is no deviation; say help\n"),
                |quirk| {
                    device.set_encoder_quirk(quirk);
                    "Done.\n".to_owned()
                },
            )
        }
        line => {
            let mut result = Ok(());
            camera.change(|faults| result = faults.apply_command(line, other));
            result.map_or_else(|error| format!("{error}\n"), |()| "Done.\n".to_owned())
        }
    };
    print(&answer);
}

/// Starts the ONVIF device of a stand-in camera, with the camera's streams.
async fn start_device(
    camera: &Camera,
    streams: &[CameraStream],
    account: Option<(String, SecretString)>,
    port: u16,
    answers_probes: bool,
) -> Result<Device, Failure> {
    let profiles = streams.iter().map(|stream| DeviceProfile::of_stream(stream, camera)).collect();
    let config = DeviceConfig {
        name: "Hollow Fell".into(),
        model: "Fellside 2".into(),
        profiles,
        account,
        has_media2: true,
        answers_probes,
        encoders: Some(camera.encoders()),
        port,
        ..DeviceConfig::default()
    };
    Ok(Device::start(config).await.context("the camera's device service cannot be started")?)
}

/// Issues a certificate for this machine, and writes that of its authority to a file.
fn tls_of(port: Option<u16>, file: Option<&Path>) -> Result<Option<(u16, Certificate)>, Failure> {
    let (Some(port), Some(file)) = (port, file) else { return Ok(None) };
    let authority = TestAuthority::new().context("no authority can be made")?;
    let certificate = authority.issue("localhost").context("no certificate can be made")?;
    fs::write(file, authority.pem())
        .map_err(|error| Failure::Usage(format!("{}: {error}", file.display())))?;
    Ok(Some((port, certificate)))
}

fn srt_of(port: Option<u16>, passphrase: Option<&PathBuf>) -> Result<Option<SrtConfig>, Failure> {
    let Some(port) = port else { return Ok(None) };
    let text = Source::of(passphrase, false).map(|source| source.read("passphrase")).transpose()?;
    let passphrase = text.map(|text| Passphrase::parse(text.expose())).transpose();
    let passphrase = passphrase.map_err(|error| Failure::Usage(error.to_string()))?;
    Ok(Some(SrtConfig { port, passphrase, ..SrtConfig::default() }))
}

async fn run_platform(config: PlatformConfig) -> Result<(), Failure> {
    let platform = Platform::start(config).context("the platform cannot be started")?;
    let servers = [Some(platform.server()), platform.tls_server(), platform.srt_server()];
    let servers: Vec<String> = servers.into_iter().flatten().map(|server| format!("  {server}\n")).collect();
    print(&format!(
        "Stand-in platform at\n{}Type `help` for the commands that inject faults; Ctrl-C switches it off and prints its grade.\n",
        servers.concat()
    ));
    let mut lines = spoken_lines();
    let mut listening = true;
    let mut stop = pin!(StopSignal::listen().heard());
    loop {
        tokio::select! {
            () = &mut stop => break,
            line = lines.recv(), if listening => match line {
                Some(line) => say_to_platform(&line, &platform).await,
                // Without interactive input, it runs unchanged.
                None => listening = false,
            },
        }
    }
    print(&grade_of(&platform));
    Ok(())
}

/// Executes a command, and prints the result.
async fn say_to_platform(line: &str, platform: &Platform) {
    let answer = match line.trim() {
        "" => return,
        "help" => {
            let words: Vec<String> = PLATFORM_COMMANDS
                .iter()
                .map(|(words, meaning)| format!("  {words:<38} {meaning}\n"))
                .collect();
            format!(
                "  {:<38} {}\n  {:<38} {}\n{}",
                "off | on",
                "close the ports and cut publishers off | serve again",
                "grade",
                "statistics so far",
                words.concat()
            )
        }
        "off" => {
            platform.switch_off().await;
            "Off.\n".to_owned()
        }
        "on" => platform
            .switch_on()
            .map_or_else(|error| format!("It stays off: {error}\n"), |()| "On.\n".to_owned()),
        "grade" => grade_of(platform),
        line => {
            let mut result = Ok(());
            platform.change(|faults| result = faults.apply_command(line));
            result.map_or_else(|error| format!("{error}\n"), |()| "Done.\n".to_owned())
        }
    };
    print(&answer);
}

fn grade_of(platform: &Platform) -> String {
    let Some(report) = platform.report(CHANNEL) else { return "Nothing was broadcast.\n".to_owned() };
    let grade = if report.is_good() {
        "good".to_owned()
    } else {
        report.findings.iter().map(yonder_core::grade::Finding::sentence).collect::<Vec<_>>().join("; ")
    };
    let (broadcasts, pictures, kbps) = (report.broadcasts, report.pictures, report.kbps);
    format!("{broadcasts} broadcast(s), {pictures} frames, {kbps} kbit/s in the last: {grade}\n")
}
