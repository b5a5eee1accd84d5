//! The simple handshake (5.2), both halves. Each side sends a version byte and 1536 bytes, then echoes the
//! other's.

use bytes::{Buf as _, BufMut as _, Bytes, BytesMut};

const VERSION: u8 = 3;
const BLOCK: usize = 1536;

/// The peer does not speak RTMP version 3.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("handshake begins with {0:#04x}, not with RTMP version 3")]
pub struct HandshakeError(pub u8);

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum State {
    AwaitHello,
    AwaitEcho,
    Done,
}

/// One half of a handshake.
#[derive(Debug)]
pub(crate) struct Handshake {
    state: State,
    own: Bytes,
}

impl Handshake {
    /// `seed` fills the block; 5.2.3 asks for anything random, to tell an echo from a coincidence.
    pub(crate) fn new(seed: u64) -> Self {
        let mut own = BytesMut::with_capacity(1 + BLOCK);
        own.put_u8(VERSION);
        own.put_u64(0); // time, and four zero bytes
        let mut state = seed | 1;
        while own.len() < 1 + BLOCK {
            state ^= state << 13;
            state ^= state >> 7;
            state ^= state << 17;
            own.put_u64(state);
        }
        own.truncate(1 + BLOCK);
        Self { state: State::AwaitHello, own: own.freeze() }
    }

    /// The version and first block of this side.
    pub(crate) fn hello(&self) -> Bytes {
        self.own.clone()
    }

    pub(crate) fn is_done(&self) -> bool {
        self.state == State::Done
    }

    /// Takes the peer's bytes. Returns the echo when the peer's block is complete.
    pub(crate) fn handle_input(&mut self, buffer: &mut BytesMut) -> Result<Option<Bytes>, HandshakeError> {
        let mut echo = None;
        if self.state == State::AwaitHello {
            if let Some(&version) = buffer.first()
                && version != VERSION
            {
                return Err(HandshakeError(version));
            }
            if buffer.len() > BLOCK {
                buffer.advance(1);
                echo = Some(buffer.split_to(BLOCK).freeze());
                self.state = State::AwaitEcho;
            }
        }
        if self.state == State::AwaitEcho && buffer.len() >= BLOCK {
            // The echo is not compared: servers of the digest handshake answer simple clients with their own.
            buffer.advance(BLOCK);
            self.state = State::Done;
        }
        Ok(echo)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn two_halves_meet_in_any_segmentation() {
        for size in [1, 7, 1536, 1537, 5000] {
            let (mut client, mut server) = (Handshake::new(1), Handshake::new(2));
            let (mut to_server, mut to_client) = (client.hello().to_vec(), server.hello().to_vec());
            let (mut at_server, mut at_client) = (BytesMut::new(), BytesMut::new());
            while !(client.is_done() && server.is_done()) {
                let count = size.min(to_server.len());
                at_server.extend_from_slice(&to_server.drain(..count).collect::<Vec<_>>());
                to_client.extend(server.handle_input(&mut at_server).unwrap().into_iter().flatten());
                let count = size.min(to_client.len());
                at_client.extend_from_slice(&to_client.drain(..count).collect::<Vec<_>>());
                to_server.extend(client.handle_input(&mut at_client).unwrap().into_iter().flatten());
            }
            assert!(to_server.is_empty() && to_client.is_empty(), "segments of {size}");
        }
    }

    #[test]
    fn the_echo_is_the_peers_own_block_and_what_follows_stays() {
        let mut handshake = Handshake::new(1);
        let mut input = BytesMut::from(&[&[3][..], &[7; BLOCK], &[8; BLOCK], b"next"].concat()[..]);
        assert_eq!(handshake.handle_input(&mut input).unwrap().unwrap()[..], [7; BLOCK]);
        assert!(handshake.is_done());
        assert_eq!(input[..], *b"next");
    }

    #[test]
    fn another_protocol_is_noticed_at_its_first_byte() {
        assert_eq!(Handshake::new(1).handle_input(&mut BytesMut::from(&b"H"[..])), Err(HandshakeError(b'H')));
    }
}
