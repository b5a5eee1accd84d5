//! Destinations: server and key, corrected and checked before they are stored.

use std::sync::Arc;
use std::time::Duration;

use secrecy::ExposeSecret as _;
use yonder_address::{
    AddressError, KeyLength, Passphrase, PasteError, Pasted, ServerAddress, StreamKey, read_server,
};
use yonder_api::{
    Destination, DestinationChange, KeyFacts, KeyKind, NewDestination, PassphraseFacts, Rekey, RevealedKey,
    Secret, Stored,
};
use yonder_core::{RefusalRule, check_name};
use yonder_engine::{Adaptation, PrivateAuthority, PushSpec};
use yonder_store::{
    AddressSecrets, Destination as StoredDestination, DestinationSettings, KeyKind as StoredKind,
    NewDestination as DestinationValues, NewSecrets, RecordKind, SealedSecret, SecretChange,
};

use super::destination_input::{
    DEFAULT_RETURN_S, invalid_authority, parse_authority, parse_backup_server, parse_expiry,
    parse_failback_delay, parse_key_length, parse_passphrase, parse_server_and_key, parse_watch_page,
    stored_kind,
};
use super::feeds::{history, unknown_placeholder};
use super::{Records, Transaction};
use crate::error::ServiceError;
use crate::time;

impl Records {
    /// Returns all destinations by name.
    ///
    /// # Errors
    /// If the records cannot be read.
    pub fn destinations(&self) -> Result<Vec<Destination>, ServiceError> {
        self.store.destinations()?.iter().map(|destination| self.destination_view(destination)).collect()
    }

    /// Returns a destination.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or if the records cannot be read.
    pub fn destination(&self, name: &str) -> Result<Destination, ServiceError> {
        let destination = self.store.destination(name).map_err(|error| self.explain(error))?;
        self.destination_view(&destination)
    }

    /// Returns the settings with all changes except those of names and addresses.
    fn changed_settings(
        &self,
        before: DestinationSettings,
        change: &DestinationChange,
    ) -> Result<DestinationSettings, ServiceError> {
        Ok(DestinationSettings {
            return_after_s: match change.return_after_s {
                Some(seconds) => parse_failback_delay(Some(seconds))?,
                None => before.return_after_s,
            },
            platform: match &change.platform {
                Some(platform) => self.known_platform(Some(platform))?,
                None => before.platform,
            },
            watch_page: match &change.watch_page {
                Some(page) => parse_watch_page(Some(page))?,
                None => before.watch_page,
            },
            authority: match &change.authority {
                Some(pem) => parse_authority(Some(pem))?,
                None => before.authority,
            },
            key_kind: change.key_kind.map_or(before.key_kind, stored_kind),
            key_expires_s: match &change.key_expires {
                Some(text) => parse_expiry(Some(text))?,
                None => before.key_expires_s,
            },
            key_bits: match change.key_length {
                Some(bits) => parse_key_length(Some(bits))?,
                None => before.key_bits,
            },
            uplinks: match &change.uplinks {
                Some(uplinks) => self.read_uplinks(uplinks)?,
                None => before.uplinks,
            },
            ..before
        })
    }

    /// Returns the server of a changed destination, and a key from its address.
    fn changed_server(
        &self,
        change: &DestinationChange,
        stored: &StoredDestination,
        repairs: &mut Vec<String>,
    ) -> Result<(ServerAddress, Option<StreamKey>), ServiceError> {
        let Some(server) = &change.server else {
            return Ok((stored_server(&stored.settings.server)?, None));
        };
        // A key at the end of the address that is stored already is dropped; a stream ID becomes the key if there is
        // none yet.
        let known = self.stored_key(stored).map(|key| Secret::from(key.expose().to_owned()));
        let (pasted, notes) = parse_server_and_key(Some(server), known.as_ref())?;
        if pasted.passphrase.is_some() {
            return Err(ServiceError::server("server", &AddressError::PassphraseInAddress));
        }
        if pasted.key_length.is_some_and(|length| Some(length.bits()) != change.key_length) {
            return Err(ServiceError::Invalid {
                field: "server",
                detail: "the address changes the length of the encryption key (pbkeylen)".to_owned(),
                hint: "Give the length as a setting of its own, and leave pbkeylen out.",
            });
        }
        repairs.extend(notes);
        Ok((pasted.server, pasted.key.filter(|_| stored.key.is_none())))
    }

    /// Returns key and passphrase in clear. The caller must audit it.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or if the records cannot be read.
    pub fn reveal_key(&self, name: &str) -> Result<RevealedKey, ServiceError> {
        let destination = self.store.destination(name).map_err(|error| self.explain(error))?;
        let name = &destination.settings.name;
        let open = |secret: &SealedSecret, what| {
            let lost = |_| ServiceError::SecretLost {
                kind: RecordKind::Destination,
                name: name.clone(),
                secret: what,
            };
            self.store.unseal(secret).map(Secret::from).map_err(lost)
        };
        let revealed = RevealedKey {
            key: destination.key.as_ref().map(|key| open(&key.secret, "stream key")).transpose()?,
            passphrase: destination
                .passphrase
                .as_ref()
                .map(|phrase| open(phrase, "passphrase"))
                .transpose()?,
        };
        Ok(revealed)
    }

    /// Returns another destination with the same key at the same server. None can be added; records of an older version
    /// may contain one.
    ///
    /// # Errors
    /// If the records cannot be read.
    pub fn destination_with_same_key(
        &self,
        destination: &StoredDestination,
    ) -> Result<Option<String>, ServiceError> {
        let server = stored_server(&destination.settings.server)?;
        for (other, theirs) in self.store.destinations_with_same_key(destination)? {
            if stored_server(&theirs)?.is_same_ingest(&server) {
                return Ok(Some(other));
            }
        }
        Ok(None)
    }

    /// Returns name and server of each other destination with the key.
    fn others_with_key(&self, name: &str, key: &StreamKey) -> Result<Vec<(String, String)>, ServiceError> {
        let mut all = self.store.destinations_with_key(&key.expose().into())?;
        all.retain(|(other, _)| !other.eq_ignore_ascii_case(name));
        Ok(all)
    }

    /// Returns the engine's specification of a push. A push whose secrets cannot be decrypted is blocked with that cause.
    ///
    /// # Errors
    /// If the records of its server, authority, uplinks or platform cannot be read.
    pub fn push_spec(&self, destination: &StoredDestination) -> Result<PushSpec, ServiceError> {
        let settings = &destination.settings;
        let length = KeyLength::from_bits(settings.key_bits).unwrap_or_default();
        let authority = settings.authority.as_deref().map(PrivateAuthority::from_pem).transpose();
        let uplinks = settings.uplinks.iter().map(|name| self.uplink_spec(name)).collect::<Result<_, _>>()?;
        let key = destination.key.as_ref().map(|key| self.store.unseal(&key.secret)).transpose();
        let passphrase = destination.passphrase.as_ref().map(|secret| self.store.unseal(secret)).transpose();
        let secrets = AddressSecrets::open(&self.store, destination.address_secrets.as_ref());
        let secret_lost = key.is_err() || passphrase.is_err() || secrets.is_err();
        let full = |field, text: &str| full_server(field, text, secrets.as_ref().ok());
        Ok(PushSpec {
            destination: settings.name.clone(),
            server: full("server", &settings.server)?,
            backup: settings.backup_server.as_deref().map(|text| full("backup_server", text)).transpose()?,
            failback_delay: Duration::from_secs(u64::try_from(settings.return_after_s).unwrap_or_default()),
            key: key.unwrap_or_default().map(StreamKey::from_stored),
            encryption: passphrase.unwrap_or_default().map(|text| (Passphrase::from_stored(text), length)),
            secret_lost,
            authority: authority.map_err(invalid_authority)?,
            uplinks,
            refusals: self.refusal_rules(settings.platform.as_deref())?,
            history: history(destination.history),
            // That of a relay is added by its specification.
            adaptation: Adaptation::NONE,
        })
    }

    /// Returns the lines of a platform's rule sheet about refusals.
    fn refusal_rules(&self, platform: Option<&str>) -> Result<Arc<[RefusalRule]>, ServiceError> {
        let Some(platform) = platform else { return Ok(Arc::default()) };
        Ok(self.sheet(platform)?.map(|sheet| sheet.rules.refusals.into()).unwrap_or_default())
    }

    /// Decrypts the stream key of a destination; `None` if there is none, or that fails.
    fn stored_key(&self, destination: &StoredDestination) -> Option<StreamKey> {
        let key = destination.key.as_ref()?;
        self.store.unseal(&key.secret).ok().map(StreamKey::from_stored)
    }

    /// Returns true if a secret of a destination cannot be decrypted.
    pub fn has_lost_secret(&self, destination: &StoredDestination) -> bool {
        let key = destination.key.as_ref().map(|key| &key.secret);
        let others = destination.passphrase.iter().chain(&destination.address_secrets);
        key.into_iter().chain(others).any(|secret| self.store.is_lost(secret))
    }

    fn destination_view(&self, destination: &StoredDestination) -> Result<Destination, ServiceError> {
        let settings = &destination.settings;
        let server = stored_server(&settings.server)?;
        let age_s = time::now_s().saturating_sub(destination.key_set_s);
        Ok(Destination {
            name: settings.name.clone(),
            id: destination.identity.uid.clone(),
            revision: destination.identity.revision,
            server: settings.server.clone(),
            backup_server: settings.backup_server.clone(),
            return_after_s: u32::try_from(settings.return_after_s).unwrap_or(DEFAULT_RETURN_S),
            protocol: server.protocol().as_str().to_owned(),
            encrypted: is_encrypted(&server, destination),
            platform: settings.platform.clone(),
            watch_page: settings.watch_page.clone(),
            secret_lost: self.has_lost_secret(destination),
            key: destination.key.as_ref().map(|key| KeyFacts {
                ending: key.ending.clone(),
                length: key.length,
                set_at: time::text(time::from_s(destination.key_set_s)),
                age_days: u64::try_from(age_s / 86_400).unwrap_or_default(),
                rolls: u64::try_from(destination.key_rolls).unwrap_or_default(),
                kind: match settings.key_kind {
                    StoredKind::Reusable => KeyKind::Reusable,
                    StoredKind::OneBroadcast => KeyKind::OneBroadcast,
                },
                expires_at: settings.key_expires_s.map(|at| time::text(time::from_s(at))),
                used_at: destination.key_used_s.map(|at| time::text(time::from_s(at))),
            }),
            passphrase: destination.passphrase_set_s.map(|at| PassphraseFacts {
                set_at: time::text(time::from_s(at)),
                key_length: settings.key_bits,
            }),
            has_authority: settings.authority.is_some(),
            uplinks: settings.uplinks.clone(),
            relays: self
                .stored_relays()
                .iter()
                .filter(|relay| relay.destinations.contains(&settings.name))
                .map(|relay| relay.name.clone())
                .collect(),
        })
    }
}

impl Transaction<'_> {
    /// Adds a destination. Returns it with the corrections of the input.
    ///
    /// # Errors
    /// [`ServiceError::Invalid`] naming the field, a platform that is not known, a key that another destination has
    /// already, a name that is taken, or if the records cannot be written.
    pub fn add_destination(&self, new: NewDestination) -> Result<Stored, ServiceError> {
        let name = check_name(&new.name).map_err(|error| ServiceError::name(&error))?;
        let (pasted, mut repairs) = parse_server_and_key(new.server.as_ref(), new.key.as_ref())?;
        let Pasted { server, key, passphrase: pasted_passphrase, key_length, .. } = pasted;
        let backup = parse_backup_server(new.backup_server.as_ref(), &server, key.as_ref(), &mut repairs)?;
        let platform = self.known_platform(new.platform.as_deref())?;
        let passphrase = parse_passphrase(new.passphrase.as_ref(), &server)?.or(pasted_passphrase);
        let key_kind = match new.key_kind {
            Some(kind) => stored_kind(kind),
            None if self.takes_one_broadcast_keys(platform.as_deref()) => {
                repairs.push("key: taken as good for one broadcast, as the platform's rules say".to_owned());
                StoredKind::OneBroadcast
            }
            None => StoredKind::Reusable,
        };
        let (mut secrets, none) = (AddressSecrets::default(), AddressSecrets::default());
        let settings = DestinationSettings {
            name,
            server: take_secrets("server", &server, &mut secrets, &none)?,
            backup_server: backup
                .map(|backup| take_secrets("backup_server", &backup, &mut secrets, &none))
                .transpose()?,
            return_after_s: parse_failback_delay(new.return_after_s)?,
            platform,
            watch_page: parse_watch_page(new.watch_page.as_deref())?,
            authority: parse_authority(new.authority.as_deref())?,
            key_kind,
            key_expires_s: parse_expiry(new.key_expires.as_deref())?,
            key_bits: parse_key_length(new.key_length.or_else(|| key_length.map(KeyLength::bits)))?,
            uplinks: self.read_uplinks(&new.uplinks)?,
        };
        if let Some(key) = &key {
            check_same_key(self.others_with_key(&settings.name, key)?, &server, &mut repairs)?;
        }
        let secret = |text: &str| -> secrecy::SecretString { text.into() };
        let values = DestinationValues {
            settings,
            key: key.map(|key| secret(key.expose())),
            passphrase: passphrase.map(|passphrase| secret(passphrase.expose())),
            address_secrets: secrets.to_secret(),
        };
        self.store.add_destination(&values, time::now_s())?;
        Ok(Stored { destination: self.destination(&values.settings.name)?, repairs })
    }

    /// Changes a destination; running pushes to it reconnect if their settings have changed.
    ///
    /// # Errors
    /// As [`Transaction::add_destination`], and [`ServiceError::Running`] for a rename while pushes run.
    pub fn edit_destination(&self, name: &str, change: DestinationChange) -> Result<Stored, ServiceError> {
        let stored = self.store.destination(name).map_err(|error| self.explain(error))?;
        let before = stored.settings.clone();
        let new_name = match &change.name {
            Some(text) => check_name(text).map_err(|error| ServiceError::name(&error))?,
            None => before.name.clone(),
        };
        let relays = self.store.relays_to(&before.name)?;
        if new_name != before.name && relays.iter().any(|relay| self.engine.relay(relay).is_some()) {
            return Err(ServiceError::Running { kind: RecordKind::Destination, name: before.name });
        }
        let mut repairs = Vec::new();
        let known = AddressSecrets::open(&self.store, stored.address_secrets.as_ref());
        // Secrets that cannot be decrypted are replaced with the address.
        let is_lost = known.is_err();
        let known = known.unwrap_or_default();
        let mut secrets = known.clone();
        let (server, new_key) = self.changed_server(&change, &stored, &mut repairs)?;
        let backup_server = match &change.backup_server {
            Some(backup) => {
                let key = match &new_key {
                    Some(key) => Some(key.clone()),
                    None => self.stored_key(&stored),
                };
                let backup = parse_backup_server(Some(backup), &server, key.as_ref(), &mut repairs)?;
                secrets.remove("backup_server");
                backup
                    .map(|backup| take_secrets("backup_server", &backup, &mut secrets, &known))
                    .transpose()?
            }
            None => before.backup_server.clone(),
        };
        let server_text = match &change.server {
            Some(_) => take_secrets("server", &server, &mut secrets, &known)?,
            None => before.server.clone(),
        };
        let before_name = before.name.clone();
        let before = DestinationSettings { name: new_name, server: server_text, backup_server, ..before };
        let settings = self.changed_settings(before, &change)?;
        let same_key = match &new_key {
            Some(key) => self.others_with_key(&before_name, key)?,
            None => self.store.destinations_with_same_key(&stored)?,
        };
        check_same_key(same_key, &server, &mut repairs)?;
        let address_secrets = match secrets.change_from(&known) {
            SecretChange::Keep if is_lost && change.server.is_some() => SecretChange::Remove,
            address_secrets => address_secrets,
        };
        self.store.edit_destination(name, &settings, &address_secrets)?;
        if change.no_passphrase || new_key.is_some() {
            let key = new_key.map(|key| (key.expose().into(), settings.key_kind, settings.key_expires_s));
            let new = NewSecrets { key, passphrase: change.no_passphrase.then_some(None) };
            self.store.rekey_destination(&settings.name, &new, time::now_s())?;
        }
        self.mark_all_relays();
        self.apply_running(&relays)?;
        Ok(Stored { destination: self.destination(&settings.name)?, repairs })
    }

    /// Sets a new key, a new passphrase, or both. A running push applies them with one reconnect.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], [`ServiceError::Invalid`], a key that another destination has already, or when the
    /// records cannot be written.
    pub fn rekey_destination(&self, name: &str, request: &Rekey) -> Result<Stored, ServiceError> {
        let stored = self.store.destination(name).map_err(|error| self.explain(error))?;
        let server = stored_server(&stored.settings.server)?;
        if request.key.is_none() && request.passphrase.is_none() {
            return Err(ServiceError::Invalid {
                field: "key",
                detail: "there is neither a new key nor a new passphrase".to_owned(),
                hint: "Give the one that changes.",
            });
        }
        let mut repairs = Vec::new();
        let mut new = NewSecrets::default();
        if let Some(key) = &request.key {
            let at: Secret = stored.settings.server.clone().into();
            let (pasted, notes) = parse_server_and_key(Some(&at), Some(key))?;
            repairs = notes;
            let key = pasted.key.ok_or_else(|| ServiceError::pasted(&PasteError::NoKey))?;
            check_same_key(self.others_with_key(&stored.settings.name, &key)?, &server, &mut repairs)?;
            let kind = request.key_kind.map_or(stored.settings.key_kind, stored_kind);
            new.key = Some((key.expose().into(), kind, parse_expiry(request.key_expires.as_deref())?));
        }
        if let Some(passphrase) = parse_passphrase(request.passphrase.as_ref(), &server)? {
            new.passphrase = Some(Some(passphrase.expose().into()));
        }
        self.store.rekey_destination(name, &new, time::now_s())?;
        tracing::info!(destination = stored.settings.name, "key or passphrase rolled");
        self.apply_running(&self.store.relays_to(name)?)?;
        Ok(Stored { destination: self.destination(name)?, repairs })
    }

    /// Removes an unused destination.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], in use, or if the records cannot be written.
    pub fn remove_destination(&self, name: &str) -> Result<(), ServiceError> {
        self.store.remove_destination(name).map_err(|error| self.explain(error))
    }
}

/// Refuses the same key at the same server, since the platform would end one of the broadcasts. At another server it
/// may be right, and causes a remark.
fn check_same_key(
    others: Vec<(String, String)>,
    server: &ServerAddress,
    repairs: &mut Vec<String>,
) -> Result<(), ServiceError> {
    for (other, theirs) in others {
        if stored_server(&theirs)?.is_same_ingest(server) {
            return Err(ServiceError::SameKey(other));
        }
        repairs.push(format!("key: {other} has the same key at another server"));
    }
    Ok(())
}

/// Masks the secrets of an address that is to be stored.
fn take_secrets(
    field: &'static str,
    server: &ServerAddress,
    secrets: &mut AddressSecrets,
    before: &AddressSecrets,
) -> Result<String, ServiceError> {
    secrets.take(field, &server.full_address(), before).map_err(|error| unknown_placeholder(field, error))
}

/// Parses a stored server address, with its secrets unless they are lost.
fn full_server(
    field: &'static str,
    text: &str,
    secrets: Option<&AddressSecrets>,
) -> Result<ServerAddress, ServiceError> {
    let Some(secrets) = secrets else { return stored_server(text) };
    let full = secrets.fill(field, text).map_err(|error| unknown_placeholder(field, error))?;
    stored_server(full.expose_secret())
}

/// Returns true for RTMPS, or SRT with a passphrase.
pub fn is_encrypted(server: &ServerAddress, destination: &StoredDestination) -> bool {
    match server {
        ServerAddress::Rtmp(server) => server.tls,
        ServerAddress::Srt(_) => destination.passphrase.is_some(),
    }
}

/// Parses a stored server address.
///
/// # Errors
/// [`ServiceError::Invalid`] naming the field `server`.
pub fn stored_server(text: &str) -> Result<ServerAddress, ServiceError> {
    read_server(text).map(|(server, _)| server).map_err(|error| ServiceError::server("server", &error))
}
