//! Contacts of notifications.

use secrecy::{ExposeSecret as _, SecretString};
use url::Url;
use yonder_api::{Channel, ContactChange, NewContact};
use yonder_core::check_name;
use yonder_store::{
    Contact as StoredContact, ContactSettings, NewContact as ContactValues, RecordKind, SecretChange,
    shortened_web_address,
};

use super::{Records, Transaction};
use crate::error::ServiceError;
use crate::mailboxes::read_mailboxes;

/// Maximum interval of signs of life, in hours.
const MAX_SIGN_OF_LIFE_H: u32 = 7 * 24;

impl Transaction<'_> {
    /// Adds a contact. Returns its name, and the generated secret of a webhook without one.
    ///
    /// # Errors
    /// [`ServiceError::Invalid`] naming the field, a name that is taken, or if the records cannot be written.
    pub fn add_contact(&self, new: NewContact) -> Result<(String, Option<SecretString>), ServiceError> {
        let name = check_name(&new.name).map_err(|error| ServiceError::name(&error))?;
        let (channel, address) = read_new_channel(&new.channel, None)?;
        let given = new.secret.map(yonder_api::Secret::into_inner);
        let made = match (&given, &new.channel) {
            (None, Channel::Webhook { .. }) => Some(SecretString::from(crate::secrets::random_token())),
            _ => None,
        };
        let secret = given.or_else(|| made.clone());
        self.store.add_contact(&ContactValues {
            name: name.clone(),
            settings: written(&channel)?,
            secret,
            address,
            sign_of_life_h: read_sign_of_life(new.sign_of_life_h)?,
        })?;
        Ok((name, made))
    }

    /// Changes a contact, and returns its name.
    ///
    /// # Errors
    /// As [`Transaction::add_contact`], and [`ServiceError::NotFound`].
    pub fn edit_contact(&self, name: &str, change: ContactChange) -> Result<String, ServiceError> {
        let mut stored = self.store.contact(name).map_err(|error| self.explain(error))?;
        if let Some(new_name) = &change.name {
            stored.name = check_name(new_name).map_err(|error| ServiceError::name(&error))?;
        }
        let mut address = SecretChange::Keep;
        if let Some(channel) = &change.channel {
            let (channel, new_address) = read_new_channel(channel, Some(&read_channel(&stored)?))?;
            address = match (&channel, new_address) {
                (_, Some(new)) if self.is_address_of(&stored, &new) => SecretChange::Keep,
                (_, Some(new)) => SecretChange::Set(new),
                // The shortened form stands for the stored address.
                (Channel::Webhook { url }, None) if is_shortened(url) => SecretChange::Keep,
                (Channel::Webhook { .. } | Channel::Email { .. }, None) => SecretChange::Remove,
            };
            stored.settings = written(&channel)?;
        }
        if let Some(hours) = change.sign_of_life_h {
            stored.sign_of_life_h = read_sign_of_life(Some(hours))?;
        }
        let secret = change.secret.map_or(SecretChange::Keep, |new| SecretChange::Set(new.into_inner()));
        let new = ContactSettings {
            name: &stored.name,
            settings: &stored.settings,
            sign_of_life_h: stored.sign_of_life_h,
        };
        self.store.edit_contact(name, &new, &secret, &address)?;
        Ok(stored.name)
    }

    /// Removes a contact.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or if the records cannot be written.
    pub fn remove_contact(&self, name: &str) -> Result<(), ServiceError> {
        self.store.remove_contact(name).map_err(|error| self.explain(error))
    }
}

impl Records {
    /// Decrypts the secret of a contact.
    ///
    /// # Errors
    /// [`ServiceError::SecretLost`] if that fails.
    pub fn open_contact_secret(&self, stored: &StoredContact) -> Result<Option<SecretString>, ServiceError> {
        let opened = stored.secret.as_ref().map(|secret| self.store.unseal(secret)).transpose();
        let name = || stored.name.clone();
        opened.map_err(|_| ServiceError::SecretLost {
            kind: RecordKind::Contact,
            name: name(),
            secret: "secret",
        })
    }

    /// Returns the channel of a contact with its complete address.
    ///
    /// # Errors
    /// [`ServiceError::SecretLost`] if the address cannot be decrypted.
    pub fn full_channel(&self, stored: &StoredContact) -> Result<Channel, ServiceError> {
        let channel = read_channel(stored)?;
        let Some(address) = &stored.address else { return Ok(channel) };
        let lost = |_| ServiceError::SecretLost {
            kind: RecordKind::Contact,
            name: stored.name.clone(),
            secret: "address",
        };
        let address = self.store.unseal(address).map_err(lost)?;
        Ok(match channel {
            Channel::Webhook { .. } => Channel::Webhook { url: address.expose_secret().to_owned() },
            channel @ Channel::Email { .. } => channel,
        })
    }

    fn is_address_of(&self, stored: &StoredContact, address: &SecretString) -> bool {
        let known = stored.address.as_ref().and_then(|known| self.store.unseal(known).ok());
        known.is_some_and(|known| known.expose_secret() == address.expose_secret())
    }
}

/// Parses the stored settings of a contact.
///
/// # Errors
/// [`ServiceError::Internal`] for settings of another version.
pub fn read_channel(stored: &StoredContact) -> Result<Channel, ServiceError> {
    serde_json::from_str(&stored.settings)
        .map_err(|_| ServiceError::Internal("a contact's settings cannot be read"))
}

fn written(channel: &Channel) -> Result<String, ServiceError> {
    serde_json::to_string(channel)
        .map_err(|_| ServiceError::Internal("a contact's settings cannot be written"))
}

/// Marks a shortened web address.
const SHORTENED: &str = "/…";

/// Returns true for a shortened web address.
fn is_shortened(url: &str) -> bool {
    url.contains(SHORTENED)
}

/// Checks a channel. Returns it in its displayed form, and the complete address if that is shortened; `None` also for
/// the displayed form of `before`, which keeps the stored address.
fn read_new_channel(
    channel: &Channel,
    before: Option<&Channel>,
) -> Result<(Channel, Option<SecretString>), ServiceError> {
    if before == Some(channel) {
        return Ok((channel.clone(), None));
    }
    check_channel(channel)?;
    let Channel::Webhook { url } = channel else { return Ok((channel.clone(), None)) };
    if is_shortened(url) {
        return Err(ServiceError::Invalid {
            field: "url",
            detail: "the address is shortened".to_owned(),
            hint: "Write the whole address: it is stored sealed, and shown without its end.",
        });
    }
    let shown = shortened_web_address(url);
    let address = (shown != *url).then(|| url.as_str().into());
    Ok((Channel::Webhook { url: shown }, address))
}

fn check_channel(channel: &Channel) -> Result<(), ServiceError> {
    match channel {
        Channel::Webhook { url } => {
            let is_usable = Url::parse(url).is_ok_and(|read| {
                matches!(read.scheme(), "http" | "https") && read.has_host() && read.username().is_empty()
            });
            if !is_usable || url.contains(char::is_whitespace) {
                return Err(ServiceError::Invalid {
                    field: "url",
                    detail: "this is not an address that a message can be posted to".to_owned(),
                    hint: "Write an address like https://hooks.example.net/relay, without a password in it.",
                });
            }
            Ok(())
        }
        Channel::Email { server, security, from, to, .. } => read_mailboxes(server, *security, from, to)
            .map_err(|(field, detail)| ServiceError::Invalid {
                field,
                detail,
                hint: "Write a server like mail.example.net:587 and addresses like desk@example.net.",
            }),
    }
}

/// Parses the interval of signs of life; 0 for none.
fn read_sign_of_life(hours: Option<u32>) -> Result<Option<u32>, ServiceError> {
    let hours = hours.filter(|hours| *hours > 0);
    if hours.is_some_and(|hours| hours > MAX_SIGN_OF_LIFE_H) {
        return Err(ServiceError::Invalid {
            field: "sign_of_life_h",
            detail: "the interval of signs of life is longer than a week".to_owned(),
            hint: "24 hours are usual; 0 sends none.",
        });
    }
    Ok(hours)
}
