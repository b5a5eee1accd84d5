//! Records survive, refuse what does not fit, and keep secrets sealed.

#![expect(clippy::unwrap_used, reason = "a test ends where something unexpected happens")]

use secrecy::ExposeSecret as _;
use yonder_store::{
    AuditEntry, AuditFilter, DesiredState, DestinationSettings, FeedSettings, KeyKind, MasterKey,
    NewDestination, NewFeed, NewSecrets, Outcome, Pattern, PlatformSheet, RecordKind, Relay, SealedSecret,
    SecretChange, Store, StoreError, TrafficKey, Uplink,
};

fn key() -> MasterKey {
    MasterKey::from_bytes(&[7; 32])
}

fn feed(name: &str) -> NewFeed {
    NewFeed {
        settings: FeedSettings {
            name: name.into(),
            url: "rtsp://192.0.2.7/main".into(),
            sub_url: Some("rtsp://192.0.2.7/sub".into()),
            transport: "auto".into(),
            user: Some("rail".into()),
            pin: Some([7; 32]),
            site: Some("Fell".into()),
            device: Some("192.0.2.7:8080".into()),
            ingest_key_bits: None,
        },
        password: Some("planted-camera-word".into()),
        address_secrets: Some("planted-address-word".into()),
        ingest_key: None,
        ingest_passphrase: None,
    }
}

fn destination(name: &str) -> NewDestination {
    NewDestination {
        settings: DestinationSettings {
            name: name.into(),
            server: "rtmp://ingest.example.net/live".into(),
            backup_server: None,
            return_after_s: 120,
            platform: None,
            watch_page: None,
            authority: None,
            key_kind: KeyKind::Reusable,
            key_expires_s: None,
            key_bits: 128,
            uplinks: Vec::new(),
        },
        key: Some("planted-stream-key".into()),
        passphrase: Some("planted-passphrase".into()),
        address_secrets: Some("planted-server-word".into()),
    }
}

fn opened(store: &Store, secret: Option<SealedSecret>) -> String {
    store.unseal(&secret.unwrap()).unwrap().expose_secret().to_owned()
}

fn key_of(store: &Store, name: &str) -> String {
    opened(store, store.destination(name).unwrap().key.map(|key| key.secret))
}

fn filled() -> Store {
    let store = Store::open_in_memory(key()).unwrap();
    store.add_feed(&feed("Summit"), 1).unwrap();
    store.add_destination(&destination("One"), 1).unwrap();
    store.add_destination(&destination("Two"), 1).unwrap();
    store.add_relay(&Relay::new("Line", "Summit", vec!["Two".into(), "One".into()]), 1).unwrap();
    store
}

#[test]
fn records_survive_a_restart_and_secrets_are_not_in_the_file() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("yonder.db");
    {
        let store = Store::open(&path, key()).unwrap();
        store.add_feed(&feed("Summit"), 1).unwrap();
        store.add_destination(&destination("One"), 2).unwrap();
        store.add_relay(&Relay::new("Line", "summit", vec!["one".into()]), 3).unwrap();
        store.set_desired_state("Line", DesiredState::On).unwrap();
    }
    for file in std::fs::read_dir(folder.path()).unwrap() {
        let bytes = std::fs::read(file.unwrap().path()).unwrap();
        assert!(!bytes.windows(7).any(|window| window == b"planted"));
    }
    let store = Store::open(&path, key()).unwrap();
    let feed = store.feed("SUMMIT").unwrap();
    assert_eq!(opened(&store, feed.password), "planted-camera-word");
    assert_eq!(key_of(&store, "One"), "planted-stream-key");
    assert_eq!(opened(&store, store.destination("One").unwrap().passphrase), "planted-passphrase");
    let stored = store.relays().unwrap().remove(0);
    assert_eq!((stored.uid.len(), stored.revision), (16, 1), "starting it is no change of its settings");
    let relay = Relay {
        wanted: DesiredState::On,
        site: Some("Fell".into()),
        uid: stored.uid.clone(),
        revision: stored.revision,
        ..Relay::new("Line", "Summit", vec!["One".into()])
    };
    assert_eq!(stored, relay);
}

#[test]
fn names_are_unique_ignoring_case() {
    let store = filled();
    assert!(matches!(
        store.add_feed(&feed("SUMMIT"), 1),
        Err(StoreError::NameTaken { kind: RecordKind::Feed, .. })
    ));
    assert!(matches!(store.add_destination(&destination("one"), 1), Err(StoreError::NameTaken { .. })));
    assert!(matches!(
        store.add_relay(&Relay::new("line", "Summit", vec![]), 1),
        Err(StoreError::NameTaken { .. })
    ));
    assert!(matches!(
        store.edit_destination("One", &destination("Two").settings, &SecretChange::Keep),
        Err(StoreError::NameTaken { .. })
    ));
}

#[test]
fn relay_with_an_unknown_destination_is_not_stored() {
    let store = filled();
    let error =
        store.add_relay(&Relay::new("Other", "Summit", vec!["One".into(), "Three".into()]), 1).unwrap_err();
    assert!(matches!(error, StoreError::NotFound { kind: RecordKind::Destination, .. }));
    assert_eq!(store.relays().unwrap().len(), 1);
    let mut line = store.relay("Line").unwrap();
    line.destinations = vec!["Three".into()];
    assert!(store.edit_relay("Line", &line).is_err());
    assert_eq!(store.relay("Line").unwrap().destinations, ["Two", "One"]);
}

#[test]
fn records_used_by_a_relay_cannot_be_removed() {
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
    store.note_key_used("One", 5).unwrap();
    store.note_key_used("One", 6).unwrap();
    assert_eq!(store.destination("One").unwrap().key_used_s, Some(5));
    let new = NewSecrets { key: Some(("fresh".into(), KeyKind::OneBroadcast, Some(99))), passphrase: None };
    store.rekey_destination("One", &new, 9).unwrap();
    let one = store.destination("One").unwrap();
    assert_eq!((key_of(&store, "One").as_str(), one.key_set_s, one.key_rolls), ("fresh", 9, 1));
    assert_eq!((one.settings.key_kind, one.settings.key_expires_s), (KeyKind::OneBroadcast, Some(99)));
    // The new one has not been used, and the passphrase is as it was.
    assert_eq!((one.key_used_s, one.passphrase.is_some()), (None, true));
    assert_eq!(key_of(&store, "Two"), "planted-stream-key");
    assert_eq!(store.relays_to("One").unwrap(), ["Line"]);
}

#[test]
fn passphrase_changes_do_not_affect_the_key() {
    let store = filled();
    let set = |passphrase| store.rekey_destination("One", &NewSecrets { key: None, passphrase }, 9).unwrap();
    set(Some(Some("another one".into())));
    let one = store.destination("One").unwrap();
    assert_eq!((opened(&store, one.passphrase).as_str(), one.passphrase_set_s), ("another one", Some(9)));
    set(Some(None));
    let one = store.destination("One").unwrap();
    assert!(one.passphrase.is_none() && one.passphrase_set_s.is_none());
    assert_eq!((key_of(&store, "One").as_str(), one.key_rolls), ("planted-stream-key", 0));
}

#[test]
fn a_destination_may_have_no_secret_at_all() {
    let store = filled();
    store.add_destination(&NewDestination { key: None, passphrase: None, ..destination("Bare") }, 1).unwrap();
    let bare = store.destination("Bare").unwrap();
    assert!(bare.key.is_none() && bare.passphrase.is_none());
}

#[test]
fn changes_of_a_relay_feed_or_destination_require_another_preflight() {
    let store = filled();
    let cleared = || store.relay("Line").unwrap().preflight_passed_at_s;
    let clear = || {
        let setup = store.relay("Line").unwrap().setup;
        assert!(store.mark_preflight_passed("Line", setup, 7).unwrap());
    };
    clear();
    assert_eq!(cleared(), Some(7));
    store.edit_destination("Two", &destination("Two").settings, &SecretChange::Keep).unwrap();
    assert_eq!(cleared(), None);
    clear();
    store.edit_feed("Summit", &feed("Summit").settings, &SecretChange::Keep, &SecretChange::Keep).unwrap();
    assert_eq!(cleared(), None);
    clear();
    let line = store.relay("Line").unwrap();
    let destinations = vec![line.destinations[0].clone()];
    store.edit_relay("Line", &Relay { destinations, ..line.clone() }).unwrap();
    assert_eq!(cleared(), None);
    clear();
    // When it runs, and what it shows meanwhile, is no matter of the platform's rules.
    let times = Relay {
        on_air: vec!["daily 06:00-22:00".into()],
        hold_after_ms: None,
        ..store.relay("Line").unwrap()
    };
    store.edit_relay("Line", &times).unwrap();
    assert_eq!(cleared(), Some(7));
    store.edit_relay("Line", &line).unwrap();
    clear();
    // A fresh key is looked at by the platform, not by us.
    let new = NewSecrets { key: Some(("fresh".into(), KeyKind::Reusable, None)), passphrase: None };
    store.rekey_destination("Two", &new, 9).unwrap();
    assert_eq!(cleared(), Some(7));
}

#[test]
fn sheets_replace_each_other_by_name() {
    let store = filled();
    let sheet = |name: &str, rules: &str| PlatformSheet { name: name.into(), rules: rules.into() };
    store.save_platform(&sheet("Bramble TV", "{}"), 1).unwrap();
    store.save_platform(&sheet("bramble tv", "{\"note\":\"x\"}"), 2).unwrap();
    assert_eq!(store.platforms().unwrap(), [sheet("Bramble TV", "{\"note\":\"x\"}")]);
    store.remove_platform("BRAMBLE TV").unwrap();
    let error = store.remove_platform("Bramble TV").unwrap_err();
    assert!(matches!(error, StoreError::NotFound { kind: RecordKind::Platform, .. }));
}

#[test]
fn local_uplinks_are_listed_first_and_bound_ones_cannot_be_removed() {
    let store = filled();
    let uplink = |name: &str, site: Option<&str>, backup| Uplink {
        name: name.into(),
        site: site.map(str::to_owned),
        up_kbps: 20_000,
        headroom_percent: 25,
        allowance_bytes: Some(1_000_000_000_000),
        backup,
        source: (!backup).then(|| "192.0.2.7".to_owned()),
        interface: backup.then(|| "radio0".to_owned()),
    };
    for uplink in [uplink("c", Some("Fell"), false), uplink("a", None, true), uplink("b", None, false)] {
        store.add_uplink(&uplink, 1).unwrap();
    }
    let names: Vec<_> = store.uplinks().unwrap().into_iter().map(|uplink| uplink.name).collect();
    assert_eq!(names, ["b", "a", "c"]);
    let refused = store.add_uplink(&uplink("B", None, false), 1).unwrap_err();
    assert!(matches!(refused, StoreError::NameTaken { kind: RecordKind::Uplink, .. }));
    store.edit_uplink("c", &uplink("d", Some("Moor"), false)).unwrap();
    assert_eq!(store.uplink("d").unwrap().site.as_deref(), Some("Moor"));
    store.remove_uplink("d").unwrap();
    assert!(matches!(store.uplink("d"), Err(StoreError::NotFound { .. })));
    let bound = |uplinks: &[&str]| {
        let uplinks = uplinks.iter().map(|name| (*name).to_owned()).collect();
        DestinationSettings { uplinks, ..destination("One").settings }
    };
    store.edit_destination("One", &bound(&["A", "b"]), &SecretChange::Keep).unwrap();
    assert_eq!(store.destination("One").unwrap().settings.uplinks, ["a", "b"]);
    assert_eq!(store.destinations_by("a").unwrap(), ["One"]);
    let used = store.remove_uplink("a").unwrap_err();
    assert_eq!(used.to_string(), r#"the uplink "a" is used by One"#);
    let unknown = store.edit_destination("One", &bound(&["b", "e"]), &SecretChange::Keep).unwrap_err();
    assert!(matches!(unknown, StoreError::NotFound { kind: RecordKind::Uplink, .. }));
    assert_eq!(store.destination("One").unwrap().settings.uplinks, ["a", "b"], "nothing was half changed");
    store.edit_destination("One", &bound(&[]), &SecretChange::Keep).unwrap();
    store.remove_uplink("a").unwrap();
}

#[test]
fn traffic_is_summed_by_day_and_key() {
    let store = filled();
    let push = TrafficKey::Push("Line".into(), "One".into());
    let feed = TrafficKey::Feed("Summit".into());
    store.add_traffic("2026-11-22", &[(push.clone(), 5), (feed.clone(), 7)]).unwrap();
    store.add_traffic("2026-11-23", &[(push.clone(), 10)]).unwrap();
    store.add_traffic("2026-11-23", &[(push.clone(), 1)]).unwrap();
    let of = |first, last| {
        let mut all = store.traffic(first, last).unwrap();
        all.sort();
        all
    };
    assert_eq!(of("2026-11-01", "2026-11-30"), [(feed, 7), (push.clone(), 16)]);
    assert_eq!(of("2026-11-23", "2026-11-23"), [(push, 11)]);
}

#[test]
fn a_feed_can_change_its_name_and_lose_its_account() {
    let store = filled();
    let changed = FeedSettings { user: None, ..feed("Top").settings };
    store.edit_feed("Summit", &changed, &SecretChange::Keep, &SecretChange::Keep).unwrap();
    assert!(store.feed("Top").unwrap().password.is_none());
    assert_eq!(store.relay("Line").unwrap().feed, "Top");
}

#[test]
fn several_feeds_are_added_all_or_none() {
    let store = Store::open_in_memory(MasterKey::from_bytes(&[1; 32])).unwrap();
    store.add_feeds(&[feed("Yard 1"), feed("Yard 2")], 1).unwrap();
    let error = store.add_feeds(&[feed("Yard 3"), feed("yard 2")], 2).unwrap_err();
    assert!(matches!(error, StoreError::NameTaken { kind: RecordKind::Feed, .. }), "{error}");
    let names: Vec<String> = store.feeds().unwrap().into_iter().map(|feed| feed.settings.name).collect();
    assert_eq!(names, ["Yard 1", "Yard 2"]);
    assert_eq!(store.feed("Yard 1").unwrap().settings.pin, Some([7; 32]));
}

#[test]
fn patterns_are_kept_changed_and_removed() {
    let store = Store::open_in_memory(MasterKey::from_bytes(&[1; 32])).unwrap();
    let shipped = store.patterns().unwrap().len();
    let pattern = Pattern {
        name: "Halt".into(),
        template: "rtsp://{host}/halt".into(),
        placeholders: "[]".into(),
        note: String::new(),
    };
    store.add_pattern(&pattern, 1).unwrap();
    assert!(matches!(
        store.add_pattern(&pattern, 1),
        Err(StoreError::NameTaken { kind: RecordKind::Pattern, .. })
    ));
    let renamed = Pattern { name: "Stop".into(), note: "by the bridge".into(), ..pattern.clone() };
    store.edit_pattern("halt", &renamed).unwrap();
    assert_eq!(store.pattern("STOP").unwrap(), renamed);
    for outcome in [store.edit_pattern("Halt", &pattern), store.remove_pattern("Halt")] {
        assert!(matches!(outcome, Err(StoreError::NotFound { kind: RecordKind::Pattern, .. })));
    }
    store.remove_pattern("Stop").unwrap();
    assert_eq!(store.patterns().unwrap().len(), shipped);
}

#[test]
fn transaction_is_committed_or_rolled_back() {
    let store = filled();
    let names = || store.feeds().unwrap().into_iter().map(|feed| feed.settings.name).collect::<Vec<_>>();
    let undone: Result<usize, StoreError> = store.transaction(|| {
        store.add_feed(&feed("Viaduct"), 1)?;
        Ok(Outcome::Rollback(names().len()))
    });
    assert_eq!((undone.unwrap(), names()), (2, vec!["Summit".to_owned()]));
    let failed: Result<(), StoreError> = store.transaction(|| {
        store.add_feed(&feed("Viaduct"), 1)?;
        store.add_feed(&feed("Summit"), 1)?;
        Ok(Outcome::Commit(()))
    });
    assert!(matches!(failed, Err(StoreError::NameTaken { .. })));
    assert_eq!(names(), ["Summit"]);
    let stored: Result<(), StoreError> = store.transaction(|| {
        store.add_feed(&feed("Viaduct"), 1)?;
        // One that fails, and a group that is undone, take nothing else with them.
        assert!(store.add_feed(&feed("Viaduct"), 1).is_err());
        store.transaction(|| store.remove_feed("Viaduct").map(Outcome::Rollback))?;
        store.transaction(|| store.add_feed(&feed("Shed"), 1).map(Outcome::Commit))?;
        Ok(Outcome::Commit(()))
    });
    stored.unwrap();
    assert_eq!(names(), ["Shed", "Summit", "Viaduct"]);
}

#[test]
fn readers_see_the_state_before_an_open_transaction() {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(&folder.path().join("yonder.db"), key()).unwrap();
    store.add_feed(&feed("Summit"), 1).unwrap();
    std::thread::scope(|scope| {
        let done: Result<(), StoreError> = store.transaction(|| {
            store.add_feed(&feed("Viaduct"), 1)?;
            assert_eq!(store.feeds()?.len(), 2, "the writer reads what it wrote");
            // Joined within the group: a reader that waited for its end would never return.
            let other = scope.spawn(|| store.feeds().unwrap().len());
            assert_eq!(other.join().unwrap(), 1);
            Ok(Outcome::Commit(()))
        });
        done.unwrap();
    });
    assert_eq!(store.feeds().unwrap().len(), 2);
}

#[test]
fn backup_is_made_during_a_transaction() {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(&folder.path().join("yonder.db"), key()).unwrap();
    std::thread::scope(|scope| {
        let done: Result<(), StoreError> = store.transaction(|| {
            store.add_feed(&feed("Summit"), 1)?;
            let copy = scope.spawn(|| store.backup().unwrap()).join().unwrap();
            assert!(copy.starts_with(b"SQLite format 3"));
            Ok(Outcome::Commit(()))
        });
        done.unwrap();
    });
}

#[test]
fn names_are_returned_for_every_kind_with_names() {
    let store = filled();
    assert_eq!(store.names(RecordKind::Feed).unwrap(), ["Summit"]);
    let kinds = [
        RecordKind::Destination,
        RecordKind::Relay,
        RecordKind::Person,
        RecordKind::Pattern,
        RecordKind::Platform,
        RecordKind::Uplink,
        RecordKind::Alert,
        RecordKind::Contact,
        RecordKind::Invitation,
        RecordKind::Token,
        RecordKind::Session,
        RecordKind::Service,
    ];
    for kind in kinds {
        assert!(store.names(kind).is_ok(), "{kind}");
    }
}

#[test]
fn preflight_passes_only_the_configuration_that_it_checked() {
    let store = filled();
    let checked = store.relay("Line").unwrap().setup;
    // A destination is changed while the preflight measures.
    store.edit_destination("Two", &destination("Two").settings, &SecretChange::Keep).unwrap();
    assert!(!store.mark_preflight_passed("Line", checked, 7).unwrap());
    assert_eq!(store.relay("Line").unwrap().preflight_passed_at_s, None);
}

#[test]
fn a_record_keeps_its_id_under_another_name_and_each_change_raises_its_revision() {
    let store = filled();
    let before = store.identity(RecordKind::Feed, "summit").unwrap().unwrap();
    store.edit_feed("Summit", &feed("Top").settings, &SecretChange::Keep, &SecretChange::Keep).unwrap();
    let after = store.identity(RecordKind::Feed, "Top").unwrap().unwrap();
    assert_eq!(after.uid, before.uid);
    assert!(after.revision > before.revision);
    assert_eq!(store.name_of(RecordKind::Feed, &before.uid).unwrap().as_deref(), Some("Top"));
    // Facts that the service records by itself are no change.
    store.record_worked(&[yonder_store::HistorySubject::Feed("Top".into())], 5).unwrap();
    store.note_key_used("One", 5).unwrap();
    assert_eq!(store.identity(RecordKind::Feed, "Top").unwrap(), Some(after));
    assert_eq!(store.identity(RecordKind::Feed, "Summit").unwrap(), None);
    assert_eq!(store.identity(RecordKind::Session, "x").unwrap(), None);
}

#[test]
fn the_audit_trail_is_read_by_record_person_and_page() {
    let store = filled();
    let entry = |who: &str, name: &str| AuditEntry {
        id: 0,
        at_ms: 1,
        who: who.into(),
        origin: "console".into(),
        address: None,
        action: "changed".into(),
        kind: "feed".into(),
        name: name.into(),
        uid: Some("0123456789abcdef".into()),
        fields: "[]".into(),
        detail: String::new(),
    };
    for (who, name) in [("desk", "Summit"), ("night", "Summit"), ("desk", "Top")] {
        store.add_audit(&entry(who, name)).unwrap();
    }
    let count = |filter: AuditFilter| store.audit(&filter).unwrap().len();
    let all = || AuditFilter { limit: 10, ..AuditFilter::default() };
    assert_eq!(store.audit(&all()).unwrap()[0].name, "Top", "the latest first");
    assert_eq!(count(AuditFilter { about: Some("summit".into()), ..all() }), 2);
    assert_eq!(count(AuditFilter { about: Some("0123456789abcdef".into()), ..all() }), 3);
    assert_eq!(count(AuditFilter { who: Some("Desk".into()), ..all() }), 2);
    assert_eq!(count(AuditFilter { before: Some(3), ..all() }), 2);
    assert_eq!(count(AuditFilter { kind: Some("relay".into()), ..all() }), 0);
    assert_eq!(count(AuditFilter { limit: 1, ..all() }), 1);
}

#[test]
fn a_state_kept_in_memory_is_read_and_stored_later() {
    let store = filled();
    store.remember_desired_state("Line", DesiredState::Hold).unwrap();
    let relay = store.relay("Line").unwrap();
    assert_eq!((relay.wanted, relay.is_unsaved), (DesiredState::Hold, true));
    assert_eq!(store.relays().unwrap()[0].wanted, DesiredState::Hold);
    assert_eq!((store.save_desired_states().unwrap(), store.save_desired_states().unwrap()), (1, 0));
    let relay = store.relay("Line").unwrap();
    assert_eq!((relay.wanted, relay.is_unsaved), (DesiredState::Hold, false));
    store.remember_desired_state("Line", DesiredState::Off).unwrap();
    store.set_desired_state("Line", DesiredState::On).unwrap();
    assert_eq!(store.relay("Line").unwrap().wanted, DesiredState::On, "the later one counts");
}

#[test]
fn writes_after_a_busy_timeout_wait_less() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("yonder.db");
    let store = Store::open(&path, key()).unwrap();
    let other = rusqlite::Connection::open(&path).unwrap();
    other.execute_batch("BEGIN IMMEDIATE").unwrap();
    assert!(matches!(store.add_feed(&feed("Summit"), 1), Err(StoreError::Locked)));
    let begun = std::time::Instant::now();
    for _ in 0..5 {
        assert!(matches!(store.add_feed(&feed("Summit"), 1), Err(StoreError::Locked)));
    }
    assert!(begun.elapsed().as_secs() < 5, "{:?}", begun.elapsed());
    other.execute_batch("ROLLBACK").unwrap();
    store.add_feed(&feed("Summit"), 1).unwrap();
}

#[test]
fn after_a_checkpoint_the_file_alone_is_complete() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("yonder.db");
    let store = Store::open(&path, key()).unwrap();
    store.add_feed(&feed("Summit"), 1).unwrap();
    assert_eq!(store.names(RecordKind::Feed).unwrap(), ["Summit"], "a reader is open as well");
    store.checkpoint().unwrap();
    let copied = folder.path().join("copied.db");
    std::fs::copy(&path, &copied).unwrap();
    let copy = Store::open(&copied, key()).unwrap();
    assert_eq!(copy.names(RecordKind::Feed).unwrap(), ["Summit"]);
    assert_eq!(std::fs::metadata(folder.path().join("yonder.db-wal")).unwrap().len(), 0);
}

#[test]
fn a_checkpoint_does_not_wait_for_a_reader_of_another_program() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("yonder.db");
    let store = Store::open(&path, key()).unwrap();
    let reader = rusqlite::Connection::open(&path).unwrap();
    reader.execute_batch("BEGIN; SELECT count(*) FROM feed;").unwrap();
    store.add_feed(&feed("Summit"), 1).unwrap();
    let begun = std::time::Instant::now();
    store.checkpoint().unwrap();
    assert!(begun.elapsed() < std::time::Duration::from_secs(2), "{:?}", begun.elapsed());
    reader.execute_batch("COMMIT").unwrap();
    assert_eq!(store.names(RecordKind::Feed).unwrap(), ["Summit"]);
}

/// Returns a feed that encoders publish to.
fn published(name: &str) -> NewFeed {
    let mut new = feed(name);
    new.settings = FeedSettings {
        name: name.into(),
        url: String::new(),
        sub_url: None,
        user: None,
        device: None,
        pin: None,
        ingest_key_bits: Some(256),
        ..new.settings
    };
    NewFeed {
        password: None,
        address_secrets: None,
        ingest_key: Some("first-key-of-the-bandstand".into()),
        ingest_passphrase: Some("planted-ingest-word".into()),
        ..new
    }
}

#[test]
fn former_key_of_encoders_is_kept_for_its_grace_period() {
    let store = Store::open_in_memory(key()).unwrap();
    store.add_feed(&published("Bandstand"), 5).unwrap();
    let opened = |secret: &SealedSecret| store.unseal(secret).unwrap().expose_secret().to_owned();
    let access = || store.feed("Bandstand").unwrap().ingest;
    assert_eq!(opened(access().key.as_ref().unwrap()), "first-key-of-the-bandstand");
    assert_eq!(opened(access().passphrase.as_ref().unwrap()), "planted-ingest-word");
    store.set_ingest_key("Bandstand", &"second-key".into(), Some(100), 40).unwrap();
    let former = access().former_key.unwrap();
    assert_eq!((opened(&former.secret).as_str(), former.until_s), ("first-key-of-the-bandstand", 100));
    assert_eq!((opened(access().key.as_ref().unwrap()).as_str(), access().key_set_s), ("second-key", 40));
    assert!(store.remove_expired_ingest_keys(99).unwrap().is_empty());
    assert_eq!(store.remove_expired_ingest_keys(100).unwrap(), ["Bandstand"]);
    assert!(access().former_key.is_none());
    // Without a grace period the former key is not kept.
    store.set_ingest_key("Bandstand", &"third-key".into(), None, 50).unwrap();
    assert!(access().former_key.is_none());
    store.change_ingest_passphrase("Bandstand", &SecretChange::Remove).unwrap();
    assert!(access().passphrase.is_none());
    assert!(matches!(
        store.set_ingest_key("Nowhere", &"x".into(), None, 50),
        Err(StoreError::NotFound { .. })
    ));
}

#[test]
fn secrets_of_encoders_are_sealed_with_a_new_master_key() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("master.key");
    let store = Store::open(&folder.path().join("yonder.db"), MasterKey::create(&file).unwrap()).unwrap();
    store.add_feed(&published("Bandstand"), 5).unwrap();
    store.set_ingest_key("Bandstand", &"second-key".into(), Some(100), 40).unwrap();
    assert_eq!(store.rotate_master_key().unwrap(), 3);
    drop(store);
    let store = Store::open(&folder.path().join("yonder.db"), MasterKey::load(&file).unwrap()).unwrap();
    assert!(store.verify_secrets().unwrap().is_empty());
    let bytes = std::fs::read(folder.path().join("yonder.db")).unwrap();
    for secret in ["first-key-of-the-bandstand", "second-key", "planted-ingest-word"] {
        assert!(!bytes.windows(secret.len()).any(|window| window == secret.as_bytes()), "{secret}");
    }
}
