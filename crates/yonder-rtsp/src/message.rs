//! RTSP messages and interleaved frames on the wire (RFC 2326, sections 4, 6, 7 and 10.12).
//!
//! Knows no state: bytes become messages or a precise error.

use std::fmt::Write as _;

use bytes::{Bytes, BytesMut};

/// Longest start line with headers. Digest challenges are the longest part of real ones, well under 2 kB.
const MAX_HEAD: usize = 16 * 1024;
/// Longest body. Real session descriptions are under 4 kB.
const MAX_BODY: usize = 256 * 1024;
const MAX_HEADERS: usize = 128;

/// Why bytes are no RTSP message.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum MessageError {
    /// The head does not end within the limit.
    #[error("message head is longer than {MAX_HEAD} bytes")]
    HeadTooLong,
    /// The body is announced longer than the limit.
    #[error("message body of {0} bytes is longer than {MAX_BODY}")]
    BodyTooLong(u64),
    /// There are more headers than any real message has.
    #[error("message has more than {MAX_HEADERS} headers")]
    TooManyHeaders,
    /// The start line is neither a request nor a reply.
    #[error("not an RTSP start line")]
    StartLine,
    /// A header line without a colon.
    #[error("header line {0} has no colon")]
    HeaderLine(usize),
    /// `Content-Length` is no number.
    #[error("Content-Length is not a number")]
    ContentLength,
    /// The head is not text.
    #[error("message head is not text")]
    NotText,
}

/// Header fields in order, with lookup that ignores case.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Headers(Vec<(String, String)>);

impl Headers {
    /// The first field of that name.
    #[must_use]
    pub fn get(&self, name: &str) -> Option<&str> {
        self.0.iter().find(|(key, _)| key.eq_ignore_ascii_case(name)).map(|(_, value)| value.as_str())
    }

    /// All fields of that name, in order.
    pub fn all<'a>(&'a self, name: &'a str) -> impl Iterator<Item = &'a str> {
        self.0.iter().filter(move |(key, _)| key.eq_ignore_ascii_case(name)).map(|(_, value)| value.as_str())
    }

    /// Adds a field.
    pub fn push(&mut self, name: impl Into<String>, value: impl Into<String>) {
        self.0.push((name.into(), value.into()));
    }
}

/// A request.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Request {
    /// Method as written.
    pub method: String,
    /// Request address as written.
    pub url: String,
    /// Header fields.
    pub headers: Headers,
    /// Body; empty when there is none.
    pub body: Bytes,
}

/// A reply.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Response {
    /// Status code.
    pub status: u16,
    /// Reason phrase, possibly empty.
    pub reason: String,
    /// Header fields.
    pub headers: Headers,
    /// Body; empty when there is none.
    pub body: Bytes,
}

/// One thing found on an RTSP connection.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Item<'a> {
    /// A request from the peer.
    Request(Request),
    /// A reply.
    Response(Response),
    /// An interleaved frame (10.12).
    Frame {
        /// Its channel number.
        channel: u8,
        /// Its payload.
        payload: &'a [u8],
    },
}

/// Takes the next item from the front of `input`. `Ok(None)` means more bytes are needed.
///
/// # Errors
/// [`MessageError`]; the connection cannot be used further.
pub fn next_item<'a>(input: &mut &'a [u8]) -> Result<Option<Item<'a>>, MessageError> {
    // Line ends between messages are to be ignored (4.1).
    while let Some((b'\r' | b'\n', rest)) = input.split_first() {
        *input = rest;
    }
    match input.first() {
        None => Ok(None),
        Some(b'$') => Ok(next_frame(input)),
        Some(byte) if byte.is_ascii_alphabetic() => next_message(input),
        Some(_) => Err(MessageError::StartLine),
    }
}

fn next_frame<'a>(input: &mut &'a [u8]) -> Option<Item<'a>> {
    let (&[_, channel, high, low], rest) = input.split_first_chunk::<4>()?;
    let (payload, rest) = rest.split_at_checked(usize::from(u16::from_be_bytes([high, low])))?;
    *input = rest;
    Some(Item::Frame { channel, payload })
}

fn next_message<'a>(input: &mut &'a [u8]) -> Result<Option<Item<'a>>, MessageError> {
    let Some((head_length, body_at)) = find_head_end(input) else {
        return if input.len() > MAX_HEAD { Err(MessageError::HeadTooLong) } else { Ok(None) };
    };
    if head_length > MAX_HEAD {
        return Err(MessageError::HeadTooLong);
    }
    let head = input.get(..head_length).unwrap_or_default();
    let text = std::str::from_utf8(head).map_err(|_| MessageError::NotText)?;
    let mut lines = text.split('\n').map(|line| line.trim_end_matches('\r'));
    let start = StartLine::parse(lines.next().unwrap_or_default())?;
    let headers = parse_headers(lines)?;
    let length = match headers.get("Content-Length") {
        None => 0,
        Some(value) => value.trim().parse::<u64>().map_err(|_| MessageError::ContentLength)?,
    };
    let body_length = usize::try_from(length)
        .ok()
        .filter(|length| *length <= MAX_BODY)
        .ok_or(MessageError::BodyTooLong(length))?;
    let Some((body, rest)) = input.get(body_at..).and_then(|rest| rest.split_at_checked(body_length)) else {
        return Ok(None);
    };
    let body = Bytes::copy_from_slice(body);
    *input = rest;
    Ok(Some(match start {
        StartLine::Request { method, url } => Item::Request(Request { method, url, headers, body }),
        StartLine::Response { status, reason } => Item::Response(Response { status, reason, headers, body }),
    }))
}

/// Length of the head without its blank line, and where the body begins. Bare LF line ends are accepted.
fn find_head_end(buffer: &[u8]) -> Option<(usize, usize)> {
    let mut line_begin = 0_usize;
    for (at, byte) in buffer.iter().enumerate().take(MAX_HEAD + 4) {
        if *byte == b'\n' {
            let line = buffer.get(line_begin..at).unwrap_or_default();
            if line.is_empty() || line == b"\r" {
                return Some((line_begin.saturating_sub(1), at + 1));
            }
            line_begin = at + 1;
        }
    }
    None
}

enum StartLine {
    Request { method: String, url: String },
    Response { status: u16, reason: String },
}

impl StartLine {
    fn parse(line: &str) -> Result<Self, MessageError> {
        let mut words = line.splitn(3, ' ');
        let (first, second) = (words.next().unwrap_or_default(), words.next().unwrap_or_default());
        let third = words.next().unwrap_or_default().trim();
        if first.starts_with("RTSP/") {
            let status = second.parse::<u16>().ok().filter(|status| (100..1000).contains(status));
            let status = status.ok_or(MessageError::StartLine)?;
            return Ok(Self::Response { status, reason: third.to_owned() });
        }
        if third.starts_with("RTSP/") && !second.is_empty() {
            return Ok(Self::Request { method: first.to_owned(), url: second.to_owned() });
        }
        Err(MessageError::StartLine)
    }
}

fn parse_headers<'a>(lines: impl Iterator<Item = &'a str>) -> Result<Headers, MessageError> {
    let mut headers = Headers::default();
    for (at, line) in lines.enumerate() {
        if line.is_empty() {
            continue;
        }
        // A line that begins with a blank continues the one before (RFC 2326, 4.2).
        if line.starts_with([' ', '\t']) {
            if let Some((_, value)) = headers.0.last_mut() {
                value.push(' ');
                value.push_str(line.trim());
                continue;
            }
            return Err(MessageError::HeaderLine(at + 2));
        }
        let (name, value) = line.split_once(':').ok_or(MessageError::HeaderLine(at + 2))?;
        if headers.0.len() == MAX_HEADERS {
            return Err(MessageError::TooManyHeaders);
        }
        headers.push(name.trim(), value.trim());
    }
    Ok(headers)
}

impl Request {
    /// Writes the request; `Content-Length` is added when there is a body.
    #[must_use]
    pub fn encode(&self) -> Bytes {
        let start = format!("{} {} RTSP/1.0\r\n", self.method, self.url);
        encode_message(start, &self.headers, &self.body)
    }
}

impl Response {
    /// Writes the reply; `Content-Length` is added when there is a body.
    #[must_use]
    pub fn encode(&self) -> Bytes {
        let start = format!("RTSP/1.0 {} {}\r\n", self.status, self.reason);
        encode_message(start, &self.headers, &self.body)
    }
}

fn encode_message(mut text: String, headers: &Headers, body: &Bytes) -> Bytes {
    for (name, value) in &headers.0 {
        // Writing to a string cannot fail.
        let _ = write!(text, "{name}: {value}\r\n");
    }
    if !body.is_empty() {
        let _ = write!(text, "Content-Length: {}\r\n", body.len());
    }
    text.push_str("\r\n");
    let mut out = BytesMut::from(text.as_bytes());
    out.extend_from_slice(body);
    out.freeze()
}

/// The header of an interleaved frame (10.12) of `length` payload bytes.
#[must_use]
pub fn frame_header(channel: u8, length: u16) -> [u8; 4] {
    let [high, low] = length.to_be_bytes();
    [b'$', channel, high, low]
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    const REPLY: &[u8] = b"RTSP/1.0 200 OK\r\nCSeq: 2\r\nContent-Length: 4\r\n\r\nv=0\n";

    fn all_items(mut bytes: &[u8]) -> Vec<Item<'_>> {
        let mut items = Vec::new();
        while let Some(item) = next_item(&mut bytes).unwrap() {
            items.push(item);
        }
        items
    }

    #[test]
    fn a_reply_with_a_body_is_read() {
        let items = all_items(REPLY);
        let [Item::Response(reply)] = items.as_slice() else { panic!("{items:?}") };
        assert_eq!((reply.status, reply.reason.as_str()), (200, "OK"));
        assert_eq!(reply.headers.get("cseq"), Some("2"));
        assert_eq!(reply.body[..], *b"v=0\n");
    }

    #[test]
    fn replies_frames_and_requests_are_read_in_any_split() {
        let mut wire = Vec::new();
        wire.extend_from_slice(&[b'$', 1, 0, 2, 7, 8]);
        wire.extend_from_slice(REPLY);
        wire.extend_from_slice(b"\r\n");
        wire.extend_from_slice(&[b'$', 0, 0, 3, b'\r', b'\n', b'$']);
        wire.extend_from_slice(b"OPTIONS * RTSP/1.0\nCSeq: 9\n\n");
        let whole = all_items(&wire);
        assert_eq!(whole.len(), 4);
        for size in 1..wire.len() {
            let (mut taken, mut items) = (0, Vec::new());
            for end in (size..wire.len()).step_by(size).chain([wire.len()]) {
                let mut rest = &wire[taken..end];
                while let Some(item) = next_item(&mut rest).unwrap() {
                    items.push(item);
                }
                taken = end - rest.len();
            }
            assert_eq!(items, whole, "chunks of {size}");
        }
    }

    #[test]
    fn a_folded_header_is_one_header() {
        let items = all_items(b"RTSP/1.0 200 OK\r\nPublic: OPTIONS,\r\n  PLAY\r\n\r\n");
        let [Item::Response(reply)] = items.as_slice() else { panic!("{items:?}") };
        assert_eq!(reply.headers.get("Public"), Some("OPTIONS, PLAY"));
    }

    #[rstest]
    #[case::garbage(b"\x01\x02\x03", MessageError::StartLine)]
    #[case::other_protocol(b"HTTP/1.1 400 Bad Request\r\n\r\n", MessageError::StartLine)]
    #[case::no_status(b"RTSP/1.0 OK\r\n\r\n", MessageError::StartLine)]
    #[case::no_colon(b"RTSP/1.0 200 OK\r\nCSeq 2\r\n\r\n", MessageError::HeaderLine(2))]
    #[case::length(b"RTSP/1.0 200 OK\r\nContent-Length: x\r\n\r\n", MessageError::ContentLength)]
    #[case::huge(
        b"RTSP/1.0 200 OK\r\nContent-Length: 99999999\r\n\r\n",
        MessageError::BodyTooLong(99_999_999)
    )]
    fn malformed_messages_are_refused(#[case] wire: &[u8], #[case] error: MessageError) {
        assert_eq!(next_item(&mut { wire }), Err(error));
    }

    #[test]
    fn a_head_without_end_is_refused_once_it_is_too_long() {
        let mut wire = b"RTSP/1.0 200 OK\r\n".to_vec();
        while wire.len() <= MAX_HEAD {
            wire.extend_from_slice(b"X: y\r\n");
        }
        assert!(next_item(&mut &wire[..]).is_err());
    }

    #[test]
    fn what_is_written_can_be_read() {
        let mut headers = Headers::default();
        headers.push("CSeq", "4");
        let request = Request {
            method: "SETUP".into(),
            url: "rtsp://192.0.2.7/a".into(),
            headers: headers.clone(),
            body: Bytes::new(),
        };
        assert_eq!(all_items(&request.encode()), vec![Item::Request(request)]);
        let reply = Response { status: 454, reason: "Session Not Found".into(), headers, body: Bytes::new() };
        assert_eq!(all_items(&reply.encode()), vec![Item::Response(reply)]);
    }

    proptest! {
        #[test]
        fn any_bytes_are_read_or_refused(data: Vec<u8>) {
            let mut rest = &data[..];
            while let Ok(Some(_)) = next_item(&mut rest) {}
        }

        #[test]
        fn any_text_after_a_start_line_is_read_or_refused(text in "[ -~\r\n]{0,200}") {
            let message = format!("RTSP/1.0 200 OK\r\n{text}\r\n\r\n");
            let mut rest = message.as_bytes();
            while let Ok(Some(_)) = next_item(&mut rest) {}
        }
    }
}
