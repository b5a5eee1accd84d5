//! What a change of the records does to what runs: at once, or, within a group of changes, once the group is kept.

use std::collections::BTreeSet;

use yonder_store::{Fate, Relay as StoredRelay, StoreError};

use super::{Service, lock};
use crate::error::ServiceError;

/// Something that follows from a change of the records.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Effect {
    /// A feed that runs is brought to its kept shape.
    UpdateFeed(String),
    /// A relay that no longer runs under this name is withdrawn, and its picture forgotten.
    Withdraw(String),
    /// A relay is brought to what is wanted of it.
    Apply(String),
}

impl Service {
    /// Makes changes as one: all are kept, or none is. What runs is touched only once they are kept.
    ///
    /// # Errors
    /// What `act` failed with, or when the records cannot be written; then nothing is kept.
    pub(super) fn together<T>(
        &self,
        act: impl FnOnce() -> Result<Fate<T>, ServiceError>,
    ) -> Result<T, ServiceError> {
        let _changing = self.change();
        let postponing = Postponing::begin(self);
        let mut is_kept = false;
        let done: Result<T, ServiceError> = self.store.together(|| {
            let fate = act()?;
            is_kept = matches!(fate, Fate::Keep(_));
            Ok(fate)
        });
        let Postponed { effects, refresh } = postponing.end();
        // Also after a rollback: another thread may have asked for a refresh meanwhile.
        match refresh {
            Refresh::Only(names) => names.iter().try_for_each(|name| self.refresh_relay(name))?,
            Refresh::Unspecified | Refresh::All => self.refresh_relays()?,
        }
        let done = done?;
        // What was only looked at touches nothing that runs.
        for effect in in_order(effects).into_iter().filter(|_| is_kept) {
            if let Err(error) = self.carry_out(&effect) {
                tracing::error!(?effect, %error, "a change that is kept could not be carried out");
            }
        }
        Ok(done)
    }

    /// Carries an effect out, now or once the group that is open is kept. To be called under the lock of changes.
    pub(super) fn effect(&self, effect: Effect) -> Result<(), ServiceError> {
        if let Some(postponed) = lock(&self.postponed).as_mut() {
            postponed.effects.push(effect);
            return Ok(());
        }
        self.carry_out(&effect)
    }

    /// True while a group of changes is open.
    pub(super) fn postpones(&self) -> bool {
        lock(&self.postponed).is_some()
    }

    fn carry_out(&self, effect: &Effect) -> Result<(), ServiceError> {
        match effect {
            Effect::UpdateFeed(name) => self.update_feed(name),
            Effect::Withdraw(name) => {
                self.engine.withdraw(name);
                self.forget_picture(name);
                Ok(())
            }
            Effect::Apply(name) => {
                match self.store.relay(name) {
                    Ok(relay) => self.follow_wish(&relay),
                    // Removed in the same group.
                    Err(StoreError::NotFound { .. }) => Ok(()),
                    Err(error) => Err(error.into()),
                }
            }
        }
    }

    fn follow_wish(&self, relay: &StoredRelay) -> Result<(), ServiceError> {
        if relay.wanted.is_running() {
            return self.bring_up(relay);
        }
        self.engine.withdraw(&relay.name);
        Ok(())
    }
}

/// Effects and refreshes that wait for the end of a group of changes.
#[derive(Debug, Default)]
pub(crate) struct Postponed {
    effects: Vec<Effect>,
    pub(super) refresh: Refresh,
}

/// Relays to read at the end of a group of changes.
#[derive(Debug, Default, PartialEq, Eq)]
pub(super) enum Refresh {
    /// None was named: all are read.
    #[default]
    Unspecified,
    /// The group has changed these alone.
    Only(BTreeSet<String>),
    All,
}

impl Refresh {
    /// Adds the relay `name`.
    pub(super) fn add(&mut self, name: &str) {
        match self {
            Self::All => {}
            Self::Only(names) => {
                names.insert(name.to_owned());
            }
            Self::Unspecified => *self = Self::Only(BTreeSet::from([name.to_owned()])),
        }
    }
}

/// Effects are postponed for as long as it lives, also when a change panics.
struct Postponing<'a>(&'a Service);

impl<'a> Postponing<'a> {
    fn begin(service: &'a Service) -> Self {
        *lock(&service.postponed) = Some(Postponed::default());
        Self(service)
    }

    fn end(self) -> Postponed {
        lock(&self.0.postponed).take().unwrap_or_default()
    }
}

impl Drop for Postponing<'_> {
    fn drop(&mut self) {
        lock(&self.0.postponed).take();
    }
}

/// Each effect once: what ends comes first, and relays are brought up with everything they need.
fn in_order(mut effects: Vec<Effect>) -> Vec<Effect> {
    let rank = |effect: &Effect| match effect {
        Effect::Withdraw(name) => (0, name.clone()),
        Effect::UpdateFeed(name) => (1, name.clone()),
        Effect::Apply(name) => (2, name.clone()),
    };
    effects.sort_by_key(rank);
    effects.dedup();
    effects
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_group_reads_only_the_relays_it_names() {
        let mut refresh = Refresh::default();
        refresh.add("b");
        refresh.add("a");
        refresh.add("b");
        assert_eq!(refresh, Refresh::Only(BTreeSet::from(["a".to_owned(), "b".to_owned()])));
        refresh = Refresh::All;
        refresh.add("a");
        assert_eq!(refresh, Refresh::All, "a change of all is not narrowed");
    }

    #[test]
    fn effects_come_once_and_what_ends_comes_first() {
        let (apply, update) = (Effect::Apply("a".into()), Effect::UpdateFeed("f".into()));
        let withdraw = Effect::Withdraw("b".into());
        let effects = vec![apply.clone(), update.clone(), apply.clone(), withdraw.clone()];
        assert_eq!(in_order(effects), [withdraw, update, apply]);
    }
}
