//! Fields of each section and the types of their values.

use super::Section;

/// Type of a field's value.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Shape {
    Text,
    Number,
    /// Flag that is false if it is omitted.
    Flag,
    /// Flag that is true if it is omitted.
    TrueFlag,
    Texts,
    /// Table of strings by name.
    TextTable,
    /// Array of tables, checked by the service.
    Tables,
    /// String, or `{ file = "…" }`.
    TextOrFile,
    /// Source of a secret.
    Secret,
}

impl Shape {
    /// Returns a description of the values.
    pub(super) fn wants(self) -> &'static str {
        match self {
            Self::Text => "a text in quotes",
            Self::Number => "a whole number",
            Self::Flag | Self::TrueFlag => "true or false",
            Self::Texts => "a list of texts in brackets",
            Self::TextTable => "a table of texts",
            Self::Tables => "a table, or a list of tables",
            Self::TextOrFile => "a text in quotes, or { file = \"…\" }",
            Self::Secret => "{ file = \"…\" }, { env = \"…\" }, \"ask\" or \"keep\"",
        }
    }
}

/// Field: name, type, and whether it is required.
pub(super) type Field = (&'static str, Shape, bool);

pub(super) fn fields(section: Section) -> &'static [Field] {
    use Shape::{Flag, Number, Secret, Tables, Text, TextOrFile, TextTable, Texts, TrueFlag};
    match section {
        Section::Uplink => &[
            ("site", Text, false),
            ("rate", Text, true),
            ("allowance", Text, false),
            ("headroom_percent", Number, false),
            ("backup", Flag, false),
            ("source", Text, false),
            ("interface", Text, false),
        ],
        Section::Platform => &[("like", Text, false), ("rules", TextTable, false)],
        Section::Pattern => {
            &[("template", Text, true), ("placeholders", Tables, false), ("note", Text, false)]
        }
        Section::Feed => &[
            ("device", Text, false),
            ("url", Text, false),
            ("ingest", Flag, false),
            ("key", Secret, false),
            ("passphrase", Secret, false),
            ("key_length", Number, false),
            ("sub_url", Text, false),
            ("transport", Text, false),
            ("user", Text, false),
            ("password", Secret, false),
            ("pin", Text, false),
            ("site", Text, false),
        ],
        Section::Destination => &[
            ("server", Text, true),
            ("backup_server", Text, false),
            ("return_after_s", Number, false),
            ("platform", Text, false),
            ("watch_page", Text, false),
            ("key", Secret, false),
            ("key_kind", Text, false),
            ("key_expires", Text, false),
            ("passphrase", Secret, false),
            ("key_length", Number, false),
            ("authority", TextOrFile, false),
            ("uplinks", Texts, false),
        ],
        Section::Relay => &[
            ("feed", Text, true),
            ("to", Texts, true),
            ("wanted", Text, false),
            ("hold_after_s", Number, false),
            ("on_air", Texts, false),
            ("zone", Text, false),
            ("quiet_minute", Text, false),
            ("adapt", Text, false),
            ("limits", TextTable, false),
        ],
        Section::Signpost => &[
            ("relay", Text, true),
            ("title", Text, false),
            ("player", TrueFlag, false),
            ("to", Texts, false),
            ("paused", Flag, false),
            ("unlisted", Flag, false),
            ("status_page", Flag, false),
            ("max_viewers", Number, false),
            ("daily", Text, false),
        ],
        Section::Contact => &[("channel", Tables, true), ("secret", Secret, false)],
        Section::Alert => {
            &[("when", Text, true), ("about", Text, false), ("to", Texts, false), ("repeat_s", Number, false)]
        }
    }
}

/// Returns the field with this name.
pub(super) fn field(section: Section, name: &str) -> Option<Field> {
    fields(section).iter().find(|(known, _, _)| *known == name).copied()
}
