//! The real program on loopback, with stand-ins in the test's own process.

#![allow(clippy::allow_attributes, reason = "what is used differs from file to file")]
#![allow(dead_code, reason = "each test file uses its own part")]

use std::fs::{self, File};
use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::sync::Arc;
use std::time::{Duration, Instant};

use serde_json::Value;
use tempfile::TempDir;
use yonder_address::Passphrase;
use yonder_sim::{
    Camera, CameraConfig, CameraStream, Platform, PlatformConfig, SrtConfig, TestAuthority, railway_feeds,
};

/// Secrets that must not show up anywhere.
pub(crate) const CAMERA_PASSWORD: &str = "planted-camera-7Q";
pub(crate) const KEY: &str = "planted-stream-key-9Z";
pub(crate) const SECOND_KEY: &str = "planted-second-key-8Y";
pub(crate) const PASSPHRASE: &str = "planted-passphrase-6X";

/// How long anything may take before a test gives up on it.
pub(crate) const WAIT_TIMEOUT: Duration = Duration::from_secs(20);

/// Frame rate of the stand-in cameras that tests use.
const FRAMES_PER_SECOND: u64 = 25;

/// How long a process that ends by itself may take.
const PROCESS_TIMEOUT: Duration = Duration::from_secs(120);

/// A service in a home folder of its own.
pub(crate) struct Service {
    pub(crate) home: TempDir,
    child: Option<Child>,
}

impl Service {
    pub(crate) fn start() -> Self {
        let mut service = Self { home: tempfile::tempdir().unwrap(), child: None };
        service.start_again();
        service
    }

    /// Starts the program with a table of host names of its own, in a mount namespace.
    pub(crate) fn start_with_hosts(hosts: &Path) -> Self {
        let mut command = privileged("unshare");
        command.args(["--mount", "sh", "-c", "mount --bind \"$0\" /etc/hosts && exec \"$@\""]);
        command.arg(hosts).arg(program());
        Self::start_program(command)
    }

    /// Starts the program with these arguments, in its own data directory.
    pub(crate) fn start_program(command: Command) -> Self {
        let mut service = Self { home: tempfile::tempdir().unwrap(), child: None };
        service.start_as(command, "127.0.0.1:0");
        service
    }

    /// Starts the program in the same home folder and waits until it is ready.
    pub(crate) fn start_again(&mut self) {
        self.start_as(Command::new(program()), "127.0.0.1:0");
    }

    /// The same, at an address that others know already.
    pub(crate) fn start_again_at(&mut self, address: &str) {
        self.start_as(Command::new(program()), address);
    }

    /// Starts the program with a change to its command: its environment, or where its output goes.
    pub(crate) fn start_with(configure: impl FnOnce(&mut Command)) -> Self {
        let mut service = Self { home: tempfile::tempdir().unwrap(), child: None };
        service.start_configured(Command::new(program()), "127.0.0.1:0", configure);
        service
    }

    /// Starts the program with a disk that hangs while the returned file exists.
    pub(crate) fn start_with_disk_that_can_hang() -> (Self, PathBuf) {
        let home = tempfile::tempdir().unwrap();
        let hang = home.path().join("hang");
        let mut service = Self { home, child: None };
        service.start_configured(Command::new(program()), "127.0.0.1:0", |command| {
            command.env("YONDER_TEST_HANG_RECORDS", &hang);
        });
        (service, hang)
    }

    /// Starts the program in the same home folder with a change to its command.
    pub(crate) fn start_again_with(&mut self, configure: impl FnOnce(&mut Command)) {
        self.start_configured(Command::new(program()), "127.0.0.1:0", configure);
    }

    fn start_as(&mut self, program: Command, address: &str) {
        self.start_configured(program, address, |_| {});
    }

    fn start_configured(
        &mut self,
        mut program: Command,
        address: &str,
        configure: impl FnOnce(&mut Command),
    ) {
        let announced = self.home.path().join("service.json");
        // After a kill the announcement of the old process is still there.
        let _missing = fs::remove_file(&announced);
        let log = File::options().create(true).append(true).open(self.log_file()).unwrap();
        let out = File::options().create(true).append(true).open(self.home.path().join("out.txt")).unwrap();
        program
            .args(["serve", "--listen", address, "--home"])
            .arg(self.home.path())
            .env("YONDER_LOG", "debug")
            .stdout(out)
            .stderr(log);
        configure(&mut program);
        self.child = Some(program.spawn().unwrap());
        let deadline = Instant::now() + WAIT_TIMEOUT;
        while !announced.exists() {
            assert!(Instant::now() < deadline, "the service does not start: {}", self.log());
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    pub(crate) fn log_file(&self) -> PathBuf {
        self.home.path().join("log.txt")
    }

    pub(crate) fn log(&self) -> String {
        fs::read_to_string(self.log_file()).unwrap_or_default()
    }

    /// Waits until the log contains `text`: a thread of its own writes it.
    pub(crate) fn wait_log(&self, text: &str) {
        let deadline = Instant::now() + Duration::from_secs(5);
        while !self.log().contains(text) {
            assert!(Instant::now() < deadline, "the log has no {text:?}: {}", self.log());
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    /// Waits for the one-time link to set up the first person, which a new service prints once it listens.
    pub(crate) fn set_up_link(&self) -> String {
        let deadline = Instant::now() + WAIT_TIMEOUT;
        loop {
            let printed = self.printed();
            let links = printed.split_inclusive('\n').filter(|line| line.ends_with('\n'));
            if let Some(link) = links.flat_map(str::split_whitespace).find(|text| text.contains("/setup#")) {
                return link.to_owned();
            }
            assert!(Instant::now() < deadline, "no link: {printed}");
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    /// Returns the standard output of the service so far.
    pub(crate) fn printed(&self) -> String {
        fs::read_to_string(self.home.path().join("out.txt")).unwrap_or_default()
    }

    pub(crate) fn url(&self) -> String {
        let text = fs::read_to_string(self.home.path().join("service.json")).unwrap();
        serde_json::from_str::<Value>(&text).unwrap()["url"].as_str().unwrap().to_owned()
    }

    /// Returns the token of the machine's own client.
    pub(crate) fn token(&self) -> String {
        fs::read_to_string(self.home.path().join("token")).unwrap().trim().to_owned()
    }

    /// Status of `/readyz`, and its text.
    pub(crate) fn readiness(&self) -> (u16, String) {
        let agent: ureq::Agent = ureq::Agent::config_builder().http_status_as_error(false).build().into();
        let mut response = agent.get(&format!("{}/readyz", self.url())).call().unwrap();
        (response.status().as_u16(), response.body_mut().read_to_string().unwrap())
    }

    pub(crate) fn process(&self) -> u32 {
        self.child.as_ref().unwrap().id()
    }

    /// Returns the metrics.
    pub(crate) fn metrics(&self) -> String {
        let mut response = ureq::get(&format!("{}/metrics", self.url()))
            .header("Authorization", &format!("Bearer {}", self.token()))
            .call()
            .unwrap();
        response.body_mut().read_to_string().unwrap()
    }

    /// Returns the resident memory of the process.
    pub(crate) fn resident_bytes(&self) -> u64 {
        let status = fs::read_to_string(format!("/proc/{}/status", self.process())).unwrap();
        let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:")).unwrap();
        line.trim().strip_suffix("kB").unwrap().trim().parse::<u64>().unwrap() * 1024
    }

    /// Kills the process, which is still to be waited for.
    pub(crate) fn cut_power(&self) {
        let process = nix::unistd::Pid::from_raw(i32::try_from(self.process()).unwrap());
        nix::sys::signal::kill(process, nix::sys::signal::Signal::SIGKILL).unwrap();
    }

    /// Returns how many bytes of its standard error, a pipe, have not been read.
    pub(crate) fn unread_errors(&self) -> u64 {
        rustix::io::ioctl_fionread(self.child.as_ref().unwrap().stderr.as_ref().unwrap()).unwrap()
    }

    /// As if the power had gone.
    pub(crate) fn kill(&mut self) {
        if let Some(mut child) = self.child.take() {
            child.kill().unwrap();
            child.wait().unwrap();
        }
    }

    /// Asks the service to end and returns whether it ended well.
    pub(crate) fn stop(&mut self) -> bool {
        let mut child = self.child.take().unwrap();
        let process = nix::unistd::Pid::from_raw(i32::try_from(child.id()).unwrap());
        nix::sys::signal::kill(process, nix::sys::signal::Signal::SIGTERM).unwrap();
        let deadline = Instant::now() + PROCESS_TIMEOUT;
        loop {
            if let Some(status) = child.try_wait().unwrap() {
                return status.success();
            }
            if Instant::now() > deadline {
                child.kill().unwrap();
                panic!("the service does not stop: {}", self.log());
            }
            std::thread::sleep(Duration::from_millis(5));
        }
    }

    /// Writes a file into the home folder and returns its path.
    pub(crate) fn file(&self, name: &str, content: &str) -> String {
        let path = self.home.path().join(name);
        fs::write(&path, content).unwrap();
        path.display().to_string()
    }

    /// Runs a client command.
    pub(crate) fn run(&self, arguments: &[&str]) -> Output {
        self.run_with(arguments, "")
    }

    /// Begins a command that need not end soon.
    pub(crate) fn begin(&self, arguments: &[&str]) -> Child {
        let mut command = Command::new(program());
        command.arg("--home").arg(self.home.path()).args(arguments);
        command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
    }

    /// Runs a client command with something on its standard input.
    pub(crate) fn run_with(&self, arguments: &[&str], input: &str) -> Output {
        let mut child = Command::new(program())
            .arg("--home")
            .arg(self.home.path())
            .args(arguments)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        child.stdin.take().unwrap().write_all(input.as_bytes()).unwrap();
        output_of(child)
    }

    /// Runs a client command that must succeed, and returns what it printed.
    pub(crate) fn must(&self, arguments: &[&str], input: &str) -> String {
        let output = self.run_with(arguments, input);
        let errors = String::from_utf8_lossy(&output.stderr);
        assert!(output.status.success(), "{arguments:?}: {errors}");
        String::from_utf8(output.stdout).unwrap()
    }

    pub(crate) fn relay(&self, name: &str) -> Value {
        serde_json::from_str(&self.must(&["relay", "show", name, "--json"], "")).unwrap()
    }

    /// Waits until a relay looks as wished; tells what it looked like when it does not in time.
    pub(crate) fn wait(&self, name: &str, what: &str, wished: impl Fn(&Value) -> bool) -> Value {
        self.wait_for(name, what, WAIT_TIMEOUT, wished)
    }

    /// Returns the same within another time.
    pub(crate) fn wait_for(
        &self,
        name: &str,
        what: &str,
        patience: Duration,
        wished: impl Fn(&Value) -> bool,
    ) -> Value {
        let deadline = Instant::now() + patience;
        loop {
            let relay = self.relay(name);
            if wished(&relay) {
                return relay;
            }
            assert!(Instant::now() < deadline, "not {what}: {relay:#}");
            std::thread::sleep(Duration::from_millis(50));
        }
    }

    /// Returns how many frames the first push of a relay has sent.
    pub(crate) fn frames_sent(&self, name: &str) -> u64 {
        self.relay(name)["pushes"][0]["frames_sent"].as_u64().unwrap()
    }

    /// Waits until the first push of a relay has sent so many frames more. Panics when it takes twice as long as it should.
    pub(crate) fn flow(&self, name: &str, frames: u64) {
        let until = self.frames_sent(name) + frames;
        let patience = Duration::from_secs(4 + frames * 2 / FRAMES_PER_SECOND);
        let sent = |relay: &Value| relay["pushes"][0]["frames_sent"].as_u64() >= Some(until);
        self.wait_for(name, "sending", patience, sent);
    }

    /// Waits until the push of a relay has failed so many times in a row.
    pub(crate) fn wait_attempts(&self, name: &str, attempts: u64, patience: Duration) {
        let failed = |relay: &Value| relay["pushes"][0]["attempts"].as_u64() >= Some(attempts);
        self.wait_for(name, "reconnecting repeatedly", patience, failed);
    }

    pub(crate) fn wait_live(&self, name: &str) -> Value {
        self.wait(name, "live", |relay| {
            relay["pushes"].as_array().unwrap().iter().all(|push| push["state"] == "live")
        })
    }

    /// A feed of the world's camera, its platform's channel, and a relay between them, all by command.
    pub(crate) fn set_up_line(&self, world: &World) {
        let url = world.camera.url("/viaduct/main");
        self.must(
            &["feed", "add", "Viaduct", "--url", &url, "--user", "rail", "--password-stdin"],
            CAMERA_PASSWORD,
        );
        let server = world.platform.server();
        self.must(
            &["destination", "add", "Bramble", "--server", &server, "--key-stdin"],
            &format!(" {KEY}\n"),
        );
        self.must(&["relay", "add", "Line", "--feed", "Viaduct", "--to", "Bramble"], "");
    }
}

impl Drop for Service {
    fn drop(&mut self) {
        self.kill();
    }
}

/// Waits for a process and returns its output. Kills it and panics when it takes longer than [`PROCESS_TIMEOUT`].
pub(crate) fn output_of(child: Child) -> Output {
    let process = nix::unistd::Pid::from_raw(i32::try_from(child.id()).unwrap());
    let (sender, receiver) = std::sync::mpsc::channel();
    std::thread::spawn(move || sender.send(child.wait_with_output()));
    if let Ok(output) = receiver.recv_timeout(PROCESS_TIMEOUT) {
        return output.unwrap();
    }
    nix::sys::signal::kill(process, nix::sys::signal::Signal::SIGKILL).unwrap();
    let output = receiver.recv().unwrap().unwrap();
    panic!("a process does not end: {}{}", text(&output.stdout), text(&output.stderr));
}

/// Runs a command to its end, as [`output_of`].
pub(crate) fn output(command: &mut Command) -> Output {
    output_of(command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap())
}

pub(crate) fn program() -> &'static Path {
    Path::new(env!("CARGO_BIN_EXE_yonder"))
}

/// A camera and a platform, on a runtime of their own.
pub(crate) struct World {
    runtime: Option<tokio::runtime::Runtime>,
    streams: Vec<CameraStream>,
    pub(crate) camera: Camera,
    /// It speaks RTMP, RTMPS under an authority of its own, and SRT with a passphrase.
    pub(crate) platform: Platform,
    pub(crate) authority: String,
}

impl World {
    pub(crate) fn start() -> Self {
        let runtime =
            tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build().unwrap();
        let authority = TestAuthority::new().unwrap();
        let streams: Vec<CameraStream> = railway_feeds()
            .into_iter()
            .map(|feed| CameraStream { path: feed.path.into(), media: Arc::new(feed.main()) })
            .collect();
        let (camera, platform) = runtime.block_on(async {
            let streams = streams.clone();
            let account = Some(("rail".to_owned(), CAMERA_PASSWORD.into()));
            let camera = Camera::start(CameraConfig { streams, account, ..CameraConfig::default() }).unwrap();
            let channels = vec![("one".to_owned(), KEY.into()), ("two".to_owned(), SECOND_KEY.into())];
            let passphrase = Some(Passphrase::from_stored(PASSPHRASE.into()));
            let config = PlatformConfig {
                app: "live".into(),
                channels,
                tls: Some((0, authority.issue("localhost").unwrap())),
                srt: Some(SrtConfig { passphrase, ..SrtConfig::default() }),
                ..PlatformConfig::default()
            };
            (camera, Platform::start(config).unwrap())
        });
        Self { runtime: Some(runtime), streams, camera, platform, authority: authority.pem() }
    }

    /// Runs something that needs the stand-ins' runtime.
    pub(crate) fn inside<T>(&self, run: impl FnOnce() -> T) -> T {
        let _inside = self.runtime().enter();
        run()
    }

    /// Waits for a future on the stand-ins' runtime.
    pub(crate) fn block_on<T>(&self, what: impl Future<Output = T>) -> T {
        self.runtime().block_on(what)
    }

    /// Streams of the camera.
    pub(crate) fn streams(&self) -> &[CameraStream] {
        &self.streams
    }

    /// Runs a function on the stand-ins' runtime, where it may leave tasks running.
    pub(crate) async fn run<T: Send + 'static>(&self, what: impl Future<Output = T> + Send + 'static) -> T {
        self.runtime().spawn(what).await.unwrap()
    }

    fn runtime(&self) -> &tokio::runtime::Runtime {
        self.runtime.as_ref().unwrap()
    }

    pub(crate) fn camera_off(&self) {
        self.runtime().block_on(self.camera.switch_off());
    }

    pub(crate) fn camera_on(&self) {
        let _inside = self.runtime().enter();
        self.camera.switch_on().unwrap();
    }
}

impl Drop for World {
    fn drop(&mut self) {
        // Waiting for the runtime's threads is not allowed where tests are asynchronous.
        if let Some(runtime) = self.runtime.take() {
            runtime.shutdown_background();
        }
    }
}

/// Prints a figure that a test has measured.
#[expect(clippy::print_stdout, reason = "figures are read by people")]
pub(crate) fn say(text: &str) {
    println!("{text}");
}

/// Returns a command that runs as root: by `sudo` where the tests do not.
pub(crate) fn privileged(program: &str) -> Command {
    if rustix::process::geteuid().is_root() {
        return Command::new(program);
    }
    let mut command = Command::new("sudo");
    command.args(["-n", program]);
    command
}

pub(crate) fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

/// A disk of some megabytes, mounted over a folder.
pub(crate) struct SmallDisk(PathBuf);

impl SmallDisk {
    /// # Panics
    /// Message if nothing can be mounted: the test needs root, or `sudo` without a password.
    pub(crate) fn mount(over: &Path) -> Self {
        let own =
            format!("uid={},gid={}", rustix::process::getuid().as_raw(), rustix::process::getgid().as_raw());
        let mut mount = privileged("mount");
        mount.args(["-t", "tmpfs", "-o", &format!("size=3m,mode=700,{own}"), "tmpfs"]).arg(over);
        let output = mount.output().unwrap();
        assert!(output.status.success(), "a small disk cannot be mounted: {}", text(&output.stderr));
        Self(over.to_owned())
    }
}

/// Fills the disk of a folder to the last byte; returns the file to remove.
pub(crate) fn fill_disk(folder: &Path) -> PathBuf {
    let filler = folder.join("filler");
    let mut file = File::options().create(true).append(true).open(&filler).unwrap();
    while file.write_all(&[0; 4_096]).is_ok() {}
    while file.write_all(&[0]).is_ok() {}
    filler
}

impl Drop for SmallDisk {
    fn drop(&mut self) {
        let _unmounted = privileged("umount").arg("--lazy").arg(&self.0).output();
    }
}
