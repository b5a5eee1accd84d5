//! Book files: conversion from and to the API, with secrets from their sources.

use std::fs;
use std::path::{Path, PathBuf};

use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::{Map, Value};
use yonder_api::{Secret, SiteBook};
use yonder_core::book::{Entry, Fault, Origin, Section};

use crate::failure::Failure;
use crate::secrets::Source;

/// Field with the desired state of a relay.
const WANTED: &str = "wanted";

/// Parsed book.
pub(super) struct BookFile {
    path: PathBuf,
    entries: Vec<Entry>,
}

/// Formats an error as `book.toml:12: message`, with its correction.
fn fault_lines(path: &Path, line: usize, detail: &str, hint: &str) -> String {
    let mut lines = format!("{}:{line}: {}", path.display(), detail.trim_end_matches('.'));
    if !hint.is_empty() {
        lines += &format!("\n        {hint}");
    }
    lines
}

impl BookFile {
    /// Parses a book, and reports all errors.
    pub(super) fn read(path: &Path) -> Result<Self, Failure> {
        let text = fs::read_to_string(path)
            .map_err(|error| Failure::Usage(format!("{}: {error}", path.display())))?;
        match yonder_core::book::read(&text) {
            Ok(entries) => Ok(Self { path: path.to_owned(), entries }),
            Err(faults) => {
                let to_lines = |fault: &Fault| fault_lines(path, fault.line, &fault.detail, &fault.hint);
                Err(Failure::Book(faults.iter().map(to_lines).collect()))
            }
        }
    }

    /// Returns the number of records of each section.
    pub(super) fn counts(&self) -> impl Iterator<Item = (Section, usize)> + '_ {
        let count = |section| self.entries.iter().filter(|entry| entry.section == section).count();
        Section::ALL.into_iter().map(move |section| (section, count(section))).filter(|(_, count)| *count > 0)
    }

    /// Returns the book for the API. Secrets are only asked for with `ask`; otherwise they are omitted where possible,
    /// and replaced by placeholders where the service needs them to check the rest.
    pub(super) fn book(&self, ask: bool) -> Result<SiteBook, Failure> {
        let mut book = SiteBook::default();
        let mut faults = Vec::new();
        for entry in &self.entries {
            match self.fields(entry, ask) {
                Ok(mut fields) => {
                    if let Some(Value::String(wanted)) = fields.remove(WANTED) {
                        book.wanted.insert(entry.name.clone(), wanted);
                    }
                    if let Err(detail) = put(&mut book, entry.section, fields) {
                        let detail = format!("{} {:?}: {detail}", entry.section, entry.name);
                        faults.push(fault_lines(&self.path, entry.line, &detail, ""));
                    }
                }
                Err(detail) => faults.push(fault_lines(&self.path, entry.line, &detail, "")),
            }
        }
        if faults.is_empty() { Ok(book) } else { Err(Failure::Book(faults)) }
    }

    fn fields(&self, entry: &Entry, ask: bool) -> Result<Map<String, Value>, String> {
        let mut fields = entry.fields.clone();
        for (field, origin) in &entry.origins {
            let what = format!("{field} of the {} {:?}", entry.section, entry.name);
            let text = match origin {
                Origin::Keep => continue,
                Origin::File(path) => {
                    let beside = self.path.parent().unwrap_or_else(|| Path::new("")).join(path);
                    let read = match *field {
                        "password" => Source::File(&beside).read_password(),
                        _ => Source::File(&beside).read(field),
                    };
                    read.map_err(|failure| format!("the {what} cannot be read: {failure}"))?
                }
                Origin::Env(name) => {
                    let value = std::env::var(name);
                    value.map_err(|_| format!("the {what} is not there: {name} is not set"))?.into()
                }
                Origin::Ask if ask => {
                    let read = Source::Stdin.read_line(&what);
                    read.map_err(|failure| format!("the {what} cannot be prompted for: {failure}"))?
                }
                Origin::Ask => made_up(&entry.name, field),
            };
            fields.insert((*field).to_owned(), text.expose().into());
        }
        Ok(fields)
    }

    /// Adds the lines of the book to errors of the service.
    pub(super) fn located(&self, failure: Failure) -> Failure {
        let Failure::Refused(problem) = failure else { return failure };
        if problem.faults.is_empty() {
            return Failure::Refused(problem);
        }
        let lines = problem.faults.iter().map(|fault| {
            let same = |entry: &&Entry| entry.section.as_str() == fault.kind && entry.name == fault.name;
            let line = self.entries.iter().find(same).map_or(1, |entry| entry.line);
            let detail = format!(
                "{} {:?}: {} ({})",
                fault.kind,
                fault.name,
                fault.detail.trim_end_matches('.'),
                fault.code
            );
            fault_lines(&self.path, line, &detail, fault.hint.as_deref().unwrap_or_default())
        });
        Failure::Book(lines.collect())
    }
}

/// Returns a unique placeholder of a secret that was not asked for.
fn made_up(name: &str, field: &str) -> Secret {
    format!("prompted for: {field} of {name}").replace(' ', "-").into()
}

fn put(book: &mut SiteBook, section: Section, fields: Map<String, Value>) -> Result<(), String> {
    fn one<T: DeserializeOwned>(fields: Map<String, Value>) -> Result<T, String> {
        serde_json::from_value(Value::Object(fields)).map_err(|error| error.to_string())
    }
    match section {
        Section::Uplink => book.uplinks.push(one(fields)?),
        Section::Platform => book.platforms.push(one(fields)?),
        Section::Pattern => book.patterns.push(one(fields)?),
        Section::Feed => book.feeds.push(one(fields)?),
        Section::Destination => book.destinations.push(one(fields)?),
        Section::Relay => book.relays.push(one(fields)?),
        Section::Signpost => book.signposts.push(one(fields)?),
        Section::Contact => book.contacts.push(one(fields)?),
        Section::Alert => book.alerts.push(one(fields)?),
    }
    Ok(())
}

/// Formats the stored book as text.
pub(super) fn written(book: &SiteBook) -> Result<String, Failure> {
    let mut entries = Vec::new();
    take(&mut entries, Section::Uplink, &book.uplinks)?;
    take(&mut entries, Section::Platform, &book.platforms)?;
    take(&mut entries, Section::Pattern, &book.patterns)?;
    take(&mut entries, Section::Feed, &book.feeds)?;
    take(&mut entries, Section::Destination, &book.destinations)?;
    take(&mut entries, Section::Relay, &book.relays)?;
    take(&mut entries, Section::Signpost, &book.signposts)?;
    take(&mut entries, Section::Contact, &book.contacts)?;
    take(&mut entries, Section::Alert, &book.alerts)?;
    for entry in &mut entries {
        if let Some(wanted) = book.wanted.get(&entry.name).filter(|_| entry.section == Section::Relay) {
            entry.fields.insert(WANTED.to_owned(), Value::from(wanted.as_str()));
        }
        let of_entry = book
            .sealed
            .iter()
            .filter(|sealed| sealed.kind == entry.section.as_str() && sealed.name == entry.name);
        for sealed in of_entry {
            let known = ["password", "key", "passphrase", "secret"];
            let field = known.into_iter().find(|known| *known == sealed.field);
            entry.origins.extend(field.map(|field| (field, Origin::Keep)));
        }
    }
    Ok(yonder_core::book::write(&entries))
}

fn take<T: Serialize>(entries: &mut Vec<Entry>, section: Section, records: &[T]) -> Result<(), Failure> {
    for record in records {
        let Value::Object(fields) = serde_json::to_value(record).map_err(anyhow::Error::from)? else {
            continue;
        };
        let name = fields.get("name").and_then(Value::as_str).unwrap_or_default().to_owned();
        entries.push(Entry { section, name, line: 0, fields, origins: Vec::new() });
    }
    Ok(())
}
