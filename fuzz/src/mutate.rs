//! Random mutations of input, reproducible by a seed.

use fastrand::Rng;

/// Maximum size of an input.
const MAX_LENGTH: usize = 4_096;
/// Byte values that often break parsers.
const ODD_BYTES: [u8; 12] = [0, 1, 2, 0x7f, 0x80, 0xff, b'\r', b'\n', b'$', b'<', b'&', b'='];

/// Generator of inputs from seeds.
#[derive(Debug)]
pub struct Mutator {
    random: Rng,
}

impl Mutator {
    /// Creates a generator that depends only on `seed`.
    #[must_use]
    pub fn new(seed: u64) -> Self {
        Self { random: Rng::with_seed(seed) }
    }

    fn next(&mut self, below: usize) -> usize {
        self.random.usize(..below.max(1))
    }

    fn byte(&mut self) -> u8 {
        if self.next(2) == 0 {
            ODD_BYTES[self.next(ODD_BYTES.len())]
        } else {
            u8::try_from(self.next(256)).unwrap_or_default()
        }
    }

    /// Returns the next input.
    pub fn input(&mut self, seeds: &[Vec<u8>]) -> Vec<u8> {
        let mut input = if seeds.is_empty() { Vec::new() } else { seeds[self.next(seeds.len())].clone() };
        for _ in 0..=self.next(6) {
            self.change(&mut input, seeds);
        }
        input.truncate(MAX_LENGTH);
        input
    }

    fn change(&mut self, input: &mut Vec<u8>, seeds: &[Vec<u8>]) {
        let at = self.next(input.len() + 1);
        match self.next(8) {
            0 if at < input.len() => input[at] ^= 1 << self.next(8),
            1 | 2 if at < input.len() => input[at] = self.byte(),
            3 => {
                let byte = self.byte();
                input.insert(at, byte);
            }
            4 if at < input.len() => {
                let end = (at + 1 + self.next(16)).min(input.len());
                input.drain(at..end);
            }
            5 if at < input.len() => {
                let end = (at + 1 + self.next(64)).min(input.len());
                let piece = input[at..end].to_vec();
                let times = 1 + self.next(4);
                for _ in 0..times {
                    let to = self.next(input.len() + 1);
                    input.splice(to..to, piece.iter().copied());
                }
            }
            6 => input.truncate(at),
            _ => {
                let other = if seeds.is_empty() { return } else { &seeds[self.next(seeds.len())] };
                let from = self.next(other.len() + 1);
                input.truncate(at);
                input.extend_from_slice(&other[from..]);
            }
        }
    }
}
