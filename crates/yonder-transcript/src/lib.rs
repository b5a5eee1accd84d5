//! Protocol transcripts: dialogues written by hand from the standards, which tests replay against each side of an
//! implementation.
//!
//! In the text, a line that begins with `>` is sent by the client, one that begins with `<` by the server; indented
//! lines continue the previous one, and `#` begins a comment. `@ 20` sets the time, in milliseconds. `~` in place of
//! `>` is a packet of the client that is lost.
//!
//! Bytes are written as hexadecimal digits in groups of any even length, as text in quotes (with `\r`, `\n`, `\0` and
//! `\"`), as a repeated group (`00*12`), as any bytes (`?*4`), or as a variable: `{cookie:4}` stands for four bytes
//! that the first side to send them chooses, and that are the same for every use of the variable. them chooses, and
//! that are the same for every use of the variable.

#![forbid(unsafe_code)]
#![deny(clippy::disallowed_methods, reason = "no clock is read and no thread sleeps in this crate")]

use std::collections::HashMap;
use std::fmt;
use std::time::Duration;

/// Side that sends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Side {
    /// Caller, publisher or player.
    Client,
    /// Listener, platform or camera.
    Server,
}

/// Transcript.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Transcript {
    /// Steps, in order.
    pub steps: Vec<Step>,
}

/// Bytes sent by one side at one time.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Step {
    /// Line number in the text.
    pub line: usize,
    /// Time since the beginning.
    pub at: Duration,
    /// Side that sends.
    pub side: Side,
    /// The bytes are lost.
    pub is_lost: bool,
    /// Bytes.
    pub pattern: Pattern,
}

/// Bytes, some of which may be variable.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Pattern(Vec<Part>);

#[derive(Debug, Clone, PartialEq, Eq)]
enum Part {
    Bytes(Vec<u8>),
    Any(usize),
    Variable(String, usize),
}

/// Values of the variables of a transcript.
#[derive(Debug, Clone, Default)]
pub struct Variables(HashMap<String, Vec<u8>>);

impl Variables {
    /// Sets a variable.
    pub fn set(&mut self, name: &str, value: &[u8]) {
        self.0.insert(name.to_owned(), value.to_vec());
    }
}

/// Syntax error in a transcript.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SyntaxError {
    /// Line number.
    pub line: usize,
    /// Reason.
    pub detail: String,
}

impl fmt::Display for SyntaxError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "line {}: {}", self.line, self.detail)
    }
}

/// Difference between a pattern and bytes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Mismatch {
    /// Offset of the first byte that differs.
    pub at: usize,
    /// Bytes that the pattern expects.
    pub expected: String,
    /// Bytes found.
    pub found: String,
}

impl fmt::Display for Mismatch {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "at byte {}: expected {}, found {}", self.at, self.expected, self.found)
    }
}

impl Transcript {
    /// Parses a transcript.
    ///
    /// # Errors
    /// [`SyntaxError`] with the line.
    pub fn parse(text: &str) -> Result<Self, SyntaxError> {
        let mut steps: Vec<Step> = Vec::new();
        let mut at = Duration::ZERO;
        for (number, line) in (1..).zip(text.lines()) {
            let error = |detail: &str| SyntaxError { line: number, detail: detail.to_owned() };
            let line = without_comment(line);
            if line.trim().is_empty() {
                continue;
            }
            if line.starts_with([' ', '\t']) {
                let step = steps.last_mut().ok_or_else(|| error("nothing to continue"))?;
                step.pattern.0.extend(parse_parts(line).map_err(|detail| error(&detail))?);
                continue;
            }
            let (mark, rest) = line.split_at(1);
            let (side, is_lost) = match mark {
                ">" => (Side::Client, false),
                "~" => (Side::Client, true),
                "<" => (Side::Server, false),
                "@" => {
                    let millis = rest.trim().parse().map_err(|_| error("@ needs milliseconds"))?;
                    at = Duration::from_millis(millis);
                    continue;
                }
                _ => return Err(error("a line begins with >, <, ~, @, # or a blank")),
            };
            let pattern = Pattern(parse_parts(rest).map_err(|detail| error(&detail))?);
            steps.push(Step { line: number, at, side, is_lost, pattern });
        }
        Ok(Self { steps })
    }
}

impl Pattern {
    /// Returns the number of bytes.
    #[must_use]
    pub fn len(&self) -> usize {
        self.0.iter().map(Part::len).sum()
    }

    /// Returns true for a pattern without bytes.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Compares bytes with the pattern, and sets unset variables.
    ///
    /// # Errors
    /// The first difference.
    pub fn check(&self, bytes: &[u8], variables: &mut Variables) -> Result<(), Mismatch> {
        let mut at = 0;
        for part in &self.0 {
            let end = at + part.len();
            let found = bytes.get(at..end).unwrap_or_else(|| bytes.get(at..).unwrap_or_default());
            let expected = match part {
                Part::Any(_) if found.len() == part.len() => found.to_vec(),
                Part::Any(count) => vec![0; *count],
                Part::Bytes(bytes) => bytes.clone(),
                Part::Variable(name, count) => match variables.0.get(name) {
                    Some(value) => value.clone(),
                    None if found.len() == *count => {
                        variables.set(name, found);
                        found.to_vec()
                    }
                    None => vec![0; *count],
                },
            };
            if found != expected {
                let same = found.iter().zip(&expected).take_while(|(a, b)| a == b).count();
                return Err(Mismatch {
                    at: at + same,
                    expected: format!("{part} ({})", shown(expected.get(same..).unwrap_or_default())),
                    found: shown(bytes.get(at + same..).unwrap_or_default()),
                });
            }
            at = end;
        }
        match bytes.get(at..) {
            Some([]) => Ok(()),
            rest => {
                Err(Mismatch { at, expected: "the end".to_owned(), found: shown(rest.unwrap_or_default()) })
            }
        }
    }

    /// Returns the bytes, with zeros for variable ones. An unset variable is set to bytes that contain its name.
    #[must_use]
    pub fn bytes(&self, variables: &mut Variables) -> Vec<u8> {
        let mut bytes = Vec::with_capacity(self.len());
        for part in &self.0 {
            match part {
                Part::Bytes(own) => bytes.extend_from_slice(own),
                Part::Any(count) => bytes.resize(bytes.len() + count, 0),
                Part::Variable(name, count) => {
                    let value = variables
                        .0
                        .entry(name.clone())
                        .or_insert_with(|| name.bytes().cycle().take(*count).collect());
                    bytes.extend_from_slice(value);
                }
            }
        }
        bytes
    }
}

impl Part {
    fn len(&self) -> usize {
        match self {
            Self::Bytes(bytes) => bytes.len(),
            Self::Any(count) | Self::Variable(_, count) => *count,
        }
    }
}

impl fmt::Display for Part {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Bytes(_) => f.write_str("bytes"),
            Self::Any(count) => write!(f, "any {count} bytes"),
            Self::Variable(name, _) => write!(f, "the {name}"),
        }
    }
}

/// Formats the beginning of bytes as digits, and as text if possible.
fn shown(bytes: &[u8]) -> String {
    let part = bytes.get(..24).unwrap_or(bytes);
    let digits = hex::encode(part);
    if part.iter().all(|byte| byte.is_ascii_graphic() || *byte == b' ') {
        return format!("{digits} {:?}", String::from_utf8_lossy(part));
    }
    digits
}

/// Removes a comment. A `#` in quotes does not begin one.
fn without_comment(line: &str) -> &str {
    let mut quoted = false;
    let mut escaped = false;
    for (at, c) in line.char_indices() {
        match c {
            '"' if !escaped => quoted = !quoted,
            '#' if !quoted => return line.get(..at).unwrap_or(line),
            _ => {}
        }
        escaped = c == '\\' && !escaped;
    }
    line
}

fn parse_parts(text: &str) -> Result<Vec<Part>, String> {
    let mut parts = Vec::new();
    let mut rest = text.trim_start();
    while let Some(first) = rest.chars().next() {
        let (part, behind) = match first {
            '"' => parse_text(rest)?,
            '{' => parse_variable(rest)?,
            _ => parse_group(rest)?,
        };
        parts.push(part);
        rest = behind.trim_start();
    }
    Ok(parts)
}

fn parse_text(text: &str) -> Result<(Part, &str), String> {
    let mut bytes = Vec::new();
    let mut characters = text.char_indices().skip(1);
    while let Some((at, c)) = characters.next() {
        match c {
            '"' => return Ok((Part::Bytes(bytes), text.get(at + 1..).unwrap_or_default())),
            '\\' => bytes.push(match characters.next().map(|(_, c)| c) {
                Some('r') => b'\r',
                Some('n') => b'\n',
                Some('0') => 0,
                Some('"') => b'"',
                Some('\\') => b'\\',
                other => return Err(format!("\\{other:?} is no escape")),
            }),
            c => bytes.extend_from_slice(c.encode_utf8(&mut [0; 4]).as_bytes()),
        }
    }
    Err("a text has no end".to_owned())
}

fn parse_variable(text: &str) -> Result<(Part, &str), String> {
    let malformed = || format!("{text:?} is no variable like {{cookie:4}}");
    let (inner, rest) = text.strip_prefix('{').and_then(|text| text.split_once('}')).ok_or_else(malformed)?;
    let (name, count) = inner.split_once(':').ok_or_else(malformed)?;
    let count = count.parse().map_err(|_| malformed())?;
    Ok((Part::Variable(name.to_owned(), count), rest))
}

fn parse_group(text: &str) -> Result<(Part, &str), String> {
    let end = text.find(|c: char| c.is_whitespace() || matches!(c, '"' | '{')).unwrap_or(text.len());
    let (group, rest) = text.split_at(end);
    let (digits, count) = match group.split_once('*') {
        Some((digits, count)) => {
            (digits, count.parse().map_err(|_| format!("{group:?} repeats how often?"))?)
        }
        None => (group, 1_usize),
    };
    if digits == "?" {
        return Ok((Part::Any(count), rest));
    }
    let byte = |at: usize| u8::from_str_radix(digits.get(at..at + 2)?, 16).ok();
    let bytes: Option<Vec<u8>> = (0..digits.len()).step_by(2).map(byte).collect();
    let bytes = bytes.filter(|_| digits.len() % 2 == 0).ok_or_else(|| format!("{group:?} is no bytes"))?;
    Ok((Part::Bytes(bytes.repeat(count)), rest))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn steps_have_times_sides_and_bytes() {
        let text = "# A dialogue\n> 80 00*3 \"ab\\r\\n\" # comment\n  {cookie:2}\n@ 20\n< ?*2 \"#1\"\n~ ff\n";
        let transcript = Transcript::parse(text).unwrap();
        let [first, second, third] = &transcript.steps[..] else { panic!("{transcript:?}") };
        let mut variables = Variables::default();
        variables.set("cookie", &[7, 8]);
        assert_eq!(first.pattern.bytes(&mut variables), b"\x80\0\0\0ab\r\n\x07\x08");
        assert_eq!(
            (second.side, second.at, second.pattern.len()),
            (Side::Server, Duration::from_millis(20), 4)
        );
        assert!(third.is_lost && third.side == Side::Client);
    }

    #[test]
    fn variables_are_set_by_the_first_match() {
        let transcript = Transcript::parse("> 01 {cookie:2}\n< {cookie:2} 02").unwrap();
        let mut variables = Variables::default();
        transcript.steps[0].pattern.check(&[1, 7, 8], &mut variables).unwrap();
        assert_eq!(transcript.steps[1].pattern.bytes(&mut variables), [7, 8, 2]);
        let mismatch = transcript.steps[1].pattern.check(&[7, 9, 2], &mut variables).unwrap_err();
        assert_eq!((mismatch.at, mismatch.found.as_str()), (1, "0902"));
        assert!(transcript.steps[1].pattern.check(&[7, 8], &mut variables).is_err());
        assert!(transcript.steps[1].pattern.check(&[7, 8, 2, 3], &mut variables).is_err());
    }

    #[test]
    fn malformed_lines_are_refused_with_their_number() {
        for text in ["> 0", "> zz", "> {x}", "> \"open", "> 00*x", "? 00", "@ soon", "  00"] {
            assert_eq!(Transcript::parse(&format!("#\n{text}")).unwrap_err().line, 2, "{text}");
        }
    }
}
