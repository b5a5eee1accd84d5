//! Export of all settings as a site book, without secrets but with references to them.

use std::collections::BTreeMap;

use yonder_api::{
    NewAlert, NewContact, NewDestination, NewFeed, NewPlatform, NewRelay, NewSignpost, NewUplink,
    SealedSecret, SiteBook, Transport,
};
use yonder_core::budget::{BitRate, Volume};
use yonder_store::RecordKind;

use crate::error::ServiceError;
use crate::{DEFAULT_REPEAT_S, Records, read_channel};

/// Stored secret: kind and name of its record, and field.
type Sealed = (RecordKind, String, &'static str);

impl Records {
    /// Returns all settings, without secrets.
    ///
    /// # Errors
    /// If the records cannot be read.
    pub fn book(&self) -> Result<SiteBook, ServiceError> {
        let mut book = SiteBook::default();
        for uplink in self.uplinks()? {
            book.uplinks.push(self.exported_uplink(&uplink.name)?);
        }
        for name in self.own_names()? {
            book.platforms.extend(self.exported_platform(&name)?);
        }
        for pattern in self.patterns()? {
            book.patterns.push(self.exported_pattern(&pattern.name)?);
        }
        let mut sealed: Vec<Sealed> = Vec::new();
        for feed in self.store.feeds()? {
            let name = feed.settings.name;
            sealed.extend(feed.password.map(|_| (RecordKind::Feed, name.clone(), "password")));
            sealed.extend(feed.ingest.key.map(|_| (RecordKind::Feed, name.clone(), "key")));
            sealed.extend(feed.ingest.passphrase.map(|_| (RecordKind::Feed, name.clone(), "passphrase")));
            book.feeds.push(self.exported_feed(&name)?);
        }
        for destination in self.store.destinations()? {
            let name = destination.settings.name;
            sealed.extend(destination.key.map(|_| (RecordKind::Destination, name.clone(), "key")));
            sealed.extend(
                destination.passphrase.map(|_| (RecordKind::Destination, name.clone(), "passphrase")),
            );
            book.destinations.push(self.exported_destination(&name)?);
        }
        for relay in self.store.relays()? {
            book.wanted.insert(relay.name.clone(), relay.wanted.as_str().to_owned());
            book.relays.push(self.exported_relay(&relay.name)?);
        }
        for signpost in self.store.signposts()? {
            book.signposts.push(self.exported_signpost(&signpost.name)?);
        }
        for contact in self.store.contacts()? {
            sealed.extend(contact.secret.map(|_| (RecordKind::Contact, contact.name.clone(), "secret")));
            book.contacts.push(self.exported_contact(&contact.name)?);
        }
        for alert in self.store.alerts()? {
            book.alerts.push(self.exported_alert(&alert.name)?);
        }
        let to_view = |(kind, name, field): Sealed| SealedSecret {
            kind: kind.to_string(),
            name,
            field: field.to_owned(),
        };
        book.sealed = sealed.into_iter().map(to_view).collect();
        Ok(book)
    }

    pub(crate) fn exported_uplink(&self, name: &str) -> Result<NewUplink, ServiceError> {
        let uplink = self.uplink(name)?;
        Ok(NewUplink {
            name: uplink.name,
            site: uplink.site,
            rate: BitRate::from_kbps(uplink.up_kbps).written(),
            allowance: uplink.allowance_bytes.map(|bytes| Volume::from_bytes(bytes).written()),
            headroom_percent: u8::try_from(uplink.headroom_percent).ok(),
            backup: uplink.backup,
            source: uplink.source,
            interface: uplink.interface,
        })
    }

    /// Returns a user-defined sheet; `None` for a built-in one.
    pub(crate) fn exported_platform(&self, name: &str) -> Result<Option<NewPlatform>, ServiceError> {
        if !self.own_names()?.iter().any(|own| own.eq_ignore_ascii_case(name)) {
            return Ok(None);
        }
        let platform = self.platform(name)?;
        let rules = platform.rules.into_iter().map(|rule| (rule.rule, rule.value)).collect();
        Ok(Some(NewPlatform { name: platform.name, like: None, rules }))
    }

    pub(crate) fn exported_feed(&self, name: &str) -> Result<NewFeed, ServiceError> {
        let values = self.store.feed(name).map_err(|error| self.explain(error))?.settings;
        Ok(NewFeed {
            name: values.name,
            url: values.url.into(),
            ingest: values.ingest_key_bits.is_some(),
            key: None,
            passphrase: None,
            key_length: values.ingest_key_bits,
            sub_url: values.sub_url.map(Into::into),
            transport: Transport::from_name(&values.transport),
            user: values.user,
            password: None,
            pin: values.pin.as_ref().map(yonder_engine::fingerprint_text),
            site: values.site,
            device: values.device,
        })
    }

    pub(crate) fn exported_destination(&self, name: &str) -> Result<NewDestination, ServiceError> {
        let view = self.destination(name)?;
        let settings = self.store.destination(name)?.settings;
        Ok(NewDestination {
            name: view.name,
            server: Some(view.server.into()),
            backup_server: view.backup_server.map(Into::into),
            return_after_s: Some(view.return_after_s),
            platform: view.platform,
            watch_page: view.watch_page,
            key_kind: view.key.as_ref().map(|key| key.kind),
            key_expires: view.key.and_then(|key| key.expires_at),
            key_length: view.passphrase.map(|passphrase| passphrase.key_length),
            authority: settings.authority,
            uplinks: view.uplinks,
            key: None,
            passphrase: None,
        })
    }

    pub(crate) fn exported_relay(&self, name: &str) -> Result<NewRelay, ServiceError> {
        let relay = self.store.relay(name).map_err(|error| self.explain(error))?;
        let seconds = relay.hold_after_ms.map_or(0, |ms| ms / 1_000);
        // The zone is omitted without any times.
        let has_times = !relay.on_air.is_empty() || relay.quiet_minute.is_some();
        let limits: BTreeMap<String, String> =
            relay.limits.into_iter().map(|(name, limit)| (name, limit.to_string())).collect();
        Ok(NewRelay {
            name: relay.name,
            feed: relay.feed,
            to: relay.destinations,
            hold_after_s: u32::try_from(seconds).ok(),
            on_air: Some(relay.on_air),
            zone: has_times.then_some(relay.zone),
            quiet_minute: relay.quiet_minute,
            adapt: Some(relay.adapt),
            limits: (!limits.is_empty()).then_some(limits),
        })
    }

    pub(crate) fn exported_signpost(&self, name: &str) -> Result<NewSignpost, ServiceError> {
        let signpost = self.store.signpost(name).map_err(|error| self.explain(error))?;
        let daily = signpost.daily_bytes.and_then(|bytes| u64::try_from(bytes).ok());
        Ok(NewSignpost {
            name: signpost.name,
            relay: signpost.relay,
            title: Some(signpost.title),
            player: Some(signpost.has_player),
            to: signpost.to,
            paused: signpost.is_paused,
            unlisted: signpost.is_unlisted,
            random: false,
            status_page: signpost.has_status_page,
            max_viewers: u32::try_from(signpost.max_viewers).ok(),
            daily: daily.map(|bytes| Volume::from_bytes(bytes).written()),
        })
    }

    pub(crate) fn exported_contact(&self, name: &str) -> Result<NewContact, ServiceError> {
        let contact = self.store.contact(name).map_err(|error| self.explain(error))?;
        Ok(NewContact {
            channel: read_channel(&contact)?,
            name: contact.name,
            secret: None,
            sign_of_life_h: contact.sign_of_life_h,
        })
    }

    pub(crate) fn exported_alert(&self, name: &str) -> Result<NewAlert, ServiceError> {
        let alert = self.store.alert(name).map_err(|error| self.explain(error))?;
        let repeat_s = Some(u32::try_from(alert.repeat_s).unwrap_or(DEFAULT_REPEAT_S));
        Ok(NewAlert { name: alert.name, when: alert.trigger, about: alert.about, to: alert.to, repeat_s })
    }
}
