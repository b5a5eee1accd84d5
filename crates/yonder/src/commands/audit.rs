//! `yonder audit`: the audit log.

use clap::Args;
use yonder_api::{AuditEntry, FieldChange};

use crate::client::Client;
use crate::failure::Failure;
use crate::output::{local, print, print_json, wants_json};

#[derive(Debug, Args)]
pub(crate) struct AuditArguments {
    /// Only changes of the record with this name or ID.
    #[arg(long, value_name = "NAME")]
    about: Option<String>,
    /// Only changes of this kind of record, such as relay, feed or destination.
    #[arg(long)]
    kind: Option<String>,
    /// Only changes by this person or token.
    #[arg(long, value_name = "NAME")]
    who: Option<String>,
    /// Only entries with a lower number: the next page.
    #[arg(long, value_name = "NUMBER")]
    before: Option<i64>,
    /// Maximum number of entries; the latest are shown.
    #[arg(long, default_value_t = 50)]
    limit: u32,
}

pub(crate) fn run(arguments: &AuditArguments, client: &Client) -> Result<(), Failure> {
    let AuditArguments { about, kind, who, before, limit } = arguments;
    let mut query = vec![("limit", limit.to_string())];
    query.extend(before.map(|number| ("before", number.to_string())));
    for (name, value) in [("about", about), ("kind", kind), ("who", who)] {
        query.extend(value.clone().map(|value| (name, value)));
    }
    let query: Vec<(&str, &str)> = query.iter().map(|(name, value)| (*name, value.as_str())).collect();
    let entries: Vec<AuditEntry> = client.get_with(&["audit"], &query)?;
    if wants_json() {
        return print_json(&entries);
    }
    if entries.is_empty() {
        let filtered = about.is_some() || kind.is_some() || who.is_some() || before.is_some();
        print(if filtered { "No audit entry matches.\n" } else { "No changes are recorded yet.\n" });
        return Ok(());
    }
    // The latest entry is last, next to the prompt.
    print(&entries.iter().rev().map(describe).collect::<String>());
    Ok(())
}

fn describe(entry: &AuditEntry) -> String {
    let AuditEntry { number, at, who, origin, address, action, kind, name, fields, .. } = entry;
    let from = address.as_ref().map(|address| format!(" at {address}")).unwrap_or_default();
    let mut text = format!("{number}  {}  {who} ({origin}{from}) {action} {kind} {name}\n", local(at));
    for FieldChange { field, before, after } in fields {
        text += &match (before, after) {
            (None, None) => format!("    {field}: set\n"),
            (None, Some(after)) if action == "added" => format!("    {field}: {after}\n"),
            (before, after) => {
                let shown = |value: &Option<String>| value.clone().unwrap_or_else(|| "none".to_owned());
                format!("    {field}: {} → {}\n", shown(before), shown(after))
            }
        };
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn entry_has_author_origin_and_both_states() {
        let field = |field: &str, before: Option<&str>, after: Option<&str>| FieldChange {
            field: field.into(),
            before: before.map(Into::into),
            after: after.map(Into::into),
        };
        let entry = AuditEntry {
            number: 7,
            at: "2026-11-29T06:00:00Z".into(),
            who: "Night desk".into(),
            origin: "console".into(),
            address: Some("192.0.2.44".into()),
            action: "changed".into(),
            kind: "feed".into(),
            name: "Summit".into(),
            id: None,
            fields: vec![field("site", None, Some("Fell")), field("password", None, None)],
        };
        let text = describe(&entry);
        assert!(text.contains("Night desk (console at 192.0.2.44) changed feed Summit\n"), "{text}");
        assert!(text.ends_with("    site: none → Fell\n    password: set\n"), "{text}");
        let added = AuditEntry { action: "added".into(), ..entry };
        assert!(describe(&added).ends_with("    site: Fell\n    password: set\n"));
    }
}
