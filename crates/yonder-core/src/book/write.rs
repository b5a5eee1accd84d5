//! Writing a book: what [`read`](super::read()) reads as the same records.

use std::fmt::Write as _;

use serde_json::{Map, Value};

use super::shape::{Shape, fields};
use super::{Entry, Origin};

/// Writes a book. Fields without a value are left out.
#[must_use]
pub fn write(entries: &[Entry]) -> String {
    let mut book = "book = 1\n".to_owned();
    for entry in entries {
        // Writing to a text does not fail.
        let _written = write!(book, "\n[{}.{}]\n", entry.section, key(&entry.name));
        for (field, shape, _) in fields(entry.section) {
            if let Some(value) = entry.fields.get(*field).and_then(inline) {
                // A certificate is easier on the eye over its own lines.
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

/// A name as a key: bare where TOML allows it.
fn key(name: &str) -> String {
    let is_bare =
        !name.is_empty() && name.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '-' | '_'));
    if is_bare { name.to_owned() } else { quoted(name) }
}

/// A basic string (TOML 1.0, "String").
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

/// A value on one line; nothing for what is empty.
fn inline(value: &Value) -> Option<String> {
    match value {
        // A flag that is not set is left out.
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
    fn a_book_looks_as_one_would_write_it() {
        let text = "book = 1\n\n[feed.\"Summit Station\"]\nurl = \"rtsp://192.0.2.10/main\"\nuser = \"rail\"\n\
                    password = \"keep\"\n\n[destination.Bramble]\nserver = \"rtmp://ingest.example.net/live\"\n\
                    key = { file = \"keys/bramble\" }\nauthority = '''\n-----BEGIN-----\nabc\n'''\nuplinks = [\"Fibre\"]\n\n\
                    [contact.Desk]\nchannel = { type = \"webhook\", url = \"https://hooks.example.net/relay\" }\n";
        assert_eq!(write(&read(text).unwrap()), text);
    }

    proptest! {
        #[test]
        fn what_was_written_is_read_as_the_same(
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
                entry(Section::Pattern, json!({ "template": url, "placeholders": [{ "name": name, "min": 1 }] })),
            ];
            let mut again = read(&write(&entries)).unwrap();
            entries.sort_by_key(|entry| entry.section);
            again.iter_mut().for_each(|entry| entry.line = 0);
            prop_assert_eq!(again, entries);
        }
    }
}
