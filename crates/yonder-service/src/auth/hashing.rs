//! Bounded hashing of passwords: Argon2 takes 19 MiB and tens of milliseconds of a core, which unauthenticated clients
//! can request.

use parking_lot::{Condvar, Mutex};
use yonder_records::ServiceError;

/// Maximum concurrent hashes.
const MAX_RUNNING: usize = 1;
/// Maximum waiting requests.
const MAX_WAITING: usize = 16;
/// `Retry-After` of a refused request, in seconds.
const RETRY_AFTER_S: u64 = 2;

/// Queue of hash computations.
#[derive(Debug, Default)]
pub(super) struct Hashing {
    turns: Mutex<Turns>,
    ended: Condvar,
}

#[derive(Debug, Default)]
struct Turns {
    running: usize,
    waiting: usize,
}

impl Hashing {
    /// Computes a hash when it is its turn. Blocks.
    ///
    /// # Errors
    /// [`ServiceError::TooManyAttempts`] if too many are waiting, and the error of `hash`.
    pub(super) fn run<T>(&self, hash: impl FnOnce() -> Result<T, ServiceError>) -> Result<T, ServiceError> {
        let mut turns = self.turns.lock();
        if turns.waiting >= MAX_WAITING {
            return Err(ServiceError::TooManyAttempts(RETRY_AFTER_S));
        }
        turns.waiting += 1;
        while turns.running >= MAX_RUNNING {
            self.ended.wait(&mut turns);
        }
        turns.waiting -= 1;
        turns.running += 1;
        drop(turns);
        let _turn = Turn(self);
        hash()
    }
}

/// Turn in the queue, which ends on drop.
struct Turn<'a>(&'a Hashing);

impl Drop for Turn<'_> {
    fn drop(&mut self) {
        self.0.turns.lock().running -= 1;
        self.0.ended.notify_one();
    }
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::{AtomicUsize, Ordering};
    use std::thread;
    use std::time::Duration;

    use super::*;

    #[test]
    fn one_hash_runs_at_a_time_and_those_beyond_the_queue_are_refused() {
        let (hashing, running, most) = (Hashing::default(), AtomicUsize::new(0), AtomicUsize::new(0));
        let hash = || {
            most.fetch_max(running.fetch_add(1, Ordering::SeqCst) + 1, Ordering::SeqCst);
            thread::sleep(Duration::from_millis(5));
            running.fetch_sub(1, Ordering::SeqCst);
            Ok(())
        };
        let refused = thread::scope(|scope| {
            let all: Vec<_> = (0..100).map(|_| scope.spawn(|| hashing.run(hash))).collect();
            all.into_iter().map(|one| one.join().unwrap()).filter(Result::is_err).count()
        });
        assert_eq!(most.load(Ordering::SeqCst), MAX_RUNNING);
        assert!(refused > 0 && refused < 100 - MAX_RUNNING, "{refused}");
        assert!(hashing.run(|| Ok(())).is_ok(), "all turns have ended");
    }

    #[test]
    fn panic_releases_its_turn() {
        let hashing = Hashing::default();
        thread::scope(|scope| {
            let one = scope.spawn(|| hashing.run(|| -> Result<(), ServiceError> { panic!("in a hash") }));
            assert!(one.join().is_err());
        });
        assert!(hashing.run(|| Ok(())).is_ok());
    }
}
