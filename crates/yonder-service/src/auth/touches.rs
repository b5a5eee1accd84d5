//! When the use of sessions and tokens was last recorded.

use std::collections::HashMap;

/// Interval at which use is recorded, in seconds.
const INTERVAL_S: i64 = 60;
/// Subjects that are remembered at most.
const MAX_SUBJECTS: usize = 10_000;

/// Times of the last attempts to record that a session or a token is in use.
///
/// An attempt counts whatever becomes of it: while the records are locked, not every request shall wait for them.
#[derive(Debug, Default)]
pub(crate) struct Touches(HashMap<String, i64>);

impl Touches {
    /// True if the use of `subject` is to be recorded now; the attempt counts as made.
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
