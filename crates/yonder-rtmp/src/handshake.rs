//! Simple handshake (5.2) of both sides: a version byte and 1536 bytes, then an echo of the other side's.

use bytes::{BufMut as _, Bytes, BytesMut};

const VERSION: u8 = 3;
const BLOCK: usize = 1536;

/// The peer does not support RTMP version 3.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("handshake begins with {0:#04x}, not with RTMP version 3")]
pub struct HandshakeError(pub u8);

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum State {
    AwaitHello,
    AwaitEcho,
    Done,
}

/// One side of a handshake.
#[derive(Debug)]
pub(crate) struct Handshake {
    state: State,
    own: Bytes,
}

impl Handshake {
    /// Creates a handshake; `seed` fills the block with random data (5.2.3).
    pub(crate) fn new(seed: u64) -> Self {
        let mut own = BytesMut::with_capacity(1 + BLOCK);
        own.put_u8(VERSION);
        own.put_u64(0); // time, and four zero bytes
        let mut random = fastrand::Rng::with_seed(seed);
        own.extend(std::iter::repeat_with(|| random.u8(..)).take(BLOCK - 8));
        Self { state: State::AwaitHello, own: own.freeze() }
    }

    /// Returns the version and first block of this side.
    pub(crate) fn hello(&self) -> Bytes {
        self.own.clone()
    }

    pub(crate) fn is_done(&self) -> bool {
        self.state == State::Done
    }

    /// Parses complete blocks of the peer at the beginning of `input`. Returns the echo once the peer's first block is
    /// complete.
    pub(crate) fn handle_input(&mut self, input: &mut &[u8]) -> Result<Option<Bytes>, HandshakeError> {
        let mut echo = None;
        if self.state == State::AwaitHello {
            if let Some(&version) = input.first()
                && version != VERSION
            {
                return Err(HandshakeError(version));
            }
            if let Some((block, rest)) = input.get(1..).and_then(|block| block.split_at_checked(BLOCK)) {
                echo = Some(Bytes::copy_from_slice(block));
                *input = rest;
                self.state = State::AwaitEcho;
            }
        }
        if self.state == State::AwaitEcho
            && let Some((_, rest)) = input.split_at_checked(BLOCK)
        {
            // The echo is not compared: servers with a digest handshake answer simple clients with other data.
            *input = rest;
            self.state = State::Done;
        }
        Ok(echo)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn both_sides_complete_the_handshake_in_any_segmentation() {
        for size in [1, 7, 1536, 1537, 5000] {
            let (mut client, mut server) = (Handshake::new(1), Handshake::new(2));
            let (mut to_server, mut to_client) = (client.hello().to_vec(), server.hello().to_vec());
            let (mut at_server, mut at_client) = (Vec::new(), Vec::new());
            let handle = |side: &mut Handshake, buffer: &mut Vec<u8>| {
                let mut rest = &buffer[..];
                let echo = side.handle_input(&mut rest).unwrap();
                *buffer = rest.to_vec();
                echo.into_iter().flatten()
            };
            while !(client.is_done() && server.is_done()) {
                let count = size.min(to_server.len());
                at_server.extend(to_server.drain(..count));
                to_client.extend(handle(&mut server, &mut at_server));
                let count = size.min(to_client.len());
                at_client.extend(to_client.drain(..count));
                to_server.extend(handle(&mut client, &mut at_client));
            }
            assert!(to_server.is_empty() && to_client.is_empty(), "segments of {size}");
        }
    }

    #[test]
    fn the_echo_is_the_peers_own_block_and_what_follows_stays() {
        let mut handshake = Handshake::new(1);
        let delivered = [&[3][..], &[7; BLOCK], &[8; BLOCK], b"next"].concat();
        let mut input = &delivered[..];
        assert_eq!(handshake.handle_input(&mut input).unwrap().unwrap()[..], [7; BLOCK]);
        assert!(handshake.is_done());
        assert_eq!(input, b"next");
    }

    #[test]
    fn another_protocol_is_noticed_at_its_first_byte() {
        assert_eq!(Handshake::new(1).handle_input(&mut &b"H"[..]), Err(HandshakeError(b'H')));
    }
}
