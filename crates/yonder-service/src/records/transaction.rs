//! Transactions: changes of the records that are committed together, and their effects on the engine.

use std::cell::RefCell;
use std::collections::BTreeSet;
use std::ops::Deref;

use yonder_api::Relay;
use yonder_store::Fate;

use super::Records;
use crate::error::ServiceError;

/// A consequence of a change of the records for the engine.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Effect {
    /// A running feed takes over its stored settings.
    UpdateFeed(String),
    /// A relay ends.
    Withdraw(String),
    /// The decoded holding picture of a relay is dropped.
    ForgetPicture(String),
    /// A relay takes over its stored settings and desired state.
    Apply(String),
}

/// An open transaction, with the write lock. Reads through [`Records`] see its own changes.
#[derive(Debug)]
pub struct Transaction<'a> {
    records: &'a Records,
    pending: RefCell<Pending>,
}

impl Deref for Transaction<'_> {
    type Target = Records;

    fn deref(&self) -> &Records {
        self.records
    }
}

impl Transaction<'_> {
    /// Adds an effect, which is applied after the commit.
    pub(crate) fn add_effect(&self, effect: Effect) {
        self.pending.borrow_mut().effects.push(effect);
    }

    /// Notes that the relay `name` alone has changed.
    pub(crate) fn mark_relay(&self, name: &str) {
        self.pending.borrow_mut().refresh.add(name);
    }

    /// Notes that any relay may have changed.
    pub(crate) fn mark_all_relays(&self) {
        self.pending.borrow_mut().refresh = Refresh::All;
    }

    /// One relay, with the changes of this transaction.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or when the records cannot be read.
    pub fn relay(&self, name: &str) -> Result<Relay, ServiceError> {
        let relay = self.store.relay(name).map_err(|error| self.explain(error))?;
        Ok(self.view(&relay))
    }
}

/// Work after the commit of a transaction.
#[derive(Debug, Default)]
struct Pending {
    effects: Vec<Effect>,
    refresh: Refresh,
}

/// Records that are read again after a transaction.
#[derive(Debug, Default, PartialEq, Eq)]
enum Refresh {
    /// Nothing was named: everything is read.
    #[default]
    Unspecified,
    /// These relays alone have changed.
    Only(BTreeSet<String>),
    /// Any relay may have changed.
    All,
}

impl Refresh {
    /// Adds the relay `name`.
    fn add(&mut self, name: &str) {
        match self {
            Self::All => {}
            Self::Only(names) => {
                names.insert(name.to_owned());
            }
            Self::Unspecified => *self = Self::Only(BTreeSet::from([name.to_owned()])),
        }
    }
}

impl Records {
    /// Runs `act` in a transaction. After a commit, `apply` is called with the value and the effects, in the order in which they
    /// belong, while the write lock is still held; after a rollback it is not called.
    ///
    /// # Errors
    /// The error of `act`, or when the records cannot be written; then nothing is changed.
    pub(crate) fn transaction<T>(
        &self,
        act: impl FnOnce(&Transaction<'_>) -> Result<Fate<T>, ServiceError>,
        apply: impl FnOnce(&T, Vec<Effect>),
    ) -> Result<T, ServiceError> {
        let _changing = self.lock_changes();
        let transaction = Transaction { records: self, pending: RefCell::default() };
        let mut is_committed = false;
        let value: T = self.store.together(|| {
            let fate = act(&transaction)?;
            is_committed = matches!(fate, Fate::Keep(_));
            Ok::<_, ServiceError>(fate)
        })?;
        if is_committed {
            let Pending { effects, refresh } = transaction.pending.into_inner();
            let refreshed = match refresh {
                Refresh::Only(names) => names.iter().try_for_each(|name| self.refresh_relay(name)),
                Refresh::Unspecified | Refresh::All => self.refresh_all(),
            };
            // The change is committed all the same.
            if let Err(error) = refreshed {
                tracing::error!(%error, "records could not be read after a change");
            }
            apply(&value, in_order(effects));
        }
        Ok(value)
    }

    /// Runs a transaction without effects on the engine.
    ///
    /// # Errors
    /// As [`Records::transaction`].
    pub(crate) fn write<T>(
        &self,
        act: impl FnOnce(&Transaction<'_>) -> Result<T, ServiceError>,
    ) -> Result<T, ServiceError> {
        let unexpected = |_: &T, effects: Vec<Effect>| debug_assert!(effects.is_empty(), "{effects:?}");
        self.transaction(|transaction| act(transaction).map(Fate::Keep), unexpected)
    }
}

/// Returns each effect once: first what ends, then feeds, then relays.
fn in_order(mut effects: Vec<Effect>) -> Vec<Effect> {
    let rank = |effect: &Effect| match effect {
        Effect::Withdraw(name) => (0, name.clone()),
        Effect::ForgetPicture(name) => (1, name.clone()),
        Effect::UpdateFeed(name) => (2, name.clone()),
        Effect::Apply(name) => (3, name.clone()),
    };
    effects.sort_by_key(rank);
    effects.dedup();
    effects
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_named_relays_are_refreshed() {
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
