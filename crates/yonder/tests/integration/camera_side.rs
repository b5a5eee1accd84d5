//! The camera's side by its commands: patterns, finding, surveys, stills, transports and warnings.

use std::io::{BufRead as _, BufReader, Write as _};
use std::process::{Command, Stdio};

use crate::support::{CAMERA_PASSWORD, Service, World, program, text};
use serde_json::Value;

fn json(text: &str) -> Value {
    serde_json::from_str(text).unwrap()
}

#[test]
fn a_recorders_channels_are_added_in_one_go_or_not_at_all() {
    let service = Service::start();
    assert!(service.must(&["pattern", "list"], "").contains("Cairn recorder"));
    let add = ["feed", "add", "Yard", "--pattern", "Cairn recorder", "--set", "host=192.0.2.40"];
    let with = |more: &[&'static str]| [&add[..], more].concat();
    let feeds =
        service.must(&with(&["--channels", "3-4", "--user", "rail", "--password-stdin"]), CAMERA_PASSWORD);
    assert!(feeds.contains("rtsp://192.0.2.40/cairn/ch03/0") && feeds.contains("cairn/ch04/1"), "{feeds}");
    assert!(!feeds.contains(CAMERA_PASSWORD));
    // Yard 4 is there already: none of the three is added.
    let again = service.run(&with(&["--channels", "5,6,4"]));
    assert_eq!(again.status.code(), Some(1));
    assert!(text(&again.stderr).contains("request.name-taken"), "{again:?}");
    assert_eq!(json(&service.must(&["feed", "list", "--json"], "")).as_array().unwrap().len(), 2);
    for (more, words) in [
        (&["--set", "channel=33"][..], "Channel cannot be \"33\": a number from 1 to 32"),
        (&["--set", "channel=1", "--set", "steam=sub"], "no placeholder \"steam\""),
        (&[], "Channel is missing"),
        (&["--channels", "4-1"], "runs backwards"),
    ] {
        let refused = service.run(&with(more));
        assert!(text(&refused.stderr).contains(words), "{refused:?}");
    }
    let secret = service.run(&with(&["--set", "password=x"]));
    assert_eq!(secret.status.code(), Some(2));
}

#[test]
fn patterns_are_made_changed_and_removed() {
    let service = Service::start();
    let template = "rtsp://{host}/halt/{no}";
    let placeholder = "no=number,from:1,to:9,width:3";
    service.must(&["pattern", "add", "Halt", "--template", template, "--placeholder", placeholder], "");
    let shown = service.must(&["pattern", "show", "Halt"], "");
    assert!(shown.contains("a number from 1 to 9, written with 3 digits"), "{shown}");
    service
        .must(&["pattern", "edit", "Halt", "--template", "rtsp://{host}/h", "--note", "one of a kind"], "");
    assert_eq!(json(&service.must(&["pattern", "show", "Halt", "--json"], ""))["note"], "one of a kind");
    service.must(&["pattern", "remove", "Halt"], "");
    let gone = service.run(&["pattern", "show", "Halt"]);
    assert!(text(&gone.stderr).contains("request.not-found"), "{gone:?}");
    let bad = service.run(&["pattern", "add", "Bad", "--template", "rtsp://{host}/{what}"]);
    assert!(text(&bad.stderr).contains("not declared"), "{bad:?}");
}

#[test]
fn a_survey_measures_and_its_stills_are_pictures() {
    let (service, world) = (Service::start(), World::start());
    service.set_up_line(&world);
    let folder = tempfile::tempdir().unwrap();
    let stills = folder.path().to_str().unwrap();
    let survey =
        service.must(&["feed", "survey", "Viaduct", "--for", "3s", "--json", "--stills", stills], "");
    assert!(!survey.contains(CAMERA_PASSWORD));
    let survey = json(&survey);
    let measured = &survey["main"]["measured"];
    assert!((measured["fps"].as_f64().unwrap() - 25.0).abs() < 0.2, "{survey:#}");
    assert_eq!((&survey["main"]["transport"], &survey["done"]), (&"tcp".into(), &true.into()));
    assert!(std::fs::read(folder.path().join("main.jpg")).unwrap().starts_with(&[0xff, 0xd8]));
    let out = folder.path().join("now.jpg");
    let out = out.to_str().unwrap();
    assert!(service.must(&["feed", "still", "Viaduct", "--out", out], "").contains("written"));
    let missing = service.run(&["feed", "still", "Viaduct", "--sub", "--out", out]);
    assert!(text(&missing.stderr).contains("no sub stream"), "{missing:?}");
    world.camera_off();
    let failed = service.run(&["feed", "survey", "Viaduct", "--for", "2s"]);
    assert_eq!(failed.status.code(), Some(1));
    let output = text(&failed.stdout);
    for words in ["feed.connection-refused", "(connecting, after", "causes ", "RTSP is switched off"] {
        assert!(output.contains(words), "{output}");
    }
}

#[test]
fn unstored_address_is_surveyed_with_a_password_from_a_file() {
    let (service, world) = (Service::start(), World::start());
    let file = service.home.path().join("word");
    std::fs::write(&file, CAMERA_PASSWORD).unwrap();
    let url = world.camera.url("/viaduct/main");
    let account = ["--user", "rail", "--password-file", file.to_str().unwrap()];
    let survey = [&["feed", "survey", "--url", &url, "--for", "2s", "--json"][..], &account].concat();
    assert_eq!(json(&service.must(&survey, ""))["main"]["video"]["width"], 1280);
    assert_eq!(json(&service.must(&["feed", "list", "--json"], "")), Value::Array(Vec::new()));
}

#[test]
fn transports_certificates_and_factory_passwords_are_settings_of_a_feed() {
    let service = Service::start();
    let pin = "ab".repeat(32);
    let add = ["feed", "add", "Mast", "--url", "rtsps://192.0.2.7/main", "--transport", "udp", "--pin", &pin];
    let added = service.must(&add, "");
    assert!(added.contains("udp") && added.contains("AB:AB:AB"), "{added}");
    let bad = service.run(&["feed", "edit", "Mast", "--pin", "abc"]);
    assert!(text(&bad.stderr).contains("no SHA-256 fingerprint"), "{bad:?}");
    let edited =
        service.must(&["feed", "edit", "Mast", "--pin", "", "--user", "admin", "--password-stdin"], "12345");
    assert!(!edited.contains("AB:AB") && edited.contains("warning"), "{edited}");
}

#[test]
fn stand_ins_are_found_added_and_given_faults() {
    let service = Service::start();
    let mut stand_in = Command::new(program())
        .args(["stand-in", "camera", "--port", "0"])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let mut lines = BufReader::new(stand_in.stdout.take().unwrap()).lines().map(Result::unwrap);
    let at = loop {
        let line = lines.next().unwrap();
        if let Some(at) = line.strip_prefix("Found by: yonder feed find --at ") {
            break at.to_owned();
        }
    };
    let found = service.must(&["feed", "find", "--at", &at], "");
    assert!(found.contains("tunnel") && found.contains("H.265") && found.contains("640x360"), "{found}");
    let added = json(&service.must(&["feed", "find", "--at", &at, "--add", "all", "--json"], ""));
    assert_eq!(added.as_array().unwrap().len(), 7, "{added:#}");
    let name = added.as_array().unwrap().iter().find(|feed| !feed["sub_url"].is_null()).unwrap();
    let name = name["name"].as_str().unwrap();
    let good = json(&service.must(&["feed", "survey", name, "--for", "2s", "--json"], ""));
    assert!(good["sub"]["measured"]["fps"].as_f64().is_some(), "{good:#}");
    writeln!(stand_in.stdin.as_ref().unwrap(), "refuse 453 Too many").unwrap();
    assert!(lines.by_ref().any(|line| line == "Done."));
    let refused = service.run(&["feed", "survey", name, "--for", "2s", "--json"]);
    assert_eq!(json(&text(&refused.stdout))["main"]["cause"]["code"], "feed.too-many-viewers");
    stand_in.kill().unwrap();
    stand_in.wait().unwrap();
}

#[test]
fn survey_progress_is_published_as_events() {
    let (service, world) = (Service::start(), World::start());
    service.set_up_line(&world);
    let token = std::fs::read_to_string(service.home.path().join("token")).unwrap();
    let bearer = format!("Bearer {}", token.trim());
    let events = ureq::get(format!("{}/api/v1/events", service.url()))
        .header("Authorization", &bearer)
        .call()
        .unwrap();
    let begun = ureq::post(format!("{}/api/v1/surveys", service.url()))
        .header("Authorization", &bearer)
        .send_json(serde_json::json!({"feed": "Viaduct", "for_s": 3}))
        .unwrap();
    assert_eq!(begun.status().as_u16(), 202);
    let mut updates = 0;
    for line in BufReader::new(events.into_body().into_reader()).lines().map_while(Result::ok) {
        let Some(event) = line.strip_prefix("data: ").map(json) else { continue };
        if event["kind"] == "survey" {
            updates += 1;
            assert_eq!(event["survey"]["feed"], "Viaduct");
            assert!(!event.to_string().contains(CAMERA_PASSWORD));
            if event["survey"]["done"] == true {
                break;
            }
        }
    }
    assert!(updates >= 3, "{updates} updates");
}
