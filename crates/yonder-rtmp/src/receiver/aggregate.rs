//! Aggregate messages (7.1.6): several tags in one message, each with its own timestamp.

use bytes::{Buf as _, Bytes};

use crate::message::MessageKind;

/// Size of a tag header, and of the size field after its body.
const HEADER: usize = 11;
const BACK_POINTER: usize = 4;

/// Returns the messages of an aggregate with their timestamps. Their times are relative to that of the first one, which is
/// the time of the aggregate. A truncated message, and all after it, are dropped.
pub(super) fn split(payload: &Bytes, timestamp: u32) -> Vec<(MessageKind, u32, Bytes)> {
    let (mut rest, mut first, mut messages) = (payload.clone(), None, Vec::new());
    while let Some(&[kind, l0, l1, l2, t0, t1, t2, t3, _, _, _]) = rest.first_chunk::<HEADER>() {
        let length = usize::try_from(u32::from_be_bytes([0, l0, l1, l2])).unwrap_or(usize::MAX);
        // The fourth byte is the highest (FLV 10.1, E.4.1).
        let time = u32::from_be_bytes([t3, t0, t1, t2]);
        if rest.len() < HEADER.saturating_add(length) {
            break;
        }
        rest.advance(HEADER);
        let body = rest.split_to(length);
        let first = *first.get_or_insert(time);
        messages.push((MessageKind::from_id(kind), timestamp.wrapping_add(time.wrapping_sub(first)), body));
        rest.advance(BACK_POINTER.min(rest.len()));
    }
    messages
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn tag(kind: u8, time: u32, body: &[u8]) -> Vec<u8> {
        let [t3, t0, t1, t2] = time.to_be_bytes();
        let length = u8::try_from(body.len()).unwrap();
        let mut out = vec![kind, 0, 0, length, t0, t1, t2, t3, 0, 0, 0];
        out.extend_from_slice(body);
        out.extend_from_slice(&[0, 0, 0, length + 11]);
        out
    }

    #[test]
    fn times_are_relative_to_the_first_message() {
        let payload = [tag(9, 0x0100_0000, &[0x17]), tag(8, 0x0100_0017, &[0xaf, 1])].concat();
        let messages = split(&payload.into(), 5_000);
        let kinds: Vec<_> = messages.iter().map(|(kind, time, body)| (*kind, *time, body.len())).collect();
        assert_eq!(kinds, [(MessageKind::Video, 5_000, 1), (MessageKind::Audio, 5_023, 2)]);
    }

    #[test]
    fn truncated_message_is_dropped() {
        let mut payload = [tag(9, 0, &[1, 2]), tag(8, 1, &[3, 4])].concat();
        payload.truncate(payload.len() - 5);
        assert_eq!(split(&payload.into(), 0).len(), 1);
    }

    proptest! {
        #[test]
        fn any_bytes_are_split_or_dropped(payload: Vec<u8>, timestamp: u32) {
            let messages = split(&payload.clone().into(), timestamp);
            prop_assert!(messages.iter().map(|(_, _, body)| body.len() + HEADER).sum::<usize>() <= payload.len());
        }
    }
}
