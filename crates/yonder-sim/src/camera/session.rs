//! RTSP session of a stand-in camera.

use std::io;
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

use bytes::{Buf as _, Bytes, BytesMut};
use tokio::io::{AsyncRead, AsyncReadExt as _, AsyncWrite, AsyncWriteExt as _};
use tokio::time::{Instant, sleep_until};
use yonder_rtsp::message::{Headers, Item, Request, Response, next_item};

use super::describe::{self, description};
use super::faults::{CameraFaults, Transports};
use super::playback::Playback;
use super::rtp_transport::{RtpTransport, UdpTransport};
use super::sign_in::{self, AuthResult};
use super::strict::{Strict, check_report};
use super::{Shared, Viewer};
use crate::media::LoopMedia;

/// Interval of the camera's own OPTIONS requests.
const ASK_EVERY: Duration = Duration::from_millis(700);
/// Bytes that are neither RTSP nor an interleaved frame.
const GARBAGE: &[u8] = b"\x00\x01\x02 not a word of sense \xff\xfe";

/// Serves one connection until either side ends it.
pub(super) async fn serve<S: AsyncRead + AsyncWrite + Unpin>(stream: S, peer: IpAddr, shared: Arc<Shared>) {
    let seen = shared.faults();
    let mut session = Session {
        peer,
        nonce: fresh_nonce(),
        requests: 0,
        id: format!("{:016x}", rand::random::<u64>()),
        rtp_transports: [None, None],
        media: None,
        playback: None,
        viewer: None,
        ask_at: Instant::now() + ASK_EVERY,
        asked: 0,
        seen,
        over: false,
        strict: Strict::default(),
        shared,
    };
    if let Err(error) = session.run(stream).await {
        tracing::debug!(%error, "connection of a viewer ended");
    }
}

fn fresh_nonce() -> String {
    format!("{:032x}", rand::random::<u128>())
}

struct Session {
    shared: Arc<Shared>,
    peer: IpAddr,
    nonce: String,
    /// Requests answered with this nonce.
    requests: u32,
    id: String,
    /// Transports of video and audio, once set up.
    rtp_transports: [Option<RtpTransport>; 2],
    media: Option<Arc<LoopMedia>>,
    playback: Option<Playback>,
    viewer: Option<Viewer>,
    ask_at: Instant,
    asked: u32,
    /// Faults at the last change: some take effect when a counter increases.
    seen: CameraFaults,
    over: bool,
    strict: Strict,
}

impl Session {
    async fn run<S: AsyncRead + AsyncWrite + Unpin>(&mut self, mut stream: S) -> io::Result<()> {
        let (mut input, mut output) = (BytesMut::new(), BytesMut::new());
        let mut changes = self.shared.changes();
        let mut streams = self.shared.streams.subscribe();
        while !self.over {
            let due = self.playback.as_ref().map(Playback::due);
            tokio::select! {
                count = stream.read_buf(&mut input) => {
                    if count? == 0 {
                        return Ok(());
                    }
                    if !self.seen.frozen {
                        self.handle_input(&mut input, &mut output).await?;
                    }
                }
                () = sleep_until(due.unwrap_or_else(Instant::now)), if due.is_some() => self.play_on(&mut output),
                _ = changes.changed() => self.apply_changes(&mut output),
                _ = streams.changed() => self.over |= self.is_replaced(),
            }
            stream.write_all(&output).await?;
            output.clear();
        }
        stream.flush().await
    }

    /// Returns true if the encoder of the stream has other settings now.
    fn is_replaced(&self) -> bool {
        let streams = self.shared.streams.borrow();
        let is_own = |media: &Arc<LoopMedia>| !streams.values().any(|other| Arc::ptr_eq(media, other));
        self.media.as_ref().is_some_and(is_own)
    }

    fn play_on(&mut self, output: &mut BytesMut) {
        let now = Instant::now();
        if let Some(playback) = self.playback.as_mut() {
            playback.put_due(now, &self.seen, output);
        }
        if self.seen.asks_back && now >= self.ask_at {
            self.ask_at = now + ASK_EVERY;
            self.asked += 1;
            let mut headers = Headers::default();
            headers.push("CSeq", self.asked.to_string());
            let request = Request { method: "OPTIONS".into(), url: "*".into(), headers, body: Bytes::new() };
            output.extend_from_slice(&request.encode());
        }
    }

    /// Applies changed faults. Some take effect once, when a counter increases.
    fn apply_changes(&mut self, output: &mut BytesMut) {
        let new = self.shared.faults();
        let old = std::mem::replace(&mut self.seen, new);
        let Some(playback) = self.playback.as_mut() else { return };
        let new = &self.seen;
        playback.set_line(new);
        if new.time_jump.0 != old.time_jump.0 {
            playback.jump(new.time_jump.1);
        }
        if new.new_source != old.new_source {
            playback.start_anew();
        }
        if new.goodbye != old.goodbye {
            playback.put_goodbye(output);
        }
        if new.garbage != old.garbage {
            output.extend_from_slice(GARBAGE);
        }
        let same = match (&new.shows, &old.shows) {
            (Some(new), Some(old)) => Arc::ptr_eq(new, old),
            (None, None) => true,
            _ => false,
        };
        if !same && let Some(media) = new.shows.clone().or_else(|| self.media.clone()) {
            playback.show(media, Instant::now());
        }
    }

    async fn handle_input(&mut self, input: &mut BytesMut, output: &mut BytesMut) -> io::Result<()> {
        let mut rest = &input[..];
        while let Some(item) = next_item(&mut rest).map_err(io::Error::other)? {
            if let Item::Frame { channel, payload } = &item
                && channel % 2 == 1
            {
                check_report(payload).map_err(io::Error::other)?;
            }
            if let Item::Request(request) = item {
                let oddities = self.seen.oddities;
                if oddities.silent_options && request.method == "OPTIONS" {
                    continue;
                }
                let mut reply = self.answer(&request).await?;
                if oddities.odd_heads {
                    reply.headers.push("Server", "Cam\u{e9}ra");
                    reply.headers.set_bytes(true);
                }
                if let Some(sequence) = request.headers.get("CSeq") {
                    reply.headers.push("CSeq", sequence);
                }
                let reply = reply.encode();
                // After the status line.
                let line_end = reply.iter().position(|byte| *byte == b'\n').map_or(0, |at| at + 1);
                output.extend_from_slice(&reply[..line_end]);
                if oddities.odd_heads {
                    output.extend_from_slice(b"Date Monday noon\r\n");
                }
                output.extend_from_slice(&reply[line_end..]);
            }
        }
        let consumed = input.len() - rest.len();
        input.advance(consumed);
        Ok(())
    }

    async fn answer(&mut self, request: &Request) -> io::Result<Response> {
        let given_out = self.media.as_ref().map(|_| self.id.as_str());
        if let Err(violation) = self.strict.check(request, given_out) {
            tracing::warn!(method = request.method, ?violation, "request refused");
            return Ok(reply(violation.status, violation.reason));
        }
        if let Some(refusal) = self.check_sign_in(request) {
            return Ok(refusal);
        }
        let oddities = self.seen.oddities;
        let is_keep_alive =
            self.playback.is_some() && matches!(request.method.as_str(), "GET_PARAMETER" | "OPTIONS");
        if oddities.refused_keep_alives && is_keep_alive {
            let mut reply = reply(401, "Unauthorized");
            reply
                .headers
                .push("WWW-Authenticate", format!("Digest realm=\"camera\", nonce=\"{}\"", self.nonce));
            return Ok(reply);
        }
        if oddities.no_range && request.method == "PLAY" && request.headers.get("Range").is_some() {
            return Ok(reply(457, "Invalid Range"));
        }
        Ok(match request.method.as_str() {
            "OPTIONS" => {
                let mut reply = reply(200, "OK");
                let also = if self.seen.no_get_parameter { "" } else { ", GET_PARAMETER" };
                reply.headers.push("Public", format!("OPTIONS, DESCRIBE, SETUP, PLAY, TEARDOWN{also}"));
                reply
            }
            "DESCRIBE" => self.describe(request),
            "SETUP" => self.set_up(request).await?,
            "PLAY" => self.play(),
            "GET_PARAMETER" if self.seen.no_get_parameter => reply(405, "Method Not Allowed"),
            "GET_PARAMETER" | "SET_PARAMETER" => self.in_session(reply(200, "OK")),
            "TEARDOWN" => {
                self.over = true;
                self.in_session(reply(200, "OK"))
            }
            _ => reply(501, "Not Implemented"),
        })
    }

    fn check_sign_in(&mut self, request: &Request) -> Option<Response> {
        let account = self.shared.account().filter(|_| request.method != "OPTIONS")?;
        let kind = self.seen.sign_in;
        let mut result = sign_in::check_credentials(request, kind, &self.nonce, &account);
        self.requests += 1;
        if result == AuthResult::Right && self.seen.stale_after.is_some_and(|most| self.requests > most) {
            self.nonce = fresh_nonce();
            self.requests = 0;
            result = AuthResult::Stale;
        }
        if result == AuthResult::Right {
            return None;
        }
        if request.headers.get("Authorization").is_some() && result == AuthResult::Wrong {
            self.shared.refused.fetch_add(1, Ordering::Relaxed);
        }
        let mut reply = reply(401, "Unauthorized");
        for challenge in sign_in::challenges(kind, &self.nonce, result == AuthResult::Stale) {
            reply.headers.push("WWW-Authenticate", challenge);
        }
        Some(reply)
    }

    fn describe(&self, request: &Request) -> Response {
        if let Some((status, words)) = &self.seen.refuses {
            return reply(*status, words);
        }
        if let Some(address) = &self.seen.redirects_to {
            let mut reply = reply(302, "Moved Temporarily");
            reply.headers.push("Location", address.as_str());
            return reply;
        }
        let Some((_, media)) = self.find(&request.url) else { return reply(404, "Not Found") };
        // A changed stream is described as it is.
        let media = self.seen.shows.clone().unwrap_or(media);
        let base = request.url.trim_end_matches('/');
        let mut reply = reply(200, "OK");
        if !self.seen.description.no_base {
            reply.headers.push("Content-Base", format!("{base}/"));
        }
        reply.headers.push("Content-Type", "application/sdp");
        reply.body = Bytes::from(description(&media, &self.seen, base));
        reply
    }

    async fn set_up(&mut self, request: &Request) -> io::Result<Response> {
        let Some((track, media)) = self.find(&request.url).map(|(track, media)| (track.to_owned(), media))
        else {
            return Ok(reply(404, "Not Found"));
        };
        if self.viewer.is_none() {
            let Some(viewer) = self.shared.admit(self.seen.max_viewers) else {
                return Ok(reply(453, "Not Enough Bandwidth"));
            };
            self.viewer = Some(viewer);
        }
        let at = usize::from(track.contains(describe::SOUND));
        let transport = request.headers.get("Transport").unwrap_or_default();
        let Some((way, granted)) = self.open_transport(transport, at).await? else {
            return Ok(reply(461, "Unsupported Transport"));
        };
        self.rtp_transports[at] = Some(way);
        self.media = Some(media);
        let mut reply = self.in_session(reply(200, "OK"));
        reply.headers.push("Transport", granted);
        Ok(reply)
    }

    async fn open_transport(&self, transport: &str, at: usize) -> io::Result<Option<(RtpTransport, String)>> {
        if transport.contains("RTP/AVP/TCP") {
            if self.seen.transports == Transports::UdpOnly {
                return Ok(None);
            }
            let channel = if at == 0 { 0 } else { 2 };
            let granted = format!("RTP/AVP/TCP;unicast;interleaved={channel}-{}", channel + 1);
            return Ok(Some((RtpTransport::Interleaved(channel), granted)));
        }
        let ports = transport.split(';').find_map(|part| part.trim().strip_prefix("client_port="));
        let ports = ports.and_then(|ports| ports.split_once('-'));
        let ports = ports.and_then(|(media, control)| Some((media.parse().ok()?, control.parse().ok()?)));
        let Some((media, control)) = ports.filter(|_| self.seen.transports != Transports::TcpOnly) else {
            return Ok(None);
        };
        let viewer = [SocketAddr::new(self.peer, media), SocketAddr::new(self.peer, control)];
        let mut transport = UdpTransport::open(viewer).await?;
        transport.impairment = self.seen.impairment;
        let (own_media, own_control) = transport.ports()?;
        let granted =
            format!("RTP/AVP;unicast;client_port={media}-{control};server_port={own_media}-{own_control}");
        Ok(Some((RtpTransport::Datagrams(Box::new(transport)), granted)))
    }

    fn play(&mut self) -> Response {
        let [picture, audio] = &mut self.rtp_transports;
        let (Some(media), Some(picture)) = (self.media.clone(), picture.take()) else {
            return reply(455, "Method Not Valid in This State");
        };
        let shown = self.seen.shows.clone().unwrap_or(media);
        self.playback = Some(Playback::new(shown, picture, audio.take(), self.seen.drift_ppm));
        let mut reply = self.in_session(reply(200, "OK"));
        reply.headers.push("Range", "npt=0.000-");
        reply
    }

    fn in_session(&self, mut reply: Response) -> Response {
        let timeout = self.seen.timeout_s.unwrap_or(60);
        reply.headers.push("Session", format!("{};timeout={timeout}", self.id));
        reply
    }

    /// Returns the stream of an address, and the rest of the path.
    fn find<'a>(&self, url: &'a str) -> Option<(&'a str, Arc<LoopMedia>)> {
        let path =
            url.split_once("://").and_then(|(_, rest)| rest.find('/').and_then(|at| rest.get(at..)))?;
        self.shared.streams.borrow().iter().find_map(|(known, media)| {
            let rest = path.strip_prefix(known.as_str())?;
            (rest.is_empty() || rest.starts_with(['/', '?'])).then(|| (rest, Arc::clone(media)))
        })
    }
}

fn reply(status: u16, reason: &str) -> Response {
    Response { status, reason: reason.to_owned(), headers: Headers::default(), body: Bytes::new() }
}
