//! States, levels and sides are compared as types: no source of the workspace compares one by its name.

#![expect(clippy::unwrap_used, reason = "a test ends where something unexpected happens")]

use std::fs;
use std::path::{Path, PathBuf};

use yonder_core::{ConditionLevel, DesiredState, DialStep, FaultDomain, FeedPhase, PushPhase};

/// Rust sources below a folder, without tests.
fn sources(folder: &Path, found: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        if path.is_dir() {
            if name != "tests" {
                sources(&path, found);
            }
        } else if name.ends_with(".rs") && !name.ends_with("tests.rs") {
            found.push(path);
        }
    }
}

fn names() -> Vec<&'static str> {
    let mut names: Vec<&str> = Vec::new();
    names.extend(FeedPhase::ALL.iter().map(|phase| phase.as_str()));
    names.extend(PushPhase::ALL.iter().map(|phase| phase.as_str()));
    names.extend(DesiredState::ALL.iter().map(|state| state.as_str()));
    names.extend(ConditionLevel::ALL.iter().map(|level| level.as_str()));
    names.extend(FaultDomain::ALL.iter().map(|side| side.as_str()));
    names.extend(DialStep::ALL.iter().map(|step| step.as_str()));
    names
}

/// Lines that compare something with one of the names.
fn comparisons(text: &str, names: &[&str]) -> Vec<String> {
    // Unit tests stand at the end of a file, and compare what is shown.
    let code = text.split("#[cfg(test)]").next().unwrap_or_default();
    let compares = |line: &&str| {
        names
            .iter()
            .any(|name| ["== ", "!= "].iter().any(|operator| line.contains(&format!("{operator}\"{name}\""))))
    };
    code.lines().filter(compares).map(|line| line.trim().to_owned()).collect()
}

#[test]
fn no_source_compares_a_state_level_or_side_by_its_name() {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).join("..");
    let mut all = Vec::new();
    sources(&crates, &mut all);
    assert!(all.len() > 200, "only {} sources were found", all.len());
    let names = names();
    let found: Vec<String> = all
        .iter()
        .flat_map(|path| {
            let lines = comparisons(&fs::read_to_string(path).unwrap(), &names);
            lines.into_iter().map(move |line| format!("{}: {line}", path.display()))
        })
        .collect();
    assert_eq!(found, Vec::<String>::new());
}

#[test]
fn a_comparison_by_name_is_found() {
    let text = "if push.state == \"live\" {\n#[cfg(test)]\nassert!(state == \"live\")";
    assert_eq!(comparisons(text, &["live"]), ["if push.state == \"live\" {"]);
}
