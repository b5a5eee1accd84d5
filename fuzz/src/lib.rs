//! Entry points for hostile bytes: one for everything that reads what a device sends. The same are run over a corpus
//! by an ordinary test, by millions with `cargo run --release -p yonder-fuzz`, and by `cargo fuzz` (see
//! `targets/`).

mod corpus;
mod entries;
mod mutate;

pub use corpus::seeds;
pub use entries::{ENTRIES, Entry};
pub use mutate::Mutator;
