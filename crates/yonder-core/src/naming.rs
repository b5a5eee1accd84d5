//! Names of feeds, destinations and relays.

/// Maximum length of a name, in characters.
const MAX_NAME: usize = 64;

/// Error for an invalid name.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum NameError {
    /// Empty after trimming.
    #[error("the name is empty")]
    Empty,
    /// Too long.
    #[error("the name has {0} characters; at most {MAX_NAME} are allowed")]
    TooLong(usize),
    /// A character that is unsafe in addresses and file names.
    #[error("the name contains {0:?}; letters, digits, blanks and - _ . ' ( ) are allowed")]
    Character(char),
}

/// Returns the normalized name: trimmed, with single blanks inside.
///
/// # Errors
/// [`NameError`] if the name is empty, too long, or contains other characters.
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

/// Returns the known name nearest to `wanted`, if one is similar.
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
    fn names_are_normalized(#[case] text: &str, #[case] name: &str) {
        assert_eq!(check_name(text).as_deref(), Ok(name));
    }

    #[rstest]
    #[case("", NameError::Empty)]
    #[case(" \n", NameError::Empty)]
    #[case("a/b", NameError::Character('/'))]
    #[case("a\u{7}b", NameError::Character('\u{7}'))]
    #[case("..", NameError::Character('.'))]
    #[case(&"x".repeat(65), NameError::TooLong(65))]
    fn invalid_names_are_refused(#[case] text: &str, #[case] error: NameError) {
        assert_eq!(check_name(text), Err(error));
    }

    #[test]
    fn only_similar_names_are_suggested() {
        let known = ["Summit Station", "Viaduct", "Engine Shed"];
        assert_eq!(nearest_name("viaduc", known), Some("Viaduct"));
        assert_eq!(nearest_name("summit staion", known), Some("Summit Station"));
        assert_eq!(nearest_name("harbour", known), None);
    }
}
