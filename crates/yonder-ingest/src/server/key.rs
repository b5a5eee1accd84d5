//! Stream keys that are easy to type on the screen of an encoder.

use rand::RngExt as _;
use yonder_address::StreamKey;

/// Letters and digits without those that look alike on small screens: no 0, 1, i, l, o, u and v.
const ALPHABET: &[u8] = b"23456789abcdefghjkmnpqrstwxyz";
const GROUPS: usize = 7;
const GROUP_SIZE: usize = 4;

/// Returns a random key of seven groups of four characters: 136 bits.
#[must_use]
pub fn new_key() -> StreamKey {
    let mut random = rand::rng();
    let mut group = || -> String {
        let character = |_| {
            let at = random.random_range(0..ALPHABET.len());
            ALPHABET.get(at).copied().map_or('2', char::from)
        };
        (0..GROUP_SIZE).map(character).collect()
    };
    let groups: Vec<String> = (0..GROUPS).map(|_| group()).collect();
    StreamKey::from_stored(groups.join("-").into())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys_are_grouped_without_similar_characters_and_have_128_bits() {
        let key = new_key();
        let groups: Vec<&str> = key.expose().split('-').collect();
        assert_eq!(groups.len(), GROUPS);
        assert!(
            groups
                .iter()
                .all(|group| group.len() == GROUP_SIZE && group.bytes().all(|byte| ALPHABET.contains(&byte)))
        );
        assert!(!ALPHABET.iter().any(|byte| b"01iolv".contains(byte)));
        let characters = u32::try_from(GROUPS * GROUP_SIZE).unwrap();
        assert!(f64::from(characters) * f64::from(u32::try_from(ALPHABET.len()).unwrap()).log2() >= 128.0);
        assert_ne!(new_key().expose(), key.expose());
    }
}
