//! Transactions: changes of the records that are committed together, and the resulting actions of the engine.

use std::cell::RefCell;
use std::collections::BTreeSet;
use std::ops::Deref;

use yonder_api::Relay;
use yonder_store::Outcome;

use super::Records;
use crate::error::ServiceError;

/// Action of the engine after a change of the records.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum EngineAction {
    /// Apply the stored settings of a running feed.
    UpdateFeed(String),
    /// End a feed that encoders publish to, under this name.
    EndFeed(String),
    /// Withdraw a relay.
    Withdraw(String),
    /// Drop the decoded holding picture of a relay.
    ForgetPicture(String),
    /// Apply the stored settings and the desired state of a relay.
    Apply(String),
}

/// Open transaction, with the write lock. Reads through [`Records`] include its changes.
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
    /// Adds an action, which is applied after the commit.
    pub(crate) fn add_action(&self, action: EngineAction) {
        self.pending.borrow_mut().actions.push(action);
    }

    /// Marks the relay `name` as changed.
    pub(crate) fn mark_relay(&self, name: &str) {
        self.pending.borrow_mut().refresh.add(name);
    }

    /// Marks all relays as possibly changed.
    pub(crate) fn mark_all_relays(&self) {
        self.pending.borrow_mut().refresh = Refresh::All;
    }

    /// Returns a relay, including the changes of this transaction.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or if the records cannot be read.
    pub fn relay(&self, name: &str) -> Result<Relay, ServiceError> {
        let relay = self.store.relay(name).map_err(|error| self.explain(error))?;
        Ok(self.view(&relay))
    }
}

/// Work after the commit of a transaction.
#[derive(Debug, Default)]
struct Pending {
    actions: Vec<EngineAction>,
    refresh: Refresh,
}

/// Copies to be refreshed after a transaction.
#[derive(Debug, Default, PartialEq, Eq)]
enum Refresh {
    /// Not specified: everything is refreshed.
    #[default]
    Unspecified,
    /// Only these relays have changed.
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
    /// Runs `act` in a transaction. After a commit, `apply` is called with the value and the actions, in their order of
    /// application, under the write lock; not after a rollback.
    ///
    /// # Errors
    /// The error of `act`, or if the records cannot be written; nothing is changed then.
    pub fn transaction<T>(
        &self,
        act: impl FnOnce(&Transaction<'_>) -> Result<Outcome<T>, ServiceError>,
        apply: impl FnOnce(&T, Vec<EngineAction>),
    ) -> Result<T, ServiceError> {
        let _changing = self.lock_changes();
        let transaction = Transaction { records: self, pending: RefCell::default() };
        let mut is_committed = false;
        let value: T = self.store.transaction(|| {
            let outcome = act(&transaction)?;
            is_committed = matches!(outcome, Outcome::Commit(_));
            Ok::<_, ServiceError>(outcome)
        })?;
        if is_committed {
            let Pending { actions, refresh } = transaction.pending.into_inner();
            let refreshed = match refresh {
                Refresh::Only(names) => names.iter().try_for_each(|name| self.refresh_relay(name)),
                Refresh::Unspecified | Refresh::All => self.refresh_all(),
            };
            // The change is committed, even if the refresh fails.
            if let Err(error) = refreshed {
                tracing::error!(%error, "records could not be read after a change");
            }
            apply(&value, dedup_and_order(actions));
        }
        Ok(value)
    }

    /// Runs a transaction without actions of the engine.
    ///
    /// # Errors
    /// As [`Records::transaction`].
    pub fn write<T>(
        &self,
        act: impl FnOnce(&Transaction<'_>) -> Result<T, ServiceError>,
    ) -> Result<T, ServiceError> {
        let unexpected = |_: &T, actions: Vec<EngineAction>| debug_assert!(actions.is_empty(), "{actions:?}");
        self.transaction(|transaction| act(transaction).map(Outcome::Commit), unexpected)
    }
}

/// Removes duplicates and orders actions: withdrawals, feeds, relays.
fn dedup_and_order(mut actions: Vec<EngineAction>) -> Vec<EngineAction> {
    let rank = |action: &EngineAction| match action {
        EngineAction::Withdraw(name) => (0, name.clone()),
        EngineAction::EndFeed(name) => (1, name.clone()),
        EngineAction::ForgetPicture(name) => (2, name.clone()),
        EngineAction::UpdateFeed(name) => (3, name.clone()),
        EngineAction::Apply(name) => (4, name.clone()),
    };
    actions.sort_by_key(rank);
    actions.dedup();
    actions
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
    fn actions_are_deduplicated_and_withdrawals_come_first() {
        let (apply, update) = (EngineAction::Apply("a".into()), EngineAction::UpdateFeed("f".into()));
        let withdraw = EngineAction::Withdraw("b".into());
        let actions = vec![apply.clone(), update.clone(), apply.clone(), withdraw.clone()];
        assert_eq!(dedup_and_order(actions), [withdraw, update, apply]);
    }
}
