//! Signposts: stable public links to the picture of a relay.

use rand::RngExt as _;
use yonder_api::{NewSignpost, SignpostChange};
use yonder_core::budget::Volume;
use yonder_store::{Relay as StoredRelay, Signpost as StoredSignpost};

use super::{Records, Transaction};
use crate::error::ServiceError;
use crate::time;

/// Default maximum of viewers at a time.
pub(crate) const DEFAULT_MAX_VIEWERS: u32 = 500;
/// Largest maximum of viewers.
const MAX_VIEWERS: u32 = 100_000;
/// Length of an alias.
const ALIAS_LENGTH: std::ops::RangeInclusive<usize> = 2..=64;
/// Maximum length of a title, in characters.
const MAX_TITLE: usize = 120;
/// Letters of a random part: no vowels, and none that look alike.
const RANDOM_LETTERS: &[u8] = b"23456789bcdfghjkmnpqrstvwxz";
/// Length of a random part: 57 bits.
const RANDOM_LENGTH: usize = 12;

/// Signpost with what its pages need of other records.
#[derive(Debug, Clone, PartialEq)]
pub struct SignpostRecord {
    /// Settings.
    pub settings: StoredSignpost,
    /// Destinations that it leads to, the preferred one first.
    pub targets: Vec<WatchTarget>,
}

/// Destination with a watch page.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WatchTarget {
    /// Name of the destination.
    pub destination: String,
    /// Its watch page.
    pub page: String,
}

impl Records {
    /// Returns all signposts, read from the store.
    pub(crate) fn read_signposts(&self) -> Result<Vec<SignpostRecord>, ServiceError> {
        let relays = self.store.relays()?;
        let destinations = self.store.destinations()?;
        let page_of = |name: &String| {
            let mut known = destinations.iter().map(|destination| &destination.settings);
            let page = known.find(|settings| settings.name == *name)?.watch_page.clone()?;
            Some(WatchTarget { destination: name.clone(), page })
        };
        let targets = |signpost: &StoredSignpost| {
            let relay = relays.iter().find(|relay| relay.name == signpost.relay);
            let all = relay.map(|relay: &StoredRelay| &relay.destinations);
            let names = if signpost.to.is_empty() { all } else { Some(&signpost.to) };
            names.into_iter().flatten().filter_map(page_of).collect()
        };
        let complete = |settings: StoredSignpost| SignpostRecord { targets: targets(&settings), settings };
        Ok(self.store.signposts()?.into_iter().map(complete).collect())
    }
}

impl Transaction<'_> {
    /// Adds a signpost, and returns its alias.
    ///
    /// # Errors
    /// [`ServiceError::Invalid`] naming the field, an unknown relay or destination, an alias that is taken, or if the
    /// records cannot be written.
    pub fn add_signpost(&self, new: &NewSignpost) -> Result<String, ServiceError> {
        let relay = self.stored_relay_of(&new.relay)?;
        let mut name = new.name.trim().to_owned();
        if new.random {
            name = format!("{name}-{}", random_part());
        }
        let signpost = StoredSignpost {
            name: read_alias(&name)?,
            title: read_title(new.title.as_deref().unwrap_or(&relay.name))?,
            relay: relay.name.clone(),
            has_player: new.player.unwrap_or(true),
            to: self.read_targets(&relay, &new.to)?,
            is_paused: new.paused,
            is_unlisted: new.unlisted || new.random,
            has_status_page: new.status_page,
            max_viewers: read_max_viewers(new.max_viewers.unwrap_or(DEFAULT_MAX_VIEWERS))?,
            daily_bytes: new.daily.as_deref().map(read_daily).transpose()?.flatten(),
        };
        self.store.add_signpost(&signpost, time::now_s()).map_err(|error| self.explain(error))?;
        self.apply_running(std::slice::from_ref(&relay.name))?;
        Ok(signpost.name)
    }

    /// Changes a signpost, and returns its alias.
    ///
    /// # Errors
    /// As [`Transaction::add_signpost`], and [`ServiceError::NotFound`].
    pub fn edit_signpost(&self, name: &str, change: &SignpostChange) -> Result<String, ServiceError> {
        let before = self.store.signpost(name).map_err(|error| self.explain(error))?;
        let relay = self.stored_relay_of(change.relay.as_deref().unwrap_or(&before.relay))?;
        let mut after = before.clone();
        if let Some(name) = &change.name {
            after.name = read_alias(name.trim())?;
        }
        if let Some(title) = &change.title {
            after.title = read_title(title)?;
        }
        if let Some(maximum) = change.max_viewers {
            after.max_viewers = read_max_viewers(maximum)?;
        }
        if let Some(daily) = &change.daily {
            after.daily_bytes = read_daily(daily)?;
        }
        after.to = self.read_targets(&relay, change.to.as_ref().unwrap_or(&before.to))?;
        after.relay = relay.name;
        after.has_player = change.player.unwrap_or(before.has_player);
        after.is_paused = change.paused.unwrap_or(before.is_paused);
        after.is_unlisted = change.unlisted.unwrap_or(before.is_unlisted);
        after.has_status_page = change.status_page.unwrap_or(before.has_status_page);
        self.store.edit_signpost(&before.name, &after).map_err(|error| self.explain(error))?;
        self.apply_running(&[before.relay, after.relay])?;
        Ok(after.name)
    }

    /// Removes a signpost.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or if the records cannot be written.
    pub fn remove_signpost(&self, name: &str) -> Result<(), ServiceError> {
        let signpost = self.store.signpost(name).map_err(|error| self.explain(error))?;
        self.store.remove_signpost(name)?;
        self.apply_running(&[signpost.relay])
    }

    fn stored_relay_of(&self, name: &str) -> Result<StoredRelay, ServiceError> {
        self.store.relay(name).map_err(|error| self.explain(error))
    }

    /// Returns the stored spelling of the destinations that a signpost leads to.
    fn read_targets(&self, relay: &StoredRelay, names: &[String]) -> Result<Vec<String>, ServiceError> {
        let invalid = |detail: String, hint| Err(ServiceError::Invalid { field: "to", detail, hint });
        let mut read: Vec<String> = Vec::new();
        for name in names {
            let settings = self.store.destination(name).map_err(|error| self.explain(error))?.settings;
            if !relay.destinations.contains(&settings.name) {
                let detail = format!("the relay {:?} does not push to {:?}", relay.name, settings.name);
                return invalid(detail, "Name destinations of the relay.");
            }
            if settings.watch_page.is_none() {
                let detail = format!("the destination {:?} has no watch page", settings.name);
                return invalid(detail, "Set it first: yonder destination edit NAME --watch-page URL");
            }
            if read.contains(&settings.name) {
                return invalid(
                    format!("{name:?} is named twice"),
                    "Name each destination once, the best first.",
                );
            }
            read.push(settings.name);
        }
        Ok(read)
    }
}

fn random_part() -> String {
    let mut random = rand::rng();
    (0..RANDOM_LENGTH)
        .map(|_| char::from(RANDOM_LETTERS[random.random_range(0..RANDOM_LETTERS.len())]))
        .collect()
}

fn read_alias(text: &str) -> Result<String, ServiceError> {
    let is_allowed = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-';
    if ALIAS_LENGTH.contains(&text.len())
        && text.chars().all(is_allowed)
        && !text.starts_with('-')
        && !text.ends_with('-')
    {
        return Ok(text.to_owned());
    }
    Err(ServiceError::Invalid {
        field: "name",
        detail: format!("{text:?} is no alias"),
        hint: "Use 2 to 64 lower-case letters, digits and hyphens, such as summit-station.",
    })
}

fn read_title(text: &str) -> Result<String, ServiceError> {
    let title = text.split_whitespace().collect::<Vec<_>>().join(" ");
    if title.is_empty() || title.chars().count() > MAX_TITLE || title.chars().any(char::is_control) {
        let detail = format!("the title has {} characters", title.chars().count());
        return Err(ServiceError::Invalid { field: "title", detail, hint: "Use 1 to 120 characters." });
    }
    Ok(title)
}

fn read_max_viewers(count: u32) -> Result<i64, ServiceError> {
    if (1..=MAX_VIEWERS).contains(&count) {
        return Ok(count.into());
    }
    let detail = format!("{count} viewers");
    Err(ServiceError::Invalid { field: "max_viewers", detail, hint: "Choose 1 to 100000." })
}

fn read_daily(text: &str) -> Result<Option<i64>, ServiceError> {
    if text.trim().is_empty() {
        return Ok(None);
    }
    let volume: Volume = text.parse().map_err(|error| ServiceError::unit("daily", &error))?;
    Ok(i64::try_from(volume.bytes()).ok().filter(|bytes| *bytes > 0))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("summit", true)]
    #[case("summit-station-2", true)]
    #[case("s", false)]
    #[case("Summit", false)]
    #[case("-summit", false)]
    #[case("summit-", false)]
    #[case("summit station", false)]
    #[case("gipfel\u{fc}", false)]
    fn aliases_are_safe_in_addresses(#[case] text: &str, #[case] is_valid: bool) {
        assert_eq!(read_alias(text).is_ok(), is_valid);
    }

    #[test]
    fn random_parts_are_valid_in_an_alias_and_differ() {
        let (one, other) = (random_part(), random_part());
        assert_ne!(one, other);
        assert_eq!(read_alias(&format!("summit-{one}")).unwrap().len(), 7 + RANDOM_LENGTH);
    }

    #[rstest]
    #[case("  The  summit ", Some("The summit"))]
    #[case("", None)]
    #[case(&"x".repeat(121), None)]
    fn titles_are_normalized(#[case] text: &str, #[case] title: Option<&str>) {
        assert_eq!(read_title(text).ok().as_deref(), title);
    }

    #[test]
    fn limits_have_units_and_ranges() {
        assert_eq!(read_daily("20GB").unwrap(), Some(20_000_000_000));
        assert_eq!(read_daily(" ").unwrap(), None);
        assert!(read_daily("20 parsecs").is_err());
        assert!(read_max_viewers(0).is_err() && read_max_viewers(100_001).is_err());
        assert_eq!(read_max_viewers(1).unwrap(), 1);
    }
}
