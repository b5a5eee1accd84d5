//! Parser of the site book. All errors are reported together, with their lines.

use serde_json::{Map, Number, Value};
use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::shape::{Shape, field, fields};
use super::{Entry, Fault, Origin, Section};
use crate::naming::nearest_name;

/// Maximum size of a book, in bytes: room for some ten thousand records.
const LARGEST: usize = 8 * 1024 * 1024;
/// Format version.
const VERSION: i64 = 1;
/// Field with the format version.
const BOOK: &str = "book";

/// Parses a book. Returns the entries in dependency order of their sections.
///
/// # Errors
/// All errors, in the order of lines.
pub fn read(text: &str) -> Result<Vec<Entry>, Vec<Fault>> {
    if text.len() > LARGEST {
        return Err(vec![Fault::new(
            1,
            "the site book is larger than 8 MB",
            "Split it, or check that it is a site book.",
        )]);
    }
    let (table, errors) = DeTable::parse_recoverable(text);
    let mut reader = Reader { text, entries: Vec::new(), faults: Vec::new() };
    for error in errors {
        let line = reader.line(error.span().map_or(0, |span| span.start));
        let detail = format!("the site book is not valid TOML: {}", error.message());
        reader.faults.push(Fault::new(line, detail, "See the reference of the site book for the format."));
    }
    if reader.faults.is_empty() {
        reader.book(table.get_ref());
    }
    let Reader { mut entries, mut faults, .. } = reader;
    if faults.is_empty() {
        entries.sort_by_key(|entry| (entry.section, entry.line));
        return Ok(entries);
    }
    faults.sort_by_key(|fault| fault.line);
    faults.dedup();
    Err(faults)
}

struct Reader<'a> {
    text: &'a str,
    entries: Vec<Entry>,
    faults: Vec<Fault>,
}

/// Returns a "did you mean" suggestion: the nearest of the known names.
fn meant<'a>(word: &str, known: impl IntoIterator<Item = &'a str>) -> String {
    nearest_name(word, known).map(|nearest| format!("; did you mean {nearest:?}?")).unwrap_or_default()
}

impl Reader<'_> {
    /// Returns the line number of a byte offset.
    fn line(&self, at: usize) -> usize {
        let before = self.text.as_bytes().get(..at).unwrap_or_default();
        before.iter().filter(|byte| **byte == b'\n').count() + 1
    }

    fn fault(&mut self, at: usize, detail: String, hint: impl Into<String>) {
        let line = self.line(at);
        self.faults.push(Fault::new(line, detail, hint));
    }

    fn book(&mut self, book: &DeTable<'_>) {
        let mut has_version = false;
        for (key, value) in book {
            let (word, at) = (key.get_ref().as_ref(), key.span().start);
            if word == BOOK {
                has_version = true;
                self.version(value);
            } else if let Some(section) = Section::from_name(word) {
                self.section(section, value);
            } else {
                let known = Section::ALL.iter().map(|section| section.as_str()).chain([BOOK]);
                let detail = format!("there is no section {word:?}{}", meant(word, known));
                let words: Vec<&str> = Section::ALL.iter().map(|section| section.as_str()).collect();
                self.fault(at, detail, format!("The sections are {}.", words.join(", ")));
            }
        }
        if !has_version {
            self.fault(0, "the site book has no version".to_owned(), "Begin it with the line: book = 1");
        }
    }

    fn version(&mut self, value: &Spanned<DeValue<'_>>) {
        let version = value.get_ref().as_integer().and_then(whole);
        if version != Some(VERSION) {
            let detail = "this version of site books is not supported".to_owned();
            self.fault(
                value.span().start,
                detail,
                format!("This program reads books with: book = {VERSION}"),
            );
        }
    }

    fn section(&mut self, section: Section, value: &Spanned<DeValue<'_>>) {
        let Some(records) = value.get_ref().as_table() else {
            let detail = format!("{section} holds no records");
            let hint = format!("Write each under its name: [{section}.\"Name\"]");
            return self.fault(value.span().start, detail, hint);
        };
        let mut records: Vec<_> = records.iter().collect();
        records.sort_by_key(|(key, _)| key.span().start);
        for (key, record) in records {
            let (name, at) = (key.get_ref().to_string(), key.span().start);
            let Some(table) = record.get_ref().as_table() else {
                let known = fields(section).iter().map(|(field, _, _)| *field);
                let detail = if field(section, &name).is_some() {
                    format!("{name:?} is in the section itself, not in a record")
                } else {
                    format!("the {section} {name:?} has no fields{}", meant(&name, known))
                };
                self.fault(at, detail, format!("Write each {section} under its name: [{section}.\"Name\"]"));
                continue;
            };
            let twin = self
                .entries
                .iter()
                .find(|other| other.section == section && other.name.eq_ignore_ascii_case(&name));
            if let Some(twin) = twin {
                let detail = format!("the {section} {name:?} is defined already, in line {}", twin.line);
                self.fault(at, detail, "Names are compared without regard to case.");
                continue;
            }
            self.record(section, name, at, table);
        }
    }

    fn record(&mut self, section: Section, name: String, at: usize, table: &DeTable<'_>) {
        let mut entry = Entry {
            section,
            line: self.line(at),
            fields: Map::from_iter([("name".to_owned(), Value::from(name.clone()))]),
            name,
            origins: Vec::new(),
        };
        for (key, value) in table {
            let word = key.get_ref().as_ref();
            match field(section, word) {
                Some((field, shape, _)) => self.field(&mut entry, field, shape, value),
                None => {
                    let known = fields(section).iter().map(|(field, _, _)| *field);
                    let detail = format!("a {section} has no field {word:?}{}", meant(word, known.clone()));
                    let known: Vec<&str> = known.collect();
                    self.fault(key.span().start, detail, format!("It has {}.", known.join(", ")));
                }
            }
        }
        for (field, shape, needed) in fields(section) {
            if *needed && !table.iter().any(|(key, _)| key.get_ref() == field) {
                let detail = format!("the {section} {:?} has no {field}", entry.name);
                self.fault(at, detail, format!("It wants {}.", shape.wants()));
            }
        }
        self.entries.push(entry);
    }

    fn field(&mut self, entry: &mut Entry, name: &'static str, shape: Shape, value: &Spanned<DeValue<'_>>) {
        let at = value.span().start;
        let read = match shape {
            Shape::Text => value.get_ref().as_str().map(Value::from),
            Shape::Number => value.get_ref().as_integer().and_then(whole).map(Value::from),
            Shape::Flag | Shape::TrueFlag => value.get_ref().as_bool().map(Value::from),
            Shape::Texts => value.get_ref().as_array().and_then(|all| {
                let texts: Option<Vec<Value>> =
                    all.iter().map(|one| one.get_ref().as_str().map(Value::from)).collect();
                texts.map(Value::from)
            }),
            Shape::TextTable => value.get_ref().as_table().and_then(|table| {
                let texts: Option<Map<String, Value>> = table
                    .iter()
                    .map(|(key, one)| Some((key.get_ref().to_string(), Value::from(one.get_ref().as_str()?))))
                    .collect();
                texts.map(Value::from)
            }),
            Shape::Tables => Some(value.get_ref()).filter(|value| !value.is_str()).and_then(json),
            Shape::TextOrFile | Shape::Secret => return self.origin(entry, name, shape, value),
        };
        match read {
            Some(read) if name.ends_with("url") && holds_password(&read) => {
                let detail = format!("there is a password in the {name} of {:?}", entry.name);
                self.fault(at, detail, "Write user = \"…\" and password = { file = \"…\" } instead.");
            }
            Some(read) => {
                entry.fields.insert(name.to_owned(), read);
            }
            None => self.misfit(entry, name, shape, value),
        }
    }

    fn misfit(&mut self, entry: &Entry, name: &str, shape: Shape, value: &Spanned<DeValue<'_>>) {
        let detail =
            format!("the {name} of the {} {:?} is {}", entry.section, entry.name, kind(value.get_ref()));
        self.fault(value.span().start, detail, format!("It wants {}.", shape.wants()));
    }

    fn origin(&mut self, entry: &mut Entry, name: &'static str, shape: Shape, value: &Spanned<DeValue<'_>>) {
        let secret = shape == Shape::Secret;
        let origin = match value.get_ref() {
            DeValue::String(text) if !secret => {
                entry.fields.insert(name.to_owned(), Value::from(text.as_ref()));
                return;
            }
            DeValue::String(text) => match text.as_ref() {
                "ask" => Some(Origin::Ask),
                "keep" => Some(Origin::Keep),
                _ => {
                    let detail =
                        format!("the {name} of the {} {:?} is in the site book", entry.section, entry.name);
                    let hint = format!("Site books contain no secrets. Write {}.", shape.wants());
                    return self.fault(value.span().start, detail, hint);
                }
            },
            DeValue::Table(table) if table.len() == 1 => table.iter().find_map(|(key, from)| {
                let from = from.get_ref().as_str()?.to_owned();
                match key.get_ref().as_ref() {
                    "file" => Some(Origin::File(from)),
                    "env" if secret => Some(Origin::Env(from)),
                    _ => None,
                }
            }),
            _ => None,
        };
        match origin {
            Some(origin) => entry.origins.push((name, origin)),
            None => self.misfit(entry, name, shape, value),
        }
    }
}

/// Returns true for a URL with user information (RFC 3986, 3.2.1).
fn holds_password(url: &Value) -> bool {
    let authority = url.as_str().and_then(|url| url.split_once("://")).map(|(_, rest)| rest);
    let authority = authority.and_then(|rest| rest.split(['/', '?']).next());
    authority.and_then(|authority| authority.rsplit_once('@')).is_some_and(|(user, _)| user.contains(':'))
}

fn whole(number: &toml::de::DeInteger<'_>) -> Option<i64> {
    i64::from_str_radix(number.as_str(), number.radix()).ok()
}

fn kind(value: &DeValue<'_>) -> &'static str {
    match value {
        DeValue::String(_) => "a text",
        DeValue::Integer(_) => "a whole number",
        DeValue::Float(_) => "a decimal number",
        DeValue::Boolean(_) => "true or false",
        DeValue::Datetime(_) => "a date or a time",
        DeValue::Array(_) => "a list",
        DeValue::Table(_) => "a table",
    }
}

/// Converts a TOML value to JSON; `None` for a date, which no field accepts.
fn json(value: &DeValue<'_>) -> Option<Value> {
    Some(match value {
        DeValue::String(text) => Value::from(text.as_ref()),
        DeValue::Integer(number) => Value::from(whole(number)?),
        DeValue::Float(number) => Value::from(Number::from_f64(number.as_str().parse().ok()?)?),
        DeValue::Boolean(flag) => Value::from(*flag),
        DeValue::Datetime(_) => return None,
        DeValue::Array(all) => all.iter().map(|one| json(one.get_ref())).collect::<Option<Vec<_>>>()?.into(),
        DeValue::Table(table) => table
            .iter()
            .map(|(key, one)| Some((key.get_ref().to_string(), json(one.get_ref())?)))
            .collect::<Option<Map<_, _>>>()?
            .into(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    const BOOK: &str = r#"
book = 1

[uplink."Office fibre"]
rate = "40Mbit/s"

[relay."Summit Station"]
feed = "Summit Station"
to = ["Bramble TV"]
wanted = "on"

[feed."Summit Station"]
url = "rtsp://192.0.2.10/main"
user = "rail"
password = { env = "RAIL_PASSWORD" }

[destination."Bramble TV"]
server = "rtmp://ingest.bramble.example.net/live"
key = { file = "keys/bramble" }
authority = { file = "ca.pem" }
return_after_s = 60
uplinks = ["Office fibre"]

[contact.Desk]
channel = { type = "webhook", url = "https://hooks.example.net/relay" }
secret = "keep"
"#;

    #[test]
    fn entries_are_returned_in_dependency_order() {
        let entries = read(BOOK).unwrap();
        let names: Vec<_> = entries.iter().map(|entry| (entry.section.as_str(), entry.line)).collect();
        assert_eq!(names, [("uplink", 4), ("feed", 12), ("destination", 17), ("relay", 7), ("contact", 24)]);
        let destination = &entries[2];
        assert_eq!(destination.fields["return_after_s"], 60);
        assert_eq!(
            destination.origins,
            [("authority", Origin::File("ca.pem".into())), ("key", Origin::File("keys/bramble".into()))]
        );
        assert_eq!(entries[1].origins, [("password", Origin::Env("RAIL_PASSWORD".into()))]);
        assert_eq!(entries[4].fields["channel"]["type"], "webhook");
    }

    #[rstest]
    #[case::no_version("[feed.a]\nurl = \"rtsp://h/a\"", 1, "has no version")]
    #[case::another_version("book = 2", 1, "this version of site books is not supported")]
    #[case::broken("book = 1\n[feed.a\nurl = 1", 2, "is not valid TOML")]
    #[case::twice("book = 1\n[feed.a]\nurl = \"x\"\n[feed.a]\nurl = \"x\"", 4, "is not valid TOML")]
    #[case::twins(
        "book = 1\n[feed.a]\nurl = \"x\"\n[feed.A]\nurl = \"x\"",
        4,
        "is defined already, in line 2"
    )]
    #[case::section("book = 1\n[feeds.a]", 2, "did you mean \"feed\"?")]
    #[case::field("book = 1\n[feed.a]\nurl = \"x\"\ntransprt = \"tcp\"", 4, "did you mean \"transport\"?")]
    #[case::needed("book = 1\n[relay.a]\nfeed = \"x\"", 2, "the relay \"a\" has no to")]
    #[case::unnamed("book = 1\n[feed]\nurl = \"x\"", 3, "is in the section itself")]
    #[case::kind("book = 1\n[feed.a]\nurl = 5", 3, "the url of the feed \"a\" is a whole number")]
    #[case::list("book = 1\n[relay.a]\nfeed = \"x\"\nto = [\"b\", 3]", 4, "is a list")]
    #[case::secret("book = 1\n[destination.a]\nserver = \"x\"\nkey = \"4711\"", 4, "is in the site book")]
    #[case::origin("book = 1\n[destination.a]\nserver = \"x\"\nkey = { path = \"k\" }", 4, "is a table")]
    #[case::password(
        "book = 1\n[feed.a]\nurl = \"rtsp://rail:word@h/a\"",
        3,
        "there is a password in the url"
    )]
    fn errors_have_their_line(#[case] text: &str, #[case] line: usize, #[case] words: &str) {
        let faults = read(text).unwrap_err();
        let is_reported = faults.iter().any(|fault| fault.line == line && fault.detail.contains(words));
        assert!(is_reported, "{faults:?}");
        assert!(faults.iter().all(|fault| !fault.detail.contains("4711") && !fault.detail.contains("word@")));
    }

    #[test]
    fn all_errors_are_reported_together() {
        let faults = read("book = 1\n[feed.a]\nurl = 1\nport = 2\n[relay.b]\nto = 3\n").unwrap_err();
        let lines: Vec<usize> = faults.iter().map(|fault| fault.line).collect();
        assert_eq!(lines, [3, 4, 5, 6]);
    }

    proptest! {
        #[test]
        fn any_text_is_parsed_or_refused(text in r#"(book = 1\n)?(\[(feed|relay|x)(\.[a"]{1,3})?\]\n|[a-z]{1,4} = [\[\]{}",0-9.]{0,6}\n){0,8}"#) {
            match read(&text) {
                Ok(_) => {}
                Err(faults) => prop_assert!(!faults.is_empty()),
            }
        }
    }
}
