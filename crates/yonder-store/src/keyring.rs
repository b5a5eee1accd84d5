//! Master key in use, with its rotation and losses.

use std::collections::HashMap;

use parking_lot::Mutex;

use crate::seal::MasterKey;

/// Master key in use, and the secrets that it cannot decrypt.
#[derive(Debug)]
pub(crate) struct Keyring {
    pub(crate) current: MasterKey,
    /// Other key of a rotation in progress, for secrets that were read before.
    pub(crate) other: Option<MasterKey>,
    /// Sealed bytes that could not be decrypted, by label: a secret that is set again has other bytes.
    pub(crate) lost: HashMap<String, Vec<u8>>,
}

impl Keyring {
    pub(crate) fn new(current: MasterKey) -> Mutex<Self> {
        Mutex::new(Self { current, other: None, lost: HashMap::new() })
    }
}
