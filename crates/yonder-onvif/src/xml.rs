//! XML documents of devices as a small tree. Names have no prefixes, which devices choose freely.

use quick_xml::Reader;
use quick_xml::events::Event;

/// Maximum size of a document. Profiles of a recorder with 64 channels are under 300 kB.
pub const MAX_BYTES: usize = 2 * 1024 * 1024;
/// Maximum nesting; real documents have about twelve levels.
const MAX_DEPTH: usize = 48;
/// Maximum number of elements.
const MAX_ELEMENTS: usize = 50_000;

/// Error for an invalid document.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum XmlError {
    /// Too large.
    #[error("the answer is larger than {MAX_BYTES} bytes")]
    TooLarge,
    /// Nested too deeply, or too many elements.
    #[error("the answer is nested deeper or has more elements than any real one")]
    TooDeep,
    /// Not well-formed.
    #[error("the answer is not well-formed XML (byte {0})")]
    Malformed(u64),
    /// No element.
    #[error("the answer is empty")]
    Empty,
}

/// XML element.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Element {
    /// Local name.
    pub name: String,
    /// Attributes by local name.
    pub attributes: Vec<(String, String)>,
    /// Text directly in the element, trimmed.
    pub text: String,
    /// Child elements.
    pub children: Vec<Self>,
}

impl Element {
    /// Parses a document and returns its root.
    ///
    /// A document type is skipped: entities that it declares are unknown, and unknown entities are removed.
    ///
    /// # Errors
    /// [`XmlError`] if it is too large, too deep, or not well-formed.
    pub fn parse(document: &[u8]) -> Result<Self, XmlError> {
        if document.len() > MAX_BYTES {
            return Err(XmlError::TooLarge);
        }
        let mut reader = Reader::from_reader(document);
        let mut open: Vec<Self> = Vec::new();
        let mut count = 0;
        loop {
            let event = reader.read_event().map_err(|_| XmlError::Malformed(reader.error_position()))?;
            match event {
                Event::Start(start) => {
                    count += 1;
                    if open.len() >= MAX_DEPTH || count > MAX_ELEMENTS {
                        return Err(XmlError::TooDeep);
                    }
                    open.push(Self::begin(&start));
                }
                Event::Empty(start) => {
                    count += 1;
                    if count > MAX_ELEMENTS {
                        return Err(XmlError::TooDeep);
                    }
                    let element = Self::begin(&start);
                    match open.last_mut() {
                        Some(parent) => parent.children.push(element),
                        None => return Ok(element),
                    }
                }
                Event::Text(text) => {
                    if let Some(element) = open.last_mut() {
                        element.text.push_str(&text);
                    }
                }
                Event::CData(data) => {
                    if let Some(element) = open.last_mut() {
                        element.text.push_str(&data);
                    }
                }
                Event::GeneralRef(reference) => {
                    if let (Some(element), Some(character)) = (open.last_mut(), character_of(&reference)) {
                        element.text.push(character);
                    }
                }
                Event::End(_) => {
                    let Some(mut element) = open.pop() else { return Err(XmlError::Malformed(0)) };
                    element.text = element.text.trim().to_owned();
                    match open.last_mut() {
                        Some(parent) => parent.children.push(element),
                        None => return Ok(element),
                    }
                }
                Event::Eof if open.is_empty() => return Err(XmlError::Empty),
                Event::Eof => return Err(XmlError::Malformed(reader.buffer_position())),
                Event::Comment(_) | Event::Decl(_) | Event::PI(_) | Event::DocType(_) => {}
            }
        }
    }

    fn begin(start: &quick_xml::events::BytesStart<'_>) -> Self {
        let local = |name: &str| name.to_owned();
        let attributes = start
            .attributes()
            .filter_map(Result::ok)
            .take(64)
            .map(|attribute| {
                let value = unescaped(&attribute.value);
                (local(attribute.key.local_name().as_ref()), value)
            })
            .collect();
        Self { name: local(start.local_name().as_ref()), attributes, ..Self::default() }
    }

    /// Returns the first child element with this name.
    #[must_use]
    pub fn child(&self, name: &str) -> Option<&Self> {
        self.children.iter().find(|child| child.name == name)
    }

    /// Returns all child elements with this name.
    pub fn all<'a>(&'a self, name: &'a str) -> impl Iterator<Item = &'a Self> {
        self.children.iter().filter(move |child| child.name == name)
    }

    /// Returns the first element with this name in the tree, including this one.
    #[must_use]
    pub fn find(&self, name: &str) -> Option<&Self> {
        if self.name == name {
            return Some(self);
        }
        self.children.iter().find_map(|child| child.find(name))
    }

    /// Returns the text of the element at a path of names.
    #[must_use]
    pub fn text_at(&self, path: &[&str]) -> Option<&str> {
        let found = path.iter().try_fold(self, |element, name| element.child(name))?;
        Some(found.text.as_str()).filter(|text| !text.is_empty())
    }

    /// Returns the number at a path of names.
    #[must_use]
    pub fn number_at(&self, path: &[&str]) -> Option<f64> {
        self.text_at(path)?.parse::<f64>().ok().filter(|number| number.is_finite())
    }

    /// Returns the attribute with this local name.
    #[must_use]
    pub fn attribute(&self, name: &str) -> Option<&str> {
        self.attributes.iter().find(|(key, _)| key == name).map(|(_, value)| value.as_str())
    }
}

/// Returns the character of a predefined entity or character reference (XML 1.0, 4.1 and 4.6); no other entity is expanded.
fn character_of(reference: &str) -> Option<char> {
    match reference {
        "lt" => Some('<'),
        "gt" => Some('>'),
        "amp" => Some('&'),
        "apos" => Some('\''),
        "quot" => Some('"'),
        _ => {
            let text = reference.strip_prefix('#')?;
            let code = match text.strip_prefix(['x', 'X']) {
                Some(hexadecimal) => u32::from_str_radix(hexadecimal, 16).ok()?,
                None => text.parse().ok()?,
            };
            char::from_u32(code)
                .filter(|character| !character.is_control() || matches!(character, '\t' | '\n'))
        }
    }
}

/// Returns an attribute value with its references resolved, restricted as in [`character_of`].
fn unescaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    while let Some((before, after)) = rest.split_once('&') {
        out.push_str(before);
        let (reference, after) = after.split_once(';').unwrap_or((after, ""));
        out.extend(character_of(reference));
        rest = after;
    }
    out.push_str(rest);
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use quick_xml::escape::escape;
    use rstest::rstest;

    #[test]
    fn prefixes_are_removed_and_texts_joined() {
        let root =
            Element::parse(b"<a:x xmlns:a='u'><b:y k='1&lt;2'> one &amp;&#32;t<![CDATA[w]]>o </b:y></a:x>")
                .unwrap();
        assert_eq!((root.name.as_str(), root.text_at(&["y"])), ("x", Some("one & two")));
        assert_eq!(root.child("y").and_then(|y| y.attribute("k")), Some("1<2"));
    }

    #[test]
    fn entities_are_never_expanded() {
        let bomb = b"<!DOCTYPE x [<!ENTITY a 'aaaa'><!ENTITY b '&a;&a;&a;'>]><x>&b;&a;</x>";
        assert_eq!(Element::parse(bomb).map(|root| root.text), Ok(String::new()));
        let file = b"<!DOCTYPE x [<!ENTITY f SYSTEM 'file:///etc/hostname'>]><x>&f;</x>";
        assert_eq!(Element::parse(file).map(|root| root.text), Ok(String::new()));
    }

    #[rstest]
    #[case::nothing(b"", XmlError::Empty)]
    #[case::cut(b"<a><b>", XmlError::Malformed(6))]
    #[case::no_xml(b"HTTP/1.1 404", XmlError::Empty)]
    fn broken_documents_are_refused(#[case] document: &[u8], #[case] error: XmlError) {
        assert_eq!(Element::parse(document), Err(error));
    }

    #[test]
    fn size_depth_and_number_are_bounded() {
        assert_eq!(Element::parse(&vec![b' '; MAX_BYTES + 1]), Err(XmlError::TooLarge));
        assert_eq!(Element::parse("<a>".repeat(60).as_bytes()), Err(XmlError::TooDeep));
        let many = format!("<x>{}</x>", "<a/>".repeat(MAX_ELEMENTS + 1));
        assert_eq!(Element::parse(many.as_bytes()), Err(XmlError::TooDeep));
    }

    proptest! {
        #[test]
        fn any_bytes_are_parsed_or_refused(data: Vec<u8>) {
            let _ = Element::parse(&data);
        }

        #[test]
        fn any_markup_is_parsed_or_refused(data in "(<[a-z/!?]{0,3}[a-z:]{0,4}( [a-z]=\"[^<]{0,4}\")?/?>|&[a-z#0-9]{0,5};?|[ -~]){0,40}") {
            let _ = Element::parse(data.as_bytes());
        }

        #[test]
        fn escaped_text_parses_back(text in "[ -~äöü€]{0,40}") {
            let root = Element::parse(format!("<x>{}</x>", escape(text.as_str())).as_bytes()).unwrap();
            prop_assert_eq!(root.text, text.trim());
        }
    }
}
