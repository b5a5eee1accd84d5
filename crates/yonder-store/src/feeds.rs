//! Feeds.

use rusqlite::{Connection, OptionalExtension as _, Row, named_params, params};
use secrecy::{ExposeSecret as _, SecretString};
use yonder_core::preflight::FeedFacts;

use crate::audit::Identity;
use crate::error::StoreError;
use crate::history::History;
use crate::ingest::IngestAccess;
use crate::record_kind::RecordKind;
use crate::sealed::{
    FEED_ADDRESS, FEED_PASSWORD, INGEST_PASSPHRASE, SealedSecret, SecretChange, write_password_facts,
};
use crate::store::{Store, map_unique_violation};
use crate::subjects::follow_rename;

/// Settings of a feed, without its password.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FeedSettings {
    /// Name.
    pub name: String,
    /// Address of the main stream, without credentials.
    pub url: String,
    /// Address of the sub stream, without credentials.
    pub sub_url: Option<String>,
    /// `auto`, `tcp` or `udp`.
    pub transport: String,
    /// User name; it has a password, which may be empty.
    pub user: Option<String>,
    /// SHA-256 of the only trusted certificate.
    pub pin: Option<[u8; 32]>,
    /// Site of the camera, if it is not that of the service.
    pub site: Option<String>,
    /// ONVIF device service of the camera: a host, a host with a port, or a URL.
    pub device: Option<String>,
    /// Length of the SRT encryption key of encoders, in bits; `None` for a feed that is pulled. The address of a feed that
    /// encoders publish to is empty.
    pub ingest_key_bits: Option<u16>,
}

/// Feed to be stored.
#[derive(Debug, Clone)]
pub struct NewFeed {
    /// Settings.
    pub settings: FeedSettings,
    /// Password of the user.
    pub password: Option<SecretString>,
    /// Secrets of the addresses.
    pub address_secrets: Option<SecretString>,
    /// Stream key of encoders.
    pub ingest_key: Option<SecretString>,
    /// Passphrase of SRT encoders.
    pub ingest_passphrase: Option<SecretString>,
}

/// Stored feed.
#[derive(Debug, Clone)]
pub struct Feed {
    /// Row ID.
    pub id: i64,
    /// Settings.
    pub settings: FeedSettings,
    /// Password of the user.
    pub password: Option<SealedSecret>,
    /// Secrets of the addresses.
    pub address_secrets: Option<SealedSecret>,
    /// The password looks like a factory default.
    pub has_factory_password: bool,
    /// Creation time, in seconds since 1970.
    pub created_s: i64,
    /// Parts that have worked since they were set.
    pub history: History,
    /// Stable ID and revision.
    pub identity: Identity,
    /// Last measurement of the main stream, if there is one that can be read.
    pub measured: Option<FeedFacts>,
    /// Access of encoders.
    pub ingest: IngestAccess,
}

impl FeedSettings {
    fn has_same_address(&self, other: &Self) -> bool {
        self.url == other.url && self.pin == other.pin
    }
}

impl Store {
    /// Adds a feed.
    ///
    /// # Errors
    /// [`StoreError::NameTaken`], or a database error.
    pub fn add_feed(&self, feed: &NewFeed, now_s: i64) -> Result<(), StoreError> {
        self.add_feeds(std::slice::from_ref(feed), now_s)
    }

    /// Adds several feeds, all or none.
    ///
    /// # Errors
    /// As [`Store::add_feed`].
    pub fn add_feeds(&self, feeds: &[NewFeed], now_s: i64) -> Result<(), StoreError> {
        self.write(|transaction| {
            for NewFeed { settings, password, address_secrets, ingest_key, ingest_passphrase } in feeds {
                let name_taken =
                    || StoreError::NameTaken { kind: RecordKind::Feed, name: settings.name.clone() };
                transaction
                    .execute(
                        "INSERT INTO feed (name, url, transport, created_s) VALUES (?1, ?2, ?3, ?4)",
                        params![settings.name, settings.url, settings.transport, now_s],
                    )
                    .map_err(|error| map_unique_violation(error, name_taken))?;
                let id = transaction.last_insert_rowid();
                write_settings(transaction, id, settings)?;
                self.write_password(transaction, id, password.as_ref())?;
                self.write_secret(transaction, (FEED_ADDRESS, id), address_secrets.as_ref())?;
                if let Some(key) = ingest_key {
                    self.write_ingest_key(transaction, id, key, now_s)?;
                }
                self.write_secret(transaction, (INGEST_PASSPHRASE, id), ingest_passphrase.as_ref())?;
            }
            Ok(())
        })
    }

    /// Replaces the settings of the feed `name`, including its name, and changes its password. Without a user there is
    /// no password.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], [`StoreError::NameTaken`], or a database error.
    pub fn edit_feed(
        &self,
        name: &str,
        settings: &FeedSettings,
        password: &SecretChange,
        address_secrets: &SecretChange,
    ) -> Result<(), StoreError> {
        self.write(|transaction| {
            let before = self.find_feed(transaction, name)?;
            let id = before.id;
            write_settings(transaction, id, settings)?;
            follow_rename(transaction, RecordKind::Feed, &before.settings.name, &settings.name)?;
            let is_same_password = match password {
                SecretChange::Keep if settings.user.is_some() => true,
                SecretChange::Set(new) if settings.user.is_some() => {
                    let known = before.password.as_ref().and_then(|known| self.unseal(known).ok());
                    self.write_password(transaction, id, Some(new))?;
                    known.is_some_and(|known| known.expose_secret() == new.expose_secret())
                }
                _ => {
                    self.write_password(transaction, id, None)?;
                    before.password.is_none()
                }
            };
            self.change_secret(transaction, (FEED_ADDRESS, id), address_secrets)?;
            let is_same_account = is_same_password && before.settings.user == settings.user;
            let keeps_secrets = matches!(address_secrets, SecretChange::Keep);
            let is_same_address = before.settings.has_same_address(settings) && keeps_secrets;
            if !is_same_address {
                let update = "UPDATE feed SET address_worked_s = NULL, measured = NULL WHERE id = ?1";
                transaction.execute(update, [id])?;
                // Former settings of another camera are not restored.
                transaction.execute("DELETE FROM tuning WHERE feed = ?1", [id])?;
            }
            // A password has only worked for the device at its address.
            if !is_same_address || !is_same_account {
                transaction.execute("UPDATE feed SET account_worked_s = NULL WHERE id = ?1", [id])?;
            }
            // Another camera or stream needs another preflight.
            transaction.execute(
                "UPDATE relay SET preflight_passed_at_s = NULL, setup = setup + 1 WHERE feed = ?1",
                [id],
            )?;
            Ok(())
        })
    }

    /// Stores the last measurement of the main stream of the feed `name`.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or a database error.
    pub fn set_measured(&self, name: &str, measured: &FeedFacts) -> Result<(), StoreError> {
        let json = serde_json::to_string(measured).map_err(|_| StoreError::Damaged("a measurement"))?;
        self.write(|transaction| {
            let id = self.find_feed(transaction, name)?.id;
            transaction.execute("UPDATE feed SET measured = ?2 WHERE id = ?1", params![id, json])?;
            Ok(())
        })
    }

    /// Stores the device service of the camera of the feed `name`, after it has answered.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or a database error.
    pub fn set_device(&self, name: &str, device: &str) -> Result<(), StoreError> {
        self.write(|transaction| {
            let id = self.find_feed(transaction, name)?.id;
            transaction.execute("UPDATE feed SET device = ?2 WHERE id = ?1", params![id, device])?;
            Ok(())
        })
    }

    /// Removes an unused feed.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], [`StoreError::InUse`], or a database error.
    pub fn remove_feed(&self, name: &str) -> Result<(), StoreError> {
        self.write(|transaction| {
            let feed = self.find_feed(transaction, name)?;
            let relays = transaction
                .prepare("SELECT name FROM relay WHERE feed = ?1 ORDER BY name")?
                .query_map([feed.id], |row| row.get(0))?
                .collect::<Result<Vec<String>, _>>()?;
            if !relays.is_empty() {
                return Err(StoreError::InUse {
                    kind: RecordKind::Feed,
                    name: feed.settings.name,
                    users: relays,
                });
            }
            transaction.execute("DELETE FROM feed WHERE id = ?1", [feed.id])?;
            Ok(())
        })
    }

    /// Returns the feed `name`.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or a database error.
    pub fn feed(&self, name: &str) -> Result<Feed, StoreError> {
        self.read(|connection| self.find_feed(connection, name))
    }

    /// Returns all feeds by name.
    ///
    /// # Errors
    /// A database error.
    pub fn feeds(&self) -> Result<Vec<Feed>, StoreError> {
        self.read(|connection| {
            let mut statement = connection.prepare_cached("SELECT * FROM feed ORDER BY name")?;
            Ok(statement.query_map([], read_feed)?.collect::<Result<Vec<_>, _>>()?)
        })
    }

    pub(crate) fn find_feed(&self, connection: &Connection, name: &str) -> Result<Feed, StoreError> {
        connection
            .prepare_cached("SELECT * FROM feed WHERE name = ?1")?
            .query_row([name], read_feed)
            .optional()?
            .ok_or_else(|| StoreError::NotFound { kind: RecordKind::Feed, name: name.to_owned() })
    }

    fn write_password(
        &self,
        connection: &Connection,
        id: i64,
        password: Option<&SecretString>,
    ) -> Result<(), StoreError> {
        self.write_secret(connection, (FEED_PASSWORD, id), password)?;
        match password {
            Some(password) => write_password_facts(connection, id, password),
            None => {
                connection.execute("UPDATE feed SET has_factory_password = NULL WHERE id = ?1", [id])?;
                Ok(())
            }
        }
    }
}

fn write_settings(connection: &Connection, id: i64, settings: &FeedSettings) -> Result<(), StoreError> {
    let name_taken = || StoreError::NameTaken { kind: RecordKind::Feed, name: settings.name.clone() };
    connection
        .execute(
            "UPDATE feed SET name = :name, url = :url, sub_url = :sub_url, transport = :transport,
             user = :user, pin = :pin, site = :site, device = :device,
             ingest_key_bits = :ingest_key_bits WHERE id = :id",
            named_params! {
                ":id": id,
                ":name": settings.name,
                ":url": settings.url,
                ":sub_url": settings.sub_url,
                ":transport": settings.transport,
                ":user": settings.user,
                ":pin": settings.pin,
                ":site": settings.site,
                ":device": settings.device,
                ":ingest_key_bits": settings.ingest_key_bits,
            },
        )
        .map_err(|error| map_unique_violation(error, name_taken))?;
    Ok(())
}

fn read_feed(row: &Row<'_>) -> rusqlite::Result<Feed> {
    let id = row.get("id")?;
    Ok(Feed {
        id,
        settings: FeedSettings {
            name: row.get("name")?,
            url: row.get("url")?,
            sub_url: row.get("sub_url")?,
            transport: row.get("transport")?,
            user: row.get("user")?,
            pin: row.get("pin")?,
            site: row.get("site")?,
            device: row.get("device")?,
            ingest_key_bits: row.get("ingest_key_bits")?,
        },
        password: FEED_PASSWORD.read(id, row.get("password")?),
        address_secrets: FEED_ADDRESS.read(id, row.get("address_secrets")?),
        has_factory_password: row.get::<_, Option<bool>>("has_factory_password")?.unwrap_or_default(),
        created_s: row.get("created_s")?,
        history: History {
            credentials: row.get::<_, Option<i64>>("account_worked_s")?.is_some(),
            address: row.get::<_, Option<i64>>("address_worked_s")?.is_some(),
        },
        identity: Identity { uid: row.get("uid")?, revision: row.get("revision")? },
        measured: row
            .get::<_, Option<String>>("measured")?
            .and_then(|measured| serde_json::from_str(&measured).ok()),
        ingest: IngestAccess::read(row, id)?,
    })
}
