//! `yonder pattern …`: address patterns.

use clap::{Args, Subcommand};
use yonder_api::{Choice, Pattern, Placeholder, PlaceholderKind, StoredPattern};

use crate::client::Client;
use crate::failure::Failure;
use crate::output::{print, print_json, table, wants_json};

#[derive(Debug, Args)]
pub(crate) struct PatternValues {
    /// Address with placeholders in braces, such as `rtsp://{host}:{port}/ch{channel}/{stream}`.
    #[arg(long)]
    template: String,
    /// Placeholder: `NAME=text`, `NAME=number,from:1,to:32,width:2,offset:100`, or `NAME=choice,main:0,sub:1`.
    #[arg(long = "placeholder", value_name = "PLACEHOLDER", alias = "blank", value_parser = read_placeholder)]
    placeholders: Vec<Placeholder>,
    /// Purpose.
    #[arg(long, default_value = "")]
    note: String,
}

#[derive(Debug, Subcommand)]
pub(crate) enum PatternCommand {
    /// List all patterns.
    List,
    /// Show a pattern and its placeholders.
    Show {
        /// Name of the pattern.
        name: String,
    },
    /// Add a pattern.
    Add {
        /// Name of the pattern.
        name: String,
        #[command(flatten)]
        values: PatternValues,
    },
    /// Replace a pattern; feeds created from it keep their addresses.
    Edit {
        /// Name of the pattern.
        name: String,
        #[command(flatten)]
        values: PatternValues,
    },
    /// Remove a pattern; feeds created from it keep their addresses.
    Remove {
        /// Name of the pattern.
        name: String,
    },
}

pub(crate) fn run(command: PatternCommand, client: &Client) -> Result<(), Failure> {
    let pattern = |name: &str, values: PatternValues| Pattern {
        name: name.to_owned(),
        template: values.template,
        placeholders: values.placeholders,
        note: values.note,
    };
    match command {
        PatternCommand::List => list(&client.get::<Vec<_>>(&["patterns"])?),
        PatternCommand::Show { name } => show(&client.get(&["patterns", &name])?),
        PatternCommand::Add { name, values } => show(&client.post(&["patterns"], &pattern(&name, values))?),
        PatternCommand::Edit { name, values } => {
            show(&client.put(&["patterns", &name], &pattern(&name, values))?)
        }
        PatternCommand::Remove { name } => {
            client.delete(&["patterns", &name])?;
            print(&format!("Pattern {name} removed.\n"));
            Ok(())
        }
    }
}

fn list(patterns: &[StoredPattern]) -> Result<(), Failure> {
    if wants_json() {
        return print_json(&patterns);
    }
    if patterns.is_empty() {
        print("There are no patterns. Add one: yonder pattern add NAME --template rtsp://{host}/…\n");
        return Ok(());
    }
    let rows: Vec<Vec<String>> =
        patterns.iter().map(|pattern| vec![pattern.name.clone(), pattern.template.clone()]).collect();
    print(&table(&["PATTERN", "ADDRESS"], &rows));
    Ok(())
}

fn show(pattern: &StoredPattern) -> Result<(), Failure> {
    if wants_json() {
        return print_json(pattern);
    }
    let mut text = format!("{}\n  address  {}\n", pattern.name, pattern.template);
    for placeholder in &pattern.placeholders {
        text += &format!("  {:<8} {}\n", placeholder.name, kind_text(&placeholder.kind));
    }
    if !pattern.note.is_empty() {
        text += &format!("  note     {}\n", pattern.note);
    }
    let set: String =
        pattern.placeholders.iter().map(|placeholder| format!(" --set {}=…", placeholder.name)).collect();
    text += &format!("\n  yonder feed add NAME --pattern {:?} --set host=…{set}\n", pattern.name);
    print(&text);
    Ok(())
}

fn kind_text(kind: &PlaceholderKind) -> String {
    match kind {
        PlaceholderKind::Text => "a text".to_owned(),
        PlaceholderKind::Number { width, offset, min, max } => {
            let mut text = format!("a number from {min} to {max}");
            if *width > 1 {
                text += &format!(", written with {width} digits");
            }
            if *offset != 0 {
                text += &format!(", {offset:+} when written");
            }
            text
        }
        PlaceholderKind::Choice { choices } => {
            let choices: Vec<String> =
                choices.iter().map(|choice| format!("{} ({})", choice.word, choice.value)).collect();
            choices.join(", ")
        }
    }
}

/// Parses a placeholder such as `channel=number,from:1,to:32`.
fn read_placeholder(text: &str) -> Result<Placeholder, String> {
    let (name, rest) = text.split_once('=').ok_or("give a placeholder like channel=number,from:1,to:32")?;
    let mut parts = rest.split(',').map(str::trim);
    let kind = parts.next().unwrap_or_default();
    let pairs: Vec<(&str, &str)> = parts
        .map(|part| part.split_once(':').ok_or_else(|| format!("{part:?} has no value after the colon")))
        .collect::<Result<_, _>>()?;
    let kind = match kind {
        "text" => PlaceholderKind::Text,
        "number" => read_number(&pairs)?,
        "choice" => {
            let choice =
                |(word, value): &(&str, &str)| Choice { word: (*word).into(), value: (*value).into() };
            PlaceholderKind::Choice { choices: pairs.iter().map(choice).collect() }
        }
        other => return Err(format!("{other:?} is not one of text, number, choice")),
    };
    Ok(Placeholder { name: name.trim().to_owned(), kind })
}

fn read_number(pairs: &[(&str, &str)]) -> Result<PlaceholderKind, String> {
    let (mut width, mut offset, mut min, mut max) = (0, 0, 0, 9_999);
    for (name, value) in pairs {
        let number: i64 = value.trim().parse().map_err(|_| format!("{value:?} is not a number"))?;
        match *name {
            "width" => width = u8::try_from(number).map_err(|_| format!("{value} digits are too many"))?,
            "offset" => offset = number,
            "from" => min = number,
            "to" => max = number,
            other => return Err(format!("{other:?} is not one of from, to, width, offset")),
        }
    }
    Ok(PlaceholderKind::Number { width, offset, min, max })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn placeholders_are_read_as_they_are_typed() {
        let number = read_placeholder("channel=number,from:1,to:32,width:2,offset:100").unwrap();
        assert_eq!(number.kind, PlaceholderKind::Number { width: 2, offset: 100, min: 1, max: 32 });
        let choice = read_placeholder("stream=choice,main:0,sub:1").unwrap();
        assert_eq!(kind_text(&choice.kind), "main (0), sub (1)");
        for wrong in ["channel", "c=digit", "c=number,upto:3", "c=number,to:x", "s=choice,main"] {
            assert!(read_placeholder(wrong).is_err(), "{wrong}");
        }
    }
}
