//! Platforms: built-in rule sheets, and user-defined ones, which take precedence.

use std::collections::BTreeMap;

use yonder_api::{NewPlatform, Platform, PlatformChange, PlatformRule};
use yonder_core::check_name;
use yonder_core::platform::{NamedSheet, RuleSheet, shipped};
use yonder_store::{PlatformSheet, RecordKind, StoreError};

use super::{Records, Transaction};
use crate::error::ServiceError;
use crate::time;

impl Records {
    /// Returns all platforms by name.
    ///
    /// # Errors
    /// If the records cannot be read.
    pub fn platforms(&self) -> Result<Vec<Platform>, ServiceError> {
        let own = self.own_names()?;
        self.sheets()?.iter().map(|sheet| self.platform_view(sheet, &own)).collect()
    }

    /// Returns a platform.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or if the records cannot be read.
    pub fn platform(&self, name: &str) -> Result<Platform, ServiceError> {
        let sheet = self.sheet(name)?.ok_or_else(|| self.no_platform(name))?;
        self.platform_view(&sheet, &self.own_names()?)
    }

    /// Returns all sheets by name, with user-defined ones in place of built-in ones.
    ///
    /// # Errors
    /// If the records cannot be read.
    pub fn sheets(&self) -> Result<Vec<NamedSheet>, StoreError> {
        let mut sheets: BTreeMap<String, NamedSheet> =
            shipped().into_iter().map(|sheet| (sheet.name.to_lowercase(), sheet)).collect();
        for kept in self.store.platforms()? {
            match serde_json::from_str(&kept.rules) {
                Ok(rules) => {
                    sheets.insert(kept.name.to_lowercase(), NamedSheet { name: kept.name, rules });
                }
                Err(error) => tracing::error!(platform = kept.name, %error, "a rule sheet cannot be read"),
            }
        }
        Ok(sheets.into_values().collect())
    }

    /// Returns the sheet with this name, ignoring case.
    ///
    /// # Errors
    /// If the records cannot be read.
    pub fn sheet(&self, name: &str) -> Result<Option<NamedSheet>, ServiceError> {
        Ok(self.sheets()?.into_iter().find(|sheet| sheet.name.eq_ignore_ascii_case(name.trim())))
    }

    /// Returns the stored spelling of a platform's name; `None` for an empty one.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or if the records cannot be read.
    pub fn known_platform(&self, name: Option<&str>) -> Result<Option<String>, ServiceError> {
        let Some(name) = name.map(str::trim).filter(|name| !name.is_empty()) else { return Ok(None) };
        self.sheet(name)?.map(|sheet| Some(sheet.name)).ok_or_else(|| self.no_platform(name))
    }

    pub(crate) fn takes_one_broadcast_keys(&self, platform: Option<&str>) -> bool {
        let sheet = platform.and_then(|name| self.sheet(name).ok().flatten());
        sheet.is_some_and(|sheet| sheet.rules.broadcast.one_broadcast_keys)
    }

    fn no_platform(&self, name: &str) -> ServiceError {
        self.explain(StoreError::NotFound { kind: RecordKind::Platform, name: name.to_owned() })
    }

    pub(crate) fn own_names(&self) -> Result<Vec<String>, ServiceError> {
        Ok(self.store.platforms()?.into_iter().map(|sheet| sheet.name).collect())
    }

    fn destinations_on(&self, platform: &str) -> Result<Vec<String>, ServiceError> {
        let on =
            |name: &Option<String>| name.as_ref().is_some_and(|name| name.eq_ignore_ascii_case(platform));
        let all = self.store.destinations()?.into_iter().map(|destination| destination.settings);
        Ok(all.filter(|settings| on(&settings.platform)).map(|settings| settings.name).collect())
    }

    fn platform_view(&self, sheet: &NamedSheet, own: &[String]) -> Result<Platform, ServiceError> {
        let lines = sheet.rules.lines().into_iter();
        let identity = self.store.identity(RecordKind::Platform, &sheet.name)?;
        Ok(Platform {
            name: sheet.name.clone(),
            revision: identity.as_ref().map(|identity| identity.revision),
            id: identity.map(|identity| identity.uid),
            shipped: !own.iter().any(|own| own.eq_ignore_ascii_case(&sheet.name)),
            rules: lines.map(|(rule, value)| PlatformRule { rule: rule.to_owned(), value }).collect(),
            destinations: self.destinations_on(&sheet.name)?,
        })
    }
}

impl Transaction<'_> {
    /// Adds a platform, optionally based on another one.
    ///
    /// # Errors
    /// [`ServiceError::Invalid`] naming the rule, a name that is taken, or if the records cannot be written.
    pub fn add_platform(&self, new: &NewPlatform) -> Result<Platform, ServiceError> {
        let name = check_name(&new.name).map_err(|error| ServiceError::name(&error))?;
        if self.sheet(&name)?.is_some() {
            return Err(StoreError::NameTaken { kind: RecordKind::Platform, name }.into());
        }
        let mut rules = match &new.like {
            Some(like) => self.sheet(like)?.ok_or_else(|| self.no_platform(like))?.rules,
            None => RuleSheet::default(),
        };
        set_rules(&mut rules, &new.rules)?;
        self.keep_sheet(&name, &rules)?;
        self.platform(&name)
    }

    /// Changes rules of a platform. A changed built-in sheet becomes user-defined.
    ///
    /// # Errors
    /// As [`Transaction::add_platform`], and [`ServiceError::NotFound`].
    pub fn edit_platform(&self, name: &str, change: &PlatformChange) -> Result<Platform, ServiceError> {
        let NamedSheet { name, mut rules } = self.sheet(name)?.ok_or_else(|| self.no_platform(name))?;
        set_rules(&mut rules, &change.rules)?;
        self.keep_sheet(&name, &rules)?;
        self.platform(&name)
    }

    /// Sets the rules of a user-defined sheet, on top of those of the one that it is based on.
    pub(crate) fn put_sheet(&self, new: &NewPlatform) -> Result<(), ServiceError> {
        let name = check_name(&new.name).map_err(|error| ServiceError::name(&error))?;
        let mut rules = match &new.like {
            Some(like) => self.sheet(like)?.ok_or_else(|| self.no_platform(like))?.rules,
            None => RuleSheet::default(),
        };
        set_rules(&mut rules, &new.rules)?;
        self.keep_sheet(&name, &rules)
    }

    /// Removes a user-defined sheet; a built-in one of the same name applies again.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], [`ServiceError::Invalid`] for a built-in sheet, in use, or if the records cannot be
    /// written.
    pub fn remove_platform(&self, name: &str) -> Result<(), ServiceError> {
        let sheet = self.sheet(name)?.ok_or_else(|| self.no_platform(name))?;
        let ships = shipped().iter().any(|shipped| shipped.name.eq_ignore_ascii_case(&sheet.name));
        let own = self.own_names()?;
        if !own.iter().any(|own| own.eq_ignore_ascii_case(&sheet.name)) {
            return Err(ServiceError::Invalid {
                field: "name",
                detail: format!("{} ships with the program and cannot be removed", sheet.name),
                hint: "Change its rules, or leave it aside.",
            });
        }
        let used: Vec<String> = self.destinations_on(&sheet.name)?;
        if !ships && !used.is_empty() {
            return Err(
                StoreError::InUse { kind: RecordKind::Platform, name: sheet.name, users: used }.into()
            );
        }
        self.store.remove_platform(&sheet.name).map_err(|error| self.explain(error))
    }

    fn keep_sheet(&self, name: &str, rules: &RuleSheet) -> Result<(), ServiceError> {
        rules.check().map_err(|error| ServiceError::Invalid {
            field: "rules",
            detail: error.to_string(),
            hint: "See `yonder platform rules` for what each rule takes.",
        })?;
        let rules =
            serde_json::to_string(rules).map_err(|_| ServiceError::Internal("a sheet cannot be written"))?;
        self.store.save_platform(&PlatformSheet { name: name.to_owned(), rules }, time::now_s())?;
        Ok(())
    }
}

fn set_rules(sheet: &mut RuleSheet, rules: &BTreeMap<String, String>) -> Result<(), ServiceError> {
    for (rule, value) in rules {
        sheet.set(rule, value).map_err(|error| ServiceError::Invalid {
            field: "rules",
            detail: error.to_string(),
            hint: "See `yonder platform rules` for what each rule takes.",
        })?;
    }
    Ok(())
}
