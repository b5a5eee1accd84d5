//! Feeds: checked before they are kept, and brought to the engine when they change.

use secrecy::ExposeSecret as _;
use yonder_api::{Feed, FeedChange, NewFeed, Secret, Transport};
use yonder_core::{check_name, is_factory_like};
use yonder_engine::{FeedSpec, Fingerprint, TransportChoice};
use yonder_rtsp::{CameraUrl, Credentials};
use yonder_store::{Feed as StoredFeed, Kind, NewFeed as FeedValues};

use super::effects::Effect;
use super::{Service, lock};
use crate::error::ServiceError;
use crate::time;

impl Service {
    /// All feeds by name.
    ///
    /// # Errors
    /// When the records cannot be read.
    pub fn feeds(&self) -> Result<Vec<Feed>, ServiceError> {
        Ok(self.store.feeds()?.iter().map(|feed| self.feed_view(feed)).collect())
    }

    /// One feed.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or when the records cannot be read.
    pub fn feed(&self, name: &str) -> Result<Feed, ServiceError> {
        let feed = self.store.feed(name).map_err(|error| self.explain(error))?;
        Ok(self.feed_view(&feed))
    }

    /// Adds a feed.
    ///
    /// # Errors
    /// [`ServiceError::Invalid`] naming the field, a name that is taken, or when the records cannot be written.
    pub fn add_feed(&self, new: NewFeed) -> Result<Feed, ServiceError> {
        let values = feed_values(new)?;
        let _changing = self.change();
        self.store.add_feed(&values, time::now_s())?;
        self.feed(&values.name)
    }

    /// A feed that is not kept, checked like one that is.
    pub(super) fn unkept_feed(&self, new: NewFeed) -> Result<StoredFeed, ServiceError> {
        Ok(StoredFeed {
            id: 0,
            values: feed_values(new)?,
            created_s: time::now_s(),
            history: yonder_store::History::default(),
        })
    }

    /// Changes a feed; one that runs is dialled anew when its address or password changed.
    ///
    /// # Errors
    /// As [`Service::add_feed`], and [`ServiceError::Running`] for a new name of a feed that runs.
    pub fn edit_feed(&self, name: &str, change: FeedChange) -> Result<Feed, ServiceError> {
        let _changing = self.change();
        let before = self.store.feed(name).map_err(|error| self.explain(error))?.values;
        let mut after = before.clone();
        if let Some(new_name) = &change.name {
            after.name = check_name(new_name).map_err(|error| ServiceError::name(&error))?;
            if after.name != before.name && self.engine.feed(&before.name).is_some() {
                return Err(ServiceError::Running { kind: Kind::Feed, name: before.name });
            }
        }
        let mut in_url = None;
        if let Some(url) = &change.url {
            let (url, credentials) = read_url("url", url)?;
            after.url = url.to_string();
            in_url = credentials;
        }
        if let Some(sub_url) = &change.sub_url {
            let given = !sub_url.expose().trim().is_empty();
            after.sub_url = if given { Some(read_url("sub_url", sub_url)?.0.to_string()) } else { None };
        }
        if let Some(transport) = change.transport {
            after.transport = transport.word().to_owned();
        }
        if let Some(pin) = &change.pin {
            after.pin = read_pin(pin)?;
        }
        if let Some(site) = &change.site {
            after.site = read_site(site);
        }
        match (change.user, change.password, in_url) {
            (None, None, None) => {}
            (Some(user), _, _) if user.trim().is_empty() => after.account = None,
            (user, password, in_url) => {
                let user = user.or_else(|| {
                    in_url.is_none().then(|| before.account.as_ref().map(|(user, _)| user.clone())).flatten()
                });
                after.account = account_of(user, password, in_url)?;
            }
        }
        self.store.edit_feed(name, &after).map_err(|error| self.explain(error))?;
        // What failed under the old values may work now.
        lock(&self.stills).clear();
        self.refresh_relays()?;
        self.effect(Effect::UpdateFeed(after.name.clone()))?;
        self.feed(&after.name)
    }

    /// Brings a feed that runs to its kept shape.
    pub(super) fn update_feed(&self, name: &str) -> Result<(), ServiceError> {
        self.engine.update_feed(feed_spec(&self.store.feed(name)?)?);
        Ok(())
    }

    /// Removes a feed that no relay uses.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], in use, or when the records cannot be written.
    pub fn remove_feed(&self, name: &str) -> Result<(), ServiceError> {
        let _changing = self.change();
        self.store.remove_feed(name).map_err(|error| self.explain(error))
    }

    fn feed_view(&self, feed: &StoredFeed) -> Feed {
        let values = &feed.values;
        Feed {
            name: values.name.clone(),
            url: values.url.clone(),
            sub_url: values.sub_url.clone(),
            transport: Transport::from_word(&values.transport),
            user: values.account.as_ref().map(|(user, _)| user.clone()),
            has_password: values.account.is_some(),
            pin: values.pin.as_ref().map(yonder_engine::fingerprint_text),
            site: values.site.clone(),
            warnings: warnings(values),
            state: self.engine.feed(&values.name).map(|view| view.state).unwrap_or_default(),
        }
    }
}

/// What the engine is told of a feed.
pub(super) fn feed_spec(feed: &StoredFeed) -> Result<FeedSpec, ServiceError> {
    let (url, _) =
        CameraUrl::parse(&feed.values.url).map_err(|error| ServiceError::camera_url("url", &error))?;
    let account = feed.values.account.clone();
    let credentials = account.map(|(user, password)| Credentials { user, password });
    let transport = match Transport::from_word(&feed.values.transport) {
        Transport::Auto => TransportChoice::Auto,
        Transport::Tcp => TransportChoice::Tcp,
        Transport::Udp => TransportChoice::Udp,
    };
    let history = history(feed.history);
    Ok(FeedSpec {
        name: feed.values.name.clone(),
        url,
        credentials,
        transport,
        pin: feed.values.pin,
        history,
    })
}

/// The history in the core's type.
pub(super) fn history(stored: yonder_store::History) -> yonder_core::History {
    yonder_core::History { credentials: stored.credentials, address: stored.address }
}

/// The same for the lighter stream: the account and the manners are the main stream's.
pub(super) fn sub_spec(feed: &StoredFeed) -> Result<Option<FeedSpec>, ServiceError> {
    let Some(sub_url) = &feed.values.sub_url else { return Ok(None) };
    let (url, _) = CameraUrl::parse(sub_url).map_err(|error| ServiceError::camera_url("sub_url", &error))?;
    Ok(Some(FeedSpec { url, ..feed_spec(feed)? }))
}

pub(super) fn feed_values(new: NewFeed) -> Result<FeedValues, ServiceError> {
    let name = check_name(&new.name).map_err(|error| ServiceError::name(&error))?;
    let (url, in_url) = read_url("url", &new.url)?;
    let sub_url = new.sub_url.as_ref().map(|url| read_url("sub_url", url)).transpose()?;
    let site = new.site.as_deref().and_then(read_site);
    Ok(FeedValues {
        name,
        url: url.to_string(),
        sub_url: sub_url.map(|(url, _)| url.to_string()),
        transport: new.transport.word().to_owned(),
        account: account_of(new.user, new.password, in_url)?,
        pin: new.pin.as_deref().map(read_pin).transpose()?.flatten(),
        site,
    })
}

fn read_url(field: &'static str, text: &Secret) -> Result<(CameraUrl, Option<Credentials>), ServiceError> {
    CameraUrl::parse(text.expose()).map_err(|error| ServiceError::camera_url(field, &error))
}

/// A site as people write it; nothing for an empty text.
pub(super) fn read_site(text: &str) -> Option<String> {
    let site = text.split_whitespace().collect::<Vec<_>>().join(" ");
    Some(site).filter(|site| !site.is_empty())
}

/// Reads a fingerprint as people copy it: 64 hexadecimal digits, with colons, blanks or nothing between them.
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

/// Two hexadecimal digits, and nothing else: signs would be read as part of a number.
fn read_byte(digits: &[char]) -> Option<u8> {
    let [high, low] = digits else { return None };
    u8::try_from(high.to_digit(16)? << 4 | low.to_digit(16)?).ok()
}

fn warnings(values: &FeedValues) -> Vec<String> {
    let factory = values
        .account
        .as_ref()
        .is_some_and(|(user, password)| is_factory_like(user, password.expose_secret()));
    let warning = "The password looks like one that devices are delivered with: whoever finds the camera can sign in. Set another one in the camera, then here.";
    if factory { vec![warning.to_owned()] } else { Vec::new() }
}

/// User name and password, given apart or in the address.
fn account_of(
    user: Option<String>,
    password: Option<Secret>,
    in_url: Option<Credentials>,
) -> Result<Option<(String, secrecy::SecretString)>, ServiceError> {
    match (user.filter(|user| !user.is_empty()), password, in_url) {
        (Some(user), password, _) => {
            let password = password.map_or_else(|| "".into(), Secret::into_inner);
            Ok(Some((user, password)))
        }
        (None, Some(password), Some(credentials)) => Ok(Some((credentials.user, password.into_inner()))),
        (None, None, Some(credentials)) => Ok(Some((credentials.user, credentials.password))),
        (None, Some(_), None) => Err(ServiceError::Invalid {
            field: "user",
            detail: "there is a password but no user name".to_owned(),
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
    fn what_is_no_fingerprint_is_refused(#[case] text: &str) {
        assert!(read_pin(text).is_err());
    }

    #[test]
    fn an_empty_fingerprint_is_none() {
        assert_eq!(read_pin(" ").unwrap(), None);
    }
}
