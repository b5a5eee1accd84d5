//! RTSP messages and interleaved frames (RFC 2326, sections 4, 6, 7 and 10.12).
//!
//! Stateless: bytes become items or an error. Messages with invalid lines or characters are parsed as far as possible;
//! [`resynchronize`] finds the next item after unknown bytes.

use std::borrow::Cow;
use std::fmt::Write as _;

use bytes::{Bytes, BytesMut};

/// Maximum size of start line and headers. Real ones are well under 2 kB.
const MAX_HEAD: usize = 16 * 1024;
/// Maximum size of a body. Real session descriptions are under 4 kB.
const MAX_BODY: usize = 256 * 1024;
const MAX_HEADERS: usize = 128;

/// Error for an invalid RTSP message.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum MessageError {
    /// The head exceeds the limit.
    #[error("message head is longer than {MAX_HEAD} bytes")]
    HeadTooLong,
    /// The announced body exceeds the limit.
    #[error("message body of {0} bytes is longer than {MAX_BODY}")]
    BodyTooLong(u64),
    /// Too many headers.
    #[error("message has more than {MAX_HEADERS} headers")]
    TooManyHeaders,
    /// The start line is neither a request nor a response.
    #[error("not an RTSP start line")]
    StartLine,
    /// `Content-Length` is not a number.
    #[error("Content-Length is not a number")]
    ContentLength,
}

/// Header fields in order, with case-insensitive lookup.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Headers {
    fields: Vec<(String, String)>,
    /// The head is not UTF-8: each character represents one byte, as in ISO 8859-1, and is encoded as such. A Digest
    /// realm must be hashed and returned byte by byte.
    is_bytes: bool,
    /// Number of lines that are neither a field nor a continuation.
    skipped_lines: usize,
}

impl Headers {
    /// Returns true if each character represents one byte of an unknown character set.
    #[must_use]
    pub fn is_bytes(&self) -> bool {
        self.is_bytes
    }

    /// Sets whether each character is encoded as one byte.
    pub fn set_bytes(&mut self, is_bytes: bool) {
        self.is_bytes = is_bytes;
    }

    /// Returns the number of skipped lines, which are not fields.
    #[must_use]
    pub fn skipped_lines(&self) -> usize {
        self.skipped_lines
    }

    /// Returns the first field of that name.
    #[must_use]
    pub fn get(&self, name: &str) -> Option<&str> {
        self.fields.iter().find(|(key, _)| key.eq_ignore_ascii_case(name)).map(|(_, value)| value.as_str())
    }

    /// Returns all fields of that name, in order.
    pub fn all<'a>(&'a self, name: &'a str) -> impl Iterator<Item = &'a str> {
        self.fields
            .iter()
            .filter(move |(key, _)| key.eq_ignore_ascii_case(name))
            .map(|(_, value)| value.as_str())
    }

    /// Adds a field.
    pub fn push(&mut self, name: impl Into<String>, value: impl Into<String>) {
        self.fields.push((name.into(), value.into()));
    }
}

/// Request.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Request {
    /// Method as written.
    pub method: String,
    /// Request URL as written.
    pub url: String,
    /// Header fields.
    pub headers: Headers,
    /// Body, possibly empty.
    pub body: Bytes,
}

/// Response.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Response {
    /// Status code.
    pub status: u16,
    /// Reason phrase, possibly empty.
    pub reason: String,
    /// Header fields.
    pub headers: Headers,
    /// Body, possibly empty.
    pub body: Bytes,
}

/// Item on an RTSP connection.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Item<'a> {
    /// A request from the peer.
    Request(Request),
    /// Response.
    Response(Response),
    /// An interleaved frame (10.12).
    Frame {
        /// Channel number.
        channel: u8,
        /// Payload.
        payload: &'a [u8],
    },
}

/// Parses the next item at the beginning of `input`; `Ok(None)` if more bytes are needed.
///
/// # Errors
/// [`MessageError`]; the connection cannot be used any more.
pub fn next_item<'a>(input: &mut &'a [u8]) -> Result<Option<Item<'a>>, MessageError> {
    // Line ends between messages are ignored (4.1).
    while let Some((b'\r' | b'\n', rest)) = input.split_first() {
        *input = rest;
    }
    match input.first() {
        None => Ok(None),
        Some(b'$') => Ok(next_frame(input)),
        Some(byte) if byte.is_ascii_alphabetic() && is_text(input) => next_message(input),
        Some(_) => Err(MessageError::StartLine),
    }
}

/// Returns true if there is no control character before the first line end: media data may begin with a letter as well.
fn is_text(input: &[u8]) -> bool {
    let line = input.iter().take(MAX_HEAD).take_while(|byte| **byte != b'\n');
    line.copied().all(|byte| byte >= b' ' || byte == b'\t' || byte == b'\r')
}

/// Bytes needed to recognize an interleaved frame: its header and the fixed header of its packet.
const FRAME_HEAD: usize = 4 + 8;

/// Skips at least one byte, up to a possible item: a response, or an interleaved frame on a channel that `is_known`.
/// Returns the number of bytes skipped. The last bytes are kept while more are needed to decide.
pub fn resynchronize(input: &mut &[u8], is_known: impl Fn(u8) -> bool) -> usize {
    let bytes = *input;
    let at = (1..bytes.len()).find(|at| may_begin(bytes.get(*at..).unwrap_or_default(), &is_known));
    let at = at.unwrap_or(bytes.len());
    *input = bytes.get(at..).unwrap_or_default();
    at
}

/// Returns true for a `$` that does not begin a frame: its channel is unknown or its payload is neither RTP nor RTCP,
/// and either no item follows its end, or it contains a complete frame of a known channel that is followed by an item.
/// A frame of a track that is not set up is not stray.
pub fn is_stray_dollar(input: &[u8], is_known: impl Fn(u8) -> bool) -> bool {
    let Some((&[b'$', channel, high, low], rest)) = input.split_first_chunk::<4>() else { return false };
    let length = usize::from(u16::from_be_bytes([high, low]));
    let is_packet = length + 4 >= FRAME_HEAD && rest.first().is_some_and(|first| first >> 6 == 2);
    if is_known(channel) && (is_packet || rest.is_empty()) {
        return false;
    }
    match rest.get(length) {
        Some(next) => !begins_item(*next),
        // The frame is incomplete: its length may be invalid.
        None => (2..input.len()).any(|at| holds_frame(input.get(at..).unwrap_or_default(), &is_known)),
    }
}

fn begins_item(byte: u8) -> bool {
    matches!(byte, b'$' | b'R' | b'\r' | b'\n')
}

/// Returns true for a complete frame of a known channel that is followed by an item.
fn holds_frame(rest: &[u8], is_known: impl Fn(u8) -> bool) -> bool {
    let Some((&[b'$', channel, high, low], payload)) = rest.split_first_chunk::<4>() else { return false };
    let length = usize::from(u16::from_be_bytes([high, low]));
    let is_packet = length + 4 >= FRAME_HEAD && payload.first().is_some_and(|first| first >> 6 == 2);
    is_known(channel) && is_packet && payload.get(length).is_some_and(|next| begins_item(*next))
}

fn may_begin(rest: &[u8], is_known: impl Fn(u8) -> bool) -> bool {
    const REPLY: &[u8] = b"RTSP/1.";
    let common = rest.len().min(REPLY.len());
    if rest.get(..common) == REPLY.get(..common) {
        return true;
    }
    if rest.first() != Some(&b'$') {
        return false;
    }
    let Some(&[_, channel, high, low]) = rest.first_chunk::<4>() else {
        return rest.get(1).is_none_or(|channel| is_known(*channel));
    };
    let length = usize::from(u16::from_be_bytes([high, low]));
    // RTP and RTCP have version 2 and at least eight bytes.
    let is_packet = rest.get(4).is_none_or(|first| first >> 6 == 2);
    let next = rest.get(4 + length).is_none_or(|next| begins_item(*next));
    is_known(channel) && length + 4 >= FRAME_HEAD && is_packet && next
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
    let (text, is_bytes) = match std::str::from_utf8(head) {
        Ok(text) => (Cow::Borrowed(text), false),
        Err(_) => (head.iter().copied().map(char::from).collect::<String>().into(), true),
    };
    let mut lines = text.split('\n').map(|line| line.trim_end_matches('\r'));
    let start = StartLine::parse(lines.next().unwrap_or_default())?;
    let headers = Headers { is_bytes, ..parse_headers(lines)? };
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

/// Returns the length of the head and the offset of the body. Bare LF line ends are accepted.
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
    for line in lines {
        if line.is_empty() {
            continue;
        }
        // A line that begins with a blank continues the previous one (RFC 2326, 4.2).
        if line.starts_with([' ', '\t']) {
            match headers.fields.last_mut() {
                Some((_, value)) => {
                    value.push(' ');
                    value.push_str(line.trim());
                }
                None => headers.skipped_lines += 1,
            }
            continue;
        }
        // The message is delimited by the blank line and the length, so an invalid line can be skipped.
        let Some((name, value)) = line.split_once(':') else {
            headers.skipped_lines += 1;
            continue;
        };
        if headers.fields.len() == MAX_HEADERS {
            return Err(MessageError::TooManyHeaders);
        }
        headers.push(name.trim(), value.trim());
    }
    Ok(headers)
}

impl Request {
    /// Encodes the request; `Content-Length` is added if there is a body.
    #[must_use]
    pub fn encode(&self) -> Bytes {
        let start = format!("{} {} RTSP/1.0\r\n", self.method, self.url);
        encode_message(start, &self.headers, &self.body)
    }
}

impl Response {
    /// Encodes the response; `Content-Length` is added if there is a body.
    #[must_use]
    pub fn encode(&self) -> Bytes {
        let start = format!("RTSP/1.0 {} {}\r\n", self.status, self.reason);
        encode_message(start, &self.headers, &self.body)
    }
}

fn encode_message(mut text: String, headers: &Headers, body: &Bytes) -> Bytes {
    for (name, value) in &headers.fields {
        // Writing to a string cannot fail.
        let _ = write!(text, "{name}: {value}\r\n");
    }
    if !body.is_empty() {
        let _ = write!(text, "Content-Length: {}\r\n", body.len());
    }
    text.push_str("\r\n");
    let mut out = BytesMut::with_capacity(text.len() + body.len());
    if headers.is_bytes {
        out.extend_from_slice(&to_bytes(&text));
    } else {
        out.extend_from_slice(text.as_bytes());
    }
    out.extend_from_slice(body);
    out.freeze()
}

/// Returns the bytes that the characters represent, see [`Headers::is_bytes`]; other text as UTF-8.
pub(crate) fn to_bytes(text: &str) -> Vec<u8> {
    let mut bytes = Vec::with_capacity(text.len());
    for character in text.chars() {
        match u8::try_from(u32::from(character)) {
            Ok(byte) => bytes.push(byte),
            Err(_) => bytes.extend_from_slice(character.encode_utf8(&mut [0; 4]).as_bytes()),
        }
    }
    bytes
}

/// Returns the header of an interleaved frame (10.12) of `length` payload bytes.
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
    fn responses_frames_and_requests_are_parsed_in_any_segmentation() {
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
    #[case::length(b"RTSP/1.0 200 OK\r\nContent-Length: x\r\n\r\n", MessageError::ContentLength)]
    #[case::huge(
        b"RTSP/1.0 200 OK\r\nContent-Length: 99999999\r\n\r\n",
        MessageError::BodyTooLong(99_999_999)
    )]
    fn malformed_messages_are_refused(#[case] wire: &[u8], #[case] error: MessageError) {
        assert_eq!(next_item(&mut { wire }), Err(error));
    }

    #[rstest]
    #[case::no_colon(b"RTSP/1.0 200 OK\r\nDate Mon 3\r\nCSeq: 2\r\n\r\n", 1)]
    #[case::continues_nothing(b"RTSP/1.0 200 OK\r\n  odd\r\nCSeq: 2\r\n\r\n", 1)]
    #[case::several(b"RTSP/1.0 200 OK\r\nodd\r\n***\r\nCSeq: 2\r\nmore\r\n\r\n", 3)]
    fn invalid_header_lines_are_skipped_and_counted(#[case] wire: &[u8], #[case] skipped: usize) {
        let items = all_items(wire);
        let [Item::Response(reply)] = items.as_slice() else { panic!("{items:?}") };
        assert_eq!((reply.headers.get("CSeq"), reply.headers.skipped_lines()), (Some("2"), skipped));
    }

    #[test]
    fn a_head_in_another_character_set_is_read_and_written_byte_by_byte() {
        // GBK for a realm of two characters, and a reason in Latin-1.
        let wire = b"RTSP/1.0 401 Non autoris\xe9\r\nCSeq: 3\r\nWWW-Authenticate: Digest realm=\"\xc9\xe3\xcf\xf1\", nonce=\"1\"\r\n\r\n";
        let items = all_items(wire);
        let [Item::Response(reply)] = items.as_slice() else { panic!("{items:?}") };
        assert!(reply.headers.is_bytes());
        assert_eq!(reply.encode()[..], wire[..]);
    }

    /// Frames on channels 0 and 1 with unknown bytes between them.
    #[rstest]
    #[case::one_byte(&[0])]
    #[case::letters(b"PAD")]
    #[case::dollar(&[b'$', 9, 0, 41, 1, 2])]
    #[case::lying_frame(&[b'$', 0, 0, 90, 0x12, 0x60])]
    #[case::half_a_head(b"RTSP/1.0 20\x00\x01")]
    #[case::zeros(&[0; 1_500])]
    fn next_item_is_found_after_unknown_bytes(#[case] between: &[u8]) {
        let packet = |channel: u8, last: u8| {
            let mut frame = frame_header(channel, 16).to_vec();
            frame.extend_from_slice(&[0x80, 0x60, 0, last, 0, 0, 0, 0, 1, 2, 3, 4, 0x41, 0, b'$', 0]);
            frame
        };
        let mut wire = packet(0, 1);
        wire.extend_from_slice(between);
        // Enough for a frame with an implausible length.
        for last in 2..20 {
            wire.extend_from_slice(&packet(last % 2, last));
        }
        wire.extend_from_slice(REPLY);
        let (mut rest, mut skipped, mut frames, mut replies) = (&wire[..], 0, 0, 0);
        loop {
            if is_stray_dollar(rest, |channel| channel < 2) {
                skipped += resynchronize(&mut rest, |channel| channel < 2);
                continue;
            }
            match next_item(&mut rest) {
                Ok(Some(Item::Frame { channel, payload })) => {
                    assert!(channel < 2 && payload.len() == 16, "a made-up frame of {} bytes", payload.len());
                    frames += 1;
                }
                Ok(Some(_)) => replies += 1,
                Ok(None) => break,
                Err(_) => skipped += resynchronize(&mut rest, |channel| channel < 2),
            }
        }
        assert_eq!((frames, replies, skipped), (19, 1, between.len()));
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
    fn encoded_messages_parse_back() {
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
        fn any_bytes_are_parsed_or_refused(data: Vec<u8>) {
            let mut rest = &data[..];
            while let Ok(Some(_)) = next_item(&mut rest) {}
        }

        #[test]
        fn any_text_after_a_start_line_is_parsed_or_refused(text in "[ -~\r\n]{0,200}") {
            let message = format!("RTSP/1.0 200 OK\r\n{text}\r\n\r\n");
            let mut rest = message.as_bytes();
            while let Ok(Some(_)) = next_item(&mut rest) {}
        }
    }
}
