//! The corpus and some thousands of its mutations, as an ordinary test.

use yonder_fuzz::{ENTRIES, Mutator, seeds};

/// Mutations of each entry point's corpus.
const MUTATIONS: usize = 4_000;

#[test]
fn corpus_and_its_mutations_are_handled() {
    for entry in ENTRIES {
        let seeds = seeds(entry.name);
        assert!(!seeds.is_empty(), "{} has no corpus", entry.name);
        for seed in &seeds {
            (entry.run)(seed);
            for length in 0..seed.len() {
                (entry.run)(&seed[..length]);
            }
        }
        let mut mutator = Mutator::new(7);
        for _ in 0..MUTATIONS {
            (entry.run)(&mutator.input(&seeds));
        }
    }
}
