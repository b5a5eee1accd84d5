//! What each reply means and which command comes next (7.2.1 and 7.2.2).

use std::time::Duration;

use crate::amf0::Value;
use crate::command::Command;
use crate::message::MessageKind;

use super::{CHUNK_SIZE, Publisher, PublisherEvent, PushError, PushStep};

/// Transaction numbers; replies are matched by them.
const CONNECT: f64 = 1.0;
const RELEASE: f64 = 2.0;
const FC_PUBLISH: f64 = 3.0;
const CREATE: f64 = 4.0;
const PUBLISH: f64 = 5.0;
const ENDING: f64 = 6.0;
/// Longest of a platform's words that is kept.
const MAX_WORDS: usize = 300;

impl Publisher {
    pub(super) fn after_greeting(&mut self, now: Duration) {
        self.events.push_back(PublisherEvent::Greeted);
        let server = &self.config.server;
        let connect = Command::new(
            "connect",
            CONNECT,
            vec![Value::Object(vec![
                ("app".to_owned(), server.app.as_str().into()),
                ("type".to_owned(), "nonprivate".into()),
                ("flashVer".to_owned(), concat!("Yonder Relay ", env!("CARGO_PKG_VERSION")).into()),
                ("tcUrl".to_owned(), Value::String(server.to_string())),
                // Enhanced RTMP v1: the codecs that may come beyond those of FLV 10.1.
                ("fourCcList".to_owned(), Value::List(vec!["hvc1".into()])),
            ])],
        );
        self.send_command(0, &connect);
        self.enter(PushStep::Connecting, now);
    }

    pub(super) fn handle_command(&mut self, command: &Command, now: Duration) -> Result<(), PushError> {
        match command.name.as_str() {
            "_result" => self.handle_result(command, now),
            "_error" => return self.handle_refusal(command),
            "onStatus" => return self.handle_status(command, now),
            "close" => return Err(PushError::Ended { words: "the platform closed the connection".into() }),
            // onBWDone, onFCPublish and their like ask for nothing.
            _ => {}
        }
        Ok(())
    }

    fn handle_result(&mut self, command: &Command, now: Duration) {
        if self.step == PushStep::Connecting && is(command, CONNECT) {
            self.events.push_back(PublisherEvent::Connected);
            self.send_control(MessageKind::SetChunkSize, &CHUNK_SIZE.to_be_bytes());
            self.writer.set_chunk_size(usize::try_from(CHUNK_SIZE).unwrap_or(usize::MAX));
            let key = || Value::from(self.config.key.expose());
            let release = Command::new("releaseStream", RELEASE, vec![Value::Null, key()]);
            let announce = Command::new("FCPublish", FC_PUBLISH, vec![Value::Null, key()]);
            self.send_command(0, &release);
            self.send_command(0, &announce);
            self.send_command(0, &Command::new("createStream", CREATE, vec![Value::Null]));
            self.enter(PushStep::Creating, now);
        } else if self.step == PushStep::Creating && is(command, CREATE) {
            self.stream = command.values.iter().find_map(Value::as_number).map_or(1, stream_number);
            let key = Value::from(self.config.key.expose());
            let publish = Command::new("publish", PUBLISH, vec![Value::Null, key, "live".into()]);
            self.send_command(self.stream, &publish);
            self.enter(PushStep::Publishing, now);
        }
    }

    /// `_error`: refusals of releaseStream and `FCPublish` mean nothing, many servers do not know them.
    fn handle_refusal(&mut self, command: &Command) -> Result<(), PushError> {
        match self.step {
            PushStep::Connecting if is(command, CONNECT) => {
                Err(PushError::AppRefused { words: words(command) })
            }
            PushStep::Creating if is(command, CREATE) => Err(PushError::AppRefused { words: words(command) }),
            PushStep::Publishing if is(command, PUBLISH) => Err(key_refusal(command)),
            _ => Ok(()),
        }
    }

    fn handle_status(&mut self, command: &Command, now: Duration) -> Result<(), PushError> {
        let (level, code, _) = command.information();
        let refused = level == "error" || code.contains("Failed") || code.contains("Rejected");
        match self.step {
            PushStep::Publishing if code == "NetStream.Publish.Start" => {
                self.events.push_back(PublisherEvent::Accepted);
                self.enter(PushStep::Live, now);
                Ok(())
            }
            PushStep::Publishing | PushStep::Creating if refused => Err(key_refusal(command)),
            PushStep::Connecting if refused => Err(PushError::AppRefused { words: words(command) }),
            PushStep::Live if refused && is_about_codec(command) => {
                Err(PushError::CodecRefused { words: words(command) })
            }
            PushStep::Live if refused || code == "NetStream.Unpublish.Success" => {
                Err(PushError::Ended { words: words(command) })
            }
            _ => Ok(()),
        }
    }

    pub(super) fn send_ending(&mut self) {
        let key = Value::from(self.config.key.expose());
        self.send_command(0, &Command::new("FCUnpublish", ENDING, vec![Value::Null, key]));
        let stream = Value::Number(f64::from(self.stream));
        self.send_command(0, &Command::new("deleteStream", ENDING + 1.0, vec![Value::Null, stream]));
    }
}

fn is(command: &Command, transaction: f64) -> bool {
    (command.transaction - transaction).abs() < 0.5
}

/// A stream number is a small whole one; anything else is taken as the usual first.
fn stream_number(number: f64) -> u32 {
    (1..=1024_u32).find(|candidate| (f64::from(*candidate) - number).abs() < 0.5).unwrap_or(1)
}

/// The platform's own words: description and code, whatever there is, without control characters.
fn words(command: &Command) -> String {
    let (_, code, description) = command.information();
    let joined = match (description, code) {
        ("", "") => "no reason given".to_owned(),
        (description, "") => description.to_owned(),
        ("", code) => code.to_owned(),
        (description, code) => format!("{description} ({code})"),
    };
    joined.chars().filter(|c| !c.is_control()).take(MAX_WORDS).collect()
}

/// Whether the platform speaks of the codec: there is no code for that.
fn is_about_codec(command: &Command) -> bool {
    let words = words(command).to_ascii_lowercase();
    ["codec", "hevc", "h.265", "h265", "unsupported format"].iter().any(|sign| words.contains(sign))
}

/// Platforms use one code, `NetStream.Publish.BadName`, for a wrong key and for a key in use; the words tell.
fn key_refusal(command: &Command) -> PushError {
    let words = words(command);
    if is_about_codec(command) {
        return PushError::CodecRefused { words };
    }
    let lower = words.to_ascii_lowercase();
    let busy =
        ["already", "in use", "busy", "is publishing", "duplicate"].iter().any(|sign| lower.contains(sign));
    if busy { PushError::KeyBusy { words } } else { PushError::KeyRefused { words } }
}
