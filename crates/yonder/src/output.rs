//! Standard output: tables, or JSON.

use std::io::{self, Write as _};

use jiff::Timestamp;
use jiff::tz::TimeZone;
use parking_lot::Mutex;
use serde::Serialize;

use crate::failure::Failure;
pub(crate) use crate::json_mode::{use_json, wants_json};
pub(crate) use crate::style::{Tone, colorize, has_color};

/// First error of standard output.
static WRITE_ERROR: Mutex<Option<io::Error>> = Mutex::new(None);

/// Prints text; with JSON an object with the text as its `message`, so that every command prints JSON.
pub(crate) fn print(text: &str) {
    if wants_json() {
        let object = serde_json::json!({ "message": text.trim_end() });
        print_raw(&format!("{object:#}\n"));
    } else {
        print_raw(text);
    }
}

/// Prints text unchanged. An error is kept for [`write_error`], except for a closed pipe.
pub(crate) fn print_raw(text: &str) {
    let mut out = io::stdout().lock();
    let written = out.write_all(text.as_bytes()).and_then(|()| out.flush());
    if let Err(error) = written
        && error.kind() != io::ErrorKind::BrokenPipe
    {
        WRITE_ERROR.lock().get_or_insert(error);
    }
}

/// Returns the first error of standard output, after which the output is incomplete.
pub(crate) fn write_error() -> Option<io::Error> {
    WRITE_ERROR.lock().take()
}

/// Prints a value as indented JSON.
pub(crate) fn print_json<T: Serialize>(value: &T) -> Result<(), Failure> {
    let text = serde_json::to_string_pretty(value).map_err(anyhow::Error::from)?;
    print_raw(&(text + "\n"));
    Ok(())
}

/// Formats a table with columns as wide as their longest cell.
pub(crate) fn table(head: &[&str], rows: &[Vec<String>]) -> String {
    let width = |column: usize| {
        let cells = rows.iter().filter_map(|row| row.get(column)).map(|cell| cell.chars().count());
        cells.chain(head.get(column).map(|cell| cell.chars().count())).max().unwrap_or_default()
    };
    let widths: Vec<usize> = (0..head.len()).map(width).collect();
    let line = |cells: Vec<&str>| {
        let padded: Vec<String> =
            cells.iter().zip(&widths).map(|(cell, width)| format!("{cell:<width$}")).collect();
        padded.join("  ").trim_end().to_owned() + "\n"
    };
    let mut text = line(head.to_vec());
    for row in rows {
        text += &line(row.iter().map(String::as_str).collect());
    }
    text
}

/// Formats a time of the API in local time.
pub(crate) fn local(text: &str) -> String {
    text.parse::<Timestamp>().map_or_else(
        |_| text.to_owned(),
        |time| time.to_zoned_datetime(TimeZone::system()).strftime("%Y-%m-%d %H:%M:%S").to_string(),
    )
}

/// Formats comma-separated values (RFC 4180). Values that a spreadsheet would interpret as formulas are quoted, since
/// messages repeat texts of cameras and platforms.
pub(crate) fn csv(head: &[&str], rows: impl Iterator<Item = Vec<String>>) -> Result<String, Failure> {
    let mut writer = csv::WriterBuilder::new().terminator(csv::Terminator::CRLF).from_writer(Vec::new());
    let written = || -> anyhow::Result<String> {
        writer.write_record(head)?;
        for row in rows {
            let safe = row.into_iter().map(|cell| {
                if cell.starts_with(['=', '+', '-', '@', '\t', '\r']) { format!("'{cell}") } else { cell }
            });
            writer.write_record(safe)?;
        }
        Ok(String::from_utf8(writer.into_inner()?)?)
    };
    Ok(written()?)
}

/// Formats an integer with thousands groups: `12 345`.
pub(crate) fn grouped(number: u64) -> String {
    let digits = number.to_string();
    let mut text = String::new();
    for (at, digit) in digits.chars().enumerate() {
        if at > 0 && (digits.len() - at).is_multiple_of(3) {
            text.push(' ');
        }
        text.push(digit);
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn columns_line_up() {
        let rows = vec![vec!["a".to_owned(), "bb".to_owned()], vec!["ccc".to_owned(), "d".to_owned()]];
        assert_eq!(table(&["X", "Y"], &rows), "X    Y\na    bb\nccc  d\n");
    }

    #[test]
    fn values_are_quoted_and_formulas_are_text() {
        let rows = [vec!["a,\"b\"".to_owned(), "=1+1".to_owned()]];
        let text = csv(&["X", "Y"], rows.into_iter()).unwrap();
        assert_eq!(text, "X,Y\r\n\"a,\"\"b\"\"\",'=1+1\r\n");
    }

    #[test]
    fn numbers_are_grouped() {
        assert_eq!([grouped(7), grouped(1_234), grouped(12_345_678)], ["7", "1 234", "12 345 678"]);
    }

    #[test]
    fn text_without_color_is_plain() {
        assert_eq!(colorize("live", Tone::Good, false), "live");
        assert_eq!(colorize("live", Tone::Good, true), "\x1b[36mlive\x1b[0m");
    }
}
