//! Passwords that come with the device.

/// Words that cameras of many makes are delivered with, or that everybody tries first.
const FACTORY_WORDS: [&str; 15] = [
    "",
    "admin",
    "administrator",
    "root",
    "user",
    "guest",
    "service",
    "operator",
    "camera",
    "password",
    "pass",
    "default",
    "1234",
    "12345",
    "123456",
];

/// True when the password looks like one that the device was delivered with: one of a short list of generic words,
/// or the user name again.
#[must_use]
pub fn is_factory_like(user: &str, password: &str) -> bool {
    let password = password.trim().to_ascii_lowercase();
    FACTORY_WORDS.contains(&password.as_str()) || password == user.trim().to_ascii_lowercase()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("admin", "admin", true)]
    #[case("admin", "12345", true)]
    #[case("Admin", "ADMIN", true)]
    #[case("rail", "rail", true)]
    #[case("rail", "", true)]
    #[case("admin", "up-the-fell-7", false)]
    fn generic_passwords_are_noticed(#[case] user: &str, #[case] password: &str, #[case] factory: bool) {
        assert_eq!(is_factory_like(user, password), factory);
    }
}
