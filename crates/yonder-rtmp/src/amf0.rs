//! AMF0 values (Adobe's Action Message Format 0 specification) of commands and metadata.

use bytes::{Buf as _, BufMut as _, Bytes, BytesMut};

/// Maximum nesting; commands use two levels.
const MAX_DEPTH: u8 = 8;
/// Maximum members of one object or array.
const MAX_MEMBERS: usize = 1024;
/// Maximum values of one message, including nested ones.
const MAX_VALUES: usize = 4096;

/// A value.
#[derive(Debug, Clone, PartialEq)]
pub enum Value {
    /// Number (2.2).
    Number(f64),
    /// Boolean (2.3).
    Boolean(bool),
    /// String, short or long (2.4, 2.14).
    String(String),
    /// Anonymous object (2.5).
    Object(Vec<(String, Self)>),
    /// Null (2.7). Undefined (2.8), references (2.9) and unsupported (2.14) are decoded as null.
    Null,
    /// ECMA array (2.10).
    Array(Vec<(String, Self)>),
    /// Strict array (2.12).
    List(Vec<Self>),
    /// Date: milliseconds since 1970 (2.13).
    Date(f64),
}

/// Error for invalid AMF0 data.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum AmfError {
    /// Truncated.
    #[error("value is cut short")]
    Short,
    /// Marker of a value of unknown length: movie clip, record set, or AMF3.
    #[error("marker {0:#04x} is not supported")]
    Marker(u8),
    /// Nested too deeply.
    #[error("values are nested deeper than {MAX_DEPTH}")]
    Depth,
    /// Too many members.
    #[error("object has more than {MAX_MEMBERS} members")]
    Members,
    /// Too many values.
    #[error("message has more than {MAX_VALUES} values")]
    Values,
}

impl Value {
    /// Returns the string; `None` for another type.
    #[must_use]
    pub fn as_str(&self) -> Option<&str> {
        match self {
            Self::String(text) => Some(text),
            _ => None,
        }
    }

    /// Returns the number; `None` for another type.
    #[must_use]
    pub fn as_number(&self) -> Option<f64> {
        match self {
            Self::Number(number) => Some(*number),
            _ => None,
        }
    }

    /// Returns a member of an object or ECMA array.
    #[must_use]
    pub fn get(&self, name: &str) -> Option<&Self> {
        match self {
            Self::Object(members) | Self::Array(members) => {
                members.iter().find(|(key, _)| key == name).map(|(_, value)| value)
            }
            _ => None,
        }
    }

    /// Appends the value to `out`.
    pub fn encode(&self, out: &mut BytesMut) {
        match self {
            Self::Number(number) => {
                out.put_u8(0);
                out.put_f64(*number);
            }
            Self::Boolean(value) => out.put_slice(&[1, u8::from(*value)]),
            Self::String(text) => encode_string(text, out),
            Self::Object(members) => {
                out.put_u8(3);
                encode_members(members, out);
            }
            Self::Null => out.put_u8(5),
            Self::Array(members) => {
                out.put_u8(8);
                out.put_u32(u32::try_from(members.len()).unwrap_or(u32::MAX));
                encode_members(members, out);
            }
            Self::List(values) => {
                out.put_u8(10);
                out.put_u32(u32::try_from(values.len()).unwrap_or(u32::MAX));
                for value in values {
                    value.encode(out);
                }
            }
            Self::Date(milliseconds) => {
                out.put_u8(11);
                out.put_f64(*milliseconds);
                out.put_i16(0);
            }
        }
    }

    /// Decodes one value at the beginning of `data`. Text that is not UTF-8 is converted with replacement characters.
    ///
    /// # Errors
    /// [`AmfError`] for a truncated or unsupported value.
    pub fn decode(data: &mut Bytes) -> Result<Self, AmfError> {
        match Decoder::new(data).value(0) {
            (_, Some(error)) => Err(error),
            (value, None) => Ok(value.unwrap_or(Self::Null)),
        }
    }

    /// Decodes all values.
    ///
    /// # Errors
    /// As [`Value::decode`].
    pub fn decode_all(data: Bytes) -> Result<Vec<Self>, AmfError> {
        match Self::decode_readable(data) {
            (_, Some(error)) => Err(error),
            (values, None) => Ok(values),
        }
    }

    /// Decodes values up to the first invalid one, and returns its error. An incomplete object or array is returned
    /// with its valid members.
    #[must_use]
    pub fn decode_readable(mut data: Bytes) -> (Vec<Self>, Option<AmfError>) {
        let mut decoder = Decoder::new(&mut data);
        let mut values = Vec::new();
        while decoder.data.has_remaining() {
            let (value, error) = decoder.value(0);
            values.extend(value);
            if error.is_some() {
                return (values, error);
            }
        }
        (values, None)
    }
}

impl From<&str> for Value {
    fn from(text: &str) -> Self {
        Self::String(text.to_owned())
    }
}

impl From<f64> for Value {
    fn from(number: f64) -> Self {
        Self::Number(number)
    }
}

fn encode_string(text: &str, out: &mut BytesMut) {
    if let Ok(length) = u16::try_from(text.len()) {
        out.put_u8(2);
        out.put_u16(length);
    } else {
        out.put_u8(12);
        out.put_u32(u32::try_from(text.len()).unwrap_or(u32::MAX));
    }
    out.put_slice(text.as_bytes());
}

fn encode_members(members: &[(String, Value)], out: &mut BytesMut) {
    for (name, value) in members {
        // Names are short; one that exceeds a 16-bit length is omitted.
        let Ok(length) = u16::try_from(name.len()) else { continue };
        out.put_u16(length);
        out.put_slice(name.as_bytes());
        value.encode(out);
    }
    out.put_slice(&[0, 0, 9]);
}

/// Decoder of one message. Each function returns what could be decoded, and the error that ended it.
struct Decoder<'a> {
    data: &'a mut Bytes,
    /// Remaining number of values.
    left: usize,
}

/// Value as far as it could be decoded, and the error.
type Decoded = (Option<Value>, Option<AmfError>);

fn whole(value: Result<Value, AmfError>) -> Decoded {
    match value {
        Ok(value) => (Some(value), None),
        Err(error) => (None, Some(error)),
    }
}

impl<'a> Decoder<'a> {
    fn new(data: &'a mut Bytes) -> Self {
        Self { data, left: MAX_VALUES }
    }

    fn value(&mut self, depth: u8) -> Decoded {
        if depth > MAX_DEPTH {
            return (None, Some(AmfError::Depth));
        }
        let Some(left) = self.left.checked_sub(1) else { return (None, Some(AmfError::Values)) };
        self.left = left;
        let Ok(marker) = self.data.try_get_u8() else { return (None, Some(AmfError::Short)) };
        match marker {
            0 => whole(self.number().map(Value::Number)),
            1 => whole(
                self.data.try_get_u8().map(|byte| Value::Boolean(byte != 0)).map_err(|_| AmfError::Short),
            ),
            2 => whole(self.short_string().map(Value::String)),
            3 => self.object(depth),
            5 | 6 | 13 => (Some(Value::Null), None),
            // 2.9: the index of an earlier object.
            7 => whole(self.data.try_get_u16().map(|_| Value::Null).map_err(|_| AmfError::Short)),
            // 2.10: the count is only a hint; the end marker ends the array.
            8 => match self.data.try_get_u32() {
                Ok(_) => {
                    let (members, error) = self.members(depth);
                    (Some(Value::Array(members)), error)
                }
                Err(_) => (None, Some(AmfError::Short)),
            },
            10 => self.list(depth),
            11 => whole(self.date()),
            // 2.14 long string, 2.17 XML document.
            12 | 15 => whole(self.long_string().map(Value::String)),
            // 2.18: an object after its class name.
            16 => match self.short_string() {
                Ok(_) => self.object(depth),
                Err(error) => (None, Some(error)),
            },
            marker => (None, Some(AmfError::Marker(marker))),
        }
    }

    fn number(&mut self) -> Result<f64, AmfError> {
        self.data.try_get_f64().map_err(|_| AmfError::Short)
    }

    fn date(&mut self) -> Result<Value, AmfError> {
        let milliseconds = self.number()?;
        self.data.try_get_u16().map_err(|_| AmfError::Short)?;
        Ok(Value::Date(milliseconds))
    }

    fn short_string(&mut self) -> Result<String, AmfError> {
        let length = self.data.try_get_u16().map_err(|_| AmfError::Short)?;
        self.text(usize::from(length))
    }

    fn long_string(&mut self) -> Result<String, AmfError> {
        let length = self.data.try_get_u32().map_err(|_| AmfError::Short)?;
        self.text(usize::try_from(length).map_err(|_| AmfError::Short)?)
    }

    /// Decodes text; descriptions may have a local character set.
    fn text(&mut self, length: usize) -> Result<String, AmfError> {
        if self.data.len() < length {
            return Err(AmfError::Short);
        }
        Ok(String::from_utf8_lossy(&self.data.split_to(length)).into_owned())
    }

    fn object(&mut self, depth: u8) -> Decoded {
        let (members, error) = self.members(depth);
        (Some(Value::Object(members)), error)
    }

    fn members(&mut self, depth: u8) -> (Vec<(String, Value)>, Option<AmfError>) {
        let mut members = Vec::new();
        loop {
            let name = match self.short_string() {
                Ok(name) => name,
                Err(error) => return (members, Some(error)),
            };
            if name.is_empty() && self.data.first() == Some(&9) {
                self.data.advance(1);
                return (members, None);
            }
            if members.len() == MAX_MEMBERS {
                return (members, Some(AmfError::Members));
            }
            let (value, error) = self.value(depth + 1);
            members.extend(value.map(|value| (name, value)));
            if error.is_some() {
                return (members, error);
            }
        }
    }

    fn list(&mut self, depth: u8) -> Decoded {
        let Ok(count) = self.data.try_get_u32() else { return (None, Some(AmfError::Short)) };
        let Some(count) = usize::try_from(count).ok().filter(|count| *count <= MAX_MEMBERS) else {
            return (None, Some(AmfError::Members));
        };
        let mut values = Vec::new();
        for _ in 0..count {
            let (value, error) = self.value(depth + 1);
            values.extend(value);
            if error.is_some() {
                return (Some(Value::List(values)), error);
            }
        }
        (Some(Value::List(values)), None)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn encoded(value: &Value) -> Bytes {
        let mut out = BytesMut::new();
        value.encode(&mut out);
        out.freeze()
    }

    #[rstest]
    #[case::number(Value::Number(1.0), &[0, 0x3f, 0xf0, 0, 0, 0, 0, 0, 0])]
    #[case::boolean(Value::Boolean(true), &[1, 1])]
    #[case::string(Value::from("live"), &[2, 0, 4, b'l', b'i', b'v', b'e'])]
    #[case::null(Value::Null, &[5])]
    #[case::object(Value::Object(vec![("a".into(), Value::Null)]), &[3, 0, 1, b'a', 5, 0, 0, 9])]
    #[case::array(Value::Array(vec![("a".into(), Value::Null)]), &[8, 0, 0, 0, 1, 0, 1, b'a', 5, 0, 0, 9])]
    fn values_are_written_as_the_specification_says(#[case] value: Value, #[case] bytes: &[u8]) {
        assert_eq!(encoded(&value)[..], *bytes);
        assert_eq!(Value::decode(&mut encoded(&value)), Ok(value));
    }

    #[test]
    fn a_long_string_gets_the_long_form() {
        let value = Value::String("x".repeat(70_000));
        assert_eq!(encoded(&value)[0], 12);
        assert_eq!(Value::decode(&mut encoded(&value)), Ok(value));
    }

    #[test]
    fn endless_nesting_and_lying_counts_are_refused() {
        let nested = Bytes::from([3, 0, 1, b'a'].repeat(200));
        assert_eq!(Value::decode(&mut nested.clone()), Err(AmfError::Depth));
        assert_eq!(Value::decode(&mut Bytes::from_static(&[10, 255, 255, 255, 255])), Err(AmfError::Members));
        assert_eq!(Value::decode(&mut Bytes::from_static(&[2, 0, 9, b'a'])), Err(AmfError::Short));
        assert_eq!(Value::decode(&mut Bytes::from_static(&[0x11])), Err(AmfError::Marker(0x11)));
    }

    /// Markers of known length without a use here, and text in other character sets.
    #[rstest]
    #[case::reference(&[7, 0, 1], Value::Null)]
    #[case::undefined(&[6], Value::Null)]
    #[case::unsupported(&[13], Value::Null)]
    #[case::xml(&[15, 0, 0, 0, 4, b'<', b'a', b'/', b'>'], Value::from("<a/>"))]
    #[case::typed_object(&[16, 0, 1, b'C', 0, 1, b'a', 5, 0, 0, 9], Value::Object(vec![("a".into(), Value::Null)]))]
    #[case::latin_1(&[2, 0, 3, b'd', 0xe9, b'j'], Value::from("d\u{fffd}j"))]
    fn irrelevant_values_are_skipped(#[case] bytes: &[u8], #[case] value: Value) {
        let mut data = Bytes::from([bytes, &[1, 1]].concat());
        assert_eq!(Value::decode(&mut data), Ok(value));
        assert_eq!(Value::decode(&mut data), Ok(Value::Boolean(true)), "the next value is found");
    }

    #[test]
    fn values_before_an_invalid_one_are_kept() {
        let mut data = BytesMut::new();
        Value::from("onStatus").encode(&mut data);
        data.put_slice(&[3, 0, 4]);
        data.put_slice(b"code");
        Value::from("NetStream.Publish.Start").encode(&mut data);
        data.put_slice(&[0, 1, b'x', 0x11, 1, 2, 3]);
        let (values, error) = Value::decode_readable(data.freeze());
        assert_eq!(error, Some(AmfError::Marker(0x11)));
        assert_eq!(values.first(), Some(&Value::from("onStatus")));
        let code = values.get(1).and_then(|object| object.get("code")).and_then(Value::as_str);
        assert_eq!(code, Some("NetStream.Publish.Start"));
    }

    #[test]
    fn number_of_values_is_bounded_in_all() {
        // Lists of 1 000 nulls in a list of 1 000.
        let inner = [&[10, 0, 0, 3, 0xe8][..], &[5; 1_000]].concat();
        let nested = [&[10, 0, 0, 3, 0xe8][..], &inner.repeat(1_000)].concat();
        assert_eq!(Value::decode(&mut Bytes::from(nested)), Err(AmfError::Values));
    }

    fn any_value() -> impl Strategy<Value = Value> {
        let leaf = prop_oneof![
            (-1e9_f64..1e9).prop_map(Value::Number),
            any::<bool>().prop_map(Value::Boolean),
            ".{0,20}".prop_map(Value::String),
            Just(Value::Null),
            (0_f64..1e12).prop_map(Value::Date),
        ];
        leaf.prop_recursive(3, 24, 4, |inner| {
            let members = prop::collection::vec(("[a-z]{1,8}", inner.clone()), 0..4);
            prop_oneof![
                members.clone().prop_map(Value::Object),
                members.prop_map(Value::Array),
                prop::collection::vec(inner, 0..4).prop_map(Value::List),
            ]
        })
    }

    proptest! {
        #[test]
        fn values_survive_the_round_trip(values in prop::collection::vec(any_value(), 0..4)) {
            let mut out = BytesMut::new();
            for value in &values {
                value.encode(&mut out);
            }
            prop_assert_eq!(Value::decode_all(out.freeze()), Ok(values));
        }

        #[test]
        fn any_bytes_are_parsed_or_refused(data: Vec<u8>) {
            let _ = Value::decode_all(Bytes::from(data));
        }
    }
}
