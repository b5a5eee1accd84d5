//! Responses, and the command after each (7.2.1 and 7.2.2).

use std::time::Duration;

use secrecy::{ExposeSecret as _, SecretString};
use yonder_address::{RtmpServer, mask, redact};

use crate::amf0::Value;
use crate::command::Command;
use crate::message::MessageKind;

use super::{CHUNK_SIZE, Publisher, PublisherEvent, PushError, PushStep, Status};

/// Transaction IDs of commands.
const CONNECT: f64 = 1.0;
const RELEASE: f64 = 2.0;
const FC_PUBLISH: f64 = 3.0;
const CREATE: f64 = 4.0;
const PUBLISH: f64 = 5.0;
const ENDING: f64 = 6.0;
/// `audioCodecs`: AAC (0x400), G.711 A-law (0x80) and µ-law (0x100).
const AUDIO_CODECS: f64 = 1_408.0;
/// `videoCodecs`: H.264 (0x80).
const VIDEO_CODECS: f64 = 128.0;
/// `videoFunction`: `SUPPORT_VID_CLIENT_SEEK`.
const SEEK_BY_FRAME: f64 = 1.0;
/// `capsEx` of Enhanced RTMP v2: reconnect requests are supported.
const CAPS_RECONNECT: f64 = 1.0;
/// `FourCC` of H.265.
const H265_FOUR_CC: &str = "hvc1";
/// `ex.code` of a redirect.
const REDIRECT: f64 = 302.0;
/// Maximum length of a text of the platform, in characters.
const MAX_TEXT: usize = 300;

impl Publisher {
    pub(super) fn after_greeting(&mut self, now: Duration) {
        self.events.push_back(PublisherEvent::HandshakeDone);
        let connect = Command::new("connect", CONNECT, vec![self.connect_object()]);
        self.send_command(0, &connect);
        self.enter(PushStep::Connecting, now);
    }

    /// Returns the command object of `connect` (7.2.1.1, table), with the members of Enhanced RTMP.
    fn connect_object(&self) -> Value {
        let server = &self.config.server;
        let address = server.full_address();
        let members: [(&str, Value); 12] = [
            ("app", server.app.as_str().into()),
            ("type", "nonprivate".into()),
            (
                "flashVer",
                concat!("FMSc/1.0 (compatible; Yonder Relay ", env!("CARGO_PKG_VERSION"), ")").into(),
            ),
            ("swfUrl", address.as_str().into()),
            ("tcUrl", address.as_str().into()),
            ("fpad", Value::Boolean(false)),
            ("audioCodecs", AUDIO_CODECS.into()),
            ("videoCodecs", VIDEO_CODECS.into()),
            ("videoFunction", SEEK_BY_FRAME.into()),
            ("objectEncoding", 0.0.into()),
            ("fourCcList", Value::List(vec![H265_FOUR_CC.into()])),
            ("capsEx", CAPS_RECONNECT.into()),
        ];
        Value::Object(members.into_iter().map(|(name, value)| (name.to_owned(), value)).collect())
    }

    pub(super) fn handle_command(&mut self, command: &Command, now: Duration) -> Result<(), PushError> {
        match command.name.as_str() {
            "_result" => self.handle_result(command, now),
            "_error" => return self.handle_refusal(command),
            "onStatus" => return self.handle_status(command, now),
            "close" => {
                let description = "the platform closed the connection".to_owned();
                return Err(PushError::Ended { status: Status { description, ..Status::default() } });
            }
            // `onBWDone`, `onFCPublish` and others need no response.
            _ => {}
        }
        Ok(())
    }

    fn handle_result(&mut self, command: &Command, now: Duration) {
        if self.step == PushStep::Connecting && is(command, CONNECT) {
            self.events
                .push_back(PublisherEvent::Connected { announces_h265: announces(command, H265_FOUR_CC) });
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

    /// Handles `_error`. Errors of releaseStream and `FCPublish` are ignored, since many servers do not support them.
    fn handle_refusal(&mut self, command: &Command) -> Result<(), PushError> {
        let is_ours = match self.step {
            PushStep::Connecting => is(command, CONNECT),
            PushStep::Creating => is(command, CREATE),
            PushStep::Publishing => is(command, PUBLISH),
            PushStep::Handshake | PushStep::Live => false,
        };
        match self.redirect(command) {
            Some(server) if is_ours && self.step == PushStep::Connecting => {
                Err(PushError::Redirected { server: Box::new(server) })
            }
            _ if is_ours => Err(self.refused(command)),
            _ => Ok(()),
        }
    }

    fn handle_status(&mut self, command: &Command, now: Duration) -> Result<(), PushError> {
        let (level, code, _) = command.information();
        if code == "NetConnection.Connect.ReconnectRequest" {
            let target = command.member("tcUrl").and_then(Value::as_str);
            let server = target.and_then(|target| self.config.server.redirected(target));
            self.events.push_back(PublisherEvent::ReconnectRequested { server });
            return Ok(());
        }
        let refused = level == "error" || code.contains("Failed") || code.contains("Rejected");
        match self.step {
            PushStep::Publishing if code == "NetStream.Publish.Start" => {
                self.events.push_back(PublisherEvent::Accepted);
                self.enter(PushStep::Live, now);
                Ok(())
            }
            // The response of some servers to an unknown releaseStream or FCPublish.
            PushStep::Publishing | PushStep::Creating if code == "NetConnection.Call.Failed" => Ok(()),
            PushStep::Connecting | PushStep::Creating | PushStep::Publishing if refused => {
                Err(self.refused(command))
            }
            PushStep::Live if refused || code == "NetStream.Unpublish.Success" => {
                Err(PushError::Ended { status: self.status(command) })
            }
            _ => Ok(()),
        }
    }

    /// Returns the server of a redirect (`ex.code` 302 and `ex.redirect` in the information object), if it may be used.
    fn redirect(&self, command: &Command) -> Option<RtmpServer> {
        let extension = command.member("ex")?;
        let code = extension.get("code").and_then(Value::as_number)?;
        let target = extension.get("redirect").and_then(Value::as_str)?;
        self.config.server.redirected(target).filter(|_| (code - REDIRECT).abs() < 0.5)
    }

    fn refused(&self, command: &Command) -> PushError {
        PushError::Refused { step: self.step, status: self.status(command) }
    }

    /// Returns the information object for display and logs: bounded, and without secrets, which some platforms repeat.
    fn status(&self, command: &Command) -> Status {
        let (level, code, description) = command.information();
        let application = mask(&self.config.server.full_address()).secrets;
        let clean = |text: &str| -> String {
            let parameters = application.iter().flatten().map(SecretString::expose_secret);
            let text = redact(text, std::iter::once(self.config.key.expose()).chain(parameters));
            text.chars().filter(|c| !c.is_control()).take(MAX_TEXT).collect()
        };
        Status { level: clean(level), code: clean(code), description: clean(description) }
    }

    pub(super) fn send_ending(&mut self) {
        let key = Value::from(self.config.key.expose());
        self.send_command(0, &Command::new("FCUnpublish", ENDING, vec![Value::Null, key]));
        let stream = Value::Number(f64::from(self.stream));
        self.send_command(0, &Command::new("deleteStream", ENDING + 1.0, vec![Value::Null, stream]));
    }
}

/// Returns true if the reply to `connect` lists a video codec, or all of them (`*`).
fn announces(reply: &Command, four_cc: &str) -> bool {
    let is_listed = |name: &str| name == four_cc || name == "*";
    let in_list = |value: &Value| match value {
        Value::List(names) => names.iter().filter_map(Value::as_str).any(is_listed),
        _ => false,
    };
    let in_map = |value: &Value| match value {
        Value::Object(members) | Value::Array(members) => members.iter().any(|(name, _)| is_listed(name)),
        _ => false,
    };
    reply.member("fourCcList").is_some_and(in_list) || reply.member("videoFourCcInfoMap").is_some_and(in_map)
}

fn is(command: &Command, transaction: f64) -> bool {
    (command.transaction - transaction).abs() < 0.5
}

/// Converts a message stream ID, an integer of 32 bits (5.3.1.2). Anything else becomes 1.
fn stream_number(number: f64) -> u32 {
    // An integer is formatted without a fraction.
    number.to_string().parse().ok().filter(|number| *number > 0).unwrap_or(1)
}
