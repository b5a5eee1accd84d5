//! People, their sessions, invitations and tokens.

#![expect(clippy::unwrap_used, reason = "a test ends where something unexpected happens")]

use rstest::rstest;
use secrecy::SecretString;
use yonder_core::Role;
use yonder_store::{Invitation, MasterKey, NewSession, NewToken, RecordKind, Store, StoreError};

fn store() -> Store {
    let store = Store::open_in_memory(MasterKey::from_bytes(&[1; 32])).unwrap();
    store.add_person("desk", "hash", Role::Admin, 1).unwrap();
    store.add_person("night desk", "hash", Role::Operator, 2).unwrap();
    store
}

fn begin(store: &Store, person: &str, token: &str, begun_s: i64) {
    let token = SecretString::from(token);
    let new = NewSession {
        token: &token,
        csrf: "csrf",
        agent: "a browser",
        address: "192.0.2.50",
        begun_s,
        expires_s: begun_s + 90,
    };
    store.add_session(&store.person(person).unwrap(), &new).unwrap();
}

#[test]
fn sessions_end_when_they_expire_or_are_removed() {
    let store = store();
    begin(&store, "DESK", "token", 10);
    let session = store.session(&"token".into(), 50).unwrap().unwrap();
    assert_eq!((session.person.as_str(), session.role, session.begun_s), ("desk", Role::Admin, 10));
    assert_eq!(store.session(&"token".into(), 100).unwrap(), None);
    assert_eq!(store.session(&"other".into(), 50).unwrap(), None);
    store.remove_session(&"token".into()).unwrap();
    assert_eq!(store.session(&"token".into(), 50).unwrap(), None);
}

#[test]
fn sessions_are_ended_by_id_and_owner() {
    let store = store();
    begin(&store, "desk", "one", 10);
    begin(&store, "desk", "two", 20);
    begin(&store, "night desk", "three", 30);
    assert_eq!(store.sessions(None, 40).unwrap().len(), 3);
    let mine = store.sessions(Some("Desk"), 40).unwrap();
    assert_eq!(mine.iter().map(|session| session.begun_s).collect::<Vec<_>>(), [20, 10], "latest first");
    let ending = store.end_session(&mine[0].id, Some("night desk"));
    assert!(matches!(ending, Err(StoreError::NotFound { kind: RecordKind::Session, .. })));
    store.end_session(&mine[0].id, Some("desk")).unwrap();
    store.end_session(&mine[1].id, None).unwrap();
    assert!(store.end_session("", None).is_err() && store.end_session(&mine[1].id, None).is_err());
    assert_eq!(store.sessions(None, 40).unwrap().len(), 1);
}

#[test]
fn session_in_use_survives_a_new_password() {
    let store = store();
    begin(&store, "desk", "one", 10);
    begin(&store, "desk", "two", 20);
    begin(&store, "night desk", "three", 20);
    store.touch_session(&"one".into(), 60).unwrap();
    assert_eq!(store.session(&"one".into(), 61).unwrap().unwrap().seen_s, 60);
    store.replace_password("desk", "new hash", &"one".into()).unwrap();
    assert_eq!(store.person("desk").unwrap().password_hash, "new hash");
    let left: Vec<String> = store.sessions(None, 61).unwrap().into_iter().map(|each| each.person).collect();
    assert_eq!(left, ["desk", "night desk"]);
    // A password that somebody else set ends them all.
    store.set_password("desk", "other").unwrap();
    assert_eq!(store.session(&"one".into(), 61).unwrap(), None);
}

#[test]
fn the_last_admin_stays_one() {
    let store = store();
    for outcome in [store.set_role("desk", Role::Viewer), store.remove_person("Desk")] {
        assert!(matches!(outcome, Err(StoreError::LastAdmin(_))));
    }
    assert_eq!(store.person("desk").unwrap().role, Role::Admin);
    store.set_role("night desk", Role::Admin).unwrap();
    store.set_role("desk", Role::Viewer).unwrap();
    begin(&store, "desk", "one", 10);
    store.remove_person("desk").unwrap();
    assert_eq!(store.session(&"one".into(), 20).unwrap(), None, "a removed person is signed out");
    assert_eq!(store.people().unwrap().len(), 1);
}

#[test]
fn invitation_ends_when_expired_used_or_replaced() {
    let store = store();
    let invitation = |expires_s| Invitation {
        name: "Signal box".into(),
        role: Role::Viewer,
        made_by: "desk".into(),
        maker: None,
        expires_s,
    };
    store.add_invitation(&"first".into(), &invitation(100)).unwrap();
    assert_eq!(store.invitation(&"first".into(), 99).unwrap(), Some(invitation(100)));
    assert_eq!(store.invitation(&"first".into(), 100).unwrap(), None);
    store
        .add_invitation(&"second".into(), &Invitation { name: "signal box".into(), ..invitation(200) })
        .unwrap();
    assert_eq!(store.invitation(&"first".into(), 50).unwrap(), None);
    assert_eq!(store.invitations(150).unwrap().len(), 1);
    store.remove_invitation("SIGNAL BOX").unwrap();
    assert_eq!(store.invitation(&"second".into(), 50).unwrap(), None);
    assert!(matches!(
        store.remove_invitation("Signal box"),
        Err(StoreError::NotFound { kind: RecordKind::Invitation, .. })
    ));
}

#[rstest]
#[case::without_an_end(None, 1_000_000, true)]
#[case::before_its_end(Some(100), 99, true)]
#[case::at_its_end(Some(100), 100, false)]
fn a_token_lasts_as_long_as_it_was_made_for(
    #[case] expires_s: Option<i64>,
    #[case] now_s: i64,
    #[case] good: bool,
) {
    let (store, secret) = (store(), SecretString::from("a secret"));
    let new = NewToken {
        name: "Wall display",
        role: Role::Viewer,
        token: &secret,
        made_by: "desk",
        maker: None,
        created_s: 1,
        expires_s,
    };
    store.add_token(&new).unwrap();
    assert!(matches!(store.add_token(&new), Err(StoreError::NameTaken { kind: RecordKind::Token, .. })));
    assert_eq!(store.token(&secret, now_s).unwrap().is_some(), good);
    assert_eq!(store.token(&"another".into(), now_s).unwrap(), None);
    store.touch_token("wall display", 7).unwrap();
    assert_eq!(store.tokens().unwrap()[0].used_s, Some(7));
    store.remove_token("wall display").unwrap();
    assert_eq!(store.token(&secret, 2).unwrap(), None);
    assert!(store.remove_token("wall display").is_err());
}

#[test]
fn tokens_and_invitations_are_limited_by_their_creator() {
    let store = store();
    store.add_person("night", "hash", Role::Admin, 1).unwrap();
    let secret = SecretString::from("a secret");
    let new = NewToken {
        name: "Wall display",
        role: Role::Admin,
        token: &secret,
        made_by: "night",
        maker: Some("night"),
        created_s: 1,
        expires_s: None,
    };
    store.add_token(&new).unwrap();
    let invitation = Invitation {
        name: "Signal box".into(),
        role: Role::Admin,
        made_by: "night".into(),
        maker: Some("night".into()),
        expires_s: 100,
    };
    store.add_invitation(&"code".into(), &invitation).unwrap();
    let roles = || {
        let token = store.token(&secret, 2).unwrap().map(|token| token.role);
        (token, store.invitation(&"code".into(), 2).unwrap().map(|invitation| invitation.role))
    };
    assert_eq!(roles(), (Some(Role::Admin), Some(Role::Admin)));
    store.set_role("night", Role::Operator).unwrap();
    assert_eq!(roles(), (Some(Role::Operator), Some(Role::Operator)));
    store.set_role("night", Role::Viewer).unwrap();
    assert_eq!(roles(), (Some(Role::Viewer), Some(Role::Viewer)));
    store.remove_person("night").unwrap();
    assert_eq!(roles(), (None, None));
}
