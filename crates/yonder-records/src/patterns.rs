//! Address patterns, and feeds created from them.

use yonder_api::{Choice, Feed, NewFeed, Pattern, PatternFeeds, Placeholder, PlaceholderKind, StoredPattern};
use yonder_core::{PatternError, check_name, read_channels};
use yonder_store::{Identity, Pattern as PatternRow, RecordKind};

use super::feeds::feed_values;
use super::{Records, Transaction};
use crate::error::ServiceError;
use crate::time;

impl Records {
    /// Returns all patterns by name.
    ///
    /// # Errors
    /// If the records cannot be read.
    pub fn patterns(&self) -> Result<Vec<StoredPattern>, ServiceError> {
        let identities = self.store.identities(RecordKind::Pattern)?;
        let identity = |name: &str| identities.get(name).cloned().unwrap_or_default();
        let all = self.store.patterns()?.into_iter();
        all.map(|stored| (identity(&stored.name), stored))
            .map(|(identity, stored)| to_api(stored, identity))
            .collect()
    }

    /// Returns a pattern.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or if the records cannot be read.
    pub fn pattern(&self, name: &str) -> Result<StoredPattern, ServiceError> {
        let stored = self.store.pattern(name).map_err(|error| self.explain(error))?;
        let identity = self.store.identity(RecordKind::Pattern, &stored.name)?.unwrap_or_default();
        to_api(stored, identity)
    }

    /// Returns a pattern as in a site book.
    ///
    /// # Errors
    /// As [`Records::pattern`].
    pub(crate) fn exported_pattern(&self, name: &str) -> Result<Pattern, ServiceError> {
        shown(self.store.pattern(name).map_err(|error| self.explain(error))?)
    }
}

impl Transaction<'_> {
    /// Adds a pattern.
    ///
    /// # Errors
    /// [`ServiceError::Invalid`], a name that is taken, or if the records cannot be written.
    pub fn add_pattern(&self, new: Pattern) -> Result<StoredPattern, ServiceError> {
        let stored = checked(new)?;
        self.store.add_pattern(&stored, time::now_s())?;
        self.pattern(&stored.name)
    }

    /// Replaces a pattern. Feeds created from it keep their addresses.
    ///
    /// # Errors
    /// As [`Transaction::add_pattern`], and [`ServiceError::NotFound`].
    pub fn edit_pattern(&self, name: &str, new: Pattern) -> Result<StoredPattern, ServiceError> {
        let stored = checked(new)?;
        self.store.edit_pattern(name, &stored).map_err(|error| self.explain(error))?;
        self.pattern(&stored.name)
    }

    /// Removes a pattern. Feeds created from it keep their addresses.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or if the records cannot be written.
    pub fn remove_pattern(&self, name: &str) -> Result<(), ServiceError> {
        self.store.remove_pattern(name).map_err(|error| self.explain(error))
    }

    /// Creates feeds from a pattern: one, or one per channel; all or none.
    ///
    /// # Errors
    /// A missing or invalid value, an existing name, or if the records cannot be written.
    pub fn add_pattern_feeds(&self, name: &str, new: &PatternFeeds) -> Result<Vec<Feed>, ServiceError> {
        let pattern = to_core(&self.exported_pattern(name)?)?;
        let channels = new.channels.as_deref().map(read_channels).transpose();
        let channels = channels.map_err(|detail| ServiceError::Invalid {
            field: "channels",
            detail,
            hint: "List channels like 1-4,7.",
        })?;
        if channels.is_some() && !pattern.has_channels() {
            return Err(ServiceError::Invalid {
                field: "channels",
                detail: format!("the pattern {name:?} has no placeholder named channel"),
                hint: "Leave the channels out, or choose a tracker's pattern.",
            });
        }
        let mut feeds = Vec::new();
        for channel in channels.map_or_else(|| vec![None], |all| all.into_iter().map(Some).collect()) {
            let mut set = new.set.clone();
            let mut feed_name = new.name.clone();
            if let Some(channel) = channel {
                set.insert("channel".to_owned(), channel.to_string());
                feed_name = format!("{feed_name} {channel}");
            }
            let filled = pattern.fill(&set).map_err(|error| refused("set", &error))?;
            feeds.push(feed_values(NewFeed {
                name: feed_name,
                url: filled.url.into(),
                sub_url: filled.sub_url.map(Into::into),
                transport: new.transport,
                user: new.user.clone(),
                password: new.password.clone(),
                pin: new.pin.clone(),
                site: new.site.clone(),
                ..NewFeed::default()
            })?);
        }
        self.store.add_feeds(&feeds, time::now_s())?;
        feeds.iter().map(|feed| self.feed(&feed.settings.name)).collect()
    }
}

fn refused(field: &'static str, error: &PatternError) -> ServiceError {
    if field == "set" {
        let hint = "See what the pattern wants with `yonder pattern show`.";
        return ServiceError::Invalid { field, detail: error.to_string(), hint };
    }
    let hint = "A pattern looks like rtsp://{host}:{port}/ch{channel}/{stream}; each placeholder in it is declared, or filled in.";
    ServiceError::Invalid { field, detail: error.to_string(), hint }
}

fn checked(new: Pattern) -> Result<PatternRow, ServiceError> {
    let name = check_name(&new.name).map_err(|error| ServiceError::name(&error))?;
    let checked = to_core(&new)?;
    let placeholders = serde_json::to_string(&new.placeholders)
        .map_err(|_| ServiceError::Internal("placeholders cannot be written as JSON"))?;
    let note = new.note.trim().chars().take(500).collect();
    Ok(PatternRow { name, template: checked.template().to_owned(), placeholders, note })
}

fn shown(stored: PatternRow) -> Result<Pattern, ServiceError> {
    let placeholders = serde_json::from_str(&stored.placeholders)
        .map_err(|_| ServiceError::Internal("the placeholders of a pattern cannot be read"))?;
    Ok(Pattern { name: stored.name, template: stored.template, placeholders, note: stored.note })
}

fn to_api(stored: PatternRow, identity: Identity) -> Result<StoredPattern, ServiceError> {
    let Pattern { name, template, placeholders, note } = shown(stored)?;
    Ok(StoredPattern { name, id: identity.uid, revision: identity.revision, template, placeholders, note })
}

fn to_core(pattern: &Pattern) -> Result<yonder_core::Pattern, ServiceError> {
    let placeholder = |placeholder: &Placeholder| yonder_core::Placeholder {
        name: placeholder.name.clone(),
        kind: match &placeholder.kind {
            PlaceholderKind::Text => yonder_core::PlaceholderKind::Text,
            PlaceholderKind::Number { width, offset, min, max } => {
                yonder_core::PlaceholderKind::Number { width: *width, offset: *offset, min: *min, max: *max }
            }
            PlaceholderKind::Choice { choices } => {
                let pair = |Choice { word, value }: &Choice| (word.clone(), value.clone());
                yonder_core::PlaceholderKind::Choice(choices.iter().map(pair).collect())
            }
        },
    };
    let placeholders = pattern.placeholders.iter().map(placeholder).collect();
    yonder_core::Pattern::new(&pattern.template, placeholders).map_err(|error| refused("template", &error))
}
