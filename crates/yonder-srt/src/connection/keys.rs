//! Key schedule of one connection: the key that encrypts, announcement and activation of the next one, and the keys
//! that decrypt (draft-sharabayko-srt, 6.1.6).

use std::time::Duration;

use bytes::Bytes;

use crate::crypto::{Entropy, KeyRefresh, KeyRing};
use crate::packet::{Control, KeyMaterial, KeyState, Slot};

/// Minimum retransmission interval of a key message.
const KEY_REPEAT: Duration = Duration::from_millis(200);
/// Maximum packets per key. Sequence numbers have 31 bits, beyond which a counter would repeat.
const MAX_PACKETS_PER_KEY: u64 = 1 << 30;

/// Keys of a connection; empty if it is not encrypted.
pub(super) struct KeySchedule {
    ring: Option<KeyRing>,
    /// Key that encrypts.
    active: Slot,
    /// Packets encrypted with it.
    sealed: u64,
    refresh: KeyRefresh,
    /// Entropy source of new keys; `None` on the side that accepts the peer's keys.
    entropy: Option<Entropy>,
    /// Unanswered key message, and its next retransmission.
    unanswered: Option<(KeyMaterial, Duration)>,
}

impl KeySchedule {
    pub(super) fn new(ring: Option<KeyRing>, refresh: KeyRefresh, entropy: Option<Entropy>) -> Self {
        Self { ring, active: Slot::Even, sealed: 0, refresh, entropy, unanswered: None }
    }

    pub(super) fn is_encrypted(&self) -> bool {
        self.ring.is_some()
    }

    /// Returns true if the active key has reached its maximum because the peer has not accepted the next one.
    pub(super) fn is_exhausted(&self) -> bool {
        self.ring.is_some() && self.sealed >= MAX_PACKETS_PER_KEY
    }

    /// Decrypts a payload of the peer; `None` if the key is unknown.
    pub(super) fn open(&self, slot: Slot, sequence: u32, payload: &[u8]) -> Option<Bytes> {
        self.ring.as_ref()?.apply(slot, sequence, payload)
    }

    /// Encrypts the payload of a new packet and returns it with the slot of the key. Advances the schedule.
    pub(super) fn seal(&mut self, sequence: u32, payload: &[u8]) -> Option<(Bytes, Slot)> {
        let slot = self.active;
        let ciphertext = self.ring.as_ref()?.apply(slot, sequence, payload)?;
        self.advance();
        Some((ciphertext, slot))
    }

    /// Announces the next key, activates it, and forgets the old one, each when due.
    fn advance(&mut self) {
        self.sealed += 1;
        let KeyRefresh { every, announce } = self.refresh;
        let (Some(ring), Some(entropy)) = (&mut self.ring, &mut self.entropy) else { return };
        let next = self.active.other();
        if self.sealed == every.saturating_sub(announce) {
            ring.renew(next, entropy);
            self.unanswered = ring.material().map(|material| (material, Duration::ZERO));
        } else if self.sealed >= every && self.unanswered.is_none() {
            self.active = next;
            self.sealed = 0;
        } else if self.sealed == announce {
            // Older packets are past any retransmission; encrypted ones are kept as sent.
            ring.forget(next);
        }
    }

    /// Handles key material of the peer. The side that generates keys keeps its own: a peer must not replace the key
    /// that encrypts.
    pub(super) fn handle_request(&mut self, material: KeyMaterial) -> Control {
        let is_accepted = match (&mut self.ring, &self.entropy) {
            (Some(ring), None) => Some(ring.take(&material)),
            (Some(_), Some(_)) => Some(false),
            (None, _) => None,
        };
        Control::KeyResponse(match is_accepted {
            Some(true) => Ok(material),
            Some(false) => Err(KeyState::BadSecret.code()),
            None => Err(KeyState::NoSecret.code()),
        })
    }

    /// Handles the peer's response to key material.
    pub(super) fn handle_response(&mut self, material: &KeyMaterial) {
        if self.unanswered.as_ref().is_some_and(|(sent, _)| sent.slots == material.slots) {
            self.unanswered = None;
        }
    }

    /// Returns a key message that is due at `now`.
    pub(super) fn poll_request(&mut self, now: Duration, round_trip: Duration) -> Option<Control> {
        let (material, due) = self.unanswered.as_mut().filter(|(_, due)| *due <= now)?;
        *due = now + KEY_REPEAT.max(round_trip * 3 / 2);
        Some(Control::KeyRequest(material.clone()))
    }

    /// Returns when [`Self::poll_request`] is due.
    pub(super) fn next_due(&self) -> Option<Duration> {
        self.unanswered.as_ref().map(|(_, due)| *due)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use yonder_address::{KeyLength, Passphrase};

    fn ring() -> (KeyRing, Entropy) {
        let mut count = 0_u8;
        let mut entropy: Entropy = Box::new(move |out| {
            for byte in out {
                count = count.wrapping_add(1);
                *byte = count;
            }
        });
        let passphrase = Passphrase::from_stored("a passphrase of ours".into());
        (KeyRing::generate(passphrase, KeyLength::default(), &mut entropy), entropy)
    }

    fn schedule() -> KeySchedule {
        let (ring, entropy) = ring();
        KeySchedule::new(Some(ring), KeyRefresh { every: 10, announce: 3 }, Some(entropy))
    }

    fn seal(schedule: &mut KeySchedule, count: u32) -> Vec<Slot> {
        (0..count).map(|sequence| schedule.seal(sequence, b"payload").unwrap().1).collect()
    }

    #[test]
    fn next_key_is_used_once_the_peer_has_it() {
        let mut schedule = schedule();
        assert_eq!(seal(&mut schedule, 7), [Slot::Even; 7]);
        let Some(Control::KeyRequest(material)) = schedule.poll_request(Duration::ZERO, Duration::ZERO)
        else {
            panic!("the next key was not announced")
        };
        schedule.handle_response(&material);
        assert_eq!(seal(&mut schedule, 4), [Slot::Even, Slot::Even, Slot::Even, Slot::Odd]);
    }

    #[test]
    fn key_message_is_repeated_and_the_old_key_used_while_the_peer_is_silent() {
        let mut schedule = schedule();
        assert_eq!(seal(&mut schedule, 30), [Slot::Even; 30]);
        for repeat in 0..5_u32 {
            let now = KEY_REPEAT * repeat;
            assert!(schedule.poll_request(now, Duration::ZERO).is_some());
            assert!(schedule.poll_request(now, Duration::ZERO).is_none());
            assert_eq!(schedule.next_due(), Some(now + KEY_REPEAT));
        }
        assert!(!schedule.is_exhausted());
        schedule.sealed = MAX_PACKETS_PER_KEY;
        assert!(schedule.is_exhausted());
    }

    #[test]
    fn peer_cannot_replace_the_keys_of_the_sending_side() {
        let mut sending = schedule();
        let (before, _) = sending.seal(1, b"payload").unwrap();
        let material = ring().0.material().unwrap();
        assert!(matches!(sending.handle_request(material.clone()), Control::KeyResponse(Err(_))));
        assert_eq!(sending.open(Slot::Even, 1, &before).unwrap()[..], *b"payload");
        let mut receiving = KeySchedule::new(Some(ring().0), KeyRefresh::default(), None);
        assert!(matches!(receiving.handle_request(material), Control::KeyResponse(Ok(_))));
        let mut plain = KeySchedule::new(None, KeyRefresh::default(), None);
        let material = ring().0.material().unwrap();
        assert!(
            !plain.is_encrypted() && matches!(plain.handle_request(material), Control::KeyResponse(Err(_)))
        );
    }
}
