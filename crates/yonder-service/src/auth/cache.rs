//! Cache of sessions and tokens, so that not every request reads the records.

use std::collections::HashMap;
use std::time::{Duration, Instant};

use secrecy::{ExposeSecret as _, SecretString};
use sha2::{Digest as _, Sha256};

/// How long an entry is valid. What is removed elsewhere than in this process ends within this time.
const TTL: Duration = Duration::from_secs(5);
/// Entries that are kept at most.
const MAX_ENTRIES: usize = 1_000;

/// Values by the hashes of their tokens.
#[derive(Debug)]
pub(crate) struct TokenCache<T>(HashMap<[u8; 32], (Instant, T)>);

impl<T> Default for TokenCache<T> {
    fn default() -> Self {
        Self(HashMap::new())
    }
}

impl<T: Clone> TokenCache<T> {
    /// Returns the value of a token that was read lately.
    pub(crate) fn get(&self, token: &SecretString, now: Instant) -> Option<T> {
        let (read_at, value) = self.0.get(&hash(token))?;
        (now.saturating_duration_since(*read_at) < TTL).then(|| value.clone())
    }

    /// Keeps the value of a token for some seconds.
    pub(crate) fn insert(&mut self, token: &SecretString, value: T, now: Instant) {
        if self.0.len() >= MAX_ENTRIES {
            self.0.retain(|_, (read_at, _)| now.saturating_duration_since(*read_at) < TTL);
        }
        if self.0.len() < MAX_ENTRIES {
            self.0.insert(hash(token), (now, value));
        }
    }

    /// Forgets everything: a session, a token or a person has changed.
    pub(crate) fn clear(&mut self) {
        self.0.clear();
    }
}

fn hash(token: &SecretString) -> [u8; 32] {
    Sha256::digest(token.expose_secret()).into()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn entries_end_after_seconds_and_with_a_change() {
        let (mut cache, now) = (TokenCache::default(), Instant::now());
        let token = SecretString::from("a token");
        cache.insert(&token, 7, now);
        assert_eq!(cache.get(&token, now), Some(7));
        assert_eq!(cache.get(&"another".into(), now), None);
        assert_eq!(cache.get(&token, now + TTL), None);
        cache.insert(&token, 8, now);
        cache.clear();
        assert_eq!(cache.get(&token, now), None);
    }

    #[test]
    fn number_of_entries_is_bounded() {
        let (mut cache, now) = (TokenCache::default(), Instant::now());
        for at in 0..2 * MAX_ENTRIES {
            cache.insert(&format!("token {at}").into(), at, now);
        }
        assert_eq!(cache.0.len(), MAX_ENTRIES);
        cache.insert(&"later".into(), 0, now + TTL);
        assert_eq!(cache.0.len(), 1);
    }
}
