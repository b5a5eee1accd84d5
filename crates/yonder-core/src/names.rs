//! Names that people give to feeds, destinations and relays.

/// Longest name, in characters.
const MAX_NAME: usize = 64;

/// Why a name was refused.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum NameError {
    /// Nothing is left after blanks are dropped.
    #[error("the name is empty")]
    Empty,
    /// Too long.
    #[error("the name has {0} characters; at most {MAX_NAME} are allowed")]
    TooLong(usize),
    /// A character that makes trouble in addresses and files.
    #[error("the name holds {0:?}; letters, digits, blanks and - _ . ' ( ) are allowed")]
    Character(char),
}

/// The name as it is kept: blanks around it dropped, inner ones single.
///
/// # Errors
/// [`NameError`] when nothing is left, it is too long, or holds other characters.
pub fn check_name(text: &str) -> Result<String, NameError> {
    let name = text.split_whitespace().collect::<Vec<_>>().join(" ");
    let length = name.chars().count();
    if length == 0 {
        return Err(NameError::Empty);
    }
    if length > MAX_NAME {
        return Err(NameError::TooLong(length));
    }
    match name.chars().find(|c| !(c.is_alphanumeric() || " -_.'()".contains(*c))) {
        Some(character) => Err(NameError::Character(character)),
        None if name.chars().all(|c| c == '.') => Err(NameError::Character('.')),
        None => Ok(name),
    }
}

/// The known name that `wanted` most likely means, if one is near.
#[must_use]
pub fn nearest_name<'a>(wanted: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let wanted = wanted.to_lowercase();
    known
        .into_iter()
        .map(|name| (strsim::jaro_winkler(&wanted, &name.to_lowercase()), name))
        .filter(|(likeness, _)| *likeness > 0.8)
        .max_by(|(a, _), (b, _)| a.total_cmp(b))
        .map(|(_, name)| name)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("Summit Station", "Summit Station")]
    #[case("  Summit \t Station\n", "Summit Station")]
    #[case("cam-3_b.2", "cam-3_b.2")]
    #[case("Brücke (Nord)", "Brücke (Nord)")]
    fn names_are_kept_with_single_blanks(#[case] text: &str, #[case] name: &str) {
        assert_eq!(check_name(text).as_deref(), Ok(name));
    }

    #[rstest]
    #[case("", NameError::Empty)]
    #[case(" \n", NameError::Empty)]
    #[case("a/b", NameError::Character('/'))]
    #[case("a\u{7}b", NameError::Character('\u{7}'))]
    #[case("..", NameError::Character('.'))]
    #[case(&"x".repeat(65), NameError::TooLong(65))]
    fn other_names_are_refused(#[case] text: &str, #[case] error: NameError) {
        assert_eq!(check_name(text), Err(error));
    }

    #[test]
    fn a_near_name_is_suggested_and_a_far_one_is_not() {
        let known = ["Summit Station", "Viaduct", "Engine Shed"];
        assert_eq!(nearest_name("viaduc", known), Some("Viaduct"));
        assert_eq!(nearest_name("summit staion", known), Some("Summit Station"));
        assert_eq!(nearest_name("harbour", known), None);
    }
}
