//! Sealed secrets: each opens by itself, records belong to one master key, and the key can be rotated.

#![expect(clippy::unwrap_used, reason = "a test ends where something unexpected happens")]

use std::fs;
use std::path::{Path, PathBuf};

use rusqlite::Connection;
use secrecy::ExposeSecret as _;
use tempfile::TempDir;
use yonder_store::{
    DestinationSettings, FeedSettings, KeyKind, LostSecret, MasterKey, NewContact, NewDestination, NewFeed,
    RecordKind, SecretChange, Store, StoreError,
};

/// A home folder with a master key and records in it.
struct Folder(TempDir);

impl Folder {
    fn new() -> Self {
        let folder = Self(tempfile::tempdir().unwrap());
        MasterKey::create(&folder.key_file()).unwrap();
        folder
    }

    fn key_file(&self) -> PathBuf {
        self.0.path().join("master.key")
    }

    fn records(&self) -> PathBuf {
        self.0.path().join("yonder.db")
    }

    fn open(&self) -> Result<Store, StoreError> {
        Store::open(&self.records(), MasterKey::load(&self.key_file()).unwrap())
    }

    /// Records with a secret of each kind.
    fn filled() -> Self {
        let folder = Self::new();
        let store = folder.open().unwrap();
        store.add_feed(&feed("Summit", "summit-password"), 1).unwrap();
        store.add_feed(&feed("Viaduct", "viaduct-password"), 1).unwrap();
        store.add_destination(&destination("One", "stream-key-one"), 1).unwrap();
        let secret = Some("signing-secret".into());
        store
            .add_contact(&NewContact {
                name: "Desk".into(),
                settings: "{}".into(),
                address: None,
                secret,
                sign_of_life_h: None,
            })
            .unwrap();
        folder
    }
}

fn feed(name: &str, password: &str) -> NewFeed {
    let settings = FeedSettings {
        name: name.into(),
        url: "rtsp://192.0.2.7/main".into(),
        sub_url: None,
        transport: "auto".into(),
        user: Some("rail".into()),
        pin: None,
        site: None,
        device: None,
        ingest_key_bits: None,
    };
    NewFeed {
        settings,
        password: Some(password.into()),
        address_secrets: None,
        ingest_key: None,
        ingest_passphrase: None,
    }
}

fn destination(name: &str, key: &str) -> NewDestination {
    let settings = DestinationSettings {
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
    };
    NewDestination {
        settings,
        key: Some(key.into()),
        passphrase: Some("a passphrase".into()),
        address_secrets: None,
    }
}

/// Flips a bit of the password of a feed, as a failing disk does.
fn damage_password(records: &Path, name: &str) {
    let connection = Connection::open(records).unwrap();
    let read = |row: &rusqlite::Row<'_>| row.get(0);
    let mut sealed: Vec<u8> =
        connection.query_row("SELECT password FROM feed WHERE name = ?1", [name], read).unwrap();
    sealed[30] ^= 1;
    let update = "UPDATE feed SET password = ?2 WHERE name = ?1";
    connection.execute(update, rusqlite::params![name, sealed]).unwrap();
}

fn password(store: &Store, name: &str) -> Option<String> {
    let password = store.feed(name).unwrap().password.unwrap();
    store.unseal(&password).ok().map(|password| password.expose_secret().to_owned())
}

fn stream_key(store: &Store, name: &str) -> String {
    let key = store.destination(name).unwrap().key.unwrap().secret;
    store.unseal(&key).unwrap().expose_secret().to_owned()
}

#[test]
fn a_damaged_secret_concerns_its_own_record_alone_and_can_be_set_again() {
    let folder = Folder::filled();
    damage_password(&folder.records(), "Viaduct");
    let store = folder.open().unwrap();
    assert_eq!((store.feeds().unwrap().len(), store.destinations().unwrap().len()), (2, 1));
    assert_eq!(password(&store, "Summit").as_deref(), Some("summit-password"));
    let lost = LostSecret { kind: RecordKind::Feed, name: "Viaduct".into(), secret: "password" };
    assert_eq!(store.verify_secrets().unwrap(), [lost]);
    let viaduct = store.feed("Viaduct").unwrap();
    assert!(store.is_lost(viaduct.password.as_ref().unwrap()));
    let again = SecretChange::Set("viaduct-password".into());
    store.edit_feed("Viaduct", &viaduct.settings, &again, &SecretChange::Keep).unwrap();
    assert_eq!(password(&store, "Viaduct").as_deref(), Some("viaduct-password"));
    assert!(!store.is_lost(store.feed("Viaduct").unwrap().password.as_ref().unwrap()));
    assert_eq!(store.verify_secrets().unwrap(), []);
}

#[test]
fn a_feed_with_a_damaged_password_can_be_renamed_and_removed() {
    let folder = Folder::filled();
    damage_password(&folder.records(), "Viaduct");
    let store = folder.open().unwrap();
    let settings = FeedSettings { name: "Bridge".into(), ..store.feed("Viaduct").unwrap().settings };
    store.edit_feed("Viaduct", &settings, &SecretChange::Keep, &SecretChange::Keep).unwrap();
    store.remove_feed("Bridge").unwrap();
}

#[test]
fn records_open_under_their_own_master_key_alone() {
    let folder = Folder::filled();
    fs::remove_file(folder.key_file()).unwrap();
    MasterKey::create(&folder.key_file()).unwrap();
    assert!(matches!(folder.open(), Err(StoreError::ForeignMasterKey)));
    // Also those without any secret.
    let empty = Folder::new();
    drop(empty.open().unwrap());
    let other = MasterKey::from_bytes(&[8; 32]);
    assert!(matches!(Store::open(&empty.records(), other), Err(StoreError::ForeignMasterKey)));
}

#[test]
fn records_of_an_older_version_are_bound_to_the_key_of_their_secrets() {
    let folder = Folder::filled();
    damage_password(&folder.records(), "Viaduct");
    let forget = |folder: &Folder| {
        let connection = Connection::open(folder.records()).unwrap();
        connection.execute("DELETE FROM master_key", []).unwrap();
        let forget = "UPDATE destination SET key_ending = NULL, key_length = NULL, key_hash = NULL";
        connection.execute(forget, []).unwrap();
    };
    forget(&folder);
    let other = MasterKey::from_bytes(&[8; 32]);
    assert!(matches!(Store::open(&folder.records(), other), Err(StoreError::ForeignMasterKey)));
    let store = folder.open().unwrap();
    let key = store.destination("One").unwrap().key.unwrap();
    assert_eq!((key.ending.as_str(), key.length), ("-one", 14));
    assert_eq!(store.destinations_with_key(&"stream-key-one".into()).unwrap().len(), 1);
}

#[test]
fn a_rotated_master_key_opens_everything_and_the_former_one_nothing() {
    let folder = Folder::filled();
    let former = fs::read_to_string(folder.key_file()).unwrap();
    let store = folder.open().unwrap();
    let read_before = store.feed("Summit").unwrap().password.unwrap();
    assert_eq!(store.rotate_master_key().unwrap(), 5);
    assert!(store.unseal(&read_before).is_ok(), "what was read before the rotation still opens");
    assert_eq!(store.destinations_with_key(&"stream-key-one".into()).unwrap().len(), 1);
    store.add_destination(&destination("Two", "stream-key-two"), 2).unwrap();
    drop(store);
    assert_ne!(fs::read_to_string(folder.key_file()).unwrap(), former);
    let store = folder.open().unwrap();
    assert_eq!(store.verify_secrets().unwrap(), []);
    assert_eq!(password(&store, "Summit").as_deref(), Some("summit-password"));
    assert_eq!([stream_key(&store, "One"), stream_key(&store, "Two")], ["stream-key-one", "stream-key-two"]);
    drop(store);
    fs::write(folder.key_file(), former).unwrap();
    assert!(matches!(folder.open(), Err(StoreError::ForeignMasterKey)));
}

#[test]
fn a_rotation_that_fails_leaves_the_key_and_the_records_as_they_were() {
    let folder = Folder::filled();
    let former = fs::read_to_string(folder.key_file()).unwrap();
    let store = folder.open().unwrap();
    let spoil = "CREATE TRIGGER spoil BEFORE UPDATE ON contact BEGIN SELECT RAISE(ABORT, 'spoiled'); END";
    Connection::open(folder.records()).unwrap().execute(spoil, []).unwrap();
    assert!(store.rotate_master_key().is_err());
    assert_eq!(fs::read_to_string(folder.key_file()).unwrap(), former);
    assert!(!MasterKey::next_path(&folder.key_file()).exists());
    assert_eq!(store.verify_secrets().unwrap(), []);
    drop(store);
    assert_eq!(folder.open().unwrap().verify_secrets().unwrap(), []);
}

#[test]
fn records_adopted_by_a_foreign_key_have_lost_every_secret_and_keep_everything_else() {
    let folder = Folder::filled();
    let foreign = MasterKey::from_bytes(&[8; 32]);
    let store = Store::open_with_foreign_key(&folder.records(), foreign.clone()).unwrap();
    assert_eq!(store.verify_secrets().unwrap().len(), 5);
    drop(store);
    let store = Store::open(&folder.records(), foreign).unwrap();
    let settings = store.feed("Summit").unwrap().settings;
    store.edit_feed("Summit", &settings, &SecretChange::Set("new".into()), &SecretChange::Keep).unwrap();
    assert_eq!(password(&store, "Summit").as_deref(), Some("new"));
}

#[test]
fn stream_key_in_a_backup_address_is_removed() {
    let folder = Folder::filled();
    let glue = "UPDATE destination SET backup_server = 'rtmp://b.example.net/live/stream-key-one'";
    Connection::open(folder.records()).unwrap().execute(glue, []).unwrap();
    let store = folder.open().unwrap();
    let backup = store.destination("One").unwrap().settings.backup_server;
    assert_eq!(backup.as_deref(), Some("rtmp://b.example.net/live"));
    drop(store);
    for file in fs::read_dir(folder.0.path()).unwrap() {
        let bytes = fs::read(file.unwrap().path()).unwrap();
        assert!(!bytes.windows(14).any(|window| window == b"stream-key-one"), "it is overwritten");
    }
}
