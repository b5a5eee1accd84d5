//! Text output of the changes of a book.

use yonder_api::{BookChange, BookOutcome, FieldChange};

use super::file::BookFile;
use crate::output::{Tone, colorize, has_color};

/// Returns a summary of a valid book, with the number of changes.
pub(super) fn validity_text(file: &BookFile, changes: usize) -> String {
    let counts: Vec<String> = file
        .counts()
        .map(|(section, count)| format!("{count} {section}{}", if count == 1 { "" } else { "s" }))
        .collect();
    let contents = if counts.is_empty() { "it is empty".to_owned() } else { counts.join(", ") };
    let effect = match changes {
        0 => "It matches the records.".to_owned(),
        1 => "It changes one record; see `yonder book diff`.".to_owned(),
        changes => format!("It changes {changes} records; see `yonder book diff`."),
    };
    format!("The site book is valid: {contents}. {effect}")
}

/// Formats all changes with their fields; `verb` is `would change` or `changed`.
pub(super) fn changes_text(outcome: &BookOutcome, verb: &str) -> String {
    let color = has_color();
    if outcome.changes.is_empty() {
        return "Nothing changes: the records match the site book.\n".to_owned();
    }
    let mut text: String = outcome.changes.iter().map(|change| one(change, color)).collect();
    let count = |what: &str| outcome.changes.iter().filter(|change| change.what == what).count();
    let counts: Vec<String> = ["added", "changed", "removed"]
        .into_iter()
        .filter(|what| count(what) > 0)
        .map(|what| format!("{} {what}", count(what)))
        .collect();
    let records = if outcome.changes.len() == 1 { "record" } else { "records" };
    text += &format!("{} {records} {verb}: {}.\n", outcome.changes.len(), counts.join(", "));
    text
}

fn one(change: &BookChange, color: bool) -> String {
    let tone = match change.what.as_str() {
        "added" => Tone::Good,
        "removed" => Tone::Bad,
        _ => Tone::Wait,
    };
    let head = format!("{:<8} {} {}", change.what, change.kind, change.name);
    let mut text = colorize(&head, tone, color) + "\n";
    // The fields of a new record are in the book.
    if change.what == "changed" {
        text.extend(change.fields.iter().map(|field| format!("           {}\n", field_text(field))));
    }
    text
}

fn field_text(field: &FieldChange) -> String {
    let short = |text: &str| {
        let line = text.lines().next().unwrap_or_default();
        if line.len() < text.len() { format!("{line} …") } else { line.to_owned() }
    };
    match (&field.before, &field.after) {
        (None, None) => format!("{}: a new value", field.field),
        (None, Some(after)) => format!("{}: {}", field.field, short(after)),
        (Some(before), None) => format!("{}: {} → none", field.field, short(before)),
        (Some(before), Some(after)) => format!("{}: {} → {}", field.field, short(before), short(after)),
    }
}
