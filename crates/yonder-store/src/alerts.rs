//! Alerts, and who is told.

use rusqlite::{Connection, OptionalExtension as _, Row, params};
use secrecy::SecretString;
use yonder_core::alerts::Open;

use crate::error::{Kind, StoreError};
use crate::sealed::{RECEIVER_SECRET, SealedSecret, SecretChange};
use crate::store::{Store, unless_taken};

/// A receiver of notifications to be stored.
#[derive(Debug, Clone)]
pub struct NewReceiver {
    /// Name.
    pub name: String,
    /// Where and how, as JSON without any secret.
    pub settings: String,
    /// What web messages are signed with, or the mail server's password.
    pub secret: Option<SecretString>,
}

/// A stored receiver of notifications.
#[derive(Debug, Clone)]
pub struct Receiver {
    /// Name.
    pub name: String,
    /// Where and how, as JSON without any secret.
    pub settings: String,
    /// What web messages are signed with, or the mail server's password.
    pub secret: Option<SealedSecret>,
}

/// What is told of, as it is kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Alert {
    /// Name.
    pub name: String,
    /// What it is raised for, as it is written.
    pub trigger: String,
    /// Only about this relay, feed, destination or uplink.
    pub about: Option<String>,
    /// While it goes on, it is told again after so many seconds.
    pub repeat_s: i64,
    /// Names of those who are told; none for all.
    pub to: Vec<String>,
}

impl Store {
    /// Adds a receiver.
    ///
    /// # Errors
    /// [`StoreError::NameTaken`], or the store's failure.
    pub fn add_receiver(&self, receiver: &NewReceiver) -> Result<(), StoreError> {
        let taken = || StoreError::NameTaken { kind: Kind::Receiver, name: receiver.name.clone() };
        self.write(|transaction| {
            transaction
                .execute(
                    "INSERT INTO receiver (name, settings) VALUES (?1, ?2)",
                    params![receiver.name, receiver.settings],
                )
                .map_err(|error| unless_taken(error, taken))?;
            let id = transaction.last_insert_rowid();
            self.write_secret(transaction, (RECEIVER_SECRET, id), receiver.secret.as_ref())
        })
    }

    /// Replaces name and settings of the receiver `name`, and changes its secret.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], [`StoreError::NameTaken`], or the store's failure.
    pub fn edit_receiver(
        &self,
        name: &str,
        (new_name, settings): (&str, &str),
        secret: &SecretChange,
    ) -> Result<(), StoreError> {
        let taken = || StoreError::NameTaken { kind: Kind::Receiver, name: new_name.to_owned() };
        self.write(|transaction| {
            let id = id_of(transaction, Kind::Receiver, name)?;
            transaction
                .execute(
                    "UPDATE receiver SET name = ?2, settings = ?3 WHERE id = ?1",
                    params![id, new_name, settings],
                )
                .map_err(|error| unless_taken(error, taken))?;
            match secret {
                SecretChange::Keep => Ok(()),
                SecretChange::Set(secret) => {
                    self.write_secret(transaction, (RECEIVER_SECRET, id), Some(secret))
                }
                SecretChange::Remove => self.write_secret(transaction, (RECEIVER_SECRET, id), None),
            }
        })
    }

    /// Removes a receiver; alerts that went to it go to the others they name, or to all.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or the store's failure.
    pub fn remove_receiver(&self, name: &str) -> Result<(), StoreError> {
        self.remove_named(Kind::Receiver, name)
    }

    /// All receivers by name.
    ///
    /// # Errors
    /// The store's failure.
    pub fn receivers(&self) -> Result<Vec<Receiver>, StoreError> {
        self.read(|connection| {
            let mut statement =
                connection.prepare_cached("SELECT id, name, settings, secret FROM receiver ORDER BY name")?;
            let read = |row: &Row<'_>| {
                Ok(Receiver {
                    name: row.get("name")?,
                    settings: row.get("settings")?,
                    secret: RECEIVER_SECRET.read(row.get("id")?, row.get("secret")?),
                })
            };
            Ok(statement.query_map([], read)?.collect::<Result<_, _>>()?)
        })
    }

    /// The receiver `name`.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], and as [`Store::receivers`].
    pub fn receiver(&self, name: &str) -> Result<Receiver, StoreError> {
        let mut all = self.receivers()?.into_iter();
        all.find(|receiver| receiver.name.eq_ignore_ascii_case(name))
            .ok_or_else(|| not_found(Kind::Receiver, name))
    }

    /// Adds an alert.
    ///
    /// # Errors
    /// [`StoreError::NameTaken`], [`StoreError::NotFound`] for a receiver, or the store's failure.
    pub fn add_alert(&self, alert: &Alert) -> Result<(), StoreError> {
        let taken = || StoreError::NameTaken { kind: Kind::Alert, name: alert.name.clone() };
        self.write(|transaction| {
            transaction
                .execute(
                    "INSERT INTO alert (name, trigger, about, repeat_s) VALUES (?1, ?2, ?3, ?4)",
                    params![alert.name, alert.trigger, alert.about, alert.repeat_s],
                )
                .map_err(|error| unless_taken(error, taken))?;
            write_receivers(transaction, transaction.last_insert_rowid(), &alert.to)
        })
    }

    /// Replaces the alert `name`.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], and as [`Store::add_alert`].
    pub fn edit_alert(&self, name: &str, alert: &Alert) -> Result<(), StoreError> {
        let taken = || StoreError::NameTaken { kind: Kind::Alert, name: alert.name.clone() };
        self.write(|transaction| {
            let id = id_of(transaction, Kind::Alert, name)?;
            transaction
                .execute(
                    "UPDATE alert SET name = ?2, trigger = ?3, about = ?4, repeat_s = ?5 WHERE id = ?1",
                    params![id, alert.name, alert.trigger, alert.about, alert.repeat_s],
                )
                .map_err(|error| unless_taken(error, taken))?;
            transaction.execute("DELETE FROM alert_receiver WHERE alert = ?1", [id])?;
            write_receivers(transaction, id, &alert.to)
        })
    }

    /// Removes an alert.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or the store's failure.
    pub fn remove_alert(&self, name: &str) -> Result<(), StoreError> {
        self.remove_named(Kind::Alert, name)
    }

    /// All alerts by name.
    ///
    /// # Errors
    /// The store's failure.
    pub fn alerts(&self) -> Result<Vec<Alert>, StoreError> {
        self.read(|connection| {
            let mut statement = connection.prepare_cached(
                "SELECT name, trigger, about, repeat_s, (
                     SELECT group_concat(receiver.name, char(10)) FROM alert_receiver AS to_whom
                     JOIN receiver ON receiver.id = to_whom.receiver WHERE to_whom.alert = alert.id
                 ) AS receivers FROM alert ORDER BY name",
            )?;
            let read = |row: &Row<'_>| {
                let receivers: Option<String> = row.get("receivers")?;
                Ok(Alert {
                    name: row.get("name")?,
                    trigger: row.get("trigger")?,
                    about: row.get("about")?,
                    repeat_s: row.get("repeat_s")?,
                    to: receivers.unwrap_or_default().lines().map(str::to_owned).collect(),
                })
            };
            let rows = statement.query_map([], read)?.collect::<Result<Vec<_>, _>>()?;
            Ok(rows)
        })
    }

    /// The alert `name`.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or the store's failure.
    pub fn alert(&self, name: &str) -> Result<Alert, StoreError> {
        let mut all = self.alerts()?.into_iter();
        all.find(|alert| alert.name.eq_ignore_ascii_case(name)).ok_or_else(|| not_found(Kind::Alert, name))
    }

    /// Keeps the alerts that go on, in place of those that did.
    ///
    /// # Errors
    /// The store's failure.
    pub fn keep_open_alerts(&self, open: &[Open]) -> Result<(), StoreError> {
        self.write(|transaction| {
            transaction.execute("DELETE FROM open_alert", [])?;
            for alert in open {
                transaction.execute(
                    "INSERT INTO open_alert (alert, subject, message, raised_ms, told_ms) VALUES (?1, ?2, ?3, ?4, ?5)",
                    params![alert.rule, alert.subject, alert.message, alert.raised_ms, alert.told_ms],
                )?;
            }
            Ok(())
        })
    }

    /// The alerts that go on.
    ///
    /// # Errors
    /// The store's failure.
    pub fn open_alerts(&self) -> Result<Vec<Open>, StoreError> {
        self.read(|connection| {
            let mut statement = connection.prepare_cached("SELECT * FROM open_alert ORDER BY raised_ms")?;
            let read = |row: &Row<'_>| {
                Ok(Open {
                    rule: row.get("alert")?,
                    subject: row.get("subject")?,
                    message: row.get("message")?,
                    raised_ms: row.get("raised_ms")?,
                    told_ms: row.get("told_ms")?,
                })
            };
            let rows = statement.query_map([], read)?.collect::<Result<Vec<_>, _>>()?;
            Ok(rows)
        })
    }

    fn remove_named(&self, kind: Kind, name: &str) -> Result<(), StoreError> {
        self.write(|transaction| {
            let id = id_of(transaction, kind, name)?;
            transaction.execute(&format!("DELETE FROM {kind} WHERE id = ?1"), [id])?;
            Ok(())
        })
    }
}

fn write_receivers(connection: &Connection, alert: i64, names: &[String]) -> Result<(), StoreError> {
    for name in names {
        let receiver = id_of(connection, Kind::Receiver, name)?;
        connection.execute(
            "INSERT OR IGNORE INTO alert_receiver (alert, receiver) VALUES (?1, ?2)",
            params![alert, receiver],
        )?;
    }
    Ok(())
}

/// The number of an alert or a receiver: tables are called like their kind.
fn id_of(connection: &Connection, kind: Kind, name: &str) -> Result<i64, StoreError> {
    connection
        .query_row(&format!("SELECT id FROM {kind} WHERE name = ?1"), [name], |row| row.get(0))
        .optional()?
        .ok_or_else(|| not_found(kind, name))
}

fn not_found(kind: Kind, name: &str) -> StoreError {
    StoreError::NotFound { kind, name: name.to_owned() }
}
