//! Documents name what the code has.

#![expect(clippy::unwrap_used, reason = "a test ends where something unexpected happens")]

use std::fs;
use std::path::{Path, PathBuf};

use yonder_core::CauseCode;

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

fn document(path: &str) -> String {
    fs::read_to_string(root().join("docs").join(path)).unwrap()
}

/// Returns the cells of all rows of the tables in a text.
fn rows(text: &str) -> Vec<Vec<&str>> {
    text.lines()
        .filter(|line| line.starts_with('|') && !line.starts_with("|---"))
        .map(|line| line.trim_matches('|').split(" | ").map(str::trim).collect())
        .collect()
}

/// Returns the texts in backticks.
fn quoted(cell: &str) -> Vec<&str> {
    cell.split('`').skip(1).step_by(2).collect()
}

#[test]
fn files_types_and_functions_on_the_path_of_a_frame_exist() {
    let text = document("architecture.md");
    let (_, section) = text.split_once("## Path of a frame").unwrap();
    let (table, _) = section.split_once("A **feed").unwrap();
    let steps: Vec<_> = rows(table).into_iter().filter(|row| row[2].contains("crates/")).collect();
    assert!(steps.len() >= 12, "{} steps", steps.len());
    for row in steps {
        let sources: Vec<String> = quoted(row[2])
            .into_iter()
            .map(|path| fs::read_to_string(root().join(path)).unwrap_or_else(|_| panic!("{path} is missing")))
            .collect();
        for name in quoted(row[1]) {
            let is_defined = |source: &String| {
                ["struct", "enum", "trait"].iter().any(|kind| {
                    let definition = format!("{kind} {name}");
                    source.match_indices(&definition).any(|(at, _)| {
                        let next = source[at + definition.len()..].chars().next();
                        !next.is_some_and(|next| next.is_alphanumeric() || next == '_')
                    })
                })
            };
            assert!(sources.iter().any(is_defined), "{name} is not in {}", row[2]);
        }
        for name in quoted(row[3]) {
            let is_defined = |source: &String| {
                source.contains(&format!("fn {name}(")) || source.contains(&format!("fn {name}<"))
            };
            assert!(sources.iter().any(is_defined), "{name} is not in {}", row[2]);
        }
    }
}

#[test]
fn reference_lists_every_cause_with_domain_and_next_step() {
    let text = document("reference/causes.md");
    let rows = rows(&text);
    for code in CauseCode::ALL {
        let row = rows.iter().find(|row| row[0] == format!("`{code}`"));
        let row = row.unwrap_or_else(|| panic!("{code} is missing"));
        assert_eq!((row[1], row[3]), (code.side().as_str(), code.hint()), "{code}");
    }
}

#[test]
fn decisions_are_listed() {
    let folder = root().join("docs/decisions");
    let index = fs::read_to_string(folder.join("README.md")).unwrap();
    let files = fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().file_name());
    let files: Vec<String> = files.map(|name| name.to_string_lossy().into_owned()).collect();
    assert!(files.len() > 10);
    for file in files.iter().filter(|file| *file != "README.md") {
        assert!(index.contains(&format!("({file})")), "{file} is not listed");
    }
}
