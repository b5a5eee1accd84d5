//! Detection of factory default passwords.

/// Passwords that many devices ship with, and other common first guesses.
const FACTORY_PASSWORDS: [&str; 15] = [
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

/// Returns true when the password looks like a factory default: one of a short list of generic passwords, or the user name.
#[must_use]
pub fn is_factory_default(user: &str, password: &str) -> bool {
    let password = password.trim().to_ascii_lowercase();
    FACTORY_PASSWORDS.contains(&password.as_str()) || password == user.trim().to_ascii_lowercase()
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
    fn generic_passwords_are_detected(#[case] user: &str, #[case] password: &str, #[case] factory: bool) {
        assert_eq!(is_factory_default(user, password), factory);
    }
}
