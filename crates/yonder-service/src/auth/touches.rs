//! Throttling of writes of the last use of sessions and tokens.

use std::collections::HashMap;

/// Minimum interval of writes, in seconds.
const INTERVAL_S: i64 = 60;
/// Maximum number of subjects.
const MAX_SUBJECTS: usize = 10_000;

/// Times of the last attempts to write the last use of a session or a token.
///
/// Failed attempts count as well: while the database is locked, not every request may wait for it.
#[derive(Debug, Default)]
pub(crate) struct Touches(HashMap<String, i64>);

impl Touches {
    /// Returns true if the use of `subject` must be written now, and records the attempt.
    pub(crate) fn is_due(&mut self, subject: &str, now_s: i64) -> bool {
        let is_recent = |at: &i64| (0..INTERVAL_S).contains(&(now_s - at));
        if self.0.get(subject).is_some_and(is_recent) {
            return false;
        }
        if self.0.len() >= MAX_SUBJECTS {
            self.0.retain(|_, at| is_recent(at));
        }
        self.0.insert(subject.to_owned(), now_s);
        true
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_attempt_is_due_once_a_minute_also_after_the_clock_was_set_back() {
        let mut touches = Touches::default();
        assert!(touches.is_due("a", 100) && touches.is_due("b", 100));
        assert!(!touches.is_due("a", 159));
        assert!(touches.is_due("a", 160));
        assert!(touches.is_due("a", 10));
    }
}
