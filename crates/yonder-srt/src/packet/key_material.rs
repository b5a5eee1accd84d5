//! Key material messages (3.2.2).

use std::fmt;

use bytes::{Buf as _, BufMut as _, Bytes, BytesMut};

use super::HeaderError;

/// Version 1, packet type 2 (key material).
const VERSION_AND_TYPE: u8 = 0x12;
/// Signature of the message, the vendor ID "HAI".
const SIGN: u16 = 0x2029;
/// AES-CTR.
const CIPHER: u8 = 2;
/// MPEG-TS over SRT.
const ENCAPSULATION: u8 = 2;
/// Length of the salt.
pub(crate) const SALT: usize = 16;
/// Bytes added by key wrapping (RFC 3394: one block of integrity check).
const WRAP: usize = 8;

/// One of the two keys of a connection (KK).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Slot {
    Even,
    Odd,
}

impl Slot {
    pub(crate) fn bits(self) -> u8 {
        match self {
            Self::Even => 1,
            Self::Odd => 2,
        }
    }

    pub(crate) fn other(self) -> Self {
        match self {
            Self::Even => Self::Odd,
            Self::Odd => Self::Even,
        }
    }
}

/// Reason for not accepting key material (3.2.2: the state in a one-word response).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum KeyState {
    NoSecret,
    BadSecret,
}

impl KeyState {
    pub(crate) fn code(self) -> u32 {
        match self {
            Self::NoSecret => 3,
            Self::BadSecret => 4,
        }
    }
}

/// Wrapped keys, with the parameters to unwrap them by the passphrase.
#[derive(Clone, PartialEq, Eq)]
pub struct KeyMaterial {
    /// KK: 1 even, 2 odd, 3 both.
    pub(crate) slots: u8,
    pub(crate) salt: [u8; SALT],
    /// Length of a key, in bytes.
    pub(crate) key_bytes: usize,
    pub(crate) wrapped: Bytes,
}

impl fmt::Debug for KeyMaterial {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("KeyMaterial")
            .field("slots", &self.slots)
            .field("key_bytes", &self.key_bytes)
            .finish_non_exhaustive()
    }
}

impl KeyMaterial {
    pub(crate) fn put(&self, out: &mut BytesMut) {
        out.put_u8(VERSION_AND_TYPE);
        out.put_u16(SIGN);
        out.put_u8(self.slots);
        out.put_u32(0); // KEKI: the passphrase's key
        out.put_slice(&[CIPHER, 0, ENCAPSULATION, 0, 0, 0]);
        out.put_u8(word_count(SALT));
        out.put_u8(word_count(self.key_bytes));
        out.put_slice(&self.salt);
        out.put_slice(&self.wrapped);
    }

    pub(crate) fn read(mut data: &[u8]) -> Result<Self, HeaderError> {
        if data.len() < 16 + SALT {
            return Err(HeaderError::Short);
        }
        if data.get_u8() & 0x7f != VERSION_AND_TYPE || data.get_u16() != SIGN {
            return Err(HeaderError::Field("Sign"));
        }
        let slots = data.get_u8() & 3;
        data.advance(4);
        if data.get_u8() != CIPHER {
            return Err(HeaderError::Field("Cipher"));
        }
        data.advance(5);
        if data.get_u8() != word_count(SALT) {
            return Err(HeaderError::Field("SLen"));
        }
        let key_bytes = usize::from(data.get_u8()) * 4;
        if !matches!(key_bytes, 16 | 24 | 32) {
            return Err(HeaderError::Field("KLen"));
        }
        let mut salt = [0; SALT];
        data.copy_to_slice(&mut salt);
        let keys = match slots {
            1 | 2 => 1,
            3 => 2,
            _ => return Err(HeaderError::Field("KK")),
        };
        let wrapped = data.get(..WRAP + keys * key_bytes).ok_or(HeaderError::Short)?;
        Ok(Self { slots, salt, key_bytes, wrapped: Bytes::copy_from_slice(wrapped) })
    }
}

fn word_count(bytes: usize) -> u8 {
    u8::try_from(bytes / 4).unwrap_or_default()
}
