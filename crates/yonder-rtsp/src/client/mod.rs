//! RTSP client (RFC 2326) as a state machine without I/O.
//!
//! ```text
//!   Options ─▶ Describe ─▶ SetUp(0) ─▶ … ─▶ Play ─▶ Playing ─▶ Closed
//!      ╰── any request answered 401 is repeated with credentials ──╯
//! ```
//!
//! Call order: [`Client::start`]; then [`Client::handle_input`] for received data and [`Client::handle_timeout`] at deadlines. After each
//! call, drain [`Client::poll_transmit`] and [`Client::poll_event`] and read [`Client::poll_timeout`].

mod dialogue;
mod skipped;
mod tracks;

use std::collections::VecDeque;
use std::time::Duration;

use bytes::{Bytes, BytesMut};

use crate::auth::Authenticator;
use crate::error::{PullError, Timer};
use crate::message::{self, Item, MessageError, Request, Response};
use crate::url::{CameraUrl, Credentials};

pub use skipped::Skipped;
pub use tracks::{ClientTrack, Codec, DatagramPeer, Offered};

/// Reply timeout. Cameras on slow links answer within a second or two; booting ones within five.
const REPLY_TIMEOUT: Duration = Duration::from_secs(8);
/// Reply timeout of OPTIONS, which is optional: cameras that do not support it may leave it unanswered.
const OPTIONS_TIMEOUT: Duration = Duration::from_secs(3);
/// Maximum consecutive bytes skipped in search of an item: two interleaved frames of maximum length.
const MAX_SKIPPED: usize = 128 * 1024;
/// Session timeout assumed when SETUP names none (12.37).
const DEFAULT_SESSION_TIMEOUT: Duration = Duration::from_secs(60);
/// Maximum renewals of a stale nonce for one request.
const MAX_STALE: u8 = 2;

/// Configuration of a client.
#[derive(Debug, Clone)]
pub struct ClientConfig {
    /// URL of the stream.
    pub url: CameraUrl,
    /// Credentials, if the camera needs them.
    pub credentials: Option<Credentials>,
    /// The camera has offered Digest before: a challenge for Basic alone is not answered, since it would reveal the
    /// password. It may come from another device at the same address.
    pub requires_digest: bool,
    /// Transport of RTP packets.
    pub transport: Transport,
    /// Seed of the client nonce and the RTCP source; random in production.
    pub seed: u64,
}

/// Transport of RTP packets.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum Transport {
    /// Within the RTSP connection (RFC 2326, 10.12).
    #[default]
    Interleaved,
    /// UDP to these pairs of local ports (RTP, RTCP), one pair per track.
    Datagrams(Vec<(u16, u16)>),
}

/// Step of the dialogue, in order.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Step {
    /// The camera speaks RTSP.
    Greeted,
    /// The camera accepted the credentials.
    SignedIn,
    /// The stream was described.
    Described,
    /// All selected tracks were set up.
    SetUp,
    /// The camera answered PLAY.
    Playing,
}

/// Channel of a track.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Channel {
    /// RTP.
    Media,
    /// RTCP.
    Control,
}

/// Event of a client.
#[derive(Debug, Clone, PartialEq)]
pub enum ClientEvent {
    /// A step was completed.
    Step(Step),
    /// The camera has offered Digest authentication.
    DigestOffered,
    /// All media that the camera offers.
    Offered(Vec<Offered>),
    /// Selected tracks, video first.
    Tracks(Vec<ClientTrack>),
}

/// Interleaved packet of a track (10.12).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Data<'a> {
    /// Index of the track.
    pub track: usize,
    /// RTP or RTCP.
    pub channel: Channel,
    /// The packet.
    pub packet: &'a [u8],
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum State {
    New,
    Options,
    Describe,
    SetUp(usize),
    Play,
    Playing,
    Closed,
}

/// Request that waits for its reply.
#[derive(Debug)]
struct Pending {
    sequence: u32,
    method: &'static str,
    url: String,
    headers: Vec<(&'static str, String)>,
    deadline: Duration,
    /// It carried credentials.
    authorized: bool,
    /// Repetitions because of a stale nonce.
    stale: u8,
}

/// RTSP dialogue over one connection.
#[derive(Debug)]
pub struct Client {
    config: ClientConfig,
    state: State,
    sequence: u32,
    pending: Option<Pending>,
    authenticator: Option<Authenticator>,
    digest_offered: bool,
    /// The camera accepted the credentials in this session.
    signed_in: bool,
    /// Aggregate URL for PLAY, keep-alive and TEARDOWN.
    aggregate: String,
    session: Option<String>,
    session_timeout: Duration,
    keep_alive_at: Option<Duration>,
    keep_alive_method: &'static str,
    tracks: Vec<ClientTrack>,
    transmit: VecDeque<Bytes>,
    events: VecDeque<ClientEvent>,
    /// The camera has sent a reply on this connection; unknown bytes are skipped from then on.
    speaks_rtsp: bool,
    /// The headers of the camera are not UTF-8.
    uses_bytes: bool,
    /// Bytes skipped since the last item.
    skipped_in_a_row: usize,
    skipped: Skipped,
    /// PLAY was repeated without its `Range`.
    without_range: bool,
    /// [`Step::Greeted`] was reported.
    greeted: bool,
}

impl Client {
    /// Creates a client.
    #[must_use]
    pub fn new(config: ClientConfig) -> Self {
        let aggregate = config.url.request_url();
        Self {
            config,
            state: State::New,
            sequence: 0,
            pending: None,
            authenticator: None,
            digest_offered: false,
            signed_in: false,
            aggregate,
            session: None,
            session_timeout: DEFAULT_SESSION_TIMEOUT,
            keep_alive_at: None,
            keep_alive_method: "GET_PARAMETER",
            tracks: Vec::new(),
            transmit: VecDeque::new(),
            events: VecDeque::new(),
            speaks_rtsp: false,
            uses_bytes: false,
            skipped_in_a_row: 0,
            skipped: Skipped::default(),
            without_range: false,
            greeted: false,
        }
    }

    /// Sends the first request. Must be called once the connection is established.
    pub fn start(&mut self, now: Duration) {
        self.state = State::Options;
        let url = self.config.url.request_url();
        self.request("OPTIONS", url, Vec::new(), now);
    }

    /// Parses complete items at the beginning of `input`, up to and including the next packet of a track, which is
    /// returned. Must be called until it returns `None`. Events of earlier items are queued.
    ///
    /// # Errors
    /// [`PullError`] at the end of the dialogue; the connection should then be closed.
    pub fn handle_input<'a>(
        &mut self,
        input: &mut &'a [u8],
        now: Duration,
    ) -> Result<Option<Data<'a>>, PullError> {
        while let Some(item) = self.next_item(input)? {
            match item {
                Item::Frame { channel, payload } => {
                    // Packets of tracks that are not set up are ignored.
                    if let Some((track, channel)) = self.place_of(channel) {
                        return Ok(Some(Data { track, channel, packet: payload }));
                    }
                }
                Item::Response(response) => {
                    self.note_head(&response.headers);
                    self.handle_response(&response, now)?;
                }
                Item::Request(request) => {
                    self.note_head(&request.headers);
                    self.answer(&request)?;
                }
            }
        }
        Ok(None)
    }

    /// Returns the counts of skipped data on this connection.
    #[must_use]
    pub fn skipped(&self) -> Skipped {
        self.skipped
    }

    /// Returns the next item. Once the camera has sent a reply, bytes that do not belong to an item are skipped.
    fn next_item<'a>(&mut self, input: &mut &'a [u8]) -> Result<Option<Item<'a>>, PullError> {
        loop {
            let is_stray = self.state == State::Playing
                && message::is_stray_dollar(input, |channel| self.place_of(channel).is_some());
            let error = if is_stray {
                MessageError::StartLine
            } else {
                match message::next_item(input) {
                    Ok(item) => {
                        if item.is_some() {
                            self.skipped_in_a_row = 0;
                        }
                        return Ok(item);
                    }
                    Err(error) => error,
                }
            };
            if !self.speaks_rtsp || self.skipped_in_a_row > MAX_SKIPPED || input.is_empty() {
                return Err(error.into());
            }
            let count = message::resynchronize(input, |channel| self.place_of(channel).is_some());
            self.skipped_in_a_row += count;
            self.skipped.bytes += u64::try_from(count).unwrap_or(u64::MAX);
        }
    }

    fn note_head(&mut self, headers: &message::Headers) {
        self.speaks_rtsp = true;
        self.uses_bytes |= headers.is_bytes();
        self.skipped.header_lines += u64::try_from(headers.skipped_lines()).unwrap_or(u64::MAX);
    }

    /// Returns the earliest time at which [`Client::handle_timeout`] has something to do.
    #[must_use]
    pub fn poll_timeout(&self) -> Option<Duration> {
        let reply = self.pending.as_ref().map(|pending| pending.deadline);
        [reply, self.keep_alive_at].into_iter().flatten().min()
    }

    /// Handles due timeouts; early calls have no effect.
    ///
    /// # Errors
    /// [`PullError::NoAnswer`] if a reply is overdue.
    pub fn handle_timeout(&mut self, now: Duration) -> Result<(), PullError> {
        if let Some(pending) = self.pending.as_ref().filter(|pending| pending.deadline <= now) {
            // A camera that plays but does not answer keep-alives is still used.
            match self.state {
                State::Playing => self.pending = None,
                // Some cameras answer DESCRIBE but not OPTIONS.
                State::Options => {
                    self.describe(now);
                    if let Some(pending) = &mut self.pending {
                        pending.deadline = now + (REPLY_TIMEOUT - OPTIONS_TIMEOUT);
                    }
                }
                _ => return Err(PullError::NoAnswer(Timer::Reply(pending.method))),
            }
        }
        if self.keep_alive_at.is_some_and(|at| at <= now) {
            self.keep_alive_at = Some(now + self.session_timeout / 2);
            // A pending keep-alive does not delay the next one, which sessions with a short timeout need.
            if self.pending.is_none() || self.state == State::Playing {
                let (method, url) = (self.keep_alive_method, self.aggregate.clone());
                self.request(method, url, Vec::new(), now);
            }
        }
        Ok(())
    }

    /// Returns the next bytes for the socket.
    pub fn poll_transmit(&mut self) -> Option<Bytes> {
        self.transmit.pop_front()
    }

    /// Returns the next event.
    pub fn poll_event(&mut self) -> Option<ClientEvent> {
        self.events.pop_front()
    }

    /// Ends the session: queues a TEARDOWN if there is a session.
    pub fn close(&mut self, now: Duration) {
        if self.session.is_some() && self.state != State::Closed {
            let url = self.aggregate.clone();
            self.request("TEARDOWN", url, Vec::new(), now);
        }
        self.pending = None;
        self.keep_alive_at = None;
        self.state = State::Closed;
    }

    /// Returns the session timeout that the camera asked for.
    #[must_use]
    pub fn session_timeout(&self) -> Duration {
        self.session_timeout
    }

    /// Queues an RTCP packet of ours for an interleaved track.
    pub fn send_control(&mut self, track: usize, packet: &Bytes) {
        let Some(channel) = self.tracks.get(track).map(|track| track.channels.1) else { return };
        let Ok(length) = u16::try_from(packet.len()) else { return };
        let mut frame = BytesMut::from(&message::frame_header(channel, length)[..]);
        frame.extend_from_slice(packet);
        self.transmit.push_back(frame.freeze());
    }

    /// Returns track and channel of an interleaved channel number.
    fn place_of(&self, channel: u8) -> Option<(usize, Channel)> {
        self.tracks.iter().enumerate().find_map(|(at, track)| match channel {
            _ if channel == track.channels.0 => Some((at, Channel::Media)),
            _ if channel == track.channels.1 => Some((at, Channel::Control)),
            _ => None,
        })
    }

    /// Answers a request of the camera; harmless ones succeed, so that it does not wait.
    ///
    /// REDIRECT and TEARDOWN end the session (RFC 2326, 10.7 and 10.10).
    fn answer(&mut self, request: &Request) -> Result<(), PullError> {
        const GRANTED: [&str; 6] =
            ["OPTIONS", "GET_PARAMETER", "SET_PARAMETER", "ANNOUNCE", "REDIRECT", "TEARDOWN"];
        let known = GRANTED.contains(&request.method.as_str());
        let (status, reason) = if known { (200, "OK") } else { (501, "Not Implemented") };
        let mut headers = message::Headers::default();
        if let Some(sequence) = request.headers.get("CSeq") {
            headers.push("CSeq", sequence);
        }
        let reply = Response { status, reason: reason.to_owned(), headers, body: Bytes::new() };
        self.transmit.push_back(reply.encode());
        match request.method.as_str() {
            "REDIRECT" => Err(dialogue::redirected(&request.headers)),
            "TEARDOWN" => Err(PullError::ClosedByCamera),
            _ => Ok(()),
        }
    }

    fn request(
        &mut self,
        method: &'static str,
        url: String,
        headers: Vec<(&'static str, String)>,
        now: Duration,
    ) {
        let pending = Pending {
            sequence: 0,
            method,
            url,
            headers,
            deadline: now + REPLY_TIMEOUT,
            authorized: false,
            stale: 0,
        };
        self.send(pending, now);
    }

    fn send(&mut self, mut pending: Pending, now: Duration) {
        self.sequence = self.sequence.wrapping_add(1);
        pending.sequence = self.sequence;
        pending.deadline = now + if pending.method == "OPTIONS" { OPTIONS_TIMEOUT } else { REPLY_TIMEOUT };
        let mut headers = message::Headers::default();
        headers.set_bytes(self.uses_bytes);
        headers.push("CSeq", self.sequence.to_string());
        headers.push("User-Agent", concat!("Yonder-Relay/", env!("CARGO_PKG_VERSION")));
        if let Some(authenticator) = self.authenticator.as_mut() {
            headers.push("Authorization", authenticator.authorize(pending.method, &pending.url));
            pending.authorized = true;
        }
        if let Some(session) = &self.session {
            headers.push("Session", session.as_str());
        }
        for (name, value) in &pending.headers {
            headers.push(*name, value.as_str());
        }
        let request = Request {
            method: pending.method.to_owned(),
            url: pending.url.clone(),
            headers,
            body: Bytes::new(),
        };
        self.transmit.push_back(request.encode());
        self.pending = Some(pending);
    }
}

#[cfg(test)]
mod tests;
