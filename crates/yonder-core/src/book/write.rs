//! Serializer of the site book; [`read`](super::read()) parses its output to the same records.

use std::fmt::Write as _;

use serde_json::{Map, Value};

use super::shape::{Shape, fields};
use super::{Entry, Origin};

/// Serializes a book. Fields without a value are omitted.
#[must_use]
pub fn write(entries: &[Entry]) -> String {
    let mut book = "book = 1\n".to_owned();
    for entry in entries {
        // Writing to a `String` cannot fail.
        let _written = write!(book, "\n[{}.{}]\n", entry.section, key(&entry.name));
        for (field, shape, _) in fields(entry.section) {
            let value = match (entry.fields.get(*field), shape) {
                (Some(Value::Bool(flag)), Shape::TrueFlag) => (!flag).then(|| "false".to_owned()),
                (value, _) => value.and_then(inline),
            };
            if let Some(value) = value {
                // A certificate is written on its own lines.
                let value = match entry.fields.get(*field) {
                    Some(Value::String(text)) if *shape == Shape::TextOrFile => lines(text).unwrap_or(value),
                    _ => value,
                };
                let _written = writeln!(book, "{field} = {value}");
            }
            for (_, origin) in entry.origins.iter().filter(|(name, _)| name == field) {
                let _written = writeln!(book, "{field} = {}", origin_text(origin));
            }
        }
    }
    book
}

fn origin_text(origin: &Origin) -> String {
    match origin {
        Origin::File(path) => format!("{{ file = {} }}", quoted(path)),
        Origin::Env(name) => format!("{{ env = {} }}", quoted(name)),
        Origin::Ask => quoted("ask"),
        Origin::Keep => quoted("keep"),
    }
}

/// Returns a name as a TOML key: bare where possible.
fn key(name: &str) -> String {
    let is_bare =
        !name.is_empty() && name.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '-' | '_'));
    if is_bare { name.to_owned() } else { quoted(name) }
}

/// Returns a basic string (TOML 1.0, "String").
fn quoted(text: &str) -> String {
    let mut quoted = String::with_capacity(text.len() + 2);
    quoted.push('"');
    for c in text.chars() {
        match c {
            '"' => quoted.push_str("\\\""),
            '\\' => quoted.push_str("\\\\"),
            '\n' => quoted.push_str("\\n"),
            '\t' => quoted.push_str("\\t"),
            c if c.is_control() => {
                let _written = write!(quoted, "\\u{:04X}", u32::from(c));
            }
            c => quoted.push(c),
        }
    }
    quoted.push('"');
    quoted
}

/// A multi-line literal string, for texts that can stand in one.
fn lines(text: &str) -> Option<String> {
    let fits =
        text.contains('\n') && !text.contains("''") && !text.chars().any(|c| c.is_control() && c != '\n');
    fits.then(|| format!("'''\n{text}'''"))
}

/// Returns a value on one line; `None` if it is empty.
fn inline(value: &Value) -> Option<String> {
    match value {
        // A flag that is not set is omitted.
        Value::Null | Value::Bool(false) => None,
        Value::Bool(true) => Some("true".to_owned()),
        Value::Number(number) => Some(number.to_string()),
        Value::String(text) => Some(quoted(text)),
        Value::Array(all) if all.is_empty() => None,
        Value::Array(all) => {
            Some(format!("[{}]", all.iter().filter_map(inline).collect::<Vec<_>>().join(", ")))
        }
        Value::Object(table) if table.is_empty() => None,
        Value::Object(table) => Some(format!("{{ {} }}", pairs(table))),
    }
}

fn pairs(table: &Map<String, Value>) -> String {
    let pairs = table.iter().filter_map(|(name, value)| Some(format!("{} = {}", key(name), inline(value)?)));
    pairs.collect::<Vec<_>>().join(", ")
}

#[cfg(test)]
mod tests {
    use super::super::{Section, read};
    use super::*;
    use proptest::prelude::*;
    use serde_json::json;

    #[test]
    fn serialized_book_has_a_readable_form() {
        let text = "book = 1\n\n[feed.\"Summit Station\"]\nurl = \"rtsp://192.0.2.10/main\"\nuser = \"rail\"\n\
                    password = \"keep\"\n\n[destination.Bramble]\nserver = \"rtmp://ingest.example.net/live\"\n\
                    key = { file = \"keys/bramble\" }\nauthority = '''\n-----BEGIN-----\nabc\n'''\nuplinks = [\"Fibre\"]\n\n\
                    [contact.Desk]\nchannel = { type = \"webhook\", url = \"https://hooks.example.net/relay\" }\n";
        assert_eq!(write(&read(text).unwrap()), text);
    }

    proptest! {
        #[test]
        fn serialized_form_parses_to_the_same_value(
            name in "[ -~äπ]{1,20}", url in r#"[ -~\n\t"\\äπ]{0,30}"#, to in prop::collection::vec("[ -~]{0,8}", 1..4),
        ) {
            prop_assume!(!url.contains('@'));
            let entry = |section, fields: Value| {
                let Value::Object(mut fields) = fields else { unreachable!() };
                fields.insert("name".into(), name.clone().into());
                Entry { section, name: name.clone(), line: 0, fields, origins: vec![] }
            };
            let mut entries = vec![
                Entry {
                    origins: vec![("password", Origin::File(url.clone()))],
                    ..entry(Section::Feed, json!({ "url": url }))
                },
                entry(Section::Destination, json!({ "server": url, "authority": format!("{url}\n"), "return_after_s": 7 })),
                entry(Section::Relay, json!({ "feed": name, "to": to })),
                entry(Section::Signpost, json!({ "relay": name, "player": false, "unlisted": true })),
                entry(Section::Pattern, json!({ "template": url, "placeholders": [{ "name": name, "min": 1 }] })),
            ];
            let mut again = read(&write(&entries)).unwrap();
            entries.sort_by_key(|entry| entry.section);
            again.iter_mut().for_each(|entry| entry.line = 0);
            prop_assert_eq!(again, entries);
        }
    }
}
