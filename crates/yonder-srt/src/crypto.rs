//! Encryption (section 6): key derivation, key wrapping, and the cipher of data packets.

use std::fmt;

use aes::cipher::{KeyInit as _, KeyIvInit as _, StreamCipher as _};
use aes::{Aes128, Aes192, Aes256};
use aes_kw::{KwAes128, KwAes192, KwAes256};
use bytes::{Bytes, BytesMut};
use ctr::Ctr128BE;
use sha1::Sha1;
use yonder_address::{KeyLength, Passphrase};
use zeroize::Zeroizing;

use crate::packet::{KeyMaterial, SALT, Slot};

/// Source of cryptographically secure random bytes.
pub type Entropy = Box<dyn FnMut(&mut [u8]) + Send>;

/// Rounds of the key derivation (6.1.4).
const ROUNDS: u32 = 2048;
/// Bytes added by key wrapping (RFC 3394, 2.2.1).
const WRAP: usize = 8;

/// Schedule of key changes (6.1.6).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct KeyRefresh {
    /// Packets per key.
    pub every: u64,
    /// Packets before the change at which the next key is announced, and after it for which the old one is kept.
    pub announce: u64,
}

impl Default for KeyRefresh {
    fn default() -> Self {
        Self { every: 1 << 24, announce: 1 << 12 }
    }
}

type Key = Zeroizing<Vec<u8>>;

/// Keys of a connection.
pub(crate) struct KeyRing {
    passphrase: Passphrase,
    length: KeyLength,
    salt: [u8; SALT],
    /// Key-encrypting key, derived from passphrase and salt.
    outer: Key,
    even: Option<Key>,
    odd: Option<Key>,
}

impl fmt::Debug for KeyRing {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("KeyRing").field("length", &self.length).finish_non_exhaustive()
    }
}

impl KeyRing {
    /// Generates new keys, for the side that sends.
    pub(crate) fn generate(passphrase: Passphrase, length: KeyLength, entropy: &mut Entropy) -> Self {
        let mut salt = [0; SALT];
        entropy(&mut salt);
        let outer = derive(&passphrase, &salt, length);
        let mut ring = Self { passphrase, length, salt, outer, even: None, odd: None };
        ring.renew(Slot::Even, entropy);
        ring
    }

    /// Unwraps the keys of a peer; `None` if the passphrase is wrong.
    pub(crate) fn open(passphrase: Passphrase, material: &KeyMaterial) -> Option<Self> {
        let length = KeyLength::ALL.into_iter().find(|length| length.bytes() == material.key_bytes)?;
        let outer = derive(&passphrase, &material.salt, length);
        let mut ring = Self { passphrase, length, salt: material.salt, outer, even: None, odd: None };
        ring.take(material).then_some(ring)
    }

    /// Applies later key material. Returns false if the passphrase is wrong.
    pub(crate) fn take(&mut self, material: &KeyMaterial) -> bool {
        if material.key_bytes != self.length.bytes() {
            return false;
        }
        if material.salt != self.salt {
            self.salt = material.salt;
            self.outer = derive(&self.passphrase, &self.salt, self.length);
        }
        let Some(keys) = unwrap(&self.outer, &material.wrapped) else { return false };
        let mut keys = keys.chunks(material.key_bytes).map(|key| Zeroizing::new(key.to_vec()));
        if material.slots & Slot::Even.bits() != 0 {
            self.even = keys.next();
        }
        if material.slots & Slot::Odd.bits() != 0 {
            self.odd = keys.next();
        }
        true
    }

    /// Generates a new key for a slot.
    pub(crate) fn renew(&mut self, slot: Slot, entropy: &mut Entropy) {
        let mut key = Zeroizing::new(vec![0; self.length.bytes()]);
        entropy(&mut key);
        *self.slot(slot) = Some(key);
    }

    /// Forgets a key.
    pub(crate) fn forget(&mut self, slot: Slot) {
        *self.slot(slot) = None;
    }

    fn slot(&mut self, slot: Slot) -> &mut Option<Key> {
        match slot {
            Slot::Even => &mut self.even,
            Slot::Odd => &mut self.odd,
        }
    }

    fn key(&self, slot: Slot) -> Option<&Key> {
        match slot {
            Slot::Even => self.even.as_ref(),
            Slot::Odd => self.odd.as_ref(),
        }
    }

    /// Returns the key material message.
    pub(crate) fn material(&self) -> Option<KeyMaterial> {
        let mut slots = 0;
        let mut keys = Zeroizing::new(Vec::new());
        for slot in [Slot::Even, Slot::Odd] {
            if let Some(key) = self.key(slot) {
                slots |= slot.bits();
                keys.extend_from_slice(key);
            }
        }
        let wrapped = wrap(&self.outer, &keys)?;
        Some(KeyMaterial { slots, salt: self.salt, key_bytes: self.length.bytes(), wrapped })
    }

    /// Encrypts or decrypts the payload of the packet with this sequence number, by the same operation. `None` if the
    /// key is unknown.
    pub(crate) fn apply(&self, slot: Slot, sequence: u32, payload: &[u8]) -> Option<Bytes> {
        let key = self.key(slot)?;
        // 6.2.2: the upper 112 bits of the salt, XORed with the sequence number in their last 32, and a 16-bit block counter.
        let mut counter = [0; SALT];
        let (upper, _) = counter.split_at_mut(14);
        upper.copy_from_slice(self.salt.get(..14)?);
        for (byte, own) in upper.iter_mut().skip(10).zip(sequence.to_be_bytes()) {
            *byte ^= own;
        }
        let mut out = BytesMut::from(payload);
        match self.length {
            KeyLength::Aes128 => {
                Ctr128BE::<Aes128>::new_from_slices(key, &counter).ok()?.apply_keystream(&mut out);
            }
            KeyLength::Aes192 => {
                Ctr128BE::<Aes192>::new_from_slices(key, &counter).ok()?.apply_keystream(&mut out);
            }
            KeyLength::Aes256 => {
                Ctr128BE::<Aes256>::new_from_slices(key, &counter).ok()?.apply_keystream(&mut out);
            }
        }
        Some(out.freeze())
    }
}

/// PBKDF2 with HMAC-SHA-1 over the last eight bytes of the salt (6.1.4).
fn derive(passphrase: &Passphrase, salt: &[u8; SALT], length: KeyLength) -> Key {
    let mut key = Zeroizing::new(vec![0; length.bytes()]);
    let salt = salt.get(SALT - 8..).unwrap_or_default();
    pbkdf2::pbkdf2_hmac::<Sha1>(passphrase.expose().as_bytes(), salt, ROUNDS, &mut key);
    key
}

fn wrap(outer: &[u8], keys: &[u8]) -> Option<Bytes> {
    let mut out = vec![0; keys.len() + WRAP];
    match outer.len() {
        16 => KwAes128::new_from_slice(outer).ok()?.wrap_key(keys, &mut out).ok()?,
        24 => KwAes192::new_from_slice(outer).ok()?.wrap_key(keys, &mut out).ok()?,
        _ => KwAes256::new_from_slice(outer).ok()?.wrap_key(keys, &mut out).ok()?,
    };
    Some(out.into())
}

fn unwrap(outer: &[u8], wrapped: &[u8]) -> Option<Key> {
    let mut out = Zeroizing::new(vec![0; wrapped.len().checked_sub(WRAP)?]);
    match outer.len() {
        16 => KwAes128::new_from_slice(outer).ok()?.unwrap_key(wrapped, &mut out).ok()?,
        24 => KwAes192::new_from_slice(outer).ok()?.unwrap_key(wrapped, &mut out).ok()?,
        _ => KwAes256::new_from_slice(outer).ok()?.unwrap_key(wrapped, &mut out).ok()?,
    };
    Some(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn bytes(hex: &str) -> Vec<u8> {
        (0..hex.len()).step_by(2).map(|at| u8::from_str_radix(&hex[at..at + 2], 16).unwrap()).collect()
    }

    /// RFC 3394, section 4.
    #[rstest]
    #[case::of_128_with_128(
        "000102030405060708090A0B0C0D0E0F",
        "00112233445566778899AABBCCDDEEFF",
        "1FA68B0A8112B447AEF34BD8FB5A7B829D3E862371D2CFE5"
    )]
    #[case::of_192_with_192(
        "000102030405060708090A0B0C0D0E0F1011121314151617",
        "00112233445566778899AABBCCDDEEFF0001020304050607",
        "031D33264E15D33268F24EC260743EDCE1C6C7DDEE725A936BA814915C6762D2"
    )]
    #[case::of_256_with_256(
        "000102030405060708090A0B0C0D0E0F101112131415161718191A1B1C1D1E1F",
        "00112233445566778899AABBCCDDEEFF000102030405060708090A0B0C0D0E0F",
        "28C9F404C4B810F4CBCCB35CFB87F8263F5786E2D80ED326CBC7F0E71A99F43BFB988B9B7A02DD21"
    )]
    fn keys_are_wrapped_as_the_rfc_shows(#[case] outer: &str, #[case] keys: &str, #[case] wrapped: &str) {
        assert_eq!(wrap(&bytes(outer), &bytes(keys)).unwrap()[..], bytes(wrapped));
        assert_eq!(**unwrap(&bytes(outer), &bytes(wrapped)).unwrap(), bytes(keys));
    }

    /// RFC 6070, third vector: PBKDF2 with HMAC-SHA-1.
    #[test]
    fn key_derivation_matches_the_rfc() {
        let mut key = [0; 20];
        pbkdf2::pbkdf2_hmac::<Sha1>(b"password", b"salt", 4096, &mut key);
        assert_eq!(key[..], bytes("4b007901b765489abead49d926f721d065a429c1"));
    }

    fn ring(passphrase: &str, length: KeyLength) -> KeyRing {
        let mut next = 0_u8;
        let mut entropy: Entropy = Box::new(move |out| {
            out.iter_mut().for_each(|byte| {
                next = next.wrapping_mul(73).wrapping_add(41);
                *byte = next;
            });
        });
        KeyRing::generate(Passphrase::parse(passphrase).unwrap(), length, &mut entropy)
    }

    #[rstest]
    #[case(KeyLength::Aes128)]
    #[case(KeyLength::Aes192)]
    #[case(KeyLength::Aes256)]
    fn encrypted_payload_is_decrypted_by_the_peer(#[case] length: KeyLength) {
        let sender = ring("a passphrase of ours", length);
        let material = sender.material().unwrap();
        let receiver = KeyRing::open(Passphrase::parse("a passphrase of ours").unwrap(), &material).unwrap();
        let sealed = sender.apply(Slot::Even, 7, b"transport packets").unwrap();
        assert_ne!(sealed[..], b"transport packets"[..]);
        assert_eq!(receiver.apply(Slot::Even, 7, &sealed).unwrap()[..], b"transport packets"[..]);
        assert_ne!(sender.apply(Slot::Even, 8, b"transport packets").unwrap(), sealed);
        assert!(KeyRing::open(Passphrase::parse("another passphrase").unwrap(), &material).is_none());
    }

    /// NIST SP 800-38A, F.5.1: the counter block of the example is used as salt.
    #[test]
    fn the_cipher_is_aes_in_counter_mode() {
        let mut ring = ring("a passphrase of ours", KeyLength::Aes128);
        ring.even = Some(Zeroizing::new(bytes("2b7e151628aed2a6abf7158809cf4f3c")));
        ring.salt.copy_from_slice(&bytes("f0f1f2f3f4f5f6f7f8f9fafbfcfdfeff"));
        // The block counter begins at zero here, at 0xfeff there: the first block of a packet is encrypted under f0..fd 0000.
        let zeros = ring.apply(Slot::Even, 0, &[0; 16]).unwrap();
        use aes::cipher::{BlockCipherEncrypt as _, array::Array};
        let cipher = Aes128::new_from_slice(&bytes("2b7e151628aed2a6abf7158809cf4f3c")).unwrap();
        let mut block = Array::try_from(&bytes("f0f1f2f3f4f5f6f7f8f9fafbfcfd0000")[..]).unwrap();
        cipher.encrypt_block(&mut block);
        assert_eq!(zeros[..], block[..]);
    }

    #[test]
    fn debug_output_has_no_key() {
        let text = format!("{:?}", ring("a passphrase of ours", KeyLength::Aes128));
        assert_eq!(text, "KeyRing { length: Aes128, .. }");
    }
}
