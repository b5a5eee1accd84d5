//! Alerts and contacts, as they are kept.

#![expect(clippy::unwrap_used, reason = "a test ends where something unexpected happens")]

use secrecy::ExposeSecret as _;
use yonder_core::alerts::{NoticeKind, Notification, Open};
use yonder_store::{
    Alert, ContactSettings, MasterKey, NewContact, RecordKind, SecretChange, Store, StoreError,
};

fn store() -> Store {
    Store::open_in_memory(MasterKey::from_bytes(&[3; 32])).unwrap()
}

fn contact(name: &str, secret: Option<&str>) -> NewContact {
    NewContact {
        name: name.into(),
        settings: "{}".into(),
        address: None,
        secret: secret.map(Into::into),
        sign_of_life_h: None,
    }
}

fn alert(name: &str, to: &[&str]) -> Alert {
    let to = to.iter().map(|name| (*name).to_owned()).collect();
    Alert {
        name: name.into(),
        trigger: "blocked".into(),
        about: None,
        repeat_s: 14_400,
        to,
        muted_until_ms: None,
    }
}

fn settings() -> ContactSettings<'static> {
    ContactSettings { name: "Night desk", settings: "[]", sign_of_life_h: Some(24) }
}

#[test]
fn a_secret_stays_until_another_takes_its_place() {
    let store = store();
    store.add_contact(&contact("Desk", Some("planted"))).unwrap();
    store.edit_contact("desk", &settings(), &SecretChange::Keep, &SecretChange::Keep).unwrap();
    assert_eq!(store.contact("night desk").unwrap().settings, "[]");
    let opened = || {
        let secret = store.contact("Night desk").unwrap().secret.unwrap();
        store.unseal(&secret).unwrap().expose_secret().to_owned()
    };
    assert_eq!(opened(), "planted");
    store
        .edit_contact("Night desk", &settings(), &SecretChange::Set("other".into()), &SecretChange::Keep)
        .unwrap();
    assert_eq!(opened(), "other");
    store.edit_contact("Night desk", &settings(), &SecretChange::Remove, &SecretChange::Keep).unwrap();
    assert!(store.contact("Night desk").unwrap().secret.is_none());
}

#[test]
fn alerts_refer_to_existing_contacts() {
    let store = store();
    store.add_contact(&contact("Desk", None)).unwrap();
    store.add_contact(&contact("Admin", None)).unwrap();
    store.add_alert(&alert("Down", &["desk", "Admin"])).unwrap();
    let unknown = store.add_alert(&alert("Other", &["Nobody"])).unwrap_err();
    assert!(matches!(unknown, StoreError::NotFound { kind: RecordKind::Contact, .. }));
    assert_eq!(store.alerts().unwrap().len(), 1, "nothing half is kept");
    assert!(matches!(store.add_alert(&alert("down", &[])), Err(StoreError::NameTaken { .. })));
    store.remove_contact("Desk").unwrap();
    assert_eq!(store.alert("Down").unwrap().to, ["Admin"]);
    store.edit_alert("Down", &Alert { about: Some("Line".into()), ..alert("Down", &[]) }).unwrap();
    assert_eq!(
        (store.alert("Down").unwrap().to.len(), store.alert("Down").unwrap().about),
        (0, Some("Line".into()))
    );
    store.remove_alert("Down").unwrap();
    assert!(matches!(store.remove_alert("Down"), Err(StoreError::NotFound { kind: RecordKind::Alert, .. })));
}

fn open(subject: &str) -> Open {
    Open {
        rule: "Down".into(),
        subject: subject.into(),
        message: "It is down.".into(),
        raised_ms: 5,
        last_notified_ms: 9,
        is_acknowledged: false,
    }
}

fn notification(contact: &str) -> Notification {
    Notification {
        contact: contact.into(),
        kind: NoticeKind::Raised,
        alert: "Down".into(),
        subject: "feed A".into(),
        message: "It is down.".into(),
        raised_ms: 5,
        at_ms: 9,
    }
}

#[test]
fn open_alerts_are_replaced_as_a_whole() {
    let store = store();
    store.save_alert_state(Some(&[open("feed A"), open("feed B")]), None).unwrap();
    store.save_alert_state(Some(&[open("feed B")]), None).unwrap();
    assert_eq!(store.open_alerts().unwrap(), [open("feed B")]);
}

/// After a crash an open alert is not raised again: without its notification nobody would be notified of it.
#[test]
fn alert_is_not_stored_as_open_without_its_notification() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("records.db");
    let store = Store::open(&path, MasterKey::from_bytes(&[3; 32])).unwrap();
    store.add_contact(&contact("Desk", None)).unwrap();
    let disk = rusqlite::Connection::open(&path).unwrap();
    disk.execute_batch(
        "CREATE TRIGGER full BEFORE INSERT ON notification BEGIN SELECT RAISE(ABORT, 'disk full'); END",
    )
    .unwrap();
    store.save_alert_state(Some(&[open("feed A")]), Some(&[notification("Desk")])).unwrap_err();
    assert_eq!((store.open_alerts().unwrap().len(), store.notifications().unwrap().len()), (0, 0));
    disk.execute_batch("DROP TRIGGER full").unwrap();
    let pending = [notification("Desk"), notification("Removed contact")];
    store.save_alert_state(Some(&[open("feed A")]), Some(&pending)).unwrap();
    assert_eq!(store.open_alerts().unwrap(), [open("feed A")]);
    assert_eq!(store.notifications().unwrap(), [notification("Desk")]);
}
