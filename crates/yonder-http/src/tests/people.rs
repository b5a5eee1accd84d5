//! Permissions: roles, invitations, sessions, tokens.

use super::*;

pub(super) const PASSWORD: &str = "a long enough one";

/// Signed-in person.
pub(super) struct Visitor {
    cookie: Cookie<'static>,
    csrf: String,
}

impl Visitor {
    pub(super) fn request(&self, method: Method, uri: &str) -> TestRequest {
        let request = TestRequest::default().method(method).uri(uri).cookie(self.cookie.clone());
        request.insert_header((CSRF_HEADER, self.csrf.as_str()))
    }
}

async fn enter(service: &Arc<Service>, uri: &str, body: Value) -> Result<Visitor, Value> {
    let request = TestRequest::post().uri(uri).insert_header(("User-Agent", "a browser")).set_json(body);
    let (status, signed_in, response) = ask(service, request).await;
    if status != 200 {
        return Err(signed_in);
    }
    let cookie = response.response().cookies().next().unwrap().into_owned();
    Ok(Visitor { cookie, csrf: signed_in["token"].as_str().unwrap().to_owned() })
}

pub(super) async fn sign_in(service: &Arc<Service>, name: &str) -> Visitor {
    enter(service, "/api/v1/session", json!({"name": name, "password": PASSWORD})).await.unwrap()
}

/// Returns a service with a person of each role.
pub(super) fn staffed() -> Arc<Service> {
    let service = service();
    for (name, role) in [("guest", Role::Viewer), ("night desk", Role::Operator), ("chief", Role::Admin)] {
        service.auth().add_person(name, &PASSWORD.into(), role).unwrap();
    }
    service
}

#[actix_web::test]
async fn every_operation_checks_the_role() {
    let service = staffed();
    let document: Value = serde_json::from_str(&crate::openapi()).unwrap();
    let visitors = [
        (Role::Viewer, sign_in(&service, "guest").await),
        (Role::Operator, sign_in(&service, "night desk").await),
    ];
    let mut seen = 0;
    for (path, methods) in document["paths"].as_object().unwrap() {
        for method in methods.as_object().unwrap().keys().filter(|key| *key != "parameters") {
            let Some(needs) = crate::conventions::role_of(method, path) else { continue };
            let uri = path.replace("{name}", "nobody").replace("{id}", "none").replace("{stream}", "main");
            let method = Method::from_bytes(method.to_uppercase().as_bytes()).unwrap();
            for (role, visitor) in visitors.iter().filter(|(role, _)| *role < needs) {
                let (status, problem, _) = ask(&service, visitor.request(method.clone(), &uri)).await;
                let found = (status.as_u16(), problem["code"].as_str());
                assert_eq!(found, (403, Some("request.role-needed")), "{method} {uri} by {role:?}");
                seen += 1;
            }
            let stranger = TestRequest::default().method(method.clone()).uri(&uri);
            assert_eq!(ask(&service, stranger).await.0, 401, "{method} {uri} by nobody");
        }
    }
    assert!(seen > 80, "{seen}");
}

#[actix_web::test]
async fn operators_switch_and_viewers_are_refused_with_a_hint() {
    let service = staffed();
    fill(&service).await;
    let (guest, desk) = (sign_in(&service, "guest").await, sign_in(&service, "night desk").await);
    let rekey = json!({"key": "fresh-key-of-some-length"});
    let uri = "/api/v1/destinations/One/rekey";
    let (_, problem, _) = ask(&service, guest.request(Method::POST, uri).set_json(&rekey)).await;
    assert_eq!(problem["detail"], "Your role, viewer, does not allow this.");
    assert_eq!(problem["hint"], "Ask an admin for it: an operator can start, stop, hold and rekey.");
    assert_eq!(ask(&service, desk.request(Method::POST, uri).set_json(&rekey)).await.0, 200);
    // The logbook names the person.
    let (_, lines) = get(&service, "/api/v1/logbook?kind=destination&changes=true").await;
    let last = lines.as_array().unwrap().last().unwrap();
    assert_eq!((&last["what"], &last["who"]), (&json!("rekeyed"), &json!("night desk")));
}

#[actix_web::test]
async fn invitation_is_valid_once_and_grants_its_role() {
    let service = staffed();
    let chief = sign_in(&service, "chief").await;
    let new = json!({"name": "Signal box", "role": "operator"});
    let (status, made, _) =
        ask(&service, chief.request(Method::POST, "/api/v1/invitations").set_json(new)).await;
    assert_eq!(status, 201, "{made}");
    let code = made["code"].as_str().unwrap().to_owned();
    let show =
        |code: &str| TestRequest::post().uri("/api/v1/invitations/look").set_json(json!({"code": code}));
    let (_, invitation, _) = ask(&service, show(&code)).await;
    assert_eq!(
        (&invitation["name"], &invitation["role"], &invitation["resets"], &invitation["by"]),
        (&json!("Signal box"), &json!("operator"), &json!(false), &json!("chief"))
    );
    let join = |password: &str| json!({"code": code, "password": password});
    let short = enter(&service, "/api/v1/invitations/join", join("short")).await.err().unwrap();
    assert_eq!(short["field"], "password", "a refused password does not use the link up");
    let box_man = enter(&service, "/api/v1/invitations/join", join(PASSWORD)).await.unwrap();
    let (_, who, _) = ask(&service, box_man.request(Method::GET, "/api/v1/session")).await;
    assert_eq!((&who["person"], &who["role"]), (&json!("Signal box"), &json!("operator")));
    for request in [show(&code), show("guessed")] {
        let (status, problem, _) = ask(&service, request).await;
        assert_eq!((status.as_u16(), &problem["code"]), (403, &json!("request.invitation-refused")));
    }
    assert_eq!(get(&service, "/api/v1/invitations").await.1, json!([]));
}

#[actix_web::test]
async fn a_link_to_a_new_password_keeps_the_role_and_ends_old_sessions() {
    let service = staffed();
    let desk = sign_in(&service, "night desk").await;
    let (status, problem) =
        post(&service, "/api/v1/invitations", json!({"name": "Night Desk", "role": "admin"})).await;
    assert_eq!((status.as_u16(), &problem["field"]), (422, &json!("role")));
    let (_, made) = post(&service, "/api/v1/invitations", json!({"name": "Night Desk"})).await;
    assert_eq!(
        (&made["invitation"]["resets"], &made["invitation"]["name"]),
        (&json!(true), &json!("night desk"))
    );
    let join = json!({"code": made["code"], "password": "another long one"});
    let again = enter(&service, "/api/v1/invitations/join", join).await.unwrap();
    assert_eq!(ask(&service, again.request(Method::GET, "/api/v1/session")).await.1["role"], "operator");
    assert_eq!(ask(&service, desk.request(Method::GET, "/api/v1/session")).await.0, 401);
}

#[actix_web::test]
async fn revoked_invitation_is_invalid() {
    let service = staffed();
    let (_, made) = post(&service, "/api/v1/invitations", json!({"name": "Signal box"})).await;
    assert_eq!(made["invitation"]["role"], "viewer", "nobody gets more than was said");
    assert_eq!(ask(&service, local(Method::DELETE, "/api/v1/invitations/Signal%20box")).await.0, 204);
    let join = json!({"code": made["code"], "password": PASSWORD});
    assert!(enter(&service, "/api/v1/invitations/join", join).await.is_err());
}

#[actix_web::test]
async fn role_applies_to_the_next_request_and_the_last_admin_is_kept() {
    let service = staffed();
    let (chief, desk) = (sign_in(&service, "chief").await, sign_in(&service, "night desk").await);
    let role = |role: &str| json!({"role": role});
    let demote = chief.request(Method::PATCH, "/api/v1/people/chief").set_json(role("viewer"));
    let (status, problem, _) = ask(&service, demote).await;
    assert_eq!((status.as_u16(), &problem["code"]), (409, &json!("person.last-admin")));
    let promote = chief.request(Method::PATCH, "/api/v1/people/night%20desk").set_json(role("admin"));
    assert_eq!(ask(&service, promote).await.1["role"], "admin");
    assert_eq!(ask(&service, desk.request(Method::GET, "/api/v1/people")).await.0, 200);
    assert_eq!(ask(&service, desk.request(Method::DELETE, "/api/v1/people/chief")).await.0, 204);
    assert_eq!(ask(&service, chief.request(Method::GET, "/api/v1/session")).await.0, 401);
    let (_, problem, _) = ask(&service, desk.request(Method::DELETE, "/api/v1/people/gust")).await;
    assert_eq!(problem["hint"], "Did you mean the person \"guest\"?");
}

#[actix_web::test]
async fn a_password_is_changed_with_the_current_one_and_ends_the_other_sessions() {
    let service = staffed();
    let (here, elsewhere) = (sign_in(&service, "guest").await, sign_in(&service, "guest").await);
    let change = |current: &str, new: &str| {
        let body = json!({"current": current, "new": new});
        here.request(Method::POST, "/api/v1/session/password").set_json(body)
    };
    assert_eq!(ask(&service, change("guessed", "another long one")).await.0, 401);
    assert_eq!(ask(&service, change(PASSWORD, "short")).await.1["field"], "password");
    assert_eq!(ask(&service, change(PASSWORD, "another long one")).await.0, 204);
    assert_eq!(ask(&service, here.request(Method::GET, "/api/v1/session")).await.0, 200);
    assert_eq!(ask(&service, elsewhere.request(Method::GET, "/api/v1/session")).await.0, 401);
    // A token has no password.
    let body = json!({"current": PASSWORD, "new": "another long one"});
    assert_eq!(post(&service, "/api/v1/session/password", body).await.0, 401);
}

#[actix_web::test]
async fn sessions_are_visible_to_their_owner_and_admins() {
    let service = staffed();
    let (guest, chief) = (sign_in(&service, "guest").await, sign_in(&service, "chief").await);
    let (_, mine, _) = ask(&service, guest.request(Method::GET, "/api/v1/sessions")).await;
    assert_eq!((mine.as_array().unwrap().len(), &mine[0]["this"]), (1, &json!(true)));
    assert_eq!(mine[0]["agent"], "a browser");
    let (_, all, _) = ask(&service, chief.request(Method::GET, "/api/v1/sessions")).await;
    assert_eq!(all.as_array().unwrap().len(), 2);
    let id = |all: &Value, whose: &str| {
        let found = all.as_array().unwrap().iter().find(|session| session["person"] == whose).unwrap();
        format!("/api/v1/sessions/{}", found["id"].as_str().unwrap())
    };
    assert_eq!(ask(&service, guest.request(Method::DELETE, &id(&all, "chief"))).await.0, 404);
    assert_eq!(ask(&service, chief.request(Method::DELETE, &id(&all, "guest"))).await.0, 204);
    assert_eq!(ask(&service, guest.request(Method::GET, "/api/v1/session")).await.0, 401);
}

#[actix_web::test]
async fn token_has_its_roles_permissions_until_revoked() {
    let service = staffed();
    fill(&service).await;
    for (body, field) in [(json!({"name": " "}), "name"), (json!({"name": "Wall", "days": 4000}), "days")] {
        assert_eq!(post(&service, "/api/v1/tokens", body).await.1["field"], field);
    }
    let (_, lasting) = post(&service, "/api/v1/tokens", json!({"name": "Without an end", "days": 0})).await;
    assert_eq!(lasting["token"]["expires"], Value::Null, "{lasting}");
    let (_, usual) = post(&service, "/api/v1/tokens", json!({"name": "With the usual end"})).await;
    assert!(usual["token"]["expires"].is_string(), "tokens expire unless said otherwise: {usual}");
    let (status, made) = post(&service, "/api/v1/tokens", json!({"name": "Wall display", "days": 30})).await;
    assert_eq!((status.as_u16(), &made["token"]["role"]), (201, &json!("viewer")));
    let secret = made["secret"].as_str().unwrap().to_owned();
    let bearer = |method: Method, uri: &str| {
        let value = format!("Bearer {secret}");
        TestRequest::default().method(method).uri(uri).insert_header(("Authorization", value))
    };
    assert_eq!(ask(&service, bearer(Method::GET, "/api/v1/relays")).await.0, 200);
    assert_eq!(ask(&service, bearer(Method::GET, "/metrics")).await.0, 200);
    assert_eq!(ask(&service, bearer(Method::POST, "/api/v1/relays/Line/stop")).await.0, 403);
    let (_, tokens) = get(&service, "/api/v1/tokens").await;
    assert!(
        !tokens.to_string().contains(&secret) && tokens[0]["used"].is_string() && tokens[0]["void"] == false
    );
    assert_eq!(ask(&service, local(Method::DELETE, "/api/v1/tokens/Wall%20display")).await.0, 204);
    assert_eq!(ask(&service, bearer(Method::GET, "/api/v1/relays")).await.0, 401);
}

#[actix_web::test]
async fn actions_are_published_to_subscribers() {
    let service = staffed();
    let (_, mut events) = service.events().subscribe();
    fill(&service).await;
    let mut lines = Vec::new();
    while let Ok(event) = events.try_recv() {
        let event: Value = serde_json::from_str(&event).unwrap();
        if event["kind"] == "log" {
            lines.push(format!(
                "{} {}",
                event["entry"]["kind"].as_str().unwrap(),
                event["entry"]["what"].as_str().unwrap()
            ));
        }
    }
    assert_eq!(lines, ["feed added", "destination added", "relay added"]);
}

#[actix_web::test]
async fn guessing_stranger_is_limited_and_the_owner_is_not() {
    let service = staffed();
    let try_from = async |address: &str, password: &str| {
        let credentials = json!({ "name": "night desk", "password": password });
        let request = TestRequest::post()
            .uri("/api/v1/session")
            .peer_addr(format!("{address}:5000").parse().unwrap())
            .set_json(credentials);
        let (status, _, response) = ask(&service, request).await;
        let header = response.headers().get("Retry-After").map(|value| value.to_str().unwrap().to_owned());
        (status.as_u16(), header)
    };
    for _ in 0..5 {
        assert_eq!(try_from("203.0.113.9", "a wrong password").await.0, 401);
    }
    let (status, retry_after) = try_from("203.0.113.9", PASSWORD).await;
    assert_eq!((status, retry_after.as_deref()), (429, Some("2")));
    assert_eq!(try_from("192.0.2.7", PASSWORD).await.0, 200);
}

#[actix_web::test]
async fn made_up_codes_are_refused_before_a_password_is_hashed() {
    let service = staffed();
    let begun = std::time::Instant::now();
    for name in ["first", "second", "third"] {
        service.auth().add_person(name, &PASSWORD.into(), Role::Viewer).unwrap();
    }
    let hash = begun.elapsed() / 3;
    let begun = std::time::Instant::now();
    let mut statuses = Vec::new();
    for at in 0..200 {
        let body = json!({ "code": format!("made-up-{at}"), "password": PASSWORD });
        statuses
            .push(ask(&service, TestRequest::post().uri("/api/v1/invitations/join").set_json(body)).await.0);
    }
    assert!(statuses.iter().all(|status| [403, 429].contains(&status.as_u16())), "{statuses:?}");
    assert_eq!(statuses.iter().filter(|status| status.as_u16() == 403).count(), 5);
    // The requests themselves take about a fifth of two hundred hashes.
    assert!(begun.elapsed() < hash * 100, "{:?} for 200 requests, {hash:?} for a hash", begun.elapsed());
}
