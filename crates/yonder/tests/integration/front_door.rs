//! The HTTP server towards strangers: floods, slow bodies, TLS, and proxies.

use std::fs;
use std::io::{BufRead as _, BufReader, Read as _, Write as _};
use std::net::TcpStream;
use std::path::Path;
use std::process::Command;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread;
use std::time::{Duration, Instant};

use crate::support;
use crate::support::{Service, World, text};
use serde_json::json;

#[test]
fn two_hundred_sign_ins_and_joins_at_a_time_take_little_memory_and_disturb_no_push() {
    let (service, world) = (Service::start(), World::start());
    service.set_up_line(&world);
    service.must(&["relay", "start", "Line"], "");
    service.wait_live("Line");
    service.flow("Line", 50);
    let before = service.resident_bytes();
    let (url, ended) = (service.url(), AtomicBool::new(false));
    let (answers, most) = thread::scope(|scope| {
        let sampler = scope.spawn(|| {
            let mut most = before;
            while !ended.load(Ordering::Relaxed) {
                most = most.max(service.resident_bytes());
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
    service.flow("Line", 50);
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

/// Returns a client that trusts one certificate alone.
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
    let link = service.set_up_link();
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
    let refused = support::output(&mut command);
    assert_eq!(refused.status.code(), Some(1));
    let said = text(&refused.stderr);
    assert!(said.contains("--tls-cert") && said.contains("--insecure"), "{said}");
}

#[test]
fn behind_a_proxy_cookies_are_secure_and_addresses_those_of_the_clients() {
    let service = Service::start_with(|command| {
        command.args(["--public-url", "https://relay.example.net", "--trusted-proxy", "127.0.0.1"]);
    });
    let link = service.set_up_link();
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

#[test]
fn connections_of_strangers_leave_open_files_to_feeds_and_pushes() {
    // The limit is that of the shell, which becomes the service.
    let mut program = Command::new("sh");
    program.args(["-c", "ulimit -n 200 && exec \"$@\"", "sh", env!("CARGO_BIN_EXE_yonder")]);
    let (service, world) = (Service::start_program(program), World::start());
    service.set_up_line(&world);
    let address = service.url().strip_prefix("http://").unwrap().to_owned();
    let address: std::net::SocketAddr = address.parse().unwrap();
    // The head of the request stays open, and so does the connection.
    let connections: Vec<_> = (0..300)
        .filter_map(|_| {
            let mut connection = TcpStream::connect_timeout(&address, Duration::from_secs(1)).ok()?;
            connection.write_all(b"GET /healthz HTTP/1.1\r\n").ok()?;
            Some(connection)
        })
        .collect();
    assert!(connections.len() > 60, "{}", connections.len());
    let open = fs::read_dir(format!("/proc/{}/fd", service.process())).unwrap().count();
    assert!(open < 150, "{open} files are open");
    // Connections whose head does not come are closed, and then commands are answered again.
    service.must(&["relay", "start", "Line"], "");
    service.wait_live("Line");
    drop(connections);
}

/// Starts a proxy with TLS in front of the service, in the foreground. It ends with the returned guard.
fn start_proxy(folder: &Path, service: &Service) -> (KillOnDrop, String) {
    let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let folder = folder.display();
    let configuration = format!(
        "daemon off; master_process off; pid {folder}/nginx.pid; error_log {folder}/error.log;
events {{}}
http {{
    access_log off;
    client_body_temp_path {folder}/body; proxy_temp_path {folder}/proxy; fastcgi_temp_path {folder}/f;
    uwsgi_temp_path {folder}/u; scgi_temp_path {folder}/s;
    server {{
        listen 127.0.0.1:{port} ssl;
        ssl_certificate {folder}/cert.pem;
        ssl_certificate_key {folder}/key.pem;
{}
    }}
}}
",
        documented_location(&service.url()),
    );
    fs::write(format!("{folder}/nginx.conf"), configuration).unwrap();
    let nginx = concat!(env!("CARGO_MANIFEST_DIR"), "/../../.tools/usr/sbin/nginx");
    let files = [format!("{folder}/error.log"), format!("{folder}/nginx.conf")];
    let mut proxy = Command::new(nginx);
    proxy.args(["-e", &files[0], "-c", &files[1]]);
    let proxy = KillOnDrop(proxy.spawn().unwrap());
    let deadline = Instant::now() + Duration::from_secs(10);
    while TcpStream::connect(("127.0.0.1", port)).is_err() {
        assert!(Instant::now() < deadline, "the proxy does not start");
        thread::sleep(Duration::from_millis(50));
    }
    (proxy, format!("https://localhost:{port}"))
}

/// Returns the `location` block of the operations guide, for a service at `url`.
fn documented_location(url: &str) -> String {
    let guide = fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/operations.md")).unwrap();
    let block = guide.split("```nginx\n").nth(1).unwrap().split("```").next().unwrap();
    let begin = block.find("location /").unwrap();
    let end = begin + block[begin..].find('}').unwrap() + 1;
    block[begin..end].replace("http://127.0.0.1:8460", url)
}

/// A process that ends with this value.
struct KillOnDrop(std::process::Child);

impl Drop for KillOnDrop {
    fn drop(&mut self) {
        let _killed = self.0.kill();
        let _ended = self.0.wait();
    }
}

#[test]
fn behind_nginx_as_documented_sign_in_events_and_previews_work() {
    let folder = tempfile::tempdir().unwrap();
    let certificate = write_certificate(folder.path());
    // The port of the proxy is known once the service is: the public address names the host alone.
    let (service, world) = (
        Service::start_with(|command| {
            command.args(["--public-url", "https://localhost", "--trusted-proxy", "127.0.0.1"]);
        }),
        World::start(),
    );
    service.set_up_line(&world);
    service.must(&["relay", "start", "Line"], "");
    service.wait_live("Line");
    let (_proxy, url) = start_proxy(folder.path(), &service);
    let client = trusting(&certificate);
    let link = service.set_up_link();
    let code = link.split_once("/setup#").unwrap().1;
    let body = json!({ "code": code, "name": "chief", "password": "a lamp in the window" });
    // From another address than the proxy's.
    let mut curl = Command::new("curl");
    curl.args([
        "--silent",
        "--show-error",
        "--fail",
        "--include",
        "--interface",
        "127.0.0.9",
        "--json",
        &body.to_string(),
    ]);
    curl.arg("--cacert").arg(folder.path().join("cert.pem")).arg(format!("{url}/api/v1/setup"));
    let signed_in = support::output(&mut curl);
    assert!(signed_in.status.success(), "{}", text(&signed_in.stderr));
    let head = text(&signed_in.stdout);
    let cookie = head.lines().find_map(|line| line.strip_prefix("set-cookie: ")).expect(&head);
    assert!(cookie.starts_with("__Host-") && cookie.contains("; Secure"), "{cookie}");
    let cookie = cookie.split(';').next().unwrap();

    // Events are not held back by the proxy.
    let begun = Instant::now();
    let mut stream = client.get(format!("{url}/api/v1/events")).header("Cookie", cookie).call().unwrap();
    let mut line = String::new();
    BufReader::new(stream.body_mut().as_reader()).read_line(&mut line).unwrap();
    assert!(
        !line.is_empty() && begun.elapsed() < Duration::from_secs(5),
        "{line:?} after {:?}",
        begun.elapsed()
    );

    // The session has the address of the client, not of the proxy.
    let sessions = client
        .get(format!("{url}/api/v1/sessions"))
        .header("Cookie", cookie)
        .call()
        .unwrap()
        .body_mut()
        .read_to_string()
        .unwrap();
    assert!(sessions.contains("127.0.0.9"), "{sessions}");

    // A preview is a WebSocket.
    let certificate = folder.path().join("cert.pem");
    let head = format!(
        "GET /api/v1/feeds/Viaduct/preview HTTP/1.1\r\nHost: localhost\r\nOrigin: https://localhost\r\nCookie: {cookie}\r\n\
         Connection: Upgrade\r\nUpgrade: websocket\r\nSec-WebSocket-Version: 13\r\n\
         Sec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==\r\n\r\n"
    );
    let address = url.strip_prefix("https://").unwrap();
    let mut openssl = Command::new("openssl");
    openssl.args([
        "s_client",
        "-quiet",
        "-verify_return_error",
        "-servername",
        "localhost",
        "-connect",
        address,
        "-CAfile",
    ]);
    openssl.arg(certificate).stdin(std::process::Stdio::piped()).stdout(std::process::Stdio::piped());
    let mut socket = KillOnDrop(openssl.stderr(std::process::Stdio::null()).spawn().unwrap());
    socket.0.stdin.as_mut().unwrap().write_all(head.as_bytes()).unwrap();
    let mut received = vec![0; 20_000];
    socket.0.stdout.as_mut().unwrap().read_exact(&mut received).unwrap();
    let head = String::from_utf8_lossy(&received[..400]);
    assert!(head.starts_with("HTTP/1.1 101 "), "{head}");
    assert!(received.windows(4).any(|bytes| bytes == b"moof"), "media arrives");
}
