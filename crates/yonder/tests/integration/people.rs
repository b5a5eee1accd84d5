//! People, their sessions and tokens, by command.

use std::os::unix::fs::PermissionsExt as _;
use std::process::Command;

use crate::support;
use crate::support::{Service, text};
use serde_json::{Value, json};

fn parsed(service: &Service, arguments: &[&str]) -> Value {
    serde_json::from_str(&service.must(arguments, "")).unwrap()
}

/// Takes an invitation up as the console does.
fn join(service: &Service, invited: &str) -> Value {
    let code = invited.rsplit_once("/join#").unwrap().1.trim();
    let body = json!({"code": code, "password": "a lamp in the window"}).to_string();
    let request = ureq::post(format!("{}/api/v1/invitations/join", service.url()));
    let answer = request.header("Content-Type", "application/json").send(body.as_str()).unwrap();
    serde_json::from_str(&answer.into_body().read_to_string().unwrap()).unwrap()
}

#[test]
fn person_is_invited_changed_and_removed() {
    let service = Service::start();
    let invited = service.must(&["person", "invite", "Signal box", "--role", "operator"], "");
    assert!(
        invited.starts_with("Signal box (operator) can choose a password and sign in until "),
        "{invited}"
    );
    let listed = service.must(&["person", "list"], "");
    assert!(listed.contains("Signal box is invited (operator, by local, until "), "{listed}");

    let signed_in = join(&service, &invited);
    assert_eq!((&signed_in["person"], &signed_in["role"]), (&json!("Signal box"), &json!("operator")));
    let sessions = parsed(&service, &["session", "list", "--json"]);
    assert_eq!(sessions[0]["person"], "Signal box");
    service.must(&["session", "end", sessions[0]["id"].as_str().unwrap()], "");
    assert_eq!(parsed(&service, &["session", "list", "--json"]), json!([]));

    // The only one who may sign in is an operator: nobody would be left to look after people.
    let refused = service.run(&["person", "remove", "Signal box"]);
    assert_eq!((refused.status.code(), text(&refused.stderr).contains("person.last-admin")), (Some(1), true));
    let promoted = service.must(&["person", "edit", "Signal box", "--role", "admin"], "");
    assert_eq!(promoted, "Signal box is admin now.\n");
    join(&service, &service.must(&["person", "invite", "Night desk", "--role", "admin"], ""));
    service.must(&["person", "remove", "signal box"], "");
    let people = parsed(&service, &["person", "list", "--json"]);
    assert_eq!(people["people"].as_array().unwrap().len(), 1, "{people}");

    let again = service.must(&["person", "invite", "night desk"], "");
    assert!(again.contains("Night desk (admin) can choose a new password"), "{again}");
    service.must(&["person", "uninvite", "Night desk"], "");
    let lines = service.must(&["logbook"], "");
    for action in ["invited", "joined", "uninvited", "removed"] {
        assert!(lines.contains(action), "{action}: {lines}");
    }
}

#[test]
fn remote_token_has_its_roles_permissions() {
    let service = Service::start();
    let file = service.home.path().join("wall.token");
    let path = file.display().to_string();
    let made = service.must(&["token", "add", "Wall display", "--out", &path, "--days", "30"], "");
    assert!(made.starts_with("Token Wall display (viewer) is in "), "{made}");
    let secret = std::fs::read_to_string(&file).unwrap();
    assert_eq!(std::fs::metadata(&file).unwrap().permissions().mode() & 0o777, 0o600);
    assert!(!made.contains(secret.trim()), "the secret is in the file alone");

    let from_elsewhere = |arguments: &[&str]| {
        let mut command = Command::new(support::program());
        support::output(command.args(["--url", &service.url(), "--token-file", &path]).args(arguments))
    };
    assert!(from_elsewhere(&["status"]).status.success());
    let refused = from_elsewhere(&["person", "list"]);
    assert_eq!(refused.status.code(), Some(1));
    assert!(text(&refused.stderr).contains("request.role-needed"), "{}", text(&refused.stderr));

    let listed = service.must(&["token", "list"], "");
    assert!(listed.contains("Wall display") && !listed.contains("not yet"), "{listed}");
    assert!(!(listed + &service.log()).contains(secret.trim()));
    // A file that is there is not written over, and no token is made for nothing.
    let twice = service.run(&["token", "add", "Another", "--out", &path]);
    assert_eq!(twice.status.code(), Some(2));
    let refused = service.run(&["token", "add", "wall display", "--out", &(path.clone() + "2")]);
    assert_eq!((refused.status.code(), file.with_file_name("wall.token2").exists()), (Some(1), false));
    service.must(&["token", "remove", "Wall display"], "");
    assert_eq!(from_elsewhere(&["status"]).status.code(), Some(1));
}
