//! Built-in rule sheets.

use serde::Deserialize;

use super::rules::RuleSheet;

/// Rule sheet with its name.
#[derive(Debug, Clone, PartialEq)]
pub struct NamedSheet {
    /// Name of the platform.
    pub name: String,
    /// Rules.
    pub rules: RuleSheet,
}

const FILES: [&str; 6] = [
    include_str!("../../sheets/plain-rtmp.toml"),
    include_str!("../../sheets/rtmp-over-tls.toml"),
    include_str!("../../sheets/srt-receiver.toml"),
    include_str!("../../sheets/bramble-tv.toml"),
    include_str!("../../sheets/thistle-stage.toml"),
    include_str!("../../sheets/marrow-hall.toml"),
];

/// Returns all built-in sheets, sorted by name.
#[must_use]
pub fn shipped() -> Vec<NamedSheet> {
    // The files are compiled in, and a test parses each of them.
    let mut sheets: Vec<NamedSheet> = FILES.iter().filter_map(|text| read(text).ok()).collect();
    sheets.sort_by(|a, b| a.name.cmp(&b.name));
    sheets
}

fn read(text: &str) -> Result<NamedSheet, toml::de::Error> {
    #[derive(Deserialize)]
    struct Name {
        name: String,
    }
    let mut table: toml::Table = toml::from_str(text)?;
    let Name { name } = Name::deserialize(table.clone())?;
    table.remove("name");
    Ok(NamedSheet { name, rules: RuleSheet::deserialize(table)? })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn built_in_sheets_are_valid() {
        for text in FILES {
            let sheet = read(text).unwrap();
            assert_eq!(sheet.rules.check(), Ok(()), "{}", sheet.name);
            assert!(!sheet.rules.note.is_empty() && !sheet.rules.protocols.is_empty());
        }
        assert_eq!(shipped().len(), FILES.len());
    }

    #[test]
    fn unknown_rule_is_refused_by_name() {
        let error = read("name = \"x\"\n[video]\nceling_kbps = 1").unwrap_err();
        assert!(error.to_string().contains("celing_kbps"), "{error}");
    }
}
