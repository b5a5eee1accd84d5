//! Records survive, refuse what does not fit, and keep secrets sealed.

#![expect(clippy::unwrap_used, reason = "a test ends where something unexpected happens")]

use secrecy::ExposeSecret as _;
use yonder_store::{Kind, MasterKey, NewDestination, NewFeed, Pattern, Relay, Store, StoreError, Wanted};

fn key() -> MasterKey {
    MasterKey::from_bytes(&[7; 32])
}

fn feed(name: &str) -> NewFeed {
    NewFeed {
        name: name.into(),
        url: "rtsp://192.0.2.7/main".into(),
        sub_url: Some("rtsp://192.0.2.7/sub".into()),
        transport: "auto".into(),
        account: Some(("rail".into(), "planted-camera-word".into())),
        pin: Some([7; 32]),
    }
}

fn destination(name: &str) -> NewDestination {
    NewDestination {
        name: name.into(),
        server: "rtmp://ingest.example.net/live".into(),
        platform: None,
        key: "planted-stream-key".into(),
    }
}

fn filled() -> Store {
    let store = Store::open_in_memory(key()).unwrap();
    store.add_feed(&feed("Summit"), 1).unwrap();
    store.add_destination(&destination("One"), 1).unwrap();
    store.add_destination(&destination("Two"), 1).unwrap();
    store.add_relay("Line", "Summit", &["Two".into(), "One".into()], 1).unwrap();
    store
}

#[test]
fn everything_is_there_after_a_restart_and_secrets_are_not_in_the_file() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("yonder.db");
    {
        let store = Store::open(&path, key()).unwrap();
        store.add_feed(&feed("Summit"), 1).unwrap();
        store.add_destination(&destination("One"), 2).unwrap();
        store.add_relay("Line", "summit", &["one".into()], 3).unwrap();
        store.set_wanted("Line", Wanted::On).unwrap();
    }
    for file in std::fs::read_dir(folder.path()).unwrap() {
        let bytes = std::fs::read(file.unwrap().path()).unwrap();
        assert!(!bytes.windows(7).any(|window| window == b"planted"));
    }
    let store = Store::open(&path, key()).unwrap();
    let feed = store.feed("SUMMIT").unwrap();
    assert_eq!(feed.values.account.unwrap().1.expose_secret(), "planted-camera-word");
    assert_eq!(store.destination("One").unwrap().values.key.expose_secret(), "planted-stream-key");
    let relay = Relay {
        name: "Line".into(),
        feed: "Summit".into(),
        destinations: vec!["One".into()],
        wanted: Wanted::On,
    };
    assert_eq!(store.relays().unwrap(), vec![relay]);
}

#[test]
fn another_master_key_opens_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("yonder.db");
    Store::open(&path, key()).unwrap().add_destination(&destination("One"), 1).unwrap();
    let store = Store::open(&path, MasterKey::from_bytes(&[8; 32])).unwrap();
    assert!(matches!(store.destination("One"), Err(StoreError::Seal(_))));
}

#[test]
fn a_name_is_taken_once_whatever_its_case() {
    let store = filled();
    assert!(matches!(
        store.add_feed(&feed("SUMMIT"), 1),
        Err(StoreError::NameTaken { kind: Kind::Feed, .. })
    ));
    assert!(matches!(store.add_destination(&destination("one"), 1), Err(StoreError::NameTaken { .. })));
    assert!(matches!(store.add_relay("line", "Summit", &[], 1), Err(StoreError::NameTaken { .. })));
    assert!(matches!(
        store.edit_destination("One", "Two", "rtmp://x/y", None),
        Err(StoreError::NameTaken { .. })
    ));
}

#[test]
fn a_relay_to_nowhere_is_not_half_kept() {
    let store = filled();
    let error = store.add_relay("Other", "Summit", &["One".into(), "Three".into()], 1).unwrap_err();
    assert!(matches!(error, StoreError::NotFound { kind: Kind::Destination, .. }));
    assert_eq!(store.relays().unwrap().len(), 1);
    let mut line = store.relay("Line").unwrap();
    line.destinations = vec!["Three".into()];
    assert!(store.edit_relay("Line", &line).is_err());
    assert_eq!(store.relay("Line").unwrap().destinations, ["Two", "One"]);
}

#[test]
fn what_a_relay_uses_cannot_be_removed() {
    let store = filled();
    let error = store.remove_feed("Summit").unwrap_err();
    assert_eq!(error.to_string(), "the feed \"Summit\" is used by Line");
    assert!(matches!(store.remove_destination("One"), Err(StoreError::InUse { .. })));
    store.remove_relay("Line").unwrap();
    store.remove_feed("Summit").unwrap();
    store.remove_destination("One").unwrap();
    assert!(matches!(store.feed("Summit"), Err(StoreError::NotFound { .. })));
}

#[test]
fn a_new_key_replaces_the_old_one() {
    let store = filled();
    store.rekey_destination("One", &"fresh".into(), 9).unwrap();
    let one = store.destination("One").unwrap();
    assert_eq!((one.values.key.expose_secret(), one.key_set_s), ("fresh", 9));
    assert_eq!(store.destination("Two").unwrap().values.key.expose_secret(), "planted-stream-key");
    assert_eq!(store.relays_to("One").unwrap(), ["Line"]);
}

#[test]
fn a_feed_can_change_its_name_and_lose_its_account() {
    let store = filled();
    let changed = NewFeed { account: None, ..feed("Top") };
    store.edit_feed("Summit", &changed).unwrap();
    assert!(store.feed("Top").unwrap().values.account.is_none());
    assert_eq!(store.relay("Line").unwrap().feed, "Top");
}

#[test]
fn sessions_end_when_they_expire_or_are_removed() {
    let store = filled();
    assert!(!store.has_people().unwrap());
    store.add_person("desk", "hash", 1).unwrap();
    let person = store.person("DESK").unwrap();
    store.add_session(&"token".into(), &person, "csrf", 10, 100).unwrap();
    assert_eq!(store.session(&"token".into(), 50).unwrap().unwrap().person, "desk");
    assert_eq!(store.session(&"token".into(), 100).unwrap(), None);
    assert_eq!(store.session(&"other".into(), 50).unwrap(), None);
    store.remove_session(&"token".into()).unwrap();
    assert_eq!(store.session(&"token".into(), 50).unwrap(), None);
}

#[test]
fn several_feeds_are_added_all_or_none() {
    let store = Store::open_in_memory(MasterKey::from_bytes(&[1; 32])).unwrap();
    store.add_feeds(&[feed("Yard 1"), feed("Yard 2")], 1).unwrap();
    let error = store.add_feeds(&[feed("Yard 3"), feed("yard 2")], 2).unwrap_err();
    assert!(matches!(error, StoreError::NameTaken { kind: Kind::Feed, .. }), "{error}");
    let names: Vec<String> = store.feeds().unwrap().into_iter().map(|feed| feed.values.name).collect();
    assert_eq!(names, ["Yard 1", "Yard 2"]);
    assert_eq!(store.feed("Yard 1").unwrap().values.pin, Some([7; 32]));
}

#[test]
fn patterns_are_kept_changed_and_removed() {
    let store = Store::open_in_memory(MasterKey::from_bytes(&[1; 32])).unwrap();
    let shipped = store.patterns().unwrap().len();
    let pattern = Pattern {
        name: "Halt".into(),
        template: "rtsp://{host}/halt".into(),
        blanks: "[]".into(),
        note: String::new(),
    };
    store.add_pattern(&pattern, 1).unwrap();
    assert!(matches!(store.add_pattern(&pattern, 1), Err(StoreError::NameTaken { kind: Kind::Pattern, .. })));
    let renamed = Pattern { name: "Stop".into(), note: "by the bridge".into(), ..pattern.clone() };
    store.edit_pattern("halt", &renamed).unwrap();
    assert_eq!(store.pattern("STOP").unwrap(), renamed);
    for outcome in [store.edit_pattern("Halt", &pattern), store.remove_pattern("Halt")] {
        assert!(matches!(outcome, Err(StoreError::NotFound { kind: Kind::Pattern, .. })));
    }
    store.remove_pattern("Stop").unwrap();
    assert_eq!(store.patterns().unwrap().len(), shipped);
}
