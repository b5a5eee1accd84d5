//! Contacts of notifications.

use secrecy::{ExposeSecret as _, SecretString};
use url::Url;
use yonder_api::{Channel, ContactChange, NewContact};
use yonder_core::check_name;
use yonder_store::{
    Contact as StoredContact, ContactSettings, Kind, NewContact as ContactValues, SecretChange,
    shortened_web_address,
};

use super::{Records, Transaction};
use crate::channel::read_mailboxes;
use crate::error::ServiceError;

/// Hours from one sign of life to the next, at most.
const MAX_SIGN_OF_LIFE_H: u32 = 7 * 24;

impl Transaction<'_> {
    /// Adds a contact. Returns its name, and the secret that was made for a web contact without one.
    ///
    /// # Errors
    /// [`ServiceError::Invalid`] naming the field, a name that is taken, or when the records cannot be written.
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
        let mut kept = self.store.contact(name).map_err(|error| self.explain(error))?;
        if let Some(new_name) = &change.name {
            kept.name = check_name(new_name).map_err(|error| ServiceError::name(&error))?;
        }
        let mut address = SecretChange::Keep;
        if let Some(channel) = &change.channel {
            let (channel, new_address) = read_new_channel(channel, Some(&read_channel(&kept)?))?;
            address = match (&channel, new_address) {
                (_, Some(new)) if self.is_address_of(&kept, &new) => SecretChange::Keep,
                (_, Some(new)) => SecretChange::Set(new),
                // The shortened form stands for the stored address.
                (Channel::Webhook { url }, None) if is_shortened(url) => SecretChange::Keep,
                (Channel::Webhook { .. } | Channel::Email { .. }, None) => SecretChange::Remove,
            };
            kept.settings = written(&channel)?;
        }
        if let Some(hours) = change.sign_of_life_h {
            kept.sign_of_life_h = read_sign_of_life(Some(hours))?;
        }
        let secret = change.secret.map_or(SecretChange::Keep, |new| SecretChange::Set(new.into_inner()));
        let new = ContactSettings {
            name: &kept.name,
            settings: &kept.settings,
            sign_of_life_h: kept.sign_of_life_h,
        };
        self.store.edit_contact(name, &new, &secret, &address)?;
        Ok(kept.name)
    }

    /// Removes a contact.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or when the records cannot be written.
    pub fn remove_contact(&self, name: &str) -> Result<(), ServiceError> {
        self.store.remove_contact(name).map_err(|error| self.explain(error))
    }
}

impl Records {
    /// Opens the secret of a contact.
    ///
    /// # Errors
    /// [`ServiceError::SecretLost`] when it cannot be opened.
    pub(crate) fn open_contact_secret(
        &self,
        kept: &StoredContact,
    ) -> Result<Option<SecretString>, ServiceError> {
        let opened = kept.secret.as_ref().map(|secret| self.store.unseal(secret)).transpose();
        let name = || kept.name.clone();
        opened.map_err(|_| ServiceError::SecretLost { kind: Kind::Contact, name: name(), secret: "secret" })
    }

    /// Returns where and how a contact is notified, with the whole address.
    ///
    /// # Errors
    /// [`ServiceError::SecretLost`] when the address cannot be opened.
    pub(crate) fn full_channel(&self, kept: &StoredContact) -> Result<Channel, ServiceError> {
        let channel = read_channel(kept)?;
        let Some(address) = &kept.address else { return Ok(channel) };
        let lost =
            |_| ServiceError::SecretLost { kind: Kind::Contact, name: kept.name.clone(), secret: "address" };
        let address = self.store.unseal(address).map_err(lost)?;
        Ok(match channel {
            Channel::Webhook { .. } => Channel::Webhook { url: address.expose_secret().to_owned() },
            channel @ Channel::Email { .. } => channel,
        })
    }

    fn is_address_of(&self, kept: &StoredContact, address: &SecretString) -> bool {
        let known = kept.address.as_ref().and_then(|known| self.store.unseal(known).ok());
        known.is_some_and(|known| known.expose_secret() == address.expose_secret())
    }
}

/// Reads the stored settings of a contact.
pub(crate) fn read_channel(kept: &StoredContact) -> Result<Channel, ServiceError> {
    serde_json::from_str(&kept.settings)
        .map_err(|_| ServiceError::Internal("a contact's settings cannot be read"))
}

fn written(channel: &Channel) -> Result<String, ServiceError> {
    serde_json::to_string(channel)
        .map_err(|_| ServiceError::Internal("a contact's settings cannot be written"))
}

/// Mark in a web address that is shortened.
const SHORTENED: &str = "/…";

/// True for a web address as it is shown.
fn is_shortened(url: &str) -> bool {
    url.contains(SHORTENED)
}

/// Checks where and how a contact is to be notified. Returns it as it is shown, and the whole address where that is shortened;
/// `None` too for the form that is shown of `before`, which keeps the stored address.
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

/// Reads the interval of the signs of life; 0 sends none.
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
