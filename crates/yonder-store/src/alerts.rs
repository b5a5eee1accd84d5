//! Alert rules, contacts and open alerts.

use rusqlite::{Connection, OptionalExtension as _, Row, params};
use secrecy::SecretString;
use yonder_core::alerts::{NoticeKind, Notification, Open};

use crate::error::StoreError;
use crate::record_kind::RecordKind;
use crate::sealed::{CONTACT_ADDRESS, CONTACT_SECRET, SealedSecret, SecretChange};
use crate::store::{Store, map_unique_violation};

/// Contact to be stored.
#[derive(Debug, Clone)]
pub struct NewContact {
    /// Name.
    pub name: String,
    /// Address and options as JSON, without secrets.
    pub settings: String,
    /// Signing secret of webhooks, or password of the mail server.
    pub secret: Option<SecretString>,
    /// Complete address of a webhook, of which the settings have a shortened form.
    pub address: Option<SecretString>,
    /// Interval of signs of life, in hours.
    pub sign_of_life_h: Option<u32>,
}

/// Stored contact.
#[derive(Debug, Clone)]
pub struct Contact {
    /// Name.
    pub name: String,
    /// Address and options as JSON, without secrets.
    pub settings: String,
    /// Signing secret of webhooks, or password of the mail server.
    pub secret: Option<SealedSecret>,
    /// Complete address of a webhook, of which the settings have a shortened form.
    pub address: Option<SealedSecret>,
    /// Interval of signs of life, in hours.
    pub sign_of_life_h: Option<u32>,
}

/// Settings of a contact, without its secret.
#[derive(Debug, Clone)]
pub struct ContactSettings<'a> {
    /// Name.
    pub name: &'a str,
    /// Address and options as JSON, without secrets.
    pub settings: &'a str,
    /// Interval of signs of life, in hours.
    pub sign_of_life_h: Option<u32>,
}

/// Alert rule.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Alert {
    /// Name.
    pub name: String,
    /// Condition, as text.
    pub trigger: String,
    /// Name of the only relay, feed, destination or uplink that it covers.
    pub about: Option<String>,
    /// Interval of repetitions while the alert is open, in seconds.
    pub repeat_s: i64,
    /// Names of contacts; empty for all.
    pub to: Vec<String>,
    /// End of a mute, in milliseconds since 1970.
    pub muted_until_ms: Option<i64>,
}

impl Store {
    /// Adds a contact.
    ///
    /// # Errors
    /// [`StoreError::NameTaken`], or a database error.
    pub fn add_contact(&self, contact: &NewContact) -> Result<(), StoreError> {
        let name_taken = || StoreError::NameTaken { kind: RecordKind::Contact, name: contact.name.clone() };
        self.write(|transaction| {
            transaction
                .execute(
                    "INSERT INTO contact (name, settings, sign_of_life_h) VALUES (?1, ?2, ?3)",
                    params![contact.name, contact.settings, contact.sign_of_life_h],
                )
                .map_err(|error| map_unique_violation(error, name_taken))?;
            let id = transaction.last_insert_rowid();
            self.write_secret(transaction, (CONTACT_SECRET, id), contact.secret.as_ref())?;
            self.write_secret(transaction, (CONTACT_ADDRESS, id), contact.address.as_ref())
        })
    }

    /// Replaces name and settings of the contact `name`, and changes its secret.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], [`StoreError::NameTaken`], or a database error.
    pub fn edit_contact(
        &self,
        name: &str,
        new: &ContactSettings<'_>,
        secret: &SecretChange,
        address: &SecretChange,
    ) -> Result<(), StoreError> {
        let name_taken = || StoreError::NameTaken { kind: RecordKind::Contact, name: new.name.to_owned() };
        self.write(|transaction| {
            let id = id_of(transaction, RecordKind::Contact, name)?;
            transaction
                .execute(
                    "UPDATE contact SET name = ?2, settings = ?3, sign_of_life_h = ?4 WHERE id = ?1",
                    params![id, new.name, new.settings, new.sign_of_life_h],
                )
                .map_err(|error| map_unique_violation(error, name_taken))?;
            self.change_secret(transaction, (CONTACT_SECRET, id), secret)?;
            self.change_secret(transaction, (CONTACT_ADDRESS, id), address)
        })
    }

    /// Removes a contact; its alerts go to their other contacts.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], [`StoreError::InUse`] while an alert has only this contact, or a database error.
    pub fn remove_contact(&self, name: &str) -> Result<(), StoreError> {
        self.write(|transaction| {
            let id = id_of(transaction, RecordKind::Contact, name)?;
            // An alert without any contact would notify all of them.
            let select = "SELECT alert.name FROM alert_contact AS own JOIN alert ON alert.id = own.alert WHERE own.contact = ?1
                 AND NOT EXISTS (SELECT 1 FROM alert_contact AS other WHERE other.alert = own.alert AND other.contact <> ?1)
                 ORDER BY alert.name";
            let mut statement = transaction.prepare_cached(select)?;
            let alone = statement.query_map([id], |row| row.get::<_, String>(0))?.collect::<Result<Vec<_>, _>>()?;
            if !alone.is_empty() {
                let name = name.to_owned();
                return Err(StoreError::InUse { kind: RecordKind::Contact, name, users: alone });
            }
            transaction.execute("DELETE FROM contact WHERE id = ?1", [id])?;
            Ok(())
        })
    }

    /// Returns all contacts by name.
    ///
    /// # Errors
    /// A database error.
    pub fn contacts(&self) -> Result<Vec<Contact>, StoreError> {
        self.read(|connection| {
            let mut statement = connection.prepare_cached(
                "SELECT id, name, settings, secret, address_secrets, sign_of_life_h FROM contact ORDER BY name",
            )?;
            let read = |row: &Row<'_>| {
                Ok(Contact {
                    name: row.get("name")?,
                    settings: row.get("settings")?,
                    secret: CONTACT_SECRET.read(row.get("id")?, row.get("secret")?),
                    address: CONTACT_ADDRESS.read(row.get("id")?, row.get("address_secrets")?),
                    sign_of_life_h: row.get("sign_of_life_h")?,
                })
            };
            Ok(statement.query_map([], read)?.collect::<Result<_, _>>()?)
        })
    }

    /// Returns the contact `name`.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], and as [`Store::contacts`].
    pub fn contact(&self, name: &str) -> Result<Contact, StoreError> {
        let mut all = self.contacts()?.into_iter();
        all.find(|contact| contact.name.eq_ignore_ascii_case(name))
            .ok_or_else(|| not_found(RecordKind::Contact, name))
    }

    /// Adds an alert.
    ///
    /// # Errors
    /// [`StoreError::NameTaken`], [`StoreError::NotFound`] for a contact, or a database error.
    pub fn add_alert(&self, alert: &Alert) -> Result<(), StoreError> {
        let name_taken = || StoreError::NameTaken { kind: RecordKind::Alert, name: alert.name.clone() };
        self.write(|transaction| {
            transaction
                .execute(
                    "INSERT INTO alert (name, trigger, about, repeat_s) VALUES (?1, ?2, ?3, ?4)",
                    params![alert.name, alert.trigger, alert.about, alert.repeat_s],
                )
                .map_err(|error| map_unique_violation(error, name_taken))?;
            write_contacts(transaction, transaction.last_insert_rowid(), &alert.to)
        })
    }

    /// Replaces the alert `name`.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], and as [`Store::add_alert`].
    pub fn edit_alert(&self, name: &str, alert: &Alert) -> Result<(), StoreError> {
        let name_taken = || StoreError::NameTaken { kind: RecordKind::Alert, name: alert.name.clone() };
        self.write(|transaction| {
            let id = id_of(transaction, RecordKind::Alert, name)?;
            transaction
                .execute(
                    "UPDATE alert SET name = ?2, trigger = ?3, about = ?4, repeat_s = ?5 WHERE id = ?1",
                    params![id, alert.name, alert.trigger, alert.about, alert.repeat_s],
                )
                .map_err(|error| map_unique_violation(error, name_taken))?;
            transaction.execute("DELETE FROM alert_contact WHERE alert = ?1", [id])?;
            write_contacts(transaction, id, &alert.to)
        })
    }

    /// Removes an alert.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or a database error.
    pub fn remove_alert(&self, name: &str) -> Result<(), StoreError> {
        self.remove_named(RecordKind::Alert, name)
    }

    /// Returns all alerts by name.
    ///
    /// # Errors
    /// A database error.
    pub fn alerts(&self) -> Result<Vec<Alert>, StoreError> {
        self.read(|connection| {
            let mut statement = connection.prepare_cached(
                "SELECT name, trigger, about, repeat_s, muted_until_ms, (
                     SELECT group_concat(contact.name, char(10)) FROM alert_contact AS to_whom
                     JOIN contact ON contact.id = to_whom.contact WHERE to_whom.alert = alert.id
                 ) AS contacts FROM alert ORDER BY name",
            )?;
            let read = |row: &Row<'_>| {
                let contacts: Option<String> = row.get("contacts")?;
                Ok(Alert {
                    name: row.get("name")?,
                    trigger: row.get("trigger")?,
                    about: row.get("about")?,
                    repeat_s: row.get("repeat_s")?,
                    to: contacts.unwrap_or_default().lines().map(str::to_owned).collect(),
                    muted_until_ms: row.get("muted_until_ms")?,
                })
            };
            let rows = statement.query_map([], read)?.collect::<Result<Vec<_>, _>>()?;
            Ok(rows)
        })
    }

    /// Returns the alert `name`.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or a database error.
    pub fn alert(&self, name: &str) -> Result<Alert, StoreError> {
        let mut all = self.alerts()?.into_iter();
        all.find(|alert| alert.name.eq_ignore_ascii_case(name))
            .ok_or_else(|| not_found(RecordKind::Alert, name))
    }

    /// Stores the open alerts and the undelivered notifications, replacing the stored ones; `None` leaves them as they
    /// are. Notifications of removed contacts are left out.
    ///
    /// Both are stored in one transaction: an alert that is stored as open is not raised again after a crash, so it must
    /// not be stored without its notification.
    ///
    /// # Errors
    /// A database error; nothing is changed then.
    pub fn save_alert_state(
        &self,
        open: Option<&[Open]>,
        pending: Option<&[Notification]>,
    ) -> Result<(), StoreError> {
        self.write(|transaction| {
            if let Some(open) = open {
                replace_open_alerts(transaction, open)?;
            }
            if let Some(pending) = pending {
                replace_notifications(transaction, pending)?;
            }
            Ok(())
        })
    }

    /// Returns the open alerts.
    ///
    /// # Errors
    /// A database error.
    pub fn open_alerts(&self) -> Result<Vec<Open>, StoreError> {
        self.read(|connection| {
            let mut statement = connection.prepare_cached("SELECT * FROM open_alert ORDER BY raised_ms")?;
            let read = |row: &Row<'_>| {
                Ok(Open {
                    rule: row.get("alert")?,
                    subject: row.get("subject")?,
                    message: row.get("message")?,
                    raised_ms: row.get("raised_ms")?,
                    last_notified_ms: row.get("last_notified_ms")?,
                    is_acknowledged: row.get("is_acknowledged")?,
                })
            };
            let rows = statement.query_map([], read)?.collect::<Result<Vec<_>, _>>()?;
            Ok(rows)
        })
    }

    /// Mutes the alert `name` until a time; `None` ends the mute.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or a database error.
    pub fn mute_alert(&self, name: &str, until_ms: Option<i64>) -> Result<(), StoreError> {
        self.write(|transaction| {
            let id = id_of(transaction, RecordKind::Alert, name)?;
            transaction
                .execute("UPDATE alert SET muted_until_ms = ?2 WHERE id = ?1", params![id, until_ms])?;
            Ok(())
        })
    }

    /// Returns the undelivered notifications, oldest first.
    ///
    /// # Errors
    /// A database error.
    pub fn notifications(&self) -> Result<Vec<Notification>, StoreError> {
        self.read(|connection| {
            let mut statement = connection.prepare_cached(
                "SELECT contact.name AS contact, kind, alert, subject, message, raised_ms, at_ms
                 FROM notification JOIN contact ON contact.id = notification.contact ORDER BY number",
            )?;
            let read = |row: &Row<'_>| {
                let kind: String = row.get("kind")?;
                Ok(Notification {
                    contact: row.get("contact")?,
                    kind: NoticeKind::from_name(&kind).unwrap_or(NoticeKind::Raised),
                    alert: row.get("alert")?,
                    subject: row.get("subject")?,
                    message: row.get("message")?,
                    raised_ms: row.get("raised_ms")?,
                    at_ms: row.get("at_ms")?,
                })
            };
            Ok(statement.query_map([], read)?.collect::<Result<_, _>>()?)
        })
    }

    fn remove_named(&self, kind: RecordKind, name: &str) -> Result<(), StoreError> {
        self.write(|transaction| {
            let id = id_of(transaction, kind, name)?;
            transaction.execute(&format!("DELETE FROM {kind} WHERE id = ?1"), [id])?;
            Ok(())
        })
    }
}

fn replace_open_alerts(transaction: &Connection, open: &[Open]) -> Result<(), StoreError> {
    transaction.execute("DELETE FROM open_alert", [])?;
    let mut insert = transaction.prepare_cached(
        "INSERT INTO open_alert (alert, subject, message, raised_ms, last_notified_ms, is_acknowledged)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
    )?;
    for alert in open {
        insert.execute(params![
            alert.rule,
            alert.subject,
            alert.message,
            alert.raised_ms,
            alert.last_notified_ms,
            alert.is_acknowledged
        ])?;
    }
    Ok(())
}

fn replace_notifications(transaction: &Connection, pending: &[Notification]) -> Result<(), StoreError> {
    transaction.execute("DELETE FROM notification", [])?;
    let mut insert = transaction.prepare_cached(
        "INSERT INTO notification (contact, kind, alert, subject, message, raised_ms, at_ms)
         SELECT id, ?2, ?3, ?4, ?5, ?6, ?7 FROM contact WHERE name = ?1",
    )?;
    for new in pending {
        insert.execute(params![
            new.contact,
            new.kind.as_str(),
            new.alert,
            new.subject,
            new.message,
            new.raised_ms,
            new.at_ms
        ])?;
    }
    Ok(())
}

fn write_contacts(connection: &Connection, alert: i64, names: &[String]) -> Result<(), StoreError> {
    for name in names {
        let contact = id_of(connection, RecordKind::Contact, name)?;
        connection.execute(
            "INSERT OR IGNORE INTO alert_contact (alert, contact) VALUES (?1, ?2)",
            params![alert, contact],
        )?;
    }
    Ok(())
}

/// Returns the row ID of an alert or a contact: tables are named like their kind.
fn id_of(connection: &Connection, kind: RecordKind, name: &str) -> Result<i64, StoreError> {
    connection
        .query_row(&format!("SELECT id FROM {kind} WHERE name = ?1"), [name], |row| row.get(0))
        .optional()?
        .ok_or_else(|| not_found(kind, name))
}

fn not_found(kind: RecordKind, name: &str) -> StoreError {
    StoreError::NotFound { kind, name: name.to_owned() }
}
