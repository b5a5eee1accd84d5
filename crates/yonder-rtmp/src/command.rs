//! Commands (7.2): name, transaction ID and values.

use bytes::{Buf as _, Bytes, BytesMut};

use crate::amf0::Value;

/// Error for an invalid command.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum CommandError {
    /// The command has no name.
    #[error("command has no name")]
    NoName,
}

/// Command or its response.
#[derive(Debug, Clone, PartialEq)]
pub struct Command {
    /// `connect`, `_result`, `onStatus` …
    pub name: String,
    /// Transaction ID; a response repeats it.
    pub transaction: f64,
    /// Values: usually the command object, then arguments.
    pub values: Vec<Value>,
}

impl Command {
    /// Creates a command.
    #[must_use]
    pub fn new(name: &str, transaction: f64, values: Vec<Value>) -> Self {
        Self { name: name.to_owned(), transaction, values }
    }

    /// Encodes the command as a message payload.
    #[must_use]
    pub fn encode(&self) -> Bytes {
        let mut out = BytesMut::new();
        Value::from(self.name.as_str()).encode(&mut out);
        Value::Number(self.transaction).encode(&mut out);
        for value in &self.values {
            value.encode(&mut out);
        }
        out.freeze()
    }

    /// Decodes a message payload, in AMF0 or with the zero byte of AMF3. Values from the first invalid one on are omitted.
    ///
    /// # Errors
    /// [`CommandError`] if there is no name.
    pub fn decode(mut payload: Bytes) -> Result<Self, CommandError> {
        if payload.first() == Some(&0) {
            payload.advance(1);
        }
        let (values, _) = Value::decode_readable(payload);
        let mut values = values.into_iter();
        let Some(Value::String(name)) = values.next() else { return Err(CommandError::NoName) };
        let transaction = values.next().and_then(|value| value.as_number()).unwrap_or_default();
        Ok(Self { name, transaction, values: values.collect() })
    }

    /// Returns a member of the command's objects.
    #[must_use]
    pub fn member(&self, name: &str) -> Option<&Value> {
        self.values.iter().find_map(|value| value.get(name))
    }

    /// Returns `level`, `code` and `description` of the information object, which may have any position.
    #[must_use]
    pub fn information(&self) -> (&str, &str, &str) {
        let information = self.values.iter().find(|value| value.get("code").is_some());
        let text =
            |name| information.and_then(|info| info.get(name)).and_then(Value::as_str).unwrap_or_default();
        (text("level"), text("code"), text("description"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_command_survives_the_round_trip_in_both_forms() {
        let command = Command::new("publish", 5.0, vec![Value::Null, "key".into(), "live".into()]);
        assert_eq!(Command::decode(command.encode()), Ok(command.clone()));
        let behind_zero = [&[0][..], &command.encode()].concat();
        assert_eq!(Command::decode(Bytes::from(behind_zero)), Ok(command));
    }

    #[test]
    fn information_is_found_behind_a_null() {
        let information = Value::Object(vec![
            ("level".into(), "error".into()),
            ("code".into(), "NetStream.Publish.BadName".into()),
            ("description".into(), "no".into()),
        ]);
        let command = Command::new("onStatus", 0.0, vec![Value::Null, information]);
        assert_eq!(command.information(), ("error", "NetStream.Publish.BadName", "no"));
        assert_eq!(Command::new("x", 0.0, Vec::new()).information(), ("", "", ""));
    }

    #[test]
    fn partially_readable_command_is_recognized() {
        let mut payload = Command::new("_result", 4.0, vec![Value::Null, 1.0.into()]).encode().to_vec();
        payload.extend_from_slice(&[0x11, 0xff]);
        let command = Command::decode(Bytes::from(payload)).unwrap();
        assert_eq!(command, Command::new("_result", 4.0, vec![Value::Null, 1.0.into()]));
    }

    #[test]
    fn a_payload_without_a_name_is_refused() {
        assert_eq!(Command::decode(Bytes::from_static(&[5])), Err(CommandError::NoName));
        assert_eq!(Command::decode(Bytes::new()), Err(CommandError::NoName));
    }
}
