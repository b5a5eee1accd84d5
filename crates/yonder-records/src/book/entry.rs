//! Application of one record of a site book, by the same calls as other changes.

use secrecy::ExposeSecret as _;
use yonder_address::{StreamKey, read_pasted};
use yonder_api::{
    AlertChange, Channel, ContactChange, DestinationChange, FeedChange, IngestRekey, NewAlert, NewContact,
    NewDestination, NewFeed, NewPlatform, NewRelay, NewSignpost, NewUplink, Pattern, Rekey, RelayChange,
    Secret, SignpostChange, UplinkChange,
};
use yonder_store::{DesiredState, Feed as StoredFeed, SealedSecret};

use crate::alerts::DEFAULT_REPEAT_S;
use crate::destination_input::DEFAULT_RETURN_S;
use crate::error::ServiceError;
use crate::holding::DEFAULT_AFTER_S;
use crate::ingest::{check_no_camera_settings, not_published};
use crate::signposts::DEFAULT_MAX_VIEWERS;
use crate::uplinks::DEFAULT_HEADROOM;
use crate::windows::own_zone;
use crate::{EngineAction, Records, Transaction};

/// Names of changed secrets.
pub(super) type NewSecrets = Vec<&'static str>;

/// A missing field of a book means none, which a change expresses by an empty text.
fn or_none(text: Option<String>) -> Option<String> {
    Some(text.unwrap_or_default())
}

impl Transaction<'_> {
    pub(super) fn put_uplink(&self, new: NewUplink, is_there: bool) -> Result<NewSecrets, ServiceError> {
        if !is_there {
            return self.add_uplink(&new).map(|_| Vec::new());
        }
        let change = UplinkChange {
            name: None,
            site: or_none(new.site),
            rate: Some(new.rate),
            allowance: or_none(new.allowance),
            headroom_percent: Some(new.headroom_percent.unwrap_or(DEFAULT_HEADROOM)),
            backup: Some(new.backup),
            source: or_none(new.source),
            interface: or_none(new.interface),
        };
        self.edit_uplink(&new.name, &change).map(|_| Vec::new())
    }

    pub(super) fn put_signpost(&self, new: NewSignpost, is_there: bool) -> Result<NewSecrets, ServiceError> {
        // The alias of a book is complete.
        let new = NewSignpost { random: false, ..new };
        if !is_there {
            return self.add_signpost(&new).map(|_| Vec::new());
        }
        let change = SignpostChange {
            name: None,
            title: Some(new.title.unwrap_or_else(|| new.relay.clone())),
            relay: Some(new.relay),
            player: Some(new.player.unwrap_or(true)),
            to: Some(new.to),
            paused: Some(new.paused),
            unlisted: Some(new.unlisted),
            status_page: Some(new.status_page),
            max_viewers: Some(new.max_viewers.unwrap_or(DEFAULT_MAX_VIEWERS)),
            daily: or_none(new.daily),
        };
        self.edit_signpost(&new.name, &change).map(|_| Vec::new())
    }

    pub(super) fn put_platform(&self, new: &NewPlatform) -> Result<NewSecrets, ServiceError> {
        self.put_sheet(new).map(|()| Vec::new())
    }

    pub(super) fn put_pattern(&self, new: Pattern, is_there: bool) -> Result<NewSecrets, ServiceError> {
        let name = new.name.clone();
        let put = if is_there { self.edit_pattern(&name, new) } else { self.add_pattern(new) };
        put.map(|_| Vec::new())
    }

    pub(super) fn put_feed(&self, new: NewFeed, is_there: bool) -> Result<NewSecrets, ServiceError> {
        let given = new.password.is_some();
        if !is_there {
            let has_passphrase = new.passphrase.is_some();
            let secrets = [("password", given), ("key", new.ingest), ("passphrase", has_passphrase)];
            self.add_feed(new)?;
            return Ok(secrets.into_iter().filter(|(_, is_new)| *is_new).map(|(name, _)| name).collect());
        }
        let before = self.store.feed(&new.name)?;
        let is_published = before.settings.ingest_key_bits.is_some();
        if new.ingest && !is_published {
            return Err(not_published("ingest"));
        }
        if new.ingest {
            check_no_camera_settings(&new)?;
            return self.put_published_feed(new, &before);
        }
        let stored = before.password;
        let is_new =
            new.password.as_ref().is_some_and(|given| !self.is_same_secret(stored.as_ref(), given.expose()));
        let change = FeedChange {
            name: None,
            url: Some(new.url),
            sub_url: Some(new.sub_url.unwrap_or_else(|| String::new().into())),
            transport: Some(new.transport),
            password: new.user.as_ref().and(new.password),
            user: or_none(new.user),
            pin: or_none(new.pin),
            site: or_none(new.site),
            device: or_none(new.device),
            ..FeedChange::default()
        };
        self.edit_feed(&new.name, change)?;
        let mut secrets = Vec::new();
        secrets.extend(is_new.then_some("password"));
        let has_new_address = self.store.feed(&new.name)?.address_secrets != before.address_secrets;
        secrets.extend(has_new_address.then_some("address"));
        Ok(secrets)
    }

    /// Applies a feed that encoders publish to. A key or passphrase that is not in the book is kept.
    fn put_published_feed(&self, new: NewFeed, before: &StoredFeed) -> Result<NewSecrets, ServiceError> {
        let is_new = |given: &Option<Secret>, stored: &Option<SealedSecret>| {
            given.as_ref().is_some_and(|given| !self.is_same_secret(stored.as_ref(), given.expose()))
        };
        let has_new_key = is_new(&new.key, &before.ingest.key);
        let has_new_passphrase = is_new(&new.passphrase, &before.ingest.passphrase);
        let change = FeedChange {
            site: or_none(new.site),
            passphrase: new.passphrase.filter(|_| has_new_passphrase),
            key_length: new.key_length,
            ..FeedChange::default()
        };
        self.edit_feed(&new.name, change)?;
        if has_new_key {
            self.rekey_feed(&new.name, &IngestRekey { key: new.key, grace_s: 0 })?;
        }
        let mut secrets = Vec::new();
        secrets.extend(has_new_key.then_some("key"));
        secrets.extend(has_new_passphrase.then_some("passphrase"));
        Ok(secrets)
    }

    pub(super) fn put_destination(
        &self,
        new: NewDestination,
        is_there: bool,
    ) -> Result<NewSecrets, ServiceError> {
        let mut secrets = Vec::new();
        if !is_there {
            secrets.extend(new.key.as_ref().map(|_| "key"));
            secrets.extend(new.passphrase.as_ref().map(|_| "passphrase"));
            self.add_destination(new)?;
            return Ok(secrets);
        }
        let stored = self.store.destination(&new.name)?;
        let speaks_srt = new
            .server
            .as_ref()
            .is_some_and(|server| server.expose().trim_start().to_ascii_lowercase().starts_with("srt:"));
        let change = DestinationChange {
            name: None,
            server: new.server.clone(),
            backup_server: Some(new.backup_server.unwrap_or_else(|| String::new().into())),
            return_after_s: Some(new.return_after_s.unwrap_or(DEFAULT_RETURN_S)),
            platform: or_none(new.platform),
            watch_page: or_none(new.watch_page),
            // Settings of the secret are stored, unless the book has others.
            key_kind: new.key_kind,
            key_expires: new.key_expires.clone(),
            key_length: new.key_length,
            authority: or_none(new.authority),
            no_passphrase: !speaks_srt && stored.passphrase.is_some(),
            uplinks: Some(new.uplinks),
        };
        self.edit_destination(&new.name, change)?;
        let has_new_address = self.store.destination(&new.name)?.address_secrets != stored.address_secrets;
        let mut rekey = Rekey::default();
        let stored_key = stored.key.as_ref().map(|key| &key.secret);
        if let Some(key) = new.key.filter(|key| !self.is_same_key(stored_key, &stored.settings.server, key)) {
            rekey = Rekey { key: Some(key), key_kind: new.key_kind, key_expires: new.key_expires, ..rekey };
            secrets.push("key");
        }
        let trimmed = |secret: &Secret| secret.expose().trim_end_matches(['\r', '\n']).to_owned();
        let stored_passphrase = stored.passphrase.as_ref();
        let is_new_phrase = |new: &Secret| !self.is_same_secret(stored_passphrase, &trimmed(new));
        if let Some(phrase) = new.passphrase.filter(is_new_phrase) {
            rekey.passphrase = Some(phrase);
            secrets.push("passphrase");
        }
        if !secrets.is_empty() {
            self.rekey_destination(&new.name, &rekey)?;
        }
        secrets.extend(has_new_address.then_some("address"));
        Ok(secrets)
    }

    pub(super) fn put_relay(&self, new: NewRelay, is_there: bool) -> Result<NewSecrets, ServiceError> {
        if !is_there {
            return self.add_relay(&new).map(|_| Vec::new());
        }
        let change = RelayChange {
            name: None,
            feed: Some(new.feed),
            to: Some(new.to),
            hold_after_s: Some(new.hold_after_s.unwrap_or(DEFAULT_AFTER_S)),
            on_air: Some(new.on_air.unwrap_or_default()),
            zone: Some(new.zone.unwrap_or_else(own_zone)),
            quiet_minute: or_none(new.quiet_minute),
            adapt: Some(new.adapt.unwrap_or_default()),
            limits: Some(new.limits.unwrap_or_default()),
            // Pictures are not in a site book.
            holding_picture: None,
        };
        self.edit_relay(&new.name, change).map(|_| Vec::new())
    }

    /// Stops, holds or resumes a running relay. Returns true for one that is off and must be started after its preflight.
    pub(super) fn put_desired_state(&self, name: &str, wanted: DesiredState) -> Result<bool, ServiceError> {
        let relay = self.store.relay(name).map_err(|error| self.explain(error))?;
        if relay.wanted == wanted {
            return Ok(false);
        }
        if !relay.wanted.is_running() {
            return Ok(true);
        }
        self.store.set_desired_state(&relay.name, wanted)?;
        self.add_action(EngineAction::Apply(relay.name));
        Ok(false)
    }

    pub(super) fn put_contact(&self, new: NewContact, is_there: bool) -> Result<NewSecrets, ServiceError> {
        let given = new.secret.is_some();
        if is_there {
            let before = self.store.contact(&new.name)?;
            let secret =
                new.secret.filter(|given| !self.is_same_secret(before.secret.as_ref(), given.expose()));
            let is_new = secret.is_some();
            let change = ContactChange {
                name: None,
                channel: Some(new.channel),
                secret,
                sign_of_life_h: Some(new.sign_of_life_h.unwrap_or_default()),
            };
            self.edit_contact(&new.name, change)?;
            let mut secrets = Vec::new();
            secrets.extend(is_new.then_some("secret"));
            let has_new_address = self.store.contact(&new.name)?.address != before.address;
            secrets.extend(has_new_address.then_some("address"));
            return Ok(secrets);
        }
        if !given && matches!(new.channel, Channel::Webhook { .. }) {
            return Err(ServiceError::Invalid {
                field: "secret",
                detail: "there is no secret to sign its messages with".to_owned(),
                hint: "Give one: a secret that is made here would be shown to nobody.",
            });
        }
        self.add_contact(new)?;
        Ok(if given { vec!["secret"] } else { Vec::new() })
    }

    pub(super) fn put_alert(&self, new: NewAlert, is_there: bool) -> Result<NewSecrets, ServiceError> {
        if !is_there {
            return self.add_alert(&new).map(|_| Vec::new());
        }
        let change = AlertChange {
            name: None,
            when: Some(new.when),
            about: or_none(new.about),
            to: Some(new.to),
            repeat_s: Some(new.repeat_s.unwrap_or(DEFAULT_REPEAT_S)),
        };
        self.edit_alert(&new.name, change).map(|_| Vec::new())
    }
}

impl Records {
    /// Returns true if a stored secret equals the given one; false if it cannot be decrypted, so that it is set again.
    fn is_same_secret(&self, stored: Option<&SealedSecret>, given: &str) -> bool {
        let opened = stored.and_then(|stored| self.store.unseal(stored).ok());
        opened.is_some_and(|stored| stored.expose_secret() == given)
    }

    /// Returns true if a stored stream key equals the given one, as pasted.
    fn is_same_key(&self, stored: Option<&SealedSecret>, server: &str, given: &Secret) -> bool {
        let pasted = read_pasted(Some(server), Some(given.expose()));
        let key: Option<StreamKey> = pasted.ok().and_then(|pasted| pasted.key);
        key.is_some_and(|key| self.is_same_secret(stored, key.expose()))
    }
}
