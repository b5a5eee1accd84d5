//! Conformance checks of a publisher, for strict stand-in platforms.

use bytes::Bytes;

use crate::amf0::Value;
use crate::command::Command;
use crate::message::{Message, MessageKind};

/// Violation of the standard by a publisher.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum Violation {
    /// 7.2.1.1.
    #[error("connect lacks {0}")]
    ConnectMember(&'static str),
    /// Command out of order.
    #[error("{0} at a time at which it has no meaning")]
    Order(String),
    /// 5.4: protocol control messages have message stream 0.
    #[error("a control message on message stream {0}")]
    ControlStream(u32),
    /// 7.2.2: `publish` and media use the message stream that `createStream` returned.
    #[error("{what} on message stream {found}, not on {created}")]
    MediaStream {
        /// Message.
        what: &'static str,
        /// Message stream ID used.
        found: u32,
        /// Message stream ID created.
        created: u32,
    },
    /// 7.2.2.6: the publishing name is empty, or the type is not `live`.
    #[error("publish has no name, or not the type live")]
    Publish,
    /// Media before the publish was accepted, or after the end.
    #[error("{0} outside of a broadcast")]
    Outside(&'static str),
    /// FLV 10.1, E.4: a sequence header, and a keyframe, must precede coded frames.
    #[error("{0} before {1}")]
    Missing(&'static str, &'static str),
    /// Timestamps of a track step back.
    #[error("{what} at {to} ms after {from} ms")]
    Time {
        /// Track.
        what: &'static str,
        /// Previous timestamp.
        from: u32,
        /// Timestamp.
        to: u32,
    },
    /// FLV 10.1, E.5: metadata is `@setDataFrame` and `onMetaData` with an array.
    #[error("a data message that is no metadata")]
    Metadata,
}

/// Type of a publish command for a live broadcast (7.2.2.6).
const PUBLISHING_TYPE: &str = "live";

/// State of a publisher.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
enum Stage {
    #[default]
    New,
    Connected,
    Created,
    Published,
    Ended,
}

/// State of one track.
#[derive(Debug, Clone, Copy, Default)]
struct Track {
    has_header: bool,
    has_keyframe: bool,
    last: Option<u32>,
}

/// Conformance checks message by message.
#[derive(Debug, Default)]
pub(super) struct Conformance {
    stage: Stage,
    video: Track,
    audio: Track,
}

/// Returns true for a step back; timestamps may repeat, and wrap.
fn steps_back(from: u32, to: u32) -> bool {
    to.wrapping_sub(from).cast_signed() < 0
}

impl Conformance {
    /// Checks a message. `created` is the message stream ID given to the publisher.
    pub(super) fn check(&mut self, message: &Message, created: u32) -> Result<(), Violation> {
        match message.kind {
            MessageKind::SetChunkSize
            | MessageKind::Abort
            | MessageKind::Acknowledgement
            | MessageKind::UserControl
            | MessageKind::WindowSize
            | MessageKind::PeerBandwidth
                if message.stream != 0 =>
            {
                Err(Violation::ControlStream(message.stream))
            }
            MessageKind::Command | MessageKind::Command3 => match Command::decode(message.payload.clone()) {
                Ok(command) => self.check_command(&command, message.stream, created),
                Err(_) => Err(Violation::Order("a command without a name".to_owned())),
            },
            MessageKind::Data => {
                self.check_place("metadata", message, created)?;
                check_metadata(message.payload.clone())
            }
            MessageKind::Video => {
                self.check_place("video", message, created)?;
                self.check_video(message)
            }
            MessageKind::Audio => {
                self.check_place("audio", message, created)?;
                self.check_audio(message)
            }
            _ => Ok(()),
        }
    }

    fn check_command(&mut self, command: &Command, stream: u32, created: u32) -> Result<(), Violation> {
        let out_of_order = || Err(Violation::Order(command.name.clone()));
        match (command.name.as_str(), self.stage) {
            ("connect", Stage::New) => {
                for member in ["app", "tcUrl", "flashVer"] {
                    let text = command.values.first().and_then(|object| object.get(member));
                    if text.and_then(Value::as_str).is_none_or(str::is_empty) {
                        return Err(Violation::ConnectMember(member));
                    }
                }
                self.stage = Stage::Connected;
                Ok(())
            }
            ("releaseStream" | "FCPublish", Stage::Connected | Stage::Created) => Ok(()),
            ("createStream", Stage::Connected) => {
                self.stage = Stage::Created;
                Ok(())
            }
            ("publish", Stage::Created) => {
                if stream != created {
                    return Err(Violation::MediaStream { what: "publish", found: stream, created });
                }
                let text = |at: usize| command.values.get(at).and_then(Value::as_str).unwrap_or_default();
                if text(1).is_empty() || text(2) != PUBLISHING_TYPE {
                    return Err(Violation::Publish);
                }
                self.stage = Stage::Published;
                Ok(())
            }
            ("FCUnpublish", Stage::Published) => Ok(()),
            ("deleteStream", Stage::Published | Stage::Created) => {
                self.stage = Stage::Ended;
                Ok(())
            }
            ("connect" | "createStream" | "publish" | "FCUnpublish" | "deleteStream", _) => out_of_order(),
            // Other commands are ignored.
            _ => Ok(()),
        }
    }

    fn check_place(&self, what: &'static str, message: &Message, created: u32) -> Result<(), Violation> {
        if self.stage != Stage::Published {
            return Err(Violation::Outside(what));
        }
        if message.stream != created {
            return Err(Violation::MediaStream { what, found: message.stream, created });
        }
        Ok(())
    }

    fn check_video(&mut self, message: &Message) -> Result<(), Violation> {
        self.video.check_time("video", message.timestamp)?;
        let Some(&[first, second]) = message.payload.first_chunk::<2>() else {
            return Err(Violation::Missing("an empty video message", "its tag"));
        };
        // Enhanced RTMP has the packet type in the first byte.
        let is_enhanced = first & 0x80 != 0;
        let packet_type = if is_enhanced { first & 0x0f } else { second };
        let is_keyframe = first >> 4 & 0x7 == 1;
        match packet_type {
            0 => self.video.has_header = true,
            // The end of the sequence.
            2 => {}
            _ if !self.video.has_header => {
                return Err(Violation::Missing("a video frame", "the sequence header"));
            }
            _ if !is_keyframe && !self.video.has_keyframe => {
                return Err(Violation::Missing("a dependent frame", "the first keyframe"));
            }
            _ => self.video.has_keyframe = true,
        }
        Ok(())
    }

    fn check_audio(&mut self, message: &Message) -> Result<(), Violation> {
        self.audio.check_time("audio", message.timestamp)?;
        let Some(&first) = message.payload.first() else {
            return Err(Violation::Missing("an empty audio message", "its tag"));
        };
        let is_aac = first >> 4 == 10;
        match message.payload.get(1) {
            Some(0) if is_aac => self.audio.has_header = true,
            _ if is_aac && !self.audio.has_header => {
                return Err(Violation::Missing("an AAC frame", "the sequence header"));
            }
            _ => {}
        }
        Ok(())
    }
}

impl Track {
    fn check_time(&mut self, what: &'static str, to: u32) -> Result<(), Violation> {
        match self.last.replace(to) {
            Some(from) if steps_back(from, to) => Err(Violation::Time { what, from, to }),
            _ => Ok(()),
        }
    }
}

fn check_metadata(payload: Bytes) -> Result<(), Violation> {
    let values = Value::decode_all(payload).map_err(|_| Violation::Metadata)?;
    match &values[..] {
        [Value::String(first), Value::String(second), Value::Array(_) | Value::Object(_)]
            if first == "@setDataFrame" && second == "onMetaData" =>
        {
            Ok(())
        }
        _ => Err(Violation::Metadata),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn command(stream: u32, command: &Command) -> Message {
        Message { kind: MessageKind::Command, stream, timestamp: 0, payload: command.encode() }
    }

    fn media(kind: MessageKind, stream: u32, timestamp: u32, payload: &'static [u8]) -> Message {
        Message { kind, stream, timestamp, payload: Bytes::from_static(payload) }
    }

    fn connect(members: &[&str]) -> Message {
        let members = members.iter().map(|name| ((*name).to_owned(), "x".into())).collect();
        command(0, &Command::new("connect", 1.0, vec![Value::Object(members)]))
    }

    fn publish(stream: u32, name: &str, kind: &str) -> Message {
        command(stream, &Command::new("publish", 5.0, vec![Value::Null, name.into(), kind.into()]))
    }

    fn begin() -> Vec<Message> {
        vec![
            connect(&["app", "tcUrl", "flashVer"]),
            command(0, &Command::new("createStream", 4.0, vec![Value::Null])),
        ]
    }

    fn live() -> Vec<Message> {
        [begin(), vec![publish(1, "key", "live")]].concat()
    }

    const HEADER: &[u8] = &[0x17, 0, 0, 0, 0];
    const KEYFRAME: &[u8] = &[0x17, 1, 0, 0, 0];
    const INTER: &[u8] = &[0x27, 1, 0, 0, 0];

    fn violation(messages: &[Message]) -> Option<Violation> {
        let mut conformance = Conformance::default();
        messages.iter().find_map(|message| conformance.check(message, 1).err())
    }

    #[test]
    fn broadcast_by_the_standard_has_no_violation() {
        let video = |time, payload| media(MessageKind::Video, 1, time, payload);
        let audio = |time, payload| media(MessageKind::Audio, 1, time, payload);
        let rest = vec![
            video(0, HEADER),
            audio(0, &[0xaf, 0, 0x11, 0x90]),
            video(0, KEYFRAME),
            audio(10, &[0xaf, 1, 7]),
            video(20, INTER),
            video(20, &[0x17, 2, 0, 0, 0]),
            command(0, &Command::new("FCUnpublish", 6.0, vec![Value::Null])),
            command(0, &Command::new("deleteStream", 7.0, vec![Value::Null, 1.0.into()])),
        ];
        assert_eq!(violation(&[live(), rest].concat()), None);
    }

    #[rstest]
    #[case::no_address(vec![connect(&["app", "flashVer"])], Violation::ConnectMember("tcUrl"))]
    #[case::publish_first(vec![publish(1, "key", "live")], Violation::Order("publish".into()))]
    #[case::other_stream(
        [begin(), vec![publish(0, "key", "live")]].concat(),
        Violation::MediaStream { what: "publish", found: 0, created: 1 }
    )]
    #[case::no_name([begin(), vec![publish(1, "", "live")]].concat(), Violation::Publish)]
    #[case::recorded([begin(), vec![publish(1, "key", "record")]].concat(), Violation::Publish)]
    #[case::early_media(
        [begin(), vec![media(MessageKind::Video, 1, 0, HEADER)]].concat(),
        Violation::Outside("video")
    )]
    #[case::no_header(
        [live(), vec![media(MessageKind::Video, 1, 0, KEYFRAME)]].concat(),
        Violation::Missing("a video frame", "the sequence header")
    )]
    #[case::no_keyframe(
        [live(), vec![media(MessageKind::Video, 1, 0, HEADER), media(MessageKind::Video, 1, 0, INTER)]].concat(),
        Violation::Missing("a dependent frame", "the first keyframe")
    )]
    #[case::aac_without_header(
        [live(), vec![media(MessageKind::Audio, 1, 0, &[0xaf, 1, 7])]].concat(),
        Violation::Missing("an AAC frame", "the sequence header")
    )]
    #[case::time(
        [live(), vec![media(MessageKind::Video, 1, 9, HEADER), media(MessageKind::Video, 1, 8, KEYFRAME)]].concat(),
        Violation::Time { what: "video", from: 9, to: 8 }
    )]
    #[case::control(vec![media(MessageKind::SetChunkSize, 1, 0, &[0, 0, 16, 0])], Violation::ControlStream(1))]
    #[case::metadata([live(), vec![media(MessageKind::Data, 1, 0, &[5])]].concat(), Violation::Metadata)]
    fn deviation_is_found(#[case] messages: Vec<Message>, #[case] expected: Violation) {
        assert_eq!(violation(&messages), Some(expected));
    }
}
