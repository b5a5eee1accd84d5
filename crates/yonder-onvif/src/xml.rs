//! XML from a device, read into a small tree. Names are kept without their prefixes: devices choose those freely.

use quick_xml::Reader;
use quick_xml::events::Event;

/// Largest document looked at. Profiles of a recorder with 64 channels are under 300 kB.
pub const MAX_BYTES: usize = 2 * 1024 * 1024;
/// Deepest nesting looked at; real answers have a dozen levels.
const MAX_DEPTH: usize = 48;
/// Most elements looked at.
const MAX_ELEMENTS: usize = 50_000;

/// Why a document was refused.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum XmlError {
    /// It is larger than any real answer.
    #[error("the answer is larger than {MAX_BYTES} bytes")]
    TooLarge,
    /// It is nested deeper, or has more elements, than any real answer.
    #[error("the answer is nested deeper or has more elements than any real one")]
    TooDeep,
    /// It is not well-formed.
    #[error("the answer is not well-formed XML (byte {0})")]
    Malformed(u64),
    /// There is no element in it.
    #[error("the answer is empty")]
    Empty,
}

/// An element with what is in it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Element {
    /// Local name.
    pub name: String,
    /// Attributes by local name.
    pub attributes: Vec<(String, String)>,
    /// Text directly in it, without blanks around it.
    pub text: String,
    /// Elements in it.
    pub children: Vec<Self>,
}

impl Element {
    /// Reads a document and returns its root.
    ///
    /// A document type is passed over: entities that it declares stay unknown, and an unknown entity becomes
    /// nothing.
    ///
    /// # Errors
    /// [`XmlError`] when it is too large, too deep, or not well-formed.
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

    /// The first element of that name directly in this one.
    #[must_use]
    pub fn child(&self, name: &str) -> Option<&Self> {
        self.children.iter().find(|child| child.name == name)
    }

    /// All elements of that name directly in this one.
    pub fn all<'a>(&'a self, name: &'a str) -> impl Iterator<Item = &'a Self> {
        self.children.iter().filter(move |child| child.name == name)
    }

    /// The first element of that name anywhere in this one, itself included.
    #[must_use]
    pub fn find(&self, name: &str) -> Option<&Self> {
        if self.name == name {
            return Some(self);
        }
        self.children.iter().find_map(|child| child.find(name))
    }

    /// Text of the element that a path of names leads to.
    #[must_use]
    pub fn text_at(&self, path: &[&str]) -> Option<&str> {
        let found = path.iter().try_fold(self, |element, name| element.child(name))?;
        Some(found.text.as_str()).filter(|text| !text.is_empty())
    }

    /// Number at a path of names.
    #[must_use]
    pub fn number_at(&self, path: &[&str]) -> Option<f64> {
        self.text_at(path)?.parse::<f64>().ok().filter(|number| number.is_finite())
    }

    /// An attribute by its local name.
    #[must_use]
    pub fn attribute(&self, name: &str) -> Option<&str> {
        self.attributes.iter().find(|(key, _)| key == name).map(|(_, value)| value.as_str())
    }
}

/// The five predefined entities and character references (XML 1.0, 4.1 and 4.6); nothing else is expanded.
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

/// An attribute's value with its references resolved, in the same narrow way.
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
    fn prefixes_are_left_aside_and_texts_are_put_together() {
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
        fn any_bytes_are_read_or_refused(data: Vec<u8>) {
            let _ = Element::parse(&data);
        }

        #[test]
        fn any_markup_is_read_or_refused(data in "(<[a-z/!?]{0,3}[a-z:]{0,4}( [a-z]=\"[^<]{0,4}\")?/?>|&[a-z#0-9]{0,5};?|[ -~]){0,40}") {
            let _ = Element::parse(data.as_bytes());
        }

        #[test]
        fn escaped_text_comes_back(text in "[ -~äöü€]{0,40}") {
            let root = Element::parse(format!("<x>{}</x>", escape(text.as_str())).as_bytes()).unwrap();
            prop_assert_eq!(root.text, text.trim());
        }
    }
}
