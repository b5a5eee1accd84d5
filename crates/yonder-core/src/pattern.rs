//! Address patterns: a camera's RTSP address with named placeholders for the parts that differ between cameras and streams.

use std::collections::BTreeMap;

use crate::naming::nearest_name;

/// Longest pattern, in bytes.
const MAX_TEMPLATE: usize = 1024;
/// Built-in placeholders, which need no declaration.
const BUILT_IN: [&str; 2] = ["host", "port"];
/// Default RTSP port.
const DEFAULT_PORT: &str = "554";
/// Placeholder for the main or sub stream.
const STREAM: &str = "stream";
/// Placeholder for the channel number of a recorder.
const CHANNEL: &str = "channel";

/// Kind of a placeholder's values.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PlaceholderKind {
    /// Any text; percent-encoded where necessary.
    Text,
    /// Integer.
    Number {
        /// Minimum number of digits, padded with zeros.
        width: u8,
        /// Added to the value before it is inserted.
        offset: i64,
        /// Minimum value.
        min: i64,
        /// Maximum value.
        max: i64,
    },
    /// Choice of a named value: name and inserted text.
    Choice(Vec<(String, String)>),
}

/// A named placeholder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Placeholder {
    /// Name, as in `{name}`.
    pub name: String,
    /// Kind of the values.
    pub kind: PlaceholderKind,
}

/// Parsed pattern.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pattern {
    template: String,
    placeholders: Vec<Placeholder>,
}

/// Addresses of a filled pattern.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FilledAddresses {
    /// Main stream, or the chosen one.
    pub url: String,
    /// Sub stream, if the pattern offers one and none was chosen.
    pub sub_url: Option<String>,
}

/// Error for a pattern or a value that is not accepted.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum PatternError {
    /// Not an RTSP address.
    #[error("the pattern must begin with rtsp://{{host}} or rtsps://{{host}}")]
    Beginning,
    /// Too long.
    #[error("the pattern is longer than {MAX_TEMPLATE} bytes")]
    TooLong,
    /// Unbalanced brace, or a placeholder without a name.
    #[error("the brace at position {0} has no partner, or nothing between them")]
    Brace(usize),
    /// Placeholder that is used but not declared.
    #[error("the pattern uses {{{0}}}, which is not declared as a placeholder")]
    Undeclared(String),
    /// Placeholder that is declared but not used.
    #[error("the placeholder {0} is not used in the pattern")]
    Unused(String),
    /// Placeholder that is declared twice, or has the name of a built-in one.
    #[error("the placeholder {0} is declared twice, or has a name that every pattern has")]
    Twice(String),
    /// Placeholder for a secret.
    #[error("a pattern contains no user name and password: they are stored encrypted with each feed")]
    Secret,
    /// Choice without values, or number with an empty range.
    #[error("the placeholder {0} has no choices")]
    Empty(String),
    /// Value of a placeholder is missing.
    #[error("{name} is missing: {wanted}")]
    Missing {
        /// Name of the placeholder.
        name: String,
        /// Description of the accepted values.
        wanted: String,
    },
    /// The value is not accepted by the placeholder.
    #[error("{name} cannot be {value:?}: {wanted}")]
    Value {
        /// Name of the placeholder.
        name: String,
        /// The value.
        value: String,
        /// Description of the accepted values.
        wanted: String,
    },
    /// Unknown placeholder.
    #[error("the pattern has no placeholder {name:?}{}", .nearest.as_ref().map(|n| format!(", but one named {n:?}")).unwrap_or_default())]
    NoSuchPlaceholder {
        /// The name.
        name: String,
        /// Placeholder with a similar name.
        nearest: Option<String>,
    },
}

/// Values by placeholder name.
pub type Values = BTreeMap<String, String>;

impl Placeholder {
    /// Describes the accepted values.
    #[must_use]
    pub fn wanted(&self) -> String {
        match &self.kind {
            PlaceholderKind::Text => "a text".to_owned(),
            PlaceholderKind::Number { min, max, .. } => format!("a number from {min} to {max}"),
            PlaceholderKind::Choice(choices) => {
                let words: Vec<&str> = choices.iter().map(|(word, _)| word.as_str()).collect();
                format!("one of {}", words.join(", "))
            }
        }
    }

    fn write(&self, value: &str) -> Result<String, PatternError> {
        let refused = || PatternError::Value {
            name: self.name.clone(),
            value: value.to_owned(),
            wanted: self.wanted(),
        };
        match &self.kind {
            PlaceholderKind::Text if value.is_empty() => Err(refused()),
            PlaceholderKind::Text => Ok(percent_encoded(value)),
            PlaceholderKind::Number { width, offset, min, max } => {
                let number: i64 = value.trim().parse().map_err(|_| refused())?;
                if !(min..=max).contains(&&number) {
                    return Err(refused());
                }
                let width = usize::from(*width);
                Ok(format!("{:0width$}", number.saturating_add(*offset)))
            }
            PlaceholderKind::Choice(choices) => {
                let found = choices.iter().find(|(word, _)| word.eq_ignore_ascii_case(value.trim()));
                found.map(|(_, written)| written.clone()).ok_or_else(refused)
            }
        }
    }
}

impl Pattern {
    /// Parses a pattern like `rtsp://{host}:{port}/ch{channel}/{stream}` with its placeholders. `{host}` and `{port}` need no
    /// declaration.
    ///
    /// # Errors
    /// [`PatternError`] for the first fault.
    pub fn new(template: &str, placeholders: Vec<Placeholder>) -> Result<Self, PatternError> {
        let template = template.trim();
        if template.len() > MAX_TEMPLATE {
            return Err(PatternError::TooLong);
        }
        if !["rtsp://{host}", "rtsps://{host}"].iter().any(|begin| template.starts_with(begin)) {
            let secret = template.contains("{user}") || template.contains("{password}");
            return Err(if secret { PatternError::Secret } else { PatternError::Beginning });
        }
        let used = used_placeholders(template)?;
        for name in &used {
            if matches!(name.as_str(), "user" | "password") {
                return Err(PatternError::Secret);
            }
            if !BUILT_IN.contains(&name.as_str())
                && !placeholders.iter().any(|placeholder| placeholder.name == *name)
            {
                return Err(PatternError::Undeclared(name.clone()));
            }
        }
        for (at, placeholder) in placeholders.iter().enumerate() {
            let twice = placeholders.iter().take(at).any(|other| other.name == placeholder.name);
            if twice || BUILT_IN.contains(&placeholder.name.as_str()) {
                return Err(PatternError::Twice(placeholder.name.clone()));
            }
            if !used.contains(&placeholder.name) {
                return Err(PatternError::Unused(placeholder.name.clone()));
            }
            let empty = match &placeholder.kind {
                PlaceholderKind::Text => false,
                PlaceholderKind::Number { min, max, .. } => min > max,
                PlaceholderKind::Choice(choices) => choices.is_empty(),
            };
            if empty {
                return Err(PatternError::Empty(placeholder.name.clone()));
            }
        }
        Ok(Self { template: template.to_owned(), placeholders })
    }

    /// Returns the pattern as text.
    #[must_use]
    pub fn template(&self) -> &str {
        &self.template
    }

    /// Returns the declared placeholders.
    #[must_use]
    pub fn placeholders(&self) -> &[Placeholder] {
        &self.placeholders
    }

    /// Returns true if the pattern has a placeholder for a recorder's channel.
    #[must_use]
    pub fn has_channels(&self) -> bool {
        self.placeholders.iter().any(|placeholder| placeholder.name == CHANNEL)
    }

    /// Fills the placeholders. If the pattern offers `main` and `sub` and neither was chosen, both addresses are returned.
    ///
    /// # Errors
    /// [`PatternError`] with the placeholder and its accepted values.
    pub fn fill(&self, values: &Values) -> Result<FilledAddresses, PatternError> {
        let known = |name: &str| {
            BUILT_IN.contains(&name) || self.placeholders.iter().any(|placeholder| placeholder.name == name)
        };
        if let Some(name) = values.keys().find(|name| !known(name)) {
            let names = self.placeholders.iter().map(|placeholder| placeholder.name.as_str()).chain(BUILT_IN);
            let nearest = nearest_name(name, names).map(str::to_owned);
            return Err(PatternError::NoSuchPlaceholder { name: name.clone(), nearest });
        }
        if values.contains_key(STREAM) || !self.tells_streams_apart() {
            return Ok(FilledAddresses { url: self.write(values)?, sub_url: None });
        }
        let choose = |word: &str| {
            let mut values = values.clone();
            values.insert(STREAM.to_owned(), word.to_owned());
            self.write(&values)
        };
        Ok(FilledAddresses { url: choose("main")?, sub_url: Some(choose("sub")?) })
    }

    fn tells_streams_apart(&self) -> bool {
        let stream = self.placeholders.iter().find(|placeholder| placeholder.name == STREAM);
        stream.is_some_and(|placeholder| match &placeholder.kind {
            PlaceholderKind::Choice(choices) => {
                ["main", "sub"].iter().all(|wanted| choices.iter().any(|(word, _)| word == wanted))
            }
            PlaceholderKind::Text | PlaceholderKind::Number { .. } => false,
        })
    }

    fn write(&self, values: &Values) -> Result<String, PatternError> {
        let mut out = String::new();
        let mut rest = self.template.as_str();
        while let Some((before, after)) = rest.split_once('{') {
            out.push_str(before);
            let (name, after) = after.split_once('}').unwrap_or((after, ""));
            out.push_str(&self.written(name, values.get(name).map(String::as_str))?);
            rest = after;
        }
        out.push_str(rest);
        Ok(out)
    }

    fn written(&self, name: &str, value: Option<&str>) -> Result<String, PatternError> {
        let missing = |wanted: String| PatternError::Missing { name: name.to_owned(), wanted };
        match (name, value.map(str::trim).filter(|value| !value.is_empty())) {
            ("host", None) => Err(missing("the camera's name or address".to_owned())),
            // IPv6 addresses are written in brackets (RFC 3986, 3.2.2).
            ("host", Some(host)) if host.contains(':') && !host.starts_with('[') => Ok(format!("[{host}]")),
            ("host", Some(host)) => Ok(host.to_owned()),
            ("port", value) => Ok(value.unwrap_or(DEFAULT_PORT).to_owned()),
            (_, value) => {
                let placeholder = self.placeholders.iter().find(|placeholder| placeholder.name == name);
                let placeholder = placeholder.ok_or_else(|| PatternError::Undeclared(name.to_owned()))?;
                placeholder.write(value.ok_or_else(|| missing(placeholder.wanted()))?)
            }
        }
    }
}

fn used_placeholders(template: &str) -> Result<Vec<String>, PatternError> {
    let mut used = Vec::new();
    let mut rest = template;
    let position = |rest: &str| template.len() - rest.len();
    while let Some(at) = rest.find(['{', '}']) {
        let (_, brace) = rest.split_at(at);
        let inside = brace.strip_prefix('{').ok_or_else(|| PatternError::Brace(position(brace)))?;
        let (name, after) = inside.split_once('}').ok_or_else(|| PatternError::Brace(position(brace)))?;
        let plain =
            name.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || matches!(c, '-' | '_'));
        if name.is_empty() || !plain {
            return Err(PatternError::Brace(position(brace)));
        }
        used.push(name.to_owned());
        rest = after;
    }
    Ok(used)
}

/// Percent-encodes everything but unreserved characters (RFC 3986, 2.1).
fn percent_encoded(text: &str) -> String {
    let mut out = String::new();
    for byte in text.bytes() {
        if byte.is_ascii_alphanumeric() || matches!(byte, b'-' | b'.' | b'_' | b'~') {
            out.push(char::from(byte));
        } else {
            out.push_str(&format!("%{byte:02X}"));
        }
    }
    out
}

/// Parses a list of channels like `1-4,7`; the result is sorted and without duplicates.
///
/// # Errors
/// A message about the fault.
pub fn read_channels(text: &str) -> Result<Vec<i64>, String> {
    /// Maximum number of channels, more than any recorder has.
    const MAX_PLACEHOLDER_VALUES: usize = 256;
    let mut channels = Vec::new();
    for part in text.split(',').map(str::trim) {
        let (from, to) = part.split_once('-').unwrap_or((part, part));
        let number =
            |text: &str| text.trim().parse::<i64>().map_err(|_| format!("{part:?} is not a number or range"));
        let (from, to) = (number(from)?, number(to)?);
        if to < from {
            return Err(format!("{part:?} runs backwards"));
        }
        if usize::try_from(to - from).map_or(true, |count| count >= MAX_PLACEHOLDER_VALUES) {
            return Err(format!("{part:?} is more than {MAX_PLACEHOLDER_VALUES} channels"));
        }
        channels.extend((from..=to).filter(|channel| !channels.contains(channel)).collect::<Vec<_>>());
    }
    if channels.len() > MAX_PLACEHOLDER_VALUES {
        Err(format!("more than {MAX_PLACEHOLDER_VALUES} channels"))
    } else {
        Ok(channels)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn placeholder(name: &str, kind: PlaceholderKind) -> Placeholder {
        Placeholder { name: name.into(), kind }
    }

    fn recorder() -> Pattern {
        let number = PlaceholderKind::Number { width: 2, offset: 100, min: 1, max: 32 };
        let choice = PlaceholderKind::Choice(vec![("main".into(), "0".into()), ("sub".into(), "1".into())]);
        Pattern::new(
            "rtsp://{host}:{port}/cairn/ch{channel}/{stream}",
            vec![placeholder("channel", number), placeholder("stream", choice)],
        )
        .unwrap()
    }

    fn values(set: &[(&str, &str)]) -> Values {
        set.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())).collect()
    }

    #[test]
    fn numbers_are_offset_and_padded_for_both_streams() {
        let filled = recorder().fill(&values(&[("host", "192.0.2.7"), ("channel", "3")])).unwrap();
        assert_eq!(filled.url, "rtsp://192.0.2.7:554/cairn/ch103/0");
        assert_eq!(filled.sub_url.as_deref(), Some("rtsp://192.0.2.7:554/cairn/ch103/1"));
    }

    #[test]
    fn chosen_stream_yields_one_address() {
        let set = values(&[("host", "2001:db8::7"), ("port", "8554"), ("channel", "12"), ("stream", "Sub")]);
        let filled = recorder().fill(&set).unwrap();
        assert_eq!((filled.url.as_str(), filled.sub_url), ("rtsp://[2001:db8::7]:8554/cairn/ch112/1", None));
    }

    #[test]
    fn texts_are_percent_encoded() {
        let pattern =
            Pattern::new("rtsp://{host}/{label}", vec![placeholder("label", PlaceholderKind::Text)]).unwrap();
        let filled = pattern.fill(&values(&[("host", "cam.example.net"), ("label", "a b/ü")])).unwrap();
        assert_eq!(filled.url, "rtsp://cam.example.net/a%20b%2F%C3%BC");
    }

    #[rstest]
    #[case(&[("channel", "1")], "host is missing: the camera's name or address")]
    #[case(&[("host", "h")], "channel is missing: a number from 1 to 32")]
    #[case(&[("host", "h"), ("channel", "33")], "channel cannot be \"33\": a number from 1 to 32")]
    #[case(&[("host", "h"), ("channel", "one")], "channel cannot be \"one\": a number from 1 to 32")]
    #[case(&[("host", "h"), ("channel", "1"), ("stream", "third")], "stream cannot be \"third\": one of main, sub")]
    #[case(&[("host", "h"), ("chanel", "1")], "the pattern has no placeholder \"chanel\", but one named \"channel\"")]
    fn error_names_the_placeholder(#[case] set: &[(&str, &str)], #[case] message: &str) {
        assert_eq!(recorder().fill(&values(set)).unwrap_err().to_string(), message);
    }

    #[rstest]
    #[case("http://{host}/", &[], PatternError::Beginning)]
    #[case("rtsp://{user}:{password}@{host}/", &[], PatternError::Secret)]
    #[case("rtsp://{host}/?pass={password}", &[], PatternError::Secret)]
    #[case("rtsp://{host}/{channel}", &[], PatternError::Undeclared("channel".into()))]
    #[case("rtsp://{host}/", &["label"], PatternError::Unused("label".into()))]
    #[case("rtsp://{host}/{label}", &["label", "label"], PatternError::Twice("label".into()))]
    #[case("rtsp://{host}:{port}/", &["port"], PatternError::Twice("port".into()))]
    #[case("rtsp://{host}/{label", &["label"], PatternError::Brace(14))]
    #[case("rtsp://{host}/}", &[], PatternError::Brace(14))]
    #[case("rtsp://{host}/{}", &[], PatternError::Brace(14))]
    fn invalid_patterns_are_refused(
        #[case] template: &str,
        #[case] names: &[&str],
        #[case] error: PatternError,
    ) {
        let placeholders = names.iter().map(|name| placeholder(name, PlaceholderKind::Text)).collect();
        assert_eq!(Pattern::new(template, placeholders), Err(error));
    }

    #[rstest]
    #[case("3", Ok(vec![3]))]
    #[case("1-4, 7", Ok(vec![1, 2, 3, 4, 7]))]
    #[case("1-3,2", Ok(vec![1, 2, 3]))]
    #[case("4-1", Err("\"4-1\" runs backwards".to_owned()))]
    #[case("x", Err("\"x\" is not a number or range".to_owned()))]
    #[case("1-99999", Err("\"1-99999\" is more than 256 channels".to_owned()))]
    fn channel_lists_are_parsed(#[case] text: &str, #[case] channels: Result<Vec<i64>, String>) {
        assert_eq!(read_channels(text), channels);
    }

    proptest! {
        #[test]
        fn any_template_is_checked_without_panic(template in "rtsp://\\{host\\}[ -~]{0,40}") {
            if let Ok(pattern) = Pattern::new(&template, Vec::new()) {
                let _ = pattern.fill(&values(&[("host", "192.0.2.7")]));
            }
        }
    }
}
