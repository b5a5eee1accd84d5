//! Entry points for untrusted bytes, one for each parser of received data. A test runs them over a corpus, `cargo run
//! --release -p yonder-fuzz` over millions of mutations, and `cargo fuzz` with its own (see `targets/`).

mod corpus;
mod entries;
mod mutate;

pub use corpus::seeds;
pub use entries::{ENTRIES, Entry};
pub use mutate::Mutator;
