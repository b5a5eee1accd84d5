//! Masking of secrets in addresses: passwords and tokens in paths and queries are removed for records and display, and
//! inserted again for use.

use secrecy::{ExposeSecret as _, SecretString};

/// Placeholder of a secret in a masked address. Braces have to be percent-encoded in real addresses.
pub const PLACEHOLDER: &str = "{secret}";

/// Parameters whose values are secrets.
const SECRET_NAMES: [&str; 20] = [
    "password",
    "passwd",
    "pass",
    "pwd",
    "psw",
    "pw",
    "auth",
    "authorization",
    "authbasic",
    "token",
    "access_token",
    "auth_token",
    "key",
    "apikey",
    "api_key",
    "secret",
    "sig",
    "sign",
    "signature",
    "credential",
];
/// Characters that can precede the name of a parameter.
const BEFORE_NAME: [char; 8] = ['/', '?', '&', ';', '_', ',', '|', '#'];
/// Characters that end a value.
const BEHIND_VALUE: [char; 6] = ['/', '?', '&', ';', '#', '|'];

/// Address without its secrets.
#[derive(Debug, Clone)]
pub struct Masked {
    /// Address, with a placeholder for each secret.
    pub text: String,
    /// Secrets, in order; `None` for a placeholder that was already present.
    pub secrets: Vec<Option<SecretString>>,
}

/// Masks the secrets in path and query of an address.
#[must_use]
pub fn mask(address: &str) -> Masked {
    let begin = address.find("://").map_or(0, |at| at + 3);
    let begin =
        address.get(begin..).and_then(|rest| rest.find(['/', '?'])).map_or(address.len(), |at| begin + at);
    let (mut rest, mut text) = (address.get(begin..).unwrap_or_default(), String::new());
    text.push_str(address.get(..begin).unwrap_or_default());
    let mut secrets = Vec::new();
    while let Some((before, value, behind)) = next_secret(rest) {
        text.push_str(before);
        text.push_str(PLACEHOLDER);
        secrets.push((value != PLACEHOLDER).then(|| value.into()));
        rest = behind;
    }
    text.push_str(rest);
    Masked { text, secrets }
}

/// Inserts secrets into a masked address; `None` if the number of placeholders differs.
#[must_use]
pub fn unmask(text: &str, secrets: &[SecretString]) -> Option<SecretString> {
    let mut parts = text.split(PLACEHOLDER);
    let mut full = parts.next()?.to_owned();
    let mut secrets = secrets.iter();
    for part in parts {
        full.push_str(secrets.next()?.expose_secret());
        full.push_str(part);
    }
    if secrets.next().is_some() { None } else { Some(full.into()) }
}

/// Splits at the first secret value: text before it, value, and rest.
fn next_secret(text: &str) -> Option<(&str, &str, &str)> {
    let mut from = 0;
    loop {
        let equals = from + text.get(from..)?.find('=')?;
        let (head, tail) = (text.get(..equals)?, text.get(equals + 1..)?);
        let value = value_of(tail);
        if is_secret_name(head) && !value.is_empty() {
            let (before, behind) = (text.get(..=equals)?, tail.get(value.len()..)?);
            return Some((before, value, behind));
        }
        from = equals + 1;
    }
}

/// Returns true if the text ends in the name of a secret parameter.
fn is_secret_name(head: &str) -> bool {
    let lower = head.to_ascii_lowercase();
    SECRET_NAMES.iter().any(|name| {
        lower.strip_suffix(name).is_some_and(|before| before.is_empty() || before.ends_with(BEFORE_NAME))
    })
}

/// Returns the value at the beginning of a text. Some devices separate parameters by underscores: the value then ends
/// where another parameter begins.
fn value_of(tail: &str) -> &str {
    if tail.starts_with(PLACEHOLDER) {
        return PLACEHOLDER;
    }
    let end = tail.find(BEHIND_VALUE).unwrap_or(tail.len());
    let value = tail.get(..end).unwrap_or_default();
    let next_parameter = value.find('=').and_then(|equals| value.get(..equals)?.rfind('_'));
    next_parameter.and_then(|at| value.get(..at)).unwrap_or(value)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    fn masked(address: &str) -> (String, Vec<String>) {
        let Masked { text, secrets } = mask(address);
        let secrets = secrets.into_iter().flatten().map(|secret| secret.expose_secret().to_owned()).collect();
        (text, secrets)
    }

    #[rstest]
    #[case::query("rtsp://192.0.2.7/cam?user=admin&password=top-9", "rtsp://192.0.2.7/cam?user=admin&password={secret}", &["top-9"])]
    #[case::path("rtsp://192.0.2.7:554/user=admin_password=tl_J2_channel=1_stream=0.sdp", "rtsp://192.0.2.7:554/user=admin_password={secret}_channel=1_stream=0.sdp", &["tl_J2"])]
    #[case::application("rtmp://ingest.example.net/live?auth=s3cr3t", "rtmp://ingest.example.net/live?auth={secret}", &["s3cr3t"])]
    #[case::two("rtsp://h/a?PWD=one&x=2&Token=two", "rtsp://h/a?PWD={secret}&x=2&Token={secret}", &["one", "two"])]
    #[case::last_character("rtsp://h/a?pass=x", "rtsp://h/a?pass={secret}", &["x"])]
    #[case::masked_already("rtsp://h/a?pass={secret}&pw=y", "rtsp://h/a?pass={secret}&pw={secret}", &["y"])]
    #[case::no_path_before("rtsp://h?password=z", "rtsp://h?password={secret}", &["z"])]
    #[case::none("rtsp://192.0.2.7/passage?bypass=1&compass=2&channel=3", "rtsp://192.0.2.7/passage?bypass=1&compass=2&channel=3", &[])]
    #[case::empty_value("rtsp://h/a?password=&b=1", "rtsp://h/a?password=&b=1", &[])]
    #[case::host("rtsp://password=x/", "rtsp://password=x/", &[])]
    fn secrets_are_masked(#[case] address: &str, #[case] text: &str, #[case] secrets: &[&str]) {
        assert_eq!(masked(address), (text.to_owned(), secrets.iter().map(|&s| s.to_owned()).collect()));
    }

    #[test]
    fn unmasking_needs_the_same_number_of_secrets() {
        let secrets = ["a".into(), "b".into()];
        assert!(unmask("rtsp://h/?pw={secret}", &secrets).is_none());
        assert!(unmask("rtsp://h/?pw={secret}&pw={secret}&pw={secret}", &secrets).is_none());
        assert_eq!(unmask("x{secret}y{secret}", &secrets).unwrap().expose_secret(), "xayb");
    }

    proptest! {
        #[test]
        fn masking_and_unmasking_gives_the_same_address(path in "[a-z=&?_/;{}.0-9]{0,60}", name in "password|token|pw") {
            let address = format!("rtsp://192.0.2.7/{path}?{name}=planted&x=1");
            prop_assume!(!address.contains(PLACEHOLDER));
            let Masked { text, secrets } = mask(&address);
            prop_assert!(!text.contains("planted"), "{text}");
            let secrets: Vec<SecretString> = secrets.into_iter().flatten().collect();
            let full = unmask(&text, &secrets).unwrap();
            prop_assert_eq!(full.expose_secret(), address);
        }
    }
}
