//! The program as people use it: by its commands, on loopback, with stand-ins.

use crate::support;
use crate::support::{KEY, Service, World, program, text};
use rstest::rstest;
use serde_json::Value;

#[test]
fn from_nothing_to_live_and_back_by_commands() {
    let (service, world) = (Service::start(), World::start());
    assert!(service.must(&["status"], "").contains("no relays yet"));
    service.set_up_line(&world);
    assert!(service.must(&["destination", "show", "Bramble"], "").contains("…y-9Z"));
    let relay: Value =
        serde_json::from_str(&service.must(&["relay", "start", "Line", "--json"], "")).unwrap();
    assert_eq!(relay["wanted"], "on");
    let relay = service.wait_live("Line");
    assert_eq!(relay["feed"]["state"], "flowing");
    assert!(relay["feed"]["cause"].is_null() && relay["pushes"][0]["cause"].is_null());
    for field in ["since", "kbps", "bytes", "frames_sent", "frames_dropped", "reconnects", "backlog_ms"] {
        assert!(!relay["pushes"][0][field].is_null(), "{field}: {relay:#}");
    }
    assert_eq!(relay["feed"]["transport"], "tcp");
    assert_eq!(
        (&relay["feed"]["video"]["width"], &relay["feed"]["video"]["height"]),
        (&1280.into(), &720.into())
    );
    let status = service.must(&["status"], "");
    assert!(status.starts_with("1 of 1 relays are up. 1 pushes"), "{status}");
    service.must(&["relay", "stop", "Line"], "");
    assert_eq!(service.relay("Line")["pushes"][0]["state"], "off");
    for (kind, name) in [("relay", "Line"), ("feed", "Viaduct"), ("destination", "Bramble")] {
        service.must(&[kind, "remove", name], "");
    }
}

#[test]
fn relays_run_again_after_a_kill() {
    let (mut service, world) = (Service::start(), World::start());
    service.set_up_line(&world);
    service.must(&["relay", "start", "Line"], "");
    service.wait_live("Line");
    service.kill();
    service.start_again();
    service.wait_live("Line");
    service.must(&["relay", "stop", "Line"], "");
    service.kill();
    service.start_again();
    assert_eq!(
        (&service.relay("Line")["wanted"], &service.relay("Line")["feed"]["state"]),
        (&"off".into(), &"off".into())
    );
}

#[test]
fn an_orderly_stop_ends_the_broadcast_and_tidies_up() {
    let (mut service, world) = (Service::start(), World::start());
    service.set_up_line(&world);
    service.must(&["relay", "start", "Line"], "");
    service.wait_live("Line");
    assert!(service.stop());
    assert!(!world.platform.report("one").unwrap().live);
    assert!(!service.home.path().join("service.json").exists());
    let output = service.run(&["status"]);
    assert_eq!(output.status.code(), Some(3));
    assert!(text(&output.stderr).contains("service.not-reachable"));
}

#[test]
fn causes_are_shown_until_the_fault_is_corrected() {
    let (service, world) = (Service::start(), World::start());
    service.set_up_line(&world);
    service.must(&["destination", "rekey", "Bramble", "--key-stdin"], "a-key-nobody-knows");
    service.must(&["relay", "start", "Line"], "");
    let relay = service.wait("Line", "blocked", |relay| relay["pushes"][0]["state"] == "blocked");
    assert_eq!(relay["pushes"][0]["cause"]["code"], "push.key-refused");
    assert!(service.must(&["status"], "").contains("Platform side."));
    service.must(&["destination", "rekey", "Bramble", "--key-stdin"], KEY);
    service.wait_live("Line");

    world.camera_off();
    service.wait("Line", "refused", |relay| relay["feed"]["cause"]["code"] == "feed.connection-refused");
    world.camera_on();
    service.wait_live("Line");

    service.must(&["feed", "edit", "Viaduct", "--user", "rail", "--password-stdin"], "wrong");
    service.wait("Line", "refused", |relay| {
        relay["feed"]["state"] == "blocked" && relay["feed"]["cause"]["code"] == "feed.wrong-password"
    });
    service.must(&["feed", "edit", "Viaduct", "--password-stdin"], support::CAMERA_PASSWORD);
    service.wait_live("Line");

    let nowhere = world.camera.url("/nowhere");
    service.must(&["feed", "edit", "Viaduct", "--url", &nowhere], "");
    service.wait("Line", "does not have this stream", |relay| {
        relay["feed"]["state"] == "blocked" && relay["feed"]["cause"]["code"] == "feed.no-such-stream"
    });

    service.must(&["destination", "edit", "Bramble", "--server", "rtmp://no-such-host.invalid/live"], "");
    service.must(&["feed", "edit", "Viaduct", "--url", &world.camera.url("/viaduct/main")], "");
    service
        .wait("Line", "name not found", |relay| relay["pushes"][0]["cause"]["code"] == "push.name-not-found");
}

#[rstest]
#[case::address(&["feed", "add", "A", "--url", "http://192.0.2.7/"], "", 1, "request.invalid")]
#[case::address_port(&["feed", "add", "A", "--url", "rtsp://192.0.2.7:99999/"], "", 1, "99999")]
#[case::name_taken(&["feed", "add", "viaduct", "--url", "rtsp://192.0.2.7/"], "", 1, "request.name-taken")]
#[case::unknown_feed(&["relay", "add", "B", "--feed", "Viadukt", "--to", "Bramble"], "", 1, "Did you mean the feed \"Viaduct\"")]
#[case::empty_key(&["destination", "add", "A", "--server", "rtmp://h/live", "--key-stdin"], " \n", 1, "stream key is missing")]
#[case::key_with_blank(&["destination", "add", "A", "--server", "rtmp://h/live", "--key-stdin"], "ab cd", 1, "blank at position 3")]
#[case::no_key(&["destination", "add", "A", "--server", "rtmp://h/live"], "", 2, "--key-file")]
#[case::key_as_argument(&["destination", "add", "A", "--server", "rtmp://h/live", "--key", "x"], "", 2, "unexpected argument")]
#[case::no_such_file(&["destination", "add", "A", "--server", "rtmp://h/live", "--key-file", "/nowhere/key"], "", 2, "/nowhere/key")]
#[case::unknown_command(&["feed", "ad"], "", 2, "unrecognized subcommand")]
#[case::remove_used(&["feed", "remove", "Viaduct"], "", 1, "request.in-use")]
fn invalid_input_has_a_message_and_its_exit_code(
    #[case] arguments: &[&str],
    #[case] input: &str,
    #[case] code: i32,
    #[case] says: &str,
) {
    let (service, world) = (Service::start(), World::start());
    service.set_up_line(&world);
    let output = service.run_with(arguments, input);
    let errors = text(&output.stderr);
    assert_eq!(output.status.code(), Some(code), "{errors}");
    assert!(errors.contains(says), "{errors}");
    let count = |kind: &str| {
        let listed: Value = serde_json::from_str(&service.must(&[kind, "list", "--json"], "")).unwrap();
        listed.as_array().unwrap().len()
    };
    assert_eq!([count("feed"), count("destination"), count("relay")], [1, 1, 1]);
}

#[test]
fn pasted_key_is_corrected_and_reported() {
    let (service, world) = (Service::start(), World::start());
    let server = format!("{}/", world.platform.server());
    let said = service
        .must(&["destination", "add", "B", "--server", &server, "--key-stdin"], &format!("  {KEY}\r\n"));
    assert!(
        said.contains("note       pasted: repeated")
            && said.contains("note       pasted: surrounding blanks"),
        "{said}"
    );
    assert_eq!(service.must(&["destination", "reveal", "B"], ""), format!("{KEY}\n"));
}

#[test]
fn a_remote_service_is_named_before_the_command_or_in_the_environment() {
    let service = Service::start();
    let token = service.home.path().join("token");
    let add = |name: &str, by_environment: bool| {
        let mut command = std::process::Command::new(program());
        if by_environment {
            command.env("YONDER_URL", service.url()).env("YONDER_TOKEN_FILE", &token);
        } else {
            command.args(["--url", &service.url()]).arg("--token-file").arg(&token);
        }
        support::output(command.args(["feed", "add", name, "--url", "rtsp://192.0.2.7/main"]))
    };
    for (name, by_environment) in [("By option", false), ("By environment", true)] {
        let output = add(name, by_environment);
        assert!(output.status.success(), "{}", text(&output.stderr));
    }
    let listed: Value = serde_json::from_str(&service.must(&["feed", "list", "--json"], "")).unwrap();
    assert_eq!(listed.as_array().unwrap().len(), 2);
    let lonely = support::output(std::process::Command::new(program()).args([
        "--url",
        "http://127.0.0.1:1",
        "status",
    ]));
    assert_eq!(lonely.status.code(), Some(2));
    assert!(text(&lonely.stderr).contains("--token-file"));
}

#[test]
fn data_directory_is_locked_by_one_service() {
    let service = Service::start();
    let second = support::output(
        std::process::Command::new(program())
            .args(["serve", "--listen", "127.0.0.1:0", "--home"])
            .arg(service.home.path()),
    );
    assert_eq!(second.status.code(), Some(1));
    assert!(text(&second.stderr).contains("runs already"));
}

#[test]
fn status_can_be_followed_as_events() {
    use std::io::{BufRead as _, BufReader};
    let (service, world) = (Service::start(), World::start());
    service.set_up_line(&world);
    let mut follower = std::process::Command::new(program())
        .arg("--home")
        .arg(service.home.path())
        .args(["status", "--follow", "--json"])
        .stdout(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    let mut lines = BufReader::new(follower.stdout.take().unwrap()).lines();
    let mut next = || serde_json::from_str::<Value>(&lines.next().unwrap().unwrap()).unwrap();
    assert_eq!(next()["relay"]["wanted"], "off");
    assert_eq!(next()["kind"], "complete");
    service.must(&["relay", "start", "Line"], "");
    while next()["relay"]["pushes"][0]["state"] != "live" {}
    service.must(&["relay", "remove", "Line"], "");
    while next()["kind"] != "removed" {}
    follower.kill().unwrap();
    follower.wait().unwrap();
}

#[rstest]
#[case("bash")]
#[case("zsh")]
#[case("fish")]
fn completion_scripts_know_the_commands(#[case] shell: &str) {
    let output = support::output(std::process::Command::new(program()).args(["completions", shell]));
    let script = text(&output.stdout);
    assert!(
        ["destination", "relay", "rekey", "--key-file"]
            .iter()
            .all(|word| script.contains(word.trim_start_matches('-')))
    );
}

#[test]
fn the_demonstration_ends_by_itself_with_every_push_graded_good() {
    let output = support::output(std::process::Command::new(program()).args([
        "demo",
        "--for",
        "12s",
        "--json",
        "--listen",
        "127.0.0.1:0",
    ]));
    let summary: Value = serde_json::from_slice(&output.stdout).unwrap_or_default();
    assert!(output.status.success(), "{summary:#} {}", text(&output.stderr));
    assert_eq!(summary["good"], true);
    let pushes = summary["pushes"].as_array().unwrap();
    assert_eq!(pushes.len(), 10);
    for push in pushes {
        assert_eq!(push["state"], "live");
        // The least frame rate is 6 fps.
        assert!(push["graded"]["pictures"].as_u64().unwrap() > 30, "{push:#}");
    }
}

/// A stand-in as a program of its own, killed when it goes out of scope.
struct StandIn(std::process::Child);

impl StandIn {
    fn start(arguments: &[&str]) -> (Self, String) {
        use std::io::{BufRead as _, BufReader};
        let mut child = std::process::Command::new(program())
            .arg("stand-in")
            .args(arguments)
            .stdout(std::process::Stdio::piped())
            .spawn()
            .unwrap();
        let mut lines = BufReader::new(child.stdout.take().unwrap()).lines().map_while(Result::ok);
        let said = lines.find_map(|line| line.find("://").map(|at| line[at - 4..].to_owned())).unwrap();
        // Further output is drained, so that it does not block the process.
        std::thread::spawn(move || lines.for_each(drop));
        (Self(child), said)
    }
}

impl Drop for StandIn {
    fn drop(&mut self) {
        self.0.kill().unwrap();
        self.0.wait().unwrap();
    }
}

#[test]
fn stand_ins_that_are_killed_and_started_again_are_live_again() {
    let service = Service::start();
    let secret = |name: &str, text: &str| {
        let path = service.home.path().join(name);
        std::fs::write(&path, text).unwrap();
        path.to_str().unwrap().to_owned()
    };
    let (password, key) =
        (secret("password.txt", "up the fell\n"), secret("key.txt", "a-key-for-rehearsals\n"));
    let camera = ["camera", "--port", "0", "--user", "rail", "--password-file", &password];
    let (running, url) = StandIn::start(&camera);
    let (platform, server) = StandIn::start(&["platform", "--port", "0", "--key-file", &key]);
    service.must(&["feed", "add", "Cam", "--url", &url, "--user", "rail", "--password-file", &password], "");
    service.must(&["destination", "add", "Here", "--server", &server, "--key-file", &key], "");
    service.must(&["relay", "add", "Line", "--feed", "Cam", "--to", "Here"], "");
    service.must(&["relay", "start", "Line"], "");
    service.wait_live("Line");

    drop(running);
    let relay =
        service.wait("Line", "refused", |relay| relay["feed"]["cause"]["code"] == "feed.connection-refused");
    assert_eq!(relay["feed"]["cause"]["side"], "camera");
    let port = url.rsplit(':').next().unwrap().split('/').next().unwrap();
    let mut same_port = camera;
    same_port[2] = port;
    let _running = StandIn::start(&same_port);
    service.wait_live("Line");

    drop(platform);
    service.wait("Line", "refused", |relay| relay["pushes"][0]["cause"]["code"] == "push.connection-refused");
    assert_eq!(service.relay("Line")["feed"]["state"], "flowing");
    let port = server.rsplit(':').next().unwrap().split('/').next().unwrap();
    let _platform = StandIn::start(&["platform", "--port", port, "--key-file", &key]);
    let relay = service.wait_live("Line");
    assert_eq!(relay["pushes"][0]["reconnects"], 1);
}

#[test]
fn every_command_supports_json() {
    let (service, world) = (Service::start(), World::start());
    service.set_up_line(&world);
    for arguments in [
        &["relay", "list", "--json"][..],
        &["--json", "feed", "show", "Viaduct"],
        &["alert", "add", "Down", "--when", "down 60s", "--json"],
        &["alert", "remove", "Down", "--json"],
        &["platform", "rules", "--json"],
        &["selfcheck", "--json"],
        &["upgrade", "--check", "--json"],
        &["master-key", "rotate", "--json"],
    ] {
        let output = service.run(arguments);
        assert!(output.status.success(), "{arguments:?}: {}", text(&output.stderr));
        let answer: Value =
            serde_json::from_slice(&output.stdout).unwrap_or_else(|_| panic!("{}", text(&output.stdout)));
        assert!(answer.is_object() || answer.is_array(), "{answer}");
    }
    for (arguments, code, exit) in [
        (&["relay", "show", "Nothing", "--json"][..], "request.not-found", 1),
        (&["destination", "rekey", "Bramble", "--key-file", "/no/such/file", "--json"], "command.usage", 2),
        (&["--url", "http://127.0.0.1:1", "--token-file", "/dev/null", "status", "--json"], "", 0),
    ] {
        let output = service.run(arguments);
        let problem: Value =
            serde_json::from_slice(&output.stderr).unwrap_or_else(|_| panic!("{}", text(&output.stderr)));
        assert!(problem["detail"].is_string(), "{problem}");
        if exit != 0 {
            assert_eq!(
                (problem["code"].as_str(), output.status.code()),
                (Some(code), Some(exit)),
                "{problem}"
            );
        }
    }
    let both = service.run(&["logbook", "--csv", "--json"]);
    assert_eq!(both.status.code(), Some(2), "two formats at a time");
}

#[test]
fn refused_edit_changes_nothing() {
    let (service, world) = (Service::start(), World::start());
    service.set_up_line(&world);
    let picture = service.home.path().join("card.png");
    let picture = picture.to_str().unwrap();
    service.must(&["relay", "holding-picture", "Line", "--out", picture], "");
    let before = service.relay("Line");
    let refused = service.run(&["relay", "edit", "Line", "--holding-picture", picture, "--to", "Nowhere"]);
    assert_eq!(refused.status.code(), Some(1));
    assert_eq!(service.relay("Line"), before, "the picture is refused with the rest");
    let text_file = service.file("card.txt", "no picture");
    let refused =
        service.run(&["relay", "edit", "Line", "--holding-picture", &text_file, "--hold-after", "9s"]);
    assert_eq!(refused.status.code(), Some(1));
    assert_eq!(service.relay("Line"), before, "the rest is refused with the picture");
    service.must(&["relay", "edit", "Line", "--holding-picture", picture, "--hold-after", "9s"], "");
    let after = service.relay("Line");
    assert_ne!(after["revision"], before["revision"]);
    assert_eq!(after["hold_after_s"], 9, "{after}");
}

#[test]
fn a_token_is_not_sent_in_clear_to_another_machine() {
    let service = Service::start();
    let token = service.home.path().join("token");
    let ask = |url: &str, more: &[&str]| {
        let mut command = std::process::Command::new(program());
        support::output(command.args(["--url", url, "--token-file"]).arg(&token).args(more).arg("status"))
    };
    let refused = ask("http://192.0.2.9:8460", &[]);
    assert_eq!(refused.status.code(), Some(2));
    assert!(text(&refused.stderr).contains("--plain-http"), "{}", text(&refused.stderr));
    assert!(ask(&service.url(), &[]).status.success(), "this machine");
}
