//! Cache of sessions and tokens, so that most requests do not read the records.

use std::collections::HashMap;
use std::time::{Duration, Instant};

use secrecy::{ExposeSecret as _, SecretString};
use sha2::{Digest as _, Sha256};

/// TTL of an entry, after which a removal by another process takes effect.
const TTL: Duration = Duration::from_secs(5);
/// Maximum number of entries.
const MAX_ENTRIES: usize = 1_000;

/// Values by the hashes of their tokens.
#[derive(Debug)]
pub(crate) struct TokenCache<T> {
    entries: HashMap<[u8; 32], (Instant, T)>,
    generation: u64,
}

impl<T> Default for TokenCache<T> {
    fn default() -> Self {
        Self { entries: HashMap::new(), generation: 0 }
    }
}

impl<T: Clone> TokenCache<T> {
    /// Returns the value of a token, unless it is missing or expired.
    pub(crate) fn get(&self, token: &SecretString, now: Instant) -> Option<T> {
        let (read_at, value) = self.entries.get(&hash(token))?;
        (now.saturating_duration_since(*read_at) < TTL).then(|| value.clone())
    }

    /// Returns a generation number that each [`TokenCache::clear`] changes. Must be read before a value is read from
    /// the records.
    pub(crate) fn generation(&self) -> u64 {
        self.generation
    }

    /// Caches the value of a token, unless the cache was cleared since `generation`: then the value may be older than
    /// the change.
    pub(crate) fn insert(&mut self, token: &SecretString, value: T, generation: u64, now: Instant) {
        if generation != self.generation {
            return;
        }
        if self.entries.len() >= MAX_ENTRIES {
            self.entries.retain(|_, (read_at, _)| now.saturating_duration_since(*read_at) < TTL);
        }
        if self.entries.len() < MAX_ENTRIES {
            self.entries.insert(hash(token), (now, value));
        }
    }

    /// Removes all entries after a change of a session, a token or a person.
    pub(crate) fn clear(&mut self) {
        self.entries.clear();
        self.generation += 1;
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
        cache.insert(&token, 7, 0, now);
        assert_eq!(cache.get(&token, now), Some(7));
        assert_eq!(cache.get(&"another".into(), now), None);
        assert_eq!(cache.get(&token, now + TTL), None);
        cache.insert(&token, 8, 0, now);
        cache.clear();
        assert_eq!(cache.get(&token, now), None);
    }

    #[test]
    fn a_value_read_before_a_change_is_not_kept() {
        let (mut cache, now) = (TokenCache::default(), Instant::now());
        let (token, before) = (SecretString::from("a token"), cache.generation());
        cache.clear();
        cache.insert(&token, "removed meanwhile", before, now);
        assert_eq!(cache.get(&token, now), None);
        cache.insert(&token, "still there", cache.generation(), now);
        assert_eq!(cache.get(&token, now), Some("still there"));
    }

    #[test]
    fn number_of_entries_is_bounded() {
        let (mut cache, now) = (TokenCache::default(), Instant::now());
        for at in 0..2 * MAX_ENTRIES {
            cache.insert(&format!("token {at}").into(), at, 0, now);
        }
        assert_eq!(cache.entries.len(), MAX_ENTRIES);
        cache.insert(&"later".into(), 0, 0, now + TTL);
        assert_eq!(cache.entries.len(), 1);
    }
}
