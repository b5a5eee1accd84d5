//! Jobs through the real program: progress, results over lost connections, cancellation, and a restart in between.

use std::io;
use std::net::{Shutdown, SocketAddr, TcpListener, TcpStream};
use std::process::{Command, Output, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::thread;
use std::time::{Duration, Instant};

use crate::support;
use crate::support::{Service, WAIT_TIMEOUT, World, program, text};
use serde_json::Value;

/// A TCP proxy whose connections can be cut, as by a router or a sleeping notebook.
struct Proxy {
    address: SocketAddr,
    is_cut: Arc<AtomicBool>,
    connections: Arc<Mutex<Vec<TcpStream>>>,
}

impl Proxy {
    fn to(service: &Service) -> Self {
        let target = service.url().trim_start_matches("http://").to_owned();
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let address = listener.local_addr().unwrap();
        let is_cut: Arc<AtomicBool> = Arc::default();
        let connections: Arc<Mutex<Vec<TcpStream>>> = Arc::default();
        let (cut, open) = (Arc::clone(&is_cut), Arc::clone(&connections));
        thread::spawn(move || {
            for client in listener.incoming().flatten() {
                if cut.load(Ordering::SeqCst) {
                    continue;
                }
                let Ok(server) = TcpStream::connect(&target) else { continue };
                for (from, to) in [(&client, &server), (&server, &client)] {
                    let (mut from, mut to) = (from.try_clone().unwrap(), to.try_clone().unwrap());
                    thread::spawn(move || {
                        let _copied = io::copy(&mut from, &mut to);
                        let _closed = to.shutdown(Shutdown::Both);
                    });
                }
                open.lock().unwrap().extend([client, server]);
            }
        });
        Self { address, is_cut, connections }
    }

    fn cut(&self) {
        self.is_cut.store(true, Ordering::SeqCst);
        for connection in self.connections.lock().unwrap().drain(..) {
            let _closed = connection.shutdown(Shutdown::Both);
        }
    }

    fn mend(&self) {
        self.is_cut.store(false, Ordering::SeqCst);
    }

    /// Runs a command of the client through this proxy, and `meanwhile` once a job runs.
    fn run(&self, service: &Service, arguments: &[&str], meanwhile: impl FnOnce(&str)) -> Output {
        let token = service.home.path().join("token");
        let child = Command::new(program())
            .args(["--url", &format!("http://{}", self.address), "--token-file"])
            .arg(token)
            .args(arguments)
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        meanwhile(&running_job(service));
        support::output_of(child)
    }
}

fn jobs(service: &Service) -> Vec<Value> {
    serde_json::from_str(&service.must(&["job", "list", "--json"], "")).unwrap()
}

/// Waits until a job runs, and returns its id.
fn running_job(service: &Service) -> String {
    let deadline = Instant::now() + WAIT_TIMEOUT;
    loop {
        let running = jobs(service).into_iter().find(|job| job["state"] == "running");
        if let Some(job) = running {
            return job["id"].as_str().unwrap().to_owned();
        }
        assert!(Instant::now() < deadline, "no job runs");
        thread::sleep(Duration::from_millis(50));
    }
}

#[test]
fn result_of_a_job_arrives_over_a_lost_connection() {
    let (service, world) = (Service::start(), World::start());
    service.set_up_line(&world);
    let proxy = Proxy::to(&service);
    let rehearse = ["relay", "rehearse", "Line", "--for", "4s", "--json"];
    let output = proxy.run(&service, &rehearse, |id| {
        proxy.cut();
        let shown = service.must(&["job", "show", id, "--wait"], "");
        assert!(shown.contains("rehearsal of Line, done"), "{shown}");
        proxy.mend();
    });
    assert!(output.status.success(), "{}", text(&output.stderr));
    let rehearsals: Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!(rehearsals[0]["relay"], "Line");
    assert!(rehearsals[0]["graded"]["pictures"].as_u64().unwrap() > 50, "{rehearsals}");
}

#[test]
fn canceled_job_ends_and_leaves_nothing_behind() {
    let (service, world) = (Service::start(), World::start());
    service.set_up_line(&world);
    let proxy = Proxy::to(&service);
    let began = Instant::now();
    let output = proxy.run(&service, &["relay", "rehearse", "Line", "--for", "300s"], |id| {
        service.must(&["job", "cancel", id], "");
    });
    assert_eq!(output.status.code(), Some(1));
    assert!(text(&output.stderr).contains("job.canceled"), "{}", text(&output.stderr));
    assert!(began.elapsed() < Duration::from_secs(60));
    assert_eq!(jobs(&service)[0]["state"], "canceled");
    let status: Value = serde_json::from_str(&service.must(&["status", "--json"], "")).unwrap();
    assert_eq!(status["relays"].as_array().unwrap().len(), 1, "the rehearsal's relay is gone");
}

#[test]
fn job_of_a_service_that_is_restarted_is_reported_as_lost() {
    let (mut service, world) = (Service::start(), World::start());
    service.set_up_line(&world);
    let address = service.url().trim_start_matches("http://").to_owned();
    let child = Command::new(program())
        .args(["--home"])
        .arg(service.home.path())
        .args(["relay", "rehearse", "Line", "--for", "300s"])
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    running_job(&service);
    service.kill();
    service.start_again_at(&address);
    let output = support::output_of(child);
    assert_eq!(output.status.code(), Some(1));
    assert!(text(&output.stderr).contains("restarted before it ended"), "{}", text(&output.stderr));
}

#[test]
fn several_relays_are_started_by_one_command_and_failures_are_reported() {
    let (service, world) = (Service::start(), World::start());
    service.set_up_line(&world);
    service.must(&["feed", "add", "Nowhere", "--url", "rtsp://127.0.0.1:9/main"], "");
    let server = "rtmp://127.0.0.1:9/live";
    service.must(&["destination", "add", "Gone", "--server", server, "--key-stdin"], "another-planted-key");
    service.must(&["relay", "add", "Dead", "--feed", "Nowhere", "--to", "Gone"], "");
    let output = service.run(&["relay", "start", "--all"]);
    assert_eq!(output.status.code(), Some(1));
    assert!(text(&output.stdout).contains("Relay Line started."), "{}", text(&output.stdout));
    assert!(text(&output.stderr).contains("relay.preflight-failed"), "{}", text(&output.stderr));
    service.wait_live("Line");
    assert_eq!(service.relay("Dead")["wanted"], "off");
    let refused = service.run(&["relay", "start", "Line", "Lime"]);
    assert!(text(&refused.stderr).contains("Line"), "{}", text(&refused.stderr));
}
