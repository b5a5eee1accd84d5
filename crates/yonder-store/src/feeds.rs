//! Feeds.

use rusqlite::{Connection, OptionalExtension as _, Row, named_params, params};
use secrecy::{ExposeSecret as _, SecretString};

use crate::error::{Kind, StoreError};
use crate::history::History;
use crate::store::{Store, unless_taken};

/// A feed as it is to be kept.
#[derive(Debug, Clone)]
pub struct NewFeed {
    /// Name.
    pub name: String,
    /// Address of the main stream, without credentials.
    pub url: String,
    /// Address of the sub stream, without credentials.
    pub sub_url: Option<String>,
    /// `auto`, `tcp` or `udp`.
    pub transport: String,
    /// User name and password.
    pub account: Option<(String, SecretString)>,
    /// SHA-256 of the one certificate that is trusted.
    pub pin: Option<[u8; 32]>,
    /// Where the camera is, when that is not where the service runs.
    pub site: Option<String>,
}

/// A feed as it is kept.
#[derive(Debug, Clone)]
pub struct Feed {
    /// Row.
    pub id: i64,
    /// Its values.
    pub values: NewFeed,
    /// When it was made, in seconds since 1970.
    pub created_s: i64,
    /// Parts that have worked since they were set.
    pub history: History,
}

impl NewFeed {
    fn has_same_address(&self, other: &Self) -> bool {
        self.url == other.url && self.pin == other.pin
    }

    fn has_same_account(&self, other: &Self) -> bool {
        let account = |feed: &Self| {
            feed.account.as_ref().map(|(user, password)| (user.clone(), password.expose_secret().to_owned()))
        };
        account(self) == account(other)
    }
}

fn label(id: i64) -> String {
    format!("feed-password:{id}")
}

impl Store {
    /// Adds a feed.
    ///
    /// # Errors
    /// [`StoreError::NameTaken`], or the store's failure.
    pub fn add_feed(&self, feed: &NewFeed, now_s: i64) -> Result<(), StoreError> {
        self.add_feeds(std::slice::from_ref(feed), now_s)
    }

    /// Adds several feeds, all or none.
    ///
    /// # Errors
    /// As [`Store::add_feed`].
    pub fn add_feeds(&self, feeds: &[NewFeed], now_s: i64) -> Result<(), StoreError> {
        self.write(|transaction| {
            for feed in feeds {
                let taken = || StoreError::NameTaken { kind: Kind::Feed, name: feed.name.clone() };
                transaction
                    .execute(
                        "INSERT INTO feed (name, url, transport, created_s) VALUES (?1, ?2, ?3, ?4)",
                        params![feed.name, feed.url, feed.transport, now_s],
                    )
                    .map_err(|error| unless_taken(error, taken))?;
                self.write_feed(transaction, transaction.last_insert_rowid(), feed)?;
            }
            Ok(())
        })
    }

    /// Replaces the values of the feed `name`, its name included.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], [`StoreError::NameTaken`], or the store's failure.
    pub fn edit_feed(&self, name: &str, feed: &NewFeed) -> Result<(), StoreError> {
        self.write(|transaction| {
            let before = self.find_feed(transaction, name)?;
            let id = before.id;
            self.write_feed(transaction, id, feed)?;
            if !before.values.has_same_address(feed) {
                transaction.execute("UPDATE feed SET address_worked_s = NULL WHERE id = ?1", [id])?;
            }
            // A password is proven for the device at its address alone.
            if !before.values.has_same_address(feed) || !before.values.has_same_account(feed) {
                transaction.execute("UPDATE feed SET account_worked_s = NULL WHERE id = ?1", [id])?;
            }
            // Another camera, or another stream of it, is to be checked anew.
            transaction.execute("UPDATE relay SET cleared_s = NULL WHERE feed = ?1", [id])?;
            Ok(())
        })
    }

    /// Removes a feed that no relay uses.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], [`StoreError::InUse`], or the store's failure.
    pub fn remove_feed(&self, name: &str) -> Result<(), StoreError> {
        self.write(|transaction| {
            let feed = self.find_feed(transaction, name)?;
            let relays = transaction
                .prepare("SELECT name FROM relay WHERE feed = ?1 ORDER BY name")?
                .query_map([feed.id], |row| row.get(0))?
                .collect::<Result<Vec<String>, _>>()?;
            if !relays.is_empty() {
                return Err(StoreError::InUse { kind: Kind::Feed, name: feed.values.name, users: relays });
            }
            transaction.execute("DELETE FROM feed WHERE id = ?1", [feed.id])?;
            Ok(())
        })
    }

    /// The feed `name`.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or the store's failure.
    pub fn feed(&self, name: &str) -> Result<Feed, StoreError> {
        self.read(|connection| self.find_feed(connection, name))
    }

    /// All feeds by name.
    ///
    /// # Errors
    /// The store's failure.
    pub fn feeds(&self) -> Result<Vec<Feed>, StoreError> {
        self.read(|connection| {
            let mut statement = connection.prepare_cached("SELECT * FROM feed ORDER BY name")?;
            let rows = statement.query_map([], FeedRow::read)?.collect::<Result<Vec<_>, _>>()?;
            rows.into_iter().map(|row| self.open_feed(row)).collect()
        })
    }

    pub(crate) fn find_feed(&self, connection: &Connection, name: &str) -> Result<Feed, StoreError> {
        let row = connection
            .prepare_cached("SELECT * FROM feed WHERE name = ?1")?
            .query_row([name], FeedRow::read)
            .optional()?
            .ok_or_else(|| StoreError::NotFound { kind: Kind::Feed, name: name.to_owned() })?;
        self.open_feed(row)
    }

    fn write_feed(&self, connection: &Connection, id: i64, feed: &NewFeed) -> Result<(), StoreError> {
        let sealed = match &feed.account {
            Some((_, password)) => Some(self.master_key.seal(password, &label(id))?),
            None => None,
        };
        let taken = || StoreError::NameTaken { kind: Kind::Feed, name: feed.name.clone() };
        connection
            .execute(
                "UPDATE feed SET name = :name, url = :url, sub_url = :sub_url, transport = :transport,
                 user = :user, password = :password, pin = :pin, site = :site WHERE id = :id",
                named_params! {
                    ":id": id,
                    ":name": feed.name,
                    ":url": feed.url,
                    ":sub_url": feed.sub_url,
                    ":transport": feed.transport,
                    ":user": feed.account.as_ref().map(|(user, _)| user),
                    ":password": sealed,
                    ":pin": feed.pin,
                    ":site": feed.site,
                },
            )
            .map_err(|error| unless_taken(error, taken))?;
        Ok(())
    }

    fn open_feed(&self, row: FeedRow) -> Result<Feed, StoreError> {
        let account = match (row.user, row.password) {
            (Some(user), Some(sealed)) => Some((user, self.master_key.open(&sealed, &label(row.id))?)),
            _ => None,
        };
        let FeedRow { id, name, url, sub_url, transport, pin, site, created_s, history, .. } = row;
        let values = NewFeed { name, url, sub_url, transport, account, pin, site };
        Ok(Feed { id, values, created_s, history })
    }
}

struct FeedRow {
    id: i64,
    name: String,
    url: String,
    sub_url: Option<String>,
    transport: String,
    user: Option<String>,
    password: Option<Vec<u8>>,
    pin: Option<[u8; 32]>,
    site: Option<String>,
    created_s: i64,
    history: History,
}

impl FeedRow {
    fn read(row: &Row<'_>) -> rusqlite::Result<Self> {
        Ok(Self {
            id: row.get("id")?,
            name: row.get("name")?,
            url: row.get("url")?,
            sub_url: row.get("sub_url")?,
            transport: row.get("transport")?,
            user: row.get("user")?,
            password: row.get("password")?,
            pin: row.get("pin")?,
            site: row.get("site")?,
            created_s: row.get("created_s")?,
            history: History {
                credentials: row.get::<_, Option<i64>>("account_worked_s")?.is_some(),
                address: row.get::<_, Option<i64>>("address_worked_s")?.is_some(),
            },
        })
    }
}
