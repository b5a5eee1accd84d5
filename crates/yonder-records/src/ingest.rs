//! Feeds that encoders publish to: stream keys and passphrases.

use secrecy::{ExposeSecret as _, SecretString};
use yonder_address::{Passphrase, StreamKey};
use yonder_api::{Feed, FeedChange, IngestFacts, IngestRekey, NewFeed, Secret, Transport};
use yonder_ingest::new_key;
use yonder_store::{
    Feed as StoredFeed, FeedSettings, NewFeed as FeedValues, RecordKind, SealedSecret, SecretChange,
};

use super::{EngineAction, Records, Transaction};
use crate::destination_input::parse_key_length;
use crate::error::ServiceError;
use crate::site::read_site;
use crate::time;

/// Allowed lengths of a stream key, in characters.
const KEY_LENGTHS: std::ops::RangeInclusive<usize> = 8..=128;
/// Maximum grace period of a former stream key, in seconds: 30 days.
const MAX_GRACE_S: u32 = 30 * 86_400;

/// Stream keys that encoders may use, and the passphrase of SRT encoders.
#[derive(Debug)]
pub struct IngestKeys {
    /// Stream keys: the present one, and the former one during its grace period. Empty if it cannot be decrypted.
    pub keys: Vec<StreamKey>,
    /// Passphrase.
    pub passphrase: Option<Passphrase>,
}

/// Secrets that are typed into an encoder.
#[derive(Debug)]
pub struct IngestSecrets {
    /// Stream key.
    pub key: StreamKey,
    /// Passphrase of SRT.
    pub passphrase: Option<SecretString>,
    /// Length of the SRT encryption key, in bits.
    pub key_bits: u16,
}

impl Records {
    /// Returns the names of all feeds that encoders publish to.
    ///
    /// # Errors
    /// If the records cannot be read.
    pub fn published_feeds(&self) -> Result<Vec<String>, ServiceError> {
        let feeds = self.store.feeds()?.into_iter();
        Ok(feeds
            .filter(|feed| feed.settings.ingest_key_bits.is_some())
            .map(|feed| feed.settings.name)
            .collect())
    }

    /// Returns what encoders may use for a feed. A secret that cannot be decrypted lets no encoder in.
    #[must_use]
    pub fn ingest_keys(&self, feed: &StoredFeed) -> IngestKeys {
        let open = |secret: &SealedSecret| self.store.unseal(secret);
        let former = feed.ingest.former_key.as_ref().filter(|former| former.until_s > time::now_s());
        let sealed = feed.ingest.key.iter().chain(former.map(|former| &former.secret));
        let mut keys: Vec<StreamKey> =
            sealed.filter_map(|key| open(key).ok()).map(StreamKey::from_stored).collect();
        let passphrase = feed.ingest.passphrase.as_ref().map(open).transpose();
        if passphrase.is_err() {
            keys.clear();
        }
        IngestKeys { keys, passphrase: passphrase.unwrap_or_default().map(Passphrase::from_stored) }
    }

    /// Returns the secrets of a feed in clear. The caller must audit it.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], [`ServiceError::Invalid`] for a feed that is pulled, [`ServiceError::SecretLost`], or if
    /// the records cannot be read.
    pub fn ingest_secrets(&self, name: &str) -> Result<IngestSecrets, ServiceError> {
        let feed = self.store.feed(name).map_err(|error| self.explain(error))?;
        let key_bits = feed.settings.ingest_key_bits.ok_or_else(|| not_published("name"))?;
        let open = |secret: &SealedSecret, what| {
            let name = feed.settings.name.clone();
            let lost = |_| ServiceError::SecretLost { kind: RecordKind::Feed, name, secret: what };
            self.store.unseal(secret).map_err(lost)
        };
        let key = feed.ingest.key.as_ref().ok_or(ServiceError::Internal("a stream key is missing"))?;
        Ok(IngestSecrets {
            key: StreamKey::from_stored(open(key, "stream key")?),
            passphrase: feed
                .ingest
                .passphrase
                .as_ref()
                .map(|secret| open(secret, "passphrase"))
                .transpose()?,
            key_bits,
        })
    }

    /// Checks that no other feed has the stream key.
    pub(crate) fn check_ingest_key_is_free(
        &self,
        key: &SecretString,
        feed: &str,
    ) -> Result<(), ServiceError> {
        for other in self.store.feeds()? {
            let former = other.ingest.former_key.as_ref().map(|former| &former.secret);
            let is_same = |sealed: &SealedSecret| {
                self.store.unseal(sealed).is_ok_and(|known| known.expose_secret() == key.expose_secret())
            };
            if other.settings.name != feed && other.ingest.key.iter().chain(former).any(is_same) {
                return Err(ServiceError::Invalid {
                    field: "key",
                    detail: format!("the feed {:?} has this stream key", other.settings.name),
                    hint: "The service finds the feed of an encoder by its key, so that each feed needs its own. Omit the key to generate one.",
                });
            }
        }
        Ok(())
    }
}

impl Transaction<'_> {
    /// Replaces the stream key of a feed. An encoder that publishes stays connected; its next connection needs a valid key.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], [`ServiceError::Invalid`] naming the field, or if the records cannot be written.
    pub fn rekey_feed(&self, name: &str, rekey: &IngestRekey) -> Result<Feed, ServiceError> {
        let stored = self.store.feed(name).map_err(|error| self.explain(error))?.settings;
        if stored.ingest_key_bits.is_none() {
            return Err(not_published("name"));
        }
        if rekey.grace_s > MAX_GRACE_S {
            return Err(ServiceError::Invalid {
                field: "grace_s",
                detail: format!("{} s are more than 30 days", rekey.grace_s),
                hint: "A day is usually enough to change the key in the encoder.",
            });
        }
        let key = read_key(rekey.key.as_ref())?;
        self.check_ingest_key_is_free(&key, &stored.name)?;
        let now_s = time::now_s();
        let until_s = (rekey.grace_s > 0).then(|| now_s + i64::from(rekey.grace_s));
        self.store.set_ingest_key(&stored.name, &key, until_s, now_s)?;
        self.add_action(EngineAction::UpdateFeed(stored.name.clone()));
        self.feed(&stored.name)
    }

    /// Changes a feed that encoders publish to.
    pub(crate) fn edit_published_feed(
        &self,
        before: FeedSettings,
        mut after: FeedSettings,
        change: FeedChange,
    ) -> Result<Feed, ServiceError> {
        let of_cameras = [
            ("url", change.url.is_some()),
            ("sub_url", change.sub_url.as_ref().is_some_and(|url| !url.is_empty())),
            ("user", change.user.as_ref().is_some_and(|user| !user.is_empty())),
            ("password", change.password.is_some()),
            ("pin", change.pin.as_ref().is_some_and(|pin| !pin.is_empty())),
            ("device", change.device.as_ref().is_some_and(|device| !device.is_empty())),
        ];
        if let Some((field, _)) = of_cameras.into_iter().find(|(_, is_given)| *is_given) {
            return Err(only_for_cameras(field));
        }
        if let Some(site) = &change.site {
            after.site = read_site(site);
        }
        if let Some(bits) = change.key_length {
            after.ingest_key_bits = Some(parse_key_length(Some(bits))?);
        }
        let passphrase = match &change.passphrase {
            None => SecretChange::Keep,
            Some(text) if text.is_empty() => SecretChange::Remove,
            Some(text) => SecretChange::Set(read_passphrase(text)?),
        };
        let edited = self.store.edit_feed(&before.name, &after, &SecretChange::Keep, &SecretChange::Keep);
        edited.map_err(|error| self.explain(error))?;
        self.store.change_ingest_passphrase(&after.name, &passphrase)?;
        self.mark_all_relays();
        if after.name != before.name {
            self.add_action(EngineAction::EndFeed(before.name));
        }
        self.add_action(EngineAction::UpdateFeed(after.name.clone()));
        self.feed(&after.name)
    }
}

/// Returns the access of encoders for the API; `None` for a feed that is pulled.
pub(crate) fn ingest_facts(feed: &StoredFeed) -> Option<IngestFacts> {
    let key_length = feed.settings.ingest_key_bits?;
    let text = |seconds| time::text(time::from_s(seconds));
    let former = feed.ingest.former_key.as_ref().filter(|former| former.until_s > time::now_s());
    Some(IngestFacts {
        key_set_at: text(feed.ingest.key_set_s),
        former_key_until: former.map(|former| text(former.until_s)),
        has_passphrase: feed.ingest.passphrase.is_some(),
        key_length,
    })
}

/// Returns the values of a new feed that encoders publish to.
///
/// # Errors
/// [`ServiceError::Invalid`] naming the field.
pub(crate) fn published_values(name: String, new: &NewFeed) -> Result<FeedValues, ServiceError> {
    check_no_camera_settings(new)?;
    let passphrase = new.passphrase.as_ref().filter(|text| !text.is_empty()).map(read_passphrase);
    Ok(FeedValues {
        settings: FeedSettings {
            name,
            url: String::new(),
            sub_url: None,
            transport: Transport::Auto.as_str().to_owned(),
            user: None,
            pin: None,
            site: new.site.as_deref().and_then(read_site),
            device: None,
            ingest_key_bits: Some(parse_key_length(new.key_length)?),
        },
        password: None,
        address_secrets: None,
        ingest_key: Some(read_key(new.key.as_ref())?),
        ingest_passphrase: passphrase.transpose()?,
    })
}

/// Checks that a feed of an encoder has no settings of a camera.
///
/// # Errors
/// [`ServiceError::Invalid`] naming the field.
pub(crate) fn check_no_camera_settings(new: &NewFeed) -> Result<(), ServiceError> {
    let of_cameras = [
        ("url", !new.url.is_empty()),
        ("sub_url", new.sub_url.is_some()),
        ("user", new.user.is_some()),
        ("password", new.password.is_some()),
        ("pin", new.pin.is_some()),
        ("device", new.device.is_some()),
    ];
    if let Some((field, _)) = of_cameras.into_iter().find(|(_, is_given)| *is_given) {
        return Err(only_for_cameras(field));
    }
    Ok(())
}

/// Returns the error for a setting that only cameras have.
fn only_for_cameras(field: &'static str) -> ServiceError {
    ServiceError::Invalid {
        field,
        detail: "this is a setting of a camera that is pulled; encoders publish to this feed".to_owned(),
        hint: "Leave it out, or add another feed for the camera.",
    }
}

/// Returns the error for a setting of encoders, for a feed that is pulled.
pub(crate) fn not_published(field: &'static str) -> ServiceError {
    ServiceError::Invalid {
        field,
        detail: "this feed is pulled from a camera; no encoder publishes to it".to_owned(),
        hint: "Add a feed for the encoder: yonder feed add NAME --ingest",
    }
}

/// Checks a stream key, or generates one. Slashes and question marks would be cut off by the protocols.
fn read_key(given: Option<&Secret>) -> Result<SecretString, ServiceError> {
    let Some(given) = given.filter(|text| !text.expose().trim().is_empty()) else {
        return Ok(new_key().expose().into());
    };
    let key = given.expose().trim();
    let is_allowed = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.' | '~');
    if !KEY_LENGTHS.contains(&key.len()) || !key.chars().all(is_allowed) {
        return Err(ServiceError::Invalid {
            field: "key",
            detail: "a stream key has 8 to 128 letters, digits, or - _ . ~".to_owned(),
            hint: "Leave it out to get a strong one.",
        });
    }
    Ok(key.into())
}

fn read_passphrase(text: &Secret) -> Result<SecretString, ServiceError> {
    Passphrase::parse(text.expose()).map(|phrase| phrase.expose().into()).map_err(ServiceError::passphrase)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::typed("bandstand-2026", true)]
    #[case::trimmed("  bandstand-2026\n", true)]
    #[case::too_short("stage-1", false)]
    #[case::slash("live/bandstand-2026", false)]
    #[case::query("bandstand-2026?x=1", false)]
    #[case::blank("bandstand 2026", false)]
    fn own_key_is_checked(#[case] text: &str, #[case] is_valid: bool) {
        assert_eq!(read_key(Some(&text.to_owned().into())).is_ok(), is_valid);
    }

    #[test]
    fn generated_keys_differ_and_are_valid() {
        let (one, other) = (read_key(None).unwrap(), read_key(Some(&String::new().into())).unwrap());
        assert_ne!(one.expose_secret(), other.expose_secret());
        assert!(read_key(Some(&Secret::from(one))).is_ok());
    }
}
