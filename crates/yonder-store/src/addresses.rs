//! Secrets inside addresses: a placeholder in the address, and the secret sealed separately.

use std::collections::BTreeMap;

use rusqlite::{Connection, Row, params};
use secrecy::{ExposeSecret as _, SecretString};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use yonder_address::{Masked, PLACEHOLDER, mask, unmask};

use crate::error::StoreError;
use crate::record_kind::RecordKind;
use crate::seal::SealError;
use crate::sealed::{CONTACT_ADDRESS, DESTINATION_ADDRESS, FEED_ADDRESS, Place, SealedSecret, SecretChange};
use crate::store::Store;

/// Maximum length of the end of a web address that is shown.
const SHOWN_END: usize = 4;
/// Minimum length of a path of which the end is shown.
const MIN_SHOWN_PATH: usize = 12;

/// Secrets inside the addresses of a record, by field.
#[derive(Debug, Clone, Default)]
pub struct AddressSecrets(BTreeMap<String, Vec<SecretString>>);

/// Serialized form before sealing.
#[derive(Debug, Default, Serialize, Deserialize)]
struct Plain(BTreeMap<String, Vec<String>>);

/// Address with a placeholder for a secret that is not stored.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("the address has {PLACEHOLDER} where no secret is stored")]
pub struct UnknownPlaceholder;

impl AddressSecrets {
    /// Decrypts the secrets of a record.
    ///
    /// # Errors
    /// [`SealError`] if they cannot be decrypted.
    pub fn open(store: &Store, sealed: Option<&SealedSecret>) -> Result<Self, SealError> {
        let Some(sealed) = sealed else { return Ok(Self::default()) };
        let text = store.unseal(sealed)?;
        let Plain(fields) = serde_json::from_str(text.expose_secret()).unwrap_or_default();
        let secret = |secrets: Vec<String>| secrets.into_iter().map(SecretString::from).collect();
        Ok(Self(fields.into_iter().map(|(field, secrets)| (field, secret(secrets))).collect()))
    }

    /// Masks the secrets of an address, and returns the masked address. An existing placeholder stands for the secret
    /// of `before` at the same position.
    ///
    /// # Errors
    /// [`UnknownPlaceholder`].
    pub fn take(&mut self, field: &str, address: &str, before: &Self) -> Result<String, UnknownPlaceholder> {
        let Masked { text, secrets } = mask(address);
        let known = before.0.get(field).map(Vec::as_slice).unwrap_or_default();
        let sealed = secrets.into_iter().enumerate().map(|(at, secret)| match secret {
            Some(secret) => Ok(secret),
            None => known.get(at).cloned().ok_or(UnknownPlaceholder),
        });
        let sealed = sealed.collect::<Result<Vec<_>, _>>()?;
        if sealed.is_empty() {
            self.0.remove(field);
        } else {
            self.0.insert(field.to_owned(), sealed);
        }
        Ok(text)
    }

    /// Removes the secrets of a field.
    pub fn remove(&mut self, field: &str) {
        self.0.remove(field);
    }

    /// Inserts the secrets into an address.
    ///
    /// # Errors
    /// [`UnknownPlaceholder`].
    pub fn fill(&self, field: &str, address: &str) -> Result<SecretString, UnknownPlaceholder> {
        let secrets = self.0.get(field).map(Vec::as_slice).unwrap_or_default();
        unmask(address, secrets).ok_or(UnknownPlaceholder)
    }

    /// Returns the secrets for sealing; `None` if there are none.
    #[must_use]
    pub fn to_secret(&self) -> Option<SecretString> {
        if self.0.is_empty() {
            return None;
        }
        let plain =
            |secrets: &Vec<SecretString>| secrets.iter().map(|s| s.expose_secret().to_owned()).collect();
        let fields = self.0.iter().map(|(field, secrets)| (field.clone(), plain(secrets))).collect();
        serde_json::to_string(&Plain(fields)).ok().map(SecretString::from)
    }

    /// Returns the change from `before`.
    #[must_use]
    pub fn change_from(&self, before: &Self) -> SecretChange {
        match (before.to_secret(), self.to_secret()) {
            (None, None) => SecretChange::Keep,
            (Some(old), Some(new)) if old.expose_secret() == new.expose_secret() => SecretChange::Keep,
            (_, Some(new)) => SecretChange::Set(new),
            (Some(_), None) => SecretChange::Remove,
        }
    }
}

/// Returns the displayed form of a web address: its host, and the end of a long path. For many chat services the rest
/// is a credential.
#[must_use]
pub fn shortened_web_address(address: &str) -> String {
    let begin = address.find("://").map_or(0, |at| at + 3);
    let host_end = address.get(begin..).and_then(|rest| rest.find(['/', '?', '#']));
    let Some(host_end) = host_end.map(|at| begin + at) else { return address.to_owned() };
    let (host, path) =
        (address.get(..host_end).unwrap_or_default(), address.get(host_end..).unwrap_or_default());
    if path.len() <= 1 {
        return address.to_owned();
    }
    let length = path.chars().count();
    let shown = if length >= MIN_SHOWN_PATH { SHOWN_END } else { 0 };
    let end: String = path.chars().skip(length - shown).collect();
    format!("{host}/…{end}")
}

/// Stored address of a record.
struct StoredAddress {
    id: i64,
    fields: Vec<(&'static str, String)>,
}

impl Store {
    /// Seals secrets that an older version stored inside addresses.
    pub(crate) fn seal_addresses(&self) -> Result<(), StoreError> {
        self.seal_masked(FEED_ADDRESS, RecordKind::Feed, ["url", "sub_url"])?;
        self.seal_masked(DESTINATION_ADDRESS, RecordKind::Destination, ["server", "backup_server"])?;
        self.seal_contacts()
    }

    fn seal_masked(
        &self,
        place: Place,
        kind: RecordKind,
        columns: [&'static str; 2],
    ) -> Result<(), StoreError> {
        let [first, second] = columns;
        let select = format!("SELECT id, {first}, {second} FROM {kind} WHERE address_secrets IS NULL");
        let read = |row: &Row<'_>| {
            let fields =
                [(first, row.get::<_, Option<String>>(1)?), (second, row.get::<_, Option<String>>(2)?)];
            let fields = fields.into_iter().filter_map(|(column, text)| Some((column, text?))).collect();
            Ok(StoredAddress { id: row.get(0)?, fields })
        };
        for StoredAddress { id, fields } in self.read(|connection| all(connection, &select, read))? {
            let (mut secrets, none) = (AddressSecrets::default(), AddressSecrets::default());
            // There are no placeholders: such an address was refused.
            let masked: Vec<(&str, String)> = fields
                .iter()
                .filter_map(|(field, text)| Some((*field, secrets.take(field, text, &none).ok()?)))
                .collect();
            let Some(sealed) = secrets.to_secret() else { continue };
            self.write(|connection| {
                for (column, text) in &masked {
                    let update = format!("UPDATE {kind} SET {column} = ?2 WHERE id = ?1");
                    connection.execute(&update, params![id, text])?;
                }
                self.write_secret(connection, (place, id), Some(&sealed))
            })?;
        }
        Ok(())
    }

    fn seal_contacts(&self) -> Result<(), StoreError> {
        let select = "SELECT id, settings FROM contact WHERE address_secrets IS NULL";
        let read = |row: &Row<'_>| Ok((row.get(0)?, row.get(1)?));
        let contacts: Vec<(i64, String)> = self.read(|connection| all(connection, select, read))?;
        for (id, settings) in contacts {
            let Ok(mut settings) = serde_json::from_str::<Value>(&settings) else { continue };
            let Some(url) = settings.get("url").and_then(Value::as_str).map(str::to_owned) else { continue };
            let shown = shortened_web_address(&url);
            if shown == url {
                continue;
            }
            if let Some(field) = settings.get_mut("url") {
                *field = shown.into();
            }
            self.write(|connection| {
                let update = "UPDATE contact SET settings = ?2 WHERE id = ?1";
                connection.execute(update, params![id, settings.to_string()])?;
                self.write_secret(connection, (CONTACT_ADDRESS, id), Some(&url.into()))
            })?;
        }
        Ok(())
    }
}

fn all<T>(
    connection: &Connection,
    select: &str,
    read: impl Fn(&Row<'_>) -> rusqlite::Result<T>,
) -> Result<Vec<T>, StoreError> {
    let mut statement = connection.prepare(select)?;
    Ok(statement.query_map([], read)?.collect::<Result<_, _>>()?)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[test]
    fn placeholder_keeps_the_stored_secret_and_an_unknown_one_is_refused() {
        let mut before = AddressSecrets::default();
        let none = AddressSecrets::default();
        let shown = before.take("url", "rtsp://h/a?pw=planted", &none).unwrap();
        assert_eq!(shown, "rtsp://h/a?pw={secret}");
        let mut after = before.clone();
        assert_eq!(
            after.take("url", "rtsp://h/b?pw={secret}", &before),
            Ok("rtsp://h/b?pw={secret}".to_owned())
        );
        assert_eq!(
            after.fill("url", "rtsp://h/b?pw={secret}").unwrap().expose_secret(),
            "rtsp://h/b?pw=planted"
        );
        assert!(matches!(after.change_from(&before), SecretChange::Keep));
        assert_eq!(
            after.take("url", "rtsp://h/b?pw={secret}&token={secret}", &before),
            Err(UnknownPlaceholder)
        );
        after.take("url", "rtsp://h/c", &before).unwrap();
        assert!(matches!(after.change_from(&before), SecretChange::Remove));
        assert!(!format!("{before:?}").contains("planted"));
    }

    #[rstest]
    #[case("https://hooks.example.net/T000/B000/xoxSECRET9", "https://hooks.example.net/…RET9")]
    #[case("https://hooks.example.net/relay", "https://hooks.example.net/…")]
    #[case("https://hooks.example.net/", "https://hooks.example.net/")]
    #[case("https://hooks.example.net", "https://hooks.example.net")]
    #[case("https://hooks.example.net?token=planted-token", "https://hooks.example.net/…oken")]
    fn web_addresses_are_shortened(#[case] address: &str, #[case] shown: &str) {
        assert_eq!(shortened_web_address(address), shown);
    }
}
