//! Wrong stream keys and passphrases of encoders, for logbook and alerts.

use std::collections::VecDeque;

use yonder_ingest::IngestCounts;

/// Period over which wrong keys are counted, in milliseconds: 10 minutes.
const WINDOW_MS: i64 = 10 * 60_000;
/// Wrong keys within the period that are reported.
const MIN_WRONG_KEYS: u64 = 5;

/// Wrong keys in the last minutes.
#[derive(Debug, Default)]
pub(super) struct WrongKeys {
    recent: VecDeque<Observed>,
    /// Count since the start of the service, as last seen.
    seen: u64,
    /// Count as last written to the logbook.
    logged: u64,
}

#[derive(Debug)]
struct Observed {
    /// Time in milliseconds since 1970.
    at_ms: i64,
    count: u64,
}

impl WrongKeys {
    /// Returns a logbook line with the wrong keys since the last call, if there were any.
    pub(super) fn take_unlogged(&mut self, counts: IngestCounts) -> Option<String> {
        let new = counts.wrong_key - self.logged;
        let from = counts.last_wrong_key.filter(|_| new > 0)?;
        self.logged = counts.wrong_key;
        Some(format!("{new} with a wrong stream key or passphrase, the last from {from}"))
    }

    /// Returns a message if there were at least [`MIN_WRONG_KEYS`] within the last [`WINDOW_MS`].
    pub(super) fn alert(&mut self, counts: IngestCounts, now_ms: i64) -> Option<String> {
        let new = counts.wrong_key - self.seen;
        self.seen = counts.wrong_key;
        if new > 0 {
            self.recent.push_back(Observed { at_ms: now_ms, count: new });
        }
        self.recent.retain(|observed| now_ms - observed.at_ms < WINDOW_MS);
        let sum: u64 = self.recent.iter().map(|observed| observed.count).sum();
        let from = counts.last_wrong_key.filter(|_| sum >= MIN_WRONG_KEYS)?;
        Some(format!(
            "Encoders with a wrong stream key or passphrase were refused {sum} times within 10 minutes, the last from {from}."
        ))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn counts(wrong_key: u64) -> IngestCounts {
        let from = (wrong_key > 0).then(|| "192.0.2.9".parse().unwrap());
        IngestCounts { wrong_key, last_wrong_key: from, ..IngestCounts::default() }
    }

    #[test]
    fn five_wrong_keys_within_ten_minutes_are_an_alert_until_the_window_has_passed() {
        let mut keys = WrongKeys::default();
        assert_eq!(keys.alert(counts(0), 0), None);
        assert_eq!(keys.alert(counts(4), 1_000), None);
        let message = keys.alert(counts(5), WINDOW_MS).unwrap();
        assert!(message.contains("refused 5 times") && message.contains("192.0.2.9"), "{message}");
        assert!(keys.alert(counts(5), WINDOW_MS + 999).is_some());
        assert_eq!(keys.alert(counts(5), WINDOW_MS + 1_000), None, "four of them are older than the window");
        assert!(keys.alert(counts(9), WINDOW_MS + 2_000).is_some());
    }

    #[test]
    fn each_wrong_key_is_logged_once() {
        let mut keys = WrongKeys::default();
        assert_eq!(keys.take_unlogged(counts(0)), None);
        assert!(keys.take_unlogged(counts(3)).unwrap().starts_with("3 with a wrong stream key"));
        assert_eq!(keys.take_unlogged(counts(3)), None);
        assert!(keys.take_unlogged(counts(4)).unwrap().starts_with("1 with"));
    }
}
