//! Tests of the help texts, and of the reference that lists the commands.

use clap::CommandFactory as _;

use crate::arguments::Arguments;

const REFERENCE: &str = include_str!("../../../docs/reference/commands.md");

/// Appends the help of a command and of all commands below it.
fn collect_help(command: &mut clap::Command, path: &str, text: &mut String) {
    text.push_str(&format!("$ {path} --help\n{}\n", command.render_long_help()));
    for child in command.get_subcommands_mut().filter(|child| child.get_name() != "help") {
        if !child.is_hide_set() {
            let path = format!("{path} {}", child.get_name());
            collect_help(child, &path, text);
        }
    }
}

/// Returns the paths of all commands that do something.
fn leaves(command: &clap::Command, path: &str) -> Vec<String> {
    let children =
        command.get_subcommands().filter(|child| child.get_name() != "help" && !child.is_hide_set());
    let below: Vec<String> =
        children.flat_map(|child| leaves(child, &format!("{path} {}", child.get_name()))).collect();
    if below.is_empty() { vec![path.to_owned()] } else { below }
}

#[test]
fn help_texts_are_as_recorded() {
    let mut command = Arguments::command().term_width(100);
    command.build();
    let mut text = String::new();
    collect_help(&mut command, "yonder", &mut text);
    insta::assert_snapshot!(text);
}

#[test]
fn reference_lists_every_command() {
    let missing: Vec<String> = leaves(&Arguments::command(), "yonder")
        .into_iter()
        .filter(|path| {
            let (group, name) = path.rsplit_once(' ').unwrap_or(("", path));
            // Rows list commands of a group as `yonder feed list|show`, or after their first one.
            let is_listed = |line: &str| {
                line.contains(&format!("`{path}"))
                    || (group != "yonder"
                        && line.contains(group)
                        && line.split(|c: char| !(c.is_alphanumeric() || c == '-')).any(|part| part == name))
            };
            !REFERENCE.lines().any(is_listed)
        })
        .collect();
    assert!(missing.is_empty(), "{missing:?}");
}
