//! Comparison of two states of a record, field by field.

use serde::Serialize;
use serde_json::{Map, Value};
use yonder_api::FieldChange;

use crate::error::ServiceError;

/// Returns a record as a table of its fields.
pub(crate) fn table<T: Serialize>(record: &T) -> Result<Map<String, Value>, ServiceError> {
    match serde_json::to_value(record) {
        Ok(Value::Object(table)) => Ok(table),
        _ => Err(ServiceError::Internal("a record cannot be compared")),
    }
}

/// Returns the changed fields, and the changed secrets.
pub(crate) fn differences(
    before: Option<&Map<String, Value>>,
    after: &Map<String, Value>,
    secrets: &[&'static str],
) -> Vec<FieldChange> {
    let (before, after) = (before.map(flat).unwrap_or_default(), flat(after));
    let mut names: Vec<&String> = before.keys().chain(after.keys()).filter(|name| *name != "name").collect();
    names.sort_unstable();
    names.dedup();
    let mut fields: Vec<FieldChange> = names
        .into_iter()
        .map(|name| FieldChange {
            field: name.clone(),
            before: before.get(name).and_then(display_text),
            after: after.get(name).and_then(display_text),
        })
        .filter(|field| field.before != field.after)
        .collect();
    let secret = |field: &&str| FieldChange { field: (*field).to_owned(), before: None, after: None };
    fields.extend(secrets.iter().map(secret));
    fields
}

/// Flattens nested tables to names like `rules.video.ceiling`.
fn flat(record: &Map<String, Value>) -> Map<String, Value> {
    let mut flat = Map::new();
    for (name, value) in record {
        match value {
            Value::Object(table) => {
                flat.extend(table.iter().map(|(inner, value)| (format!("{name}.{inner}"), value.clone())));
            }
            value => {
                flat.insert(name.clone(), value.clone());
            }
        }
    }
    flat
}

/// Formats a value for display; `None` if it is empty.
fn display_text(value: &Value) -> Option<String> {
    match value {
        Value::Null => None,
        Value::String(text) => Some(text.clone()),
        Value::Array(all) => Some(all.iter().filter_map(display_text).collect::<Vec<_>>().join(", ")),
        Value::Object(table) => {
            let pairs =
                table.iter().filter_map(|(name, value)| Some(format!("{name} {}", display_text(value)?)));
            Some(pairs.collect::<Vec<_>>().join(", "))
        }
        Value::Bool(_) | Value::Number(_) => Some(value.to_string()),
    }
    .filter(|text| !text.is_empty())
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn map(value: Value) -> Map<String, Value> {
        let Value::Object(map) = value else { panic!("{value}") };
        map
    }

    #[test]
    fn differences_are_per_field_and_secrets_without_values() {
        let before = map(
            json!({ "name": "a", "url": "x", "site": "Fell", "to": ["a", "b"], "backup": false, "rules": { "a.b": "1" } }),
        );
        let after = map(
            json!({ "name": "A", "url": "y", "to": ["b", "a"], "backup": false, "on_air": [], "rules": { "a.b": "2" } }),
        );
        let found: Vec<_> = differences(Some(&before), &after, &["password"])
            .into_iter()
            .map(|field| (field.field, field.before.unwrap_or_default(), field.after.unwrap_or_default()))
            .collect();
        let found: Vec<_> = found.iter().map(|(a, b, c)| (a.as_str(), b.as_str(), c.as_str())).collect();
        assert_eq!(
            found,
            [
                ("rules.a.b", "1", "2"),
                ("site", "Fell", ""),
                ("to", "a, b", "b, a"),
                ("url", "x", "y"),
                ("password", "", "")
            ]
        );
    }
}
