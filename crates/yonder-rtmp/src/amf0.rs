//! AMF0 values (Adobe's Action Message Format 0 specification), as commands and metadata use them.

use bytes::{Buf as _, BufMut as _, Bytes, BytesMut};

/// Deepest nesting accepted; commands use two levels.
const MAX_DEPTH: u8 = 8;
/// Most members of one object or array.
const MAX_MEMBERS: usize = 1024;

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
    /// Null (2.7), and undefined (2.8) when read.
    Null,
    /// ECMA array (2.10).
    Array(Vec<(String, Self)>),
    /// Strict array (2.12).
    List(Vec<Self>),
    /// Date: milliseconds since 1970 (2.13).
    Date(f64),
}

/// Why bytes are no AMF0 value.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum AmfError {
    /// Cut short.
    #[error("value is cut short")]
    Short,
    /// A marker that is not read here.
    #[error("marker {0:#04x} is not supported")]
    Marker(u8),
    /// Nested too deep.
    #[error("values are nested deeper than {MAX_DEPTH}")]
    Depth,
    /// Too many members.
    #[error("object has more than {MAX_MEMBERS} members")]
    Members,
    /// A string is not UTF-8.
    #[error("string is not UTF-8")]
    Text,
}

impl Value {
    /// The string in it.
    #[must_use]
    pub fn as_str(&self) -> Option<&str> {
        match self {
            Self::String(text) => Some(text),
            _ => None,
        }
    }

    /// The number in it.
    #[must_use]
    pub fn as_number(&self) -> Option<f64> {
        match self {
            Self::Number(number) => Some(*number),
            _ => None,
        }
    }

    /// A member of an object or ECMA array.
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

    /// Takes one value off the front of `data`.
    ///
    /// # Errors
    /// [`AmfError`] when there is no whole, supported value.
    pub fn decode(data: &mut Bytes) -> Result<Self, AmfError> {
        decode_at(data, 0)
    }

    /// Takes all values off `data`.
    ///
    /// # Errors
    /// As [`Value::decode`].
    pub fn decode_all(mut data: Bytes) -> Result<Vec<Self>, AmfError> {
        let mut values = Vec::new();
        while data.has_remaining() {
            if values.len() == MAX_MEMBERS {
                return Err(AmfError::Members);
            }
            values.push(Self::decode(&mut data)?);
        }
        Ok(values)
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
        // Names are ours or short; one too long for its 16-bit length cannot be expressed.
        let Ok(length) = u16::try_from(name.len()) else { continue };
        out.put_u16(length);
        out.put_slice(name.as_bytes());
        value.encode(out);
    }
    out.put_slice(&[0, 0, 9]);
}

fn decode_at(data: &mut Bytes, depth: u8) -> Result<Value, AmfError> {
    if depth > MAX_DEPTH {
        return Err(AmfError::Depth);
    }
    match data.try_get_u8().map_err(|_| AmfError::Short)? {
        0 => number(data).map(Value::Number),
        1 => data.try_get_u8().map(|byte| Value::Boolean(byte != 0)).map_err(|_| AmfError::Short),
        2 => short_string(data).map(Value::String),
        3 => members(data, depth).map(Value::Object),
        5 | 6 => Ok(Value::Null),
        8 => {
            // The count is a hint (2.10); the end marker counts.
            data.try_get_u32().map_err(|_| AmfError::Short)?;
            members(data, depth).map(Value::Array)
        }
        10 => list(data, depth),
        11 => {
            let milliseconds = number(data)?;
            data.try_get_u16().map_err(|_| AmfError::Short)?;
            Ok(Value::Date(milliseconds))
        }
        12 => {
            let length = data.try_get_u32().map_err(|_| AmfError::Short)?;
            text(data, usize::try_from(length).map_err(|_| AmfError::Short)?).map(Value::String)
        }
        marker => Err(AmfError::Marker(marker)),
    }
}

fn number(data: &mut Bytes) -> Result<f64, AmfError> {
    data.try_get_f64().map_err(|_| AmfError::Short)
}

fn short_string(data: &mut Bytes) -> Result<String, AmfError> {
    let length = data.try_get_u16().map_err(|_| AmfError::Short)?;
    text(data, usize::from(length))
}

fn text(data: &mut Bytes, length: usize) -> Result<String, AmfError> {
    if data.len() < length {
        return Err(AmfError::Short);
    }
    let bytes = data.split_to(length);
    std::str::from_utf8(&bytes).map(str::to_owned).map_err(|_| AmfError::Text)
}

fn members(data: &mut Bytes, depth: u8) -> Result<Vec<(String, Value)>, AmfError> {
    let mut members = Vec::new();
    loop {
        let name = short_string(data)?;
        if name.is_empty() && data.first() == Some(&9) {
            data.advance(1);
            return Ok(members);
        }
        if members.len() == MAX_MEMBERS {
            return Err(AmfError::Members);
        }
        members.push((name, decode_at(data, depth + 1)?));
    }
}

fn list(data: &mut Bytes, depth: u8) -> Result<Value, AmfError> {
    let count = data.try_get_u32().map_err(|_| AmfError::Short)?;
    let count = usize::try_from(count).ok().filter(|count| *count <= MAX_MEMBERS).ok_or(AmfError::Members)?;
    (0..count).map(|_| decode_at(data, depth + 1)).collect::<Result<_, _>>().map(Value::List)
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
        fn any_bytes_are_read_or_refused(data: Vec<u8>) {
            let _ = Value::decode_all(Bytes::from(data));
        }
    }
}
