//! Redaction of secrets in texts of peers: error messages of platforms and cameras often repeat what was sent,
//! completely, encoded, or in part.

use percent_encoding::percent_decode_str;

/// Replacement of a secret.
const MARK: &str = "…";
/// Minimum length of a part of a secret that is redacted; shorter ones would match by chance.
const MIN_PART: usize = 8;
/// Minimum length of a secret that is redacted.
const MIN_SECRET: usize = 4;

/// Returns the text without the secrets, their percent-encoded forms, and parts of eight or more characters, ignoring case.
#[must_use]
pub fn redact<'a>(text: &str, secrets: impl IntoIterator<Item = &'a str>) -> String {
    let secrets: Vec<Vec<char>> = secrets
        .into_iter()
        .filter(|secret| secret.chars().count() >= MIN_SECRET)
        .map(|secret| secret.chars().map(|c| c.to_ascii_lowercase()).collect())
        .collect();
    // An encoded secret is found in the decoded text, which is returned in that case.
    let decoded = percent_decode_str(text).decode_utf8_lossy();
    let redacted = redact_plain(&decoded, &secrets);
    if redacted == *decoded { redact_plain(text, &secrets) } else { redacted }
}

fn redact_plain(text: &str, secrets: &[Vec<char>]) -> String {
    let chars: Vec<char> = text.chars().collect();
    let lower: Vec<char> = chars.iter().map(|c| c.to_ascii_lowercase()).collect();
    let mut shown = String::with_capacity(text.len());
    let mut at = 0;
    while let Some(next) = chars.get(at) {
        let rest = lower.get(at..).unwrap_or_default();
        let found = secrets.iter().map(|secret| longest_part(rest, secret)).max().unwrap_or_default();
        if found > 0 {
            if !shown.ends_with(MARK) {
                shown.push_str(MARK);
            }
            at += found;
        } else {
            shown.push(*next);
            at += 1;
        }
    }
    shown
}

/// Returns the length of the longest part of a secret at the beginning of the text; 0 if it is too short.
fn longest_part(text: &[char], secret: &[char]) -> usize {
    let common = |from: usize| secret.iter().skip(from).zip(text).take_while(|(a, b)| a == b).count();
    let longest = (0..secret.len()).map(common).max().unwrap_or_default();
    if longest >= MIN_PART.min(secret.len()) { longest } else { 0 }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    const KEY: &str = "bramble-summit-4711?sign=x+y/z==";

    #[rstest]
    #[case::whole("Stream bramble-summit-4711?sign=x+y/z== is not known", "Stream … is not known")]
    #[case::encoded("bad: bramble-summit-4711%3Fsign%3Dx%2By%2Fz%3D%3D!", "bad: …!")]
    #[case::without_parameters("no stream bramble-summit-4711 here", "no stream … here")]
    #[case::beginning("stream bramble-... refused", "stream …... refused")]
    #[case::end("…mmit-4711 is in use", "… is in use")]
    #[case::other_case("BRAMBLE-SUMMIT-4711 IS BUSY", "… IS BUSY")]
    #[case::twice("bramble-summit-4711 and bramble-summit-4711", "… and …")]
    #[case::too_short_to_matter("the summit is closed", "the summit is closed")]
    #[case::nothing("twelve hours are over", "twelve hours are over")]
    fn secrets_are_redacted(#[case] text: &str, #[case] expected: &str) {
        assert_eq!(redact(text, [KEY]), expected);
    }

    #[test]
    fn short_secret_is_redacted_only_as_a_whole() {
        assert_eq!(redact("key 4711 is wrong, 471 is too", ["4711"]), "key … is wrong, 471 is too");
        assert_eq!(redact("a b c", ["a"]), "a b c");
    }

    proptest! {
        #[test]
        fn no_long_part_of_a_secret_remains(before in ".{0,20}", behind in ".{0,20}", from in 0_usize..10, length in 8_usize..16) {
            let part: String = KEY.chars().skip(from).take(length).collect();
            let shown = redact(&format!("{before} {part} {behind}"), [KEY]);
            prop_assert!(!shown.to_ascii_lowercase().contains(&part), "{shown}");
        }
    }
}
