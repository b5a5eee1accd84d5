//! The HTTP server towards strangers: floods, slow bodies, TLS, and proxies.

#![expect(clippy::unwrap_used, reason = "a test ends where something unexpected happens")]

mod support;

use std::fs;
use std::io::{BufRead as _, BufReader, Read as _, Write as _};
use std::net::TcpStream;
use std::path::Path;
use std::process::Command;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;
use std::time::{Duration, Instant};

use serde_json::json;
use support::{Service, World, text};

fn resident_bytes(service: &Service) -> u64 {
    let status = fs::read_to_string(format!("/proc/{}/status", service.process())).unwrap();
    let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:")).unwrap();
    line.trim().strip_suffix("kB").unwrap().trim().parse::<u64>().unwrap() * 1024
}

#[test]
fn two_hundred_sign_ins_and_joins_at_a_time_take_little_memory_and_disturb_no_push() {
    let (service, world) = (Service::start(), World::start());
    service.set_up_line(&world);
    service.must(&["relay", "start", "Line"], "");
    service.wait_live("Line");
    thread::sleep(Duration::from_secs(2));
    let before = resident_bytes(&service);
    let (url, ended) = (service.url(), AtomicBool::new(false));
    let (answers, most) = thread::scope(|scope| {
        let sampler = scope.spawn(|| {
            let mut most = before;
            while !ended.load(Ordering::Relaxed) {
                most = most.max(resident_bytes(&service));
                thread::sleep(Duration::from_millis(20));
            }
            most
        });
        let strangers: Vec<_> = (0..200)
            .map(|at| {
                let url = &url;
                scope.spawn(move || {
                    let (path, body) = if at % 2 == 0 {
                        ("session", json!({ "name": format!("name {at}"), "password": "a made-up password" }))
                    } else {
                        let code = format!("made-up-{at}");
                        ("invitations/join", json!({ "code": code, "password": "a made-up password" }))
                    };
                    let agent: ureq::Agent =
                        ureq::Agent::config_builder().http_status_as_error(false).build().into();
                    let request = agent.post(format!("{url}/api/v1/{path}"));
                    let answer = request.header("Content-Type", "application/json").send(body.to_string());
                    let answer = answer.unwrap();
                    let retry_after = answer.headers().get("Retry-After").is_some();
                    (answer.status().as_u16(), retry_after)
                })
            })
            .collect();
        let answers: Vec<(u16, bool)> = strangers.into_iter().map(|one| one.join().unwrap()).collect();
        ended.store(true, Ordering::Relaxed);
        (answers, sampler.join().unwrap())
    });
    assert!(answers.iter().all(|(status, _)| [401, 403, 429].contains(status)), "{answers:?}");
    let limited = answers.iter().filter(|(status, _)| *status == 429).count();
    assert!(limited > 100 && answers.iter().all(|(status, retry)| (*status == 429) == *retry), "{answers:?}");
    assert!(most - before < 100_000_000, "{before} bytes became {most}");
    thread::sleep(Duration::from_secs(2));
    let stall = world.platform.report("one").unwrap().longest_stall;
    // Half a second on a quiet machine; here the strangers' threads and other tests take the cores as well.
    assert!(stall < Duration::from_millis(1_500), "{stall:?}");
    assert_eq!(service.relay("Line")["pushes"][0]["reconnects"], 0);
}

#[test]
fn a_body_that_comes_byte_by_byte_is_cut_off() {
    let service = Service::start();
    let address = service.url().strip_prefix("http://").unwrap().to_owned();
    let mut stream = TcpStream::connect(&address).unwrap();
    let head = format!(
        "POST /api/v1/session HTTP/1.1\r\nHost: {address}\r\nContent-Type: application/json\r\nContent-Length: 1000\r\n\r\n"
    );
    stream.write_all(head.as_bytes()).unwrap();
    stream.set_read_timeout(Some(Duration::from_millis(200))).unwrap();
    let begun = Instant::now();
    let mut answer = Vec::new();
    while !answer.windows(4).any(|window| window == b"\r\n\r\n") {
        assert!(begun.elapsed() < Duration::from_secs(15), "still open");
        let _sent = stream.write_all(b" ");
        let mut chunk = [0; 1024];
        match stream.read(&mut chunk) {
            Ok(0) => break,
            Ok(count) => answer.extend_from_slice(&chunk[..count]),
            Err(_) => thread::sleep(Duration::from_millis(300)),
        }
    }
    assert!(answer.starts_with(b"HTTP/1.1 408 "), "{}", String::from_utf8_lossy(&answer));
    assert!(begun.elapsed() > Duration::from_secs(8));
}

#[test]
fn event_streams_of_one_caller_are_limited() {
    let service = Service::start();
    let token = fs::read_to_string(service.home.path().join("token")).unwrap();
    let open = || {
        let agent: ureq::Agent = ureq::Agent::config_builder().http_status_as_error(false).build().into();
        let request = agent.get(format!("{}/api/v1/events", service.url()));
        request.header("Authorization", format!("Bearer {}", token.trim())).call().unwrap()
    };
    let mut streams: Vec<_> = (0..24).map(|_| open()).collect();
    assert!(streams.iter().all(|stream| stream.status() == 200));
    let mut refused = open();
    assert_eq!(refused.status(), 429);
    assert!(refused.headers().contains_key("Retry-After"));
    assert!(refused.body_mut().read_to_string().unwrap().contains("request.too-many-streams"));
    // A place is free again soon after a stream has been closed.
    drop(streams.pop());
    let deadline = Instant::now() + Duration::from_secs(15);
    while open().status() != 200 {
        assert!(Instant::now() < deadline, "a closed stream still counts");
        thread::sleep(Duration::from_millis(200));
    }
}

/// Writes a new certificate for `localhost` into a folder, and returns it in PEM.
fn write_certificate(folder: &Path) -> String {
    let made = rcgen::generate_simple_self_signed(["localhost".to_owned()]).unwrap();
    // The key first: the pair fits once both are there.
    fs::write(folder.join("key.pem"), made.signing_key.serialize_pem()).unwrap();
    fs::write(folder.join("cert.pem"), made.cert.pem()).unwrap();
    made.cert.pem()
}

/// A client that trusts one certificate alone.
fn trusting(certificate: &str) -> ureq::Agent {
    let roots = [ureq::tls::Certificate::from_pem(certificate.as_bytes()).unwrap()];
    let tls =
        ureq::tls::TlsConfig::builder().root_certs(ureq::tls::RootCerts::new_with_certs(&roots)).build();
    ureq::Agent::config_builder().tls_config(tls).http_status_as_error(false).build().into()
}

#[test]
fn service_speaks_tls_with_a_certificate_that_is_replaced_while_a_stream_is_open() {
    let folder = tempfile::tempdir().unwrap();
    let first = write_certificate(folder.path());
    let service = Service::start_with(|command| {
        for (option, file) in [("--tls-cert", "cert.pem"), ("--tls-key", "key.pem")] {
            command.arg(option).arg(folder.path().join(file));
        }
    });
    let printed = service.printed();
    let link = printed.split_whitespace().find(|word| word.contains("/setup#")).expect(&printed);
    let (url, code) = link.split_once("/setup#").unwrap();
    let url = url.replace("127.0.0.1", "localhost");
    assert!(url.starts_with("https://"), "{url}");

    let client = trusting(&first);
    let body = json!({ "code": code, "name": "chief", "password": "a lamp in the window" });
    let request = client.post(format!("{url}/api/v1/setup")).header("Content-Type", "application/json");
    let signed_in = request.send(body.to_string()).unwrap();
    let cookie = signed_in.headers()["set-cookie"].to_str().unwrap().to_owned();
    assert!(cookie.starts_with("__Host-yonder-session=") && cookie.contains("; Secure"), "{cookie}");
    let cookie = cookie.split(';').next().unwrap();
    let mut stream = client.get(format!("{url}/api/v1/events")).header("Cookie", cookie).call().unwrap();
    assert_eq!(stream.status(), 200);
    // Commands on this machine need no certificate.
    service.must(&["status"], "");

    let second = write_certificate(folder.path());
    let deadline = Instant::now() + Duration::from_secs(20);
    while trusting(&second).get(format!("{url}/healthz")).call().is_err() {
        assert!(Instant::now() < deadline, "the certificate is not replaced: {}", service.log());
        thread::sleep(Duration::from_millis(200));
    }
    assert!(trusting(&first).get(format!("{url}/healthz")).call().is_err());
    // The open stream is not cut: its next heartbeat comes within ten seconds.
    let mut reader = BufReader::new(stream.body_mut().as_reader());
    let (mut line, begun) = (String::new(), Instant::now());
    while !line.contains("\"alive\"") {
        assert!(begun.elapsed() < Duration::from_secs(25), "no heartbeat");
        line.clear();
        assert!(reader.read_line(&mut line).unwrap() > 0, "the stream has ended");
    }
}

#[test]
fn plain_http_beyond_this_machine_is_refused() {
    let home = tempfile::tempdir().unwrap();
    let mut command = Command::new(env!("CARGO_BIN_EXE_yonder"));
    command.args(["serve", "--listen", "0.0.0.0:0", "--home"]).arg(home.path());
    let refused = command.output().unwrap();
    assert_eq!(refused.status.code(), Some(1));
    let said = text(&refused.stderr);
    assert!(said.contains("--tls-cert") && said.contains("--insecure"), "{said}");
}

#[test]
fn behind_a_proxy_cookies_are_secure_and_addresses_those_of_the_clients() {
    let service = Service::start_with(|command| {
        command.args(["--public-url", "https://relay.example.net", "--trusted-proxy", "127.0.0.1"]);
    });
    let printed = service.printed();
    let link = printed.split_whitespace().find(|word| word.contains("/setup#")).expect(&printed);
    assert!(link.starts_with("https://relay.example.net/setup#"), "{link}");
    let code = link.split_once('#').unwrap().1;
    let body = json!({ "code": code, "name": "chief", "password": "a lamp in the window" });
    let request = ureq::post(format!("{}/api/v1/setup", service.url()));
    let request = request.header("X-Forwarded-For", "198.51.100.77, 203.0.113.9");
    let signed_in = request.header("Content-Type", "application/json").send(body.to_string()).unwrap();
    let cookie = signed_in.headers()["set-cookie"].to_str().unwrap().to_owned();
    assert!(cookie.starts_with("__Host-yonder-session=") && cookie.contains("; Secure"), "{cookie}");
    let wrong = json!({ "name": "chief", "password": "a wrong password" });
    let agent: ureq::Agent = ureq::Agent::config_builder().http_status_as_error(false).build().into();
    let request = agent.post(format!("{}/api/v1/session", service.url()));
    let request = request.header("X-Forwarded-For", "203.0.113.9");
    let refused = request.header("Content-Type", "application/json").send(wrong.to_string()).unwrap();
    assert_eq!(refused.status(), 401);
    service.wait_log("203.0.113.9");
}
