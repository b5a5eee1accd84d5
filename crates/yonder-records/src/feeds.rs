//! Feeds: checked before they are stored, and their specifications for the engine.

use secrecy::{ExposeSecret as _, SecretString};
use yonder_address::Authority;
use yonder_api::{Feed, FeedChange, NewFeed, Secret, Transport};
use yonder_core::preflight::FeedFacts;
use yonder_core::{FeedPhase, check_name};
use yonder_engine::{FeedSpec, Fingerprint, RtspSpec, SourceSpec, TransportChoice};
use yonder_rtsp::{CameraUrl, Credentials};
use yonder_store::{
    AddressSecrets, Feed as StoredFeed, FeedSettings, NewFeed as FeedValues, RecordKind, SealError,
    SealedSecret, SecretChange, Store, UnknownPlaceholder,
};

use super::{EngineAction, Records, Transaction};
use crate::error::ServiceError;
use crate::ingest::{ingest_facts, not_published, published_values};
use crate::site::read_site;
use crate::{time, views};

/// Maximum length of the address of a device service, in bytes.
const MAX_DEVICE: usize = 300;

impl Records {
    /// Returns all feeds by name.
    ///
    /// # Errors
    /// If the records cannot be read.
    pub fn feeds(&self) -> Result<Vec<Feed>, ServiceError> {
        Ok(self.store.feeds()?.iter().map(|feed| self.feed_view(feed)).collect())
    }

    /// Returns a feed.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or if the records cannot be read.
    pub fn feed(&self, name: &str) -> Result<Feed, ServiceError> {
        let feed = self.store.feed(name).map_err(|error| self.explain(error))?;
        Ok(self.feed_view(&feed))
    }

    fn feed_view(&self, feed: &StoredFeed) -> Feed {
        let settings = &feed.settings;
        let running = self.engine.feed(&settings.name);
        Feed {
            name: settings.name.clone(),
            id: feed.identity.uid.clone(),
            revision: feed.identity.revision,
            url: settings.url.clone(),
            ingest: ingest_facts(feed),
            publisher: running.as_ref().and_then(|view| view.publisher.as_ref()).map(views::publisher),
            sub_url: settings.sub_url.clone(),
            transport: Transport::from_name(&settings.transport),
            user: settings.user.clone(),
            has_password: feed.password.is_some(),
            secret_lost: self.lost_secret_of(feed).is_some(),
            pin: settings.pin.as_ref().map(yonder_engine::fingerprint_text),
            site: settings.site.clone(),
            device: settings.device.clone(),
            warnings: self.warnings(feed),
            state: match running {
                Some(view) => view.state,
                // It runs once the change is applied.
                None if settings.ingest_key_bits.is_some() => FeedPhase::Waiting,
                None => FeedPhase::Off,
            },
        }
    }

    fn warnings(&self, feed: &StoredFeed) -> Vec<String> {
        let mut warnings = Vec::new();
        if let Some(secret) = self.lost_secret_of(feed) {
            warnings.push(format!("The stored {secret} cannot be decrypted: set it again."));
        }
        if feed.has_factory_password {
            let warning =
                "The password looks like a factory default. Set another one in the camera, then here.";
            warnings.push(warning.to_owned());
        }
        warnings
    }

    /// Returns the name of a feed's secret whose last decryption failed.
    fn lost_secret_of(&self, feed: &StoredFeed) -> Option<&'static str> {
        let is_lost =
            |secret: &Option<SealedSecret>| secret.as_ref().is_some_and(|secret| self.store.is_lost(secret));
        if is_lost(&feed.password) {
            Some("password")
        } else if is_lost(&feed.ingest.key) {
            Some("stream key")
        } else if is_lost(&feed.ingest.passphrase) {
            Some("passphrase")
        } else {
            is_lost(&feed.address_secrets).then_some("address")
        }
    }

    /// Returns the engine's specification of a feed. A feed whose password cannot be decrypted is blocked with that cause.
    ///
    /// # Errors
    /// If its address cannot be read.
    pub fn feed_spec(&self, feed: &StoredFeed) -> Result<FeedSpec, ServiceError> {
        if feed.settings.ingest_key_bits.is_some() {
            let name = feed.settings.name.clone();
            let (history, measured) = (history(feed.history), measured(feed));
            return Ok(FeedSpec { name, source: SourceSpec::Publisher, history, measured });
        }
        let credentials = open_account(&self.store, feed);
        let secrets = AddressSecrets::open(&self.store, feed.address_secrets.as_ref());
        let secret_lost = credentials.is_err() || secrets.is_err();
        let spec = spec(&feed.settings, credentials.unwrap_or_default(), secrets.ok().as_ref())?;
        let source = SourceSpec::Rtsp(RtspSpec { secret_lost, ..spec });
        let name = feed.settings.name.clone();
        Ok(FeedSpec { name, source, history: history(feed.history), measured: measured(feed) })
    }

    /// Returns the specification of a feed for a single dial of a survey or a still.
    ///
    /// # Errors
    /// [`ServiceError::SecretLost`] if its password cannot be decrypted.
    pub fn dialable_feed_spec(&self, feed: &StoredFeed) -> Result<FeedSpec, ServiceError> {
        let spec = self.feed_spec(feed)?;
        if spec.rtsp().is_some_and(|rtsp| rtsp.secret_lost) {
            return Err(ServiceError::SecretLost {
                kind: RecordKind::Feed,
                name: feed.settings.name.clone(),
                secret: self.lost_secret_of(feed).unwrap_or("password"),
            });
        }
        Ok(spec)
    }

    /// Returns the specification of the sub stream, with the account and transport of the main stream.
    ///
    /// # Errors
    /// As [`Records::dialable_feed_spec`].
    pub fn sub_spec(&self, feed: &StoredFeed) -> Result<Option<FeedSpec>, ServiceError> {
        let secrets = AddressSecrets::open(&self.store, feed.address_secrets.as_ref()).ok();
        let url = sub_url(&feed.settings, secrets.as_ref())?;
        url.map(|url| Ok(at_address(self.dialable_feed_spec(feed)?, url))).transpose()
    }
}

impl Transaction<'_> {
    /// Adds a feed.
    ///
    /// # Errors
    /// [`ServiceError::Invalid`] naming the field, a name that is taken, or if the records cannot be written.
    pub fn add_feed(&self, new: NewFeed) -> Result<Feed, ServiceError> {
        let values = feed_values(new)?;
        if let Some(key) = &values.ingest_key {
            self.check_ingest_key_is_free(key, &values.settings.name)?;
        }
        self.store.add_feed(&values, time::now_s())?;
        if values.settings.ingest_key_bits.is_some() {
            self.add_action(EngineAction::UpdateFeed(values.settings.name.clone()));
        }
        self.feed(&values.settings.name)
    }

    /// Changes a feed; a running one reconnects if its address or password has changed.
    ///
    /// # Errors
    /// As [`Transaction::add_feed`], and [`ServiceError::Running`] for a rename of a running feed.
    pub fn edit_feed(&self, name: &str, change: FeedChange) -> Result<Feed, ServiceError> {
        let stored = self.store.feed(name).map_err(|error| self.explain(error))?;
        let before = stored.settings.clone();
        let mut after = before.clone();
        let known = AddressSecrets::open(&self.store, stored.address_secrets.as_ref());
        // Secrets that cannot be decrypted are replaced with the address.
        let is_lost = known.is_err();
        let known = known.unwrap_or_default();
        let mut secrets = known.clone();
        if let Some(new_name) = &change.name {
            after.name = check_name(new_name).map_err(|error| ServiceError::name(&error))?;
            if after.name != before.name && self.is_feed_in_use(&before) {
                return Err(ServiceError::Running { kind: RecordKind::Feed, name: before.name });
            }
        }
        if before.ingest_key_bits.is_some() {
            return self.edit_published_feed(before, after, change);
        }
        if change.passphrase.is_some() || change.key_length.is_some() {
            return Err(not_published(if change.passphrase.is_some() { "passphrase" } else { "key_length" }));
        }
        let mut in_url = None;
        if let Some(url) = &change.url {
            let (url, credentials) = read_url("url", url)?;
            after.url = take_secrets("url", &url, &mut secrets, &known)?;
            in_url = credentials;
        }
        if let Some(sub_url) = &change.sub_url {
            after.sub_url = if sub_url.expose().trim().is_empty() {
                secrets.remove("sub_url");
                None
            } else {
                let (url, _) = read_url("sub_url", sub_url)?;
                Some(take_secrets("sub_url", &url, &mut secrets, &known)?)
            };
        }
        if let Some(transport) = change.transport {
            after.transport = transport.as_str().to_owned();
        }
        if let Some(pin) = &change.pin {
            after.pin = read_pin(pin)?;
        }
        if let Some(site) = &change.site {
            after.site = read_site(site);
        }
        if let Some(device) = &change.device {
            after.device = read_device(device)?;
        }
        let mut password = SecretChange::Keep;
        match (change.user, change.password, in_url) {
            (None, None, None) => {}
            (Some(user), _, _) if user.trim().is_empty() => after.user = None,
            // A changed name alone keeps the password.
            (Some(user), None, None) if before.user.is_some() => after.user = Some(user),
            (user, new, in_url) => {
                let user = user.or_else(|| before.user.clone().filter(|_| in_url.is_none()));
                let account = account_of(user, new, in_url)?;
                if let Some((user, new)) = account {
                    after.user = Some(user);
                    password = SecretChange::Set(new);
                }
            }
        }
        let replaces_lost = is_lost && change.url.is_some();
        let address_secrets = match secrets.change_from(&known) {
            SecretChange::Keep if replaces_lost => SecretChange::Remove,
            address_secrets => address_secrets,
        };
        let edited = self.store.edit_feed(name, &after, &password, &address_secrets);
        edited.map_err(|error| self.explain(error))?;
        self.mark_all_relays();
        self.add_action(EngineAction::UpdateFeed(after.name.clone()));
        self.feed(&after.name)
    }

    /// Removes an unused feed.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], in use, or if the records cannot be written.
    pub fn remove_feed(&self, name: &str) -> Result<(), ServiceError> {
        let stored = self.store.feed(name).map_err(|error| self.explain(error))?.settings;
        self.store.remove_feed(name).map_err(|error| self.explain(error))?;
        if stored.ingest_key_bits.is_some() {
            self.add_action(EngineAction::EndFeed(stored.name));
        }
        Ok(())
    }

    /// Returns true if a feed cannot be renamed: it runs. A feed that encoders publish to runs always; it is in use while a
    /// relay of it runs.
    fn is_feed_in_use(&self, feed: &FeedSettings) -> bool {
        if feed.ingest_key_bits.is_none() {
            return self.engine.feed(&feed.name).is_some();
        }
        let relays = self.stored_relays();
        relays.iter().any(|relay| relay.feed == feed.name && self.engine.relay(&relay.name).is_some())
    }
}

/// Decrypts the account of a feed.
fn open_account(store: &Store, feed: &StoredFeed) -> Result<Option<Credentials>, SealError> {
    let Some(user) = feed.settings.user.clone() else { return Ok(None) };
    let password = match &feed.password {
        Some(password) => store.unseal(password)?,
        None => SecretString::default(),
    };
    Ok(Some(Credentials { user, password }))
}

/// Parses a stored address, with its secrets unless they are lost.
fn stored_url(
    field: &'static str,
    text: &str,
    secrets: Option<&AddressSecrets>,
) -> Result<CameraUrl, ServiceError> {
    let full = match secrets {
        Some(secrets) => secrets.fill(field, text).map_err(|error| unknown_placeholder(field, error))?,
        None => text.into(),
    };
    let parsed = CameraUrl::parse(full.expose_secret());
    parsed.map(|(url, _)| url).map_err(|error| ServiceError::camera_url(field, &error))
}

/// Masks the secrets of an address that is to be stored.
fn take_secrets(
    field: &'static str,
    url: &CameraUrl,
    secrets: &mut AddressSecrets,
    before: &AddressSecrets,
) -> Result<String, ServiceError> {
    secrets.take(field, &url.request_url(), before).map_err(|error| unknown_placeholder(field, error))
}

/// Creates the error for an address with an unknown secret.
pub(crate) fn unknown_placeholder(field: &'static str, error: UnknownPlaceholder) -> ServiceError {
    ServiceError::Invalid {
        field,
        detail: error.to_string(),
        hint: "Write the address with its password or token in place of {secret}.",
    }
}

fn spec(
    settings: &FeedSettings,
    credentials: Option<Credentials>,
    secrets: Option<&AddressSecrets>,
) -> Result<RtspSpec, ServiceError> {
    let url = stored_url("url", &settings.url, secrets)?;
    let transport = match Transport::from_name(&settings.transport) {
        Transport::Auto => TransportChoice::Auto,
        Transport::Tcp => TransportChoice::Tcp,
        Transport::Udp => TransportChoice::Udp,
    };
    Ok(RtspSpec { url, credentials, secret_lost: false, transport, pin: settings.pin })
}

fn sub_url(
    settings: &FeedSettings,
    secrets: Option<&AddressSecrets>,
) -> Result<Option<CameraUrl>, ServiceError> {
    settings.sub_url.as_deref().map(|url| stored_url("sub_url", url, secrets)).transpose()
}

/// Returns the specifications of both streams of a feed that is not stored, checked like those of a stored one.
///
/// # Errors
/// [`ServiceError::Invalid`] naming the field.
pub fn unstored_specs(new: NewFeed) -> Result<(FeedSpec, Option<FeedSpec>), ServiceError> {
    let (FeedValues { settings, password, .. }, secrets) = feed_values_with_secrets(new)?;
    let user = settings.user.clone();
    let credentials = user.map(|user| Credentials { user, password: password.unwrap_or_default() });
    let source = SourceSpec::Rtsp(spec(&settings, credentials, Some(&secrets))?);
    let main = FeedSpec {
        name: settings.name.clone(),
        source,
        history: yonder_core::History::default(),
        measured: None,
    };
    let sub = sub_url(&settings, Some(&secrets))?.map(|url| at_address(main.clone(), url));
    Ok((main, sub))
}

/// Returns another stream of the same camera.
fn at_address(main: FeedSpec, url: CameraUrl) -> FeedSpec {
    let source = match main.source {
        SourceSpec::Rtsp(rtsp) => SourceSpec::Rtsp(RtspSpec { url, ..rtsp }),
        SourceSpec::Publisher => SourceSpec::Publisher,
    };
    FeedSpec { source, measured: None, ..main }
}

/// Returns the last measurement of a feed.
pub fn measured(feed: &StoredFeed) -> Option<FeedFacts> {
    let measured = feed.measured.clone()?;
    Some(FeedFacts { name: feed.settings.name.clone(), ..measured })
}

/// Converts the history to the core's type.
pub(crate) fn history(stored: yonder_store::History) -> yonder_core::History {
    yonder_core::History { credentials: stored.credentials, address: stored.address }
}

pub(crate) fn feed_values(new: NewFeed) -> Result<FeedValues, ServiceError> {
    feed_values_with_secrets(new).map(|(values, _)| values)
}

fn feed_values_with_secrets(new: NewFeed) -> Result<(FeedValues, AddressSecrets), ServiceError> {
    let name = check_name(&new.name).map_err(|error| ServiceError::name(&error))?;
    if new.ingest {
        return published_values(name, &new).map(|values| (values, AddressSecrets::default()));
    }
    let of_encoders = [
        ("key", new.key.is_some()),
        ("passphrase", new.passphrase.is_some()),
        ("key_length", new.key_length.is_some()),
    ];
    if let Some((field, _)) = of_encoders.into_iter().find(|(_, is_given)| *is_given) {
        return Err(not_published(field));
    }
    let (url, in_url) = read_url("url", &new.url)?;
    let sub_url = new.sub_url.as_ref().map(|url| read_url("sub_url", url)).transpose()?;
    let site = new.site.as_deref().and_then(read_site);
    let device = new.device.as_deref().map(read_device).transpose()?.flatten();
    let (user, password) = account_of(new.user, new.password, in_url)?.unzip();
    let (mut secrets, none) = (AddressSecrets::default(), AddressSecrets::default());
    let settings = FeedSettings {
        name,
        url: take_secrets("url", &url, &mut secrets, &none)?,
        sub_url: sub_url.map(|(url, _)| take_secrets("sub_url", &url, &mut secrets, &none)).transpose()?,
        transport: new.transport.as_str().to_owned(),
        user,
        pin: new.pin.as_deref().map(read_pin).transpose()?.flatten(),
        site,
        device,
        ingest_key_bits: None,
    };
    let values = FeedValues {
        settings,
        password,
        address_secrets: secrets.to_secret(),
        ingest_key: None,
        ingest_passphrase: None,
    };
    Ok((values, secrets))
}

fn read_url(field: &'static str, text: &Secret) -> Result<(CameraUrl, Option<Credentials>), ServiceError> {
    CameraUrl::parse(text.expose()).map_err(|error| ServiceError::camera_url(field, &error))
}

/// Checks the address of a device service: a host, a host with a port, or a URL without credentials; `None` for an empty one.
///
/// # Errors
/// [`ServiceError::Invalid`] naming the field `device`.
pub fn read_device(text: &str) -> Result<Option<String>, ServiceError> {
    let text = text.trim();
    let is_url = |url: url::Url| {
        matches!(url.scheme(), "http" | "https")
            && url.has_host()
            && url.username().is_empty()
            && url.password().is_none()
    };
    let is_valid = if text.contains("://") {
        url::Url::parse(text).is_ok_and(is_url)
    } else {
        text.is_empty() || Authority::parse(text).is_ok()
    };
    if !is_valid || text.len() > MAX_DEVICE {
        return Err(ServiceError::Invalid {
            field: "device",
            detail: "this is no address of a device service".to_owned(),
            hint: "Give the host of the camera's web service, with its port unless it is 80, like 192.0.2.7:8080, without user name and password.",
        });
    }
    Ok(Some(text.to_owned()).filter(|text| !text.is_empty()))
}

/// Parses a fingerprint: 64 hexadecimal digits, with optional colons or blanks.
fn read_pin(text: &str) -> Result<Option<Fingerprint>, ServiceError> {
    let digits: Vec<char> = text.chars().filter(|c| !matches!(c, ':' | ' ' | '-')).collect();
    if digits.is_empty() {
        return Ok(None);
    }
    let bytes: Option<Vec<u8>> = digits.chunks(2).map(read_byte).collect();
    let fingerprint = bytes.and_then(|bytes| Fingerprint::try_from(bytes).ok());
    fingerprint.map(Some).ok_or_else(|| ServiceError::Invalid {
        field: "pin",
        detail: "this is no SHA-256 fingerprint".to_owned(),
        hint: "Give 64 hexadecimal digits, as the message about the untrusted certificate shows them.",
    })
}

/// Parses two hexadecimal digits; signs are refused.
fn read_byte(digits: &[char]) -> Option<u8> {
    let [high, low] = digits else { return None };
    u8::try_from(high.to_digit(16)? << 4 | low.to_digit(16)?).ok()
}

/// Returns the account, given separately or in the address.
fn account_of(
    user: Option<String>,
    password: Option<Secret>,
    in_url: Option<Credentials>,
) -> Result<Option<(String, SecretString)>, ServiceError> {
    match (user.filter(|user| !user.is_empty()), password, in_url) {
        (Some(user), password, _) => {
            let password = password.map_or_else(|| "".into(), Secret::into_inner);
            Ok(Some((user, password)))
        }
        (None, Some(password), Some(credentials)) => Ok(Some((credentials.user, password.into_inner()))),
        (None, None, Some(credentials)) => Ok(Some((credentials.user, credentials.password))),
        (None, Some(_), None) => Err(ServiceError::Invalid {
            field: "user",
            detail: "a password is given without a user name".to_owned(),
            hint: "Give the user name as well.",
        }),
        (None, None, None) => Ok(None),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::with_colons(&["A1"; 32].join(":"))]
    #[case::with_blanks(&["a1"; 32].join(" "))]
    #[case::bare(&"a1".repeat(32))]
    fn fingerprints_are_read_as_they_are_copied(#[case] text: &str) {
        assert_eq!(read_pin(text).unwrap(), Some([0xa1; 32]));
    }

    #[rstest]
    #[case::too_short("a1:a1")]
    #[case::odd(&"a".repeat(63))]
    #[case::too_long(&"a1".repeat(33))]
    #[case::no_digits(&"zz".repeat(32))]
    #[case::signed(&"+1".repeat(32))]
    fn invalid_fingerprint_is_refused(#[case] text: &str) {
        assert!(read_pin(text).is_err());
    }

    #[test]
    fn an_empty_fingerprint_is_none() {
        assert_eq!(read_pin(" ").unwrap(), None);
    }
}
