//! One viewer's RTSP session, from the camera's side.

use std::io;
use std::sync::Arc;

use bytes::{Bytes, BytesMut};
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::TcpStream;
use tokio::time::{Instant, sleep_until};
use yonder_rtsp::message::{Headers, Item, Request, Response, next_item};

use super::playback::Playback;
use super::{Shared, sign_in};
use crate::media::LoopMedia;

/// Serves one connection until either side ends it.
pub(super) async fn serve(stream: TcpStream, shared: Arc<Shared>) {
    let mut session = Session {
        shared,
        nonce: format!("{:032x}", rand::random::<u128>()),
        id: format!("{:016x}", rand::random::<u64>()),
        set_up: [None, None],
        media: None,
        playback: None,
        over: false,
    };
    if let Err(error) = session.run(stream).await {
        tracing::debug!(%error, "viewer gone");
    }
}

struct Session {
    shared: Arc<Shared>,
    nonce: String,
    id: String,
    /// Interleaved channels of picture and sound, once set up.
    set_up: [Option<u8>; 2],
    media: Option<Arc<LoopMedia>>,
    playback: Option<Playback>,
    over: bool,
}

impl Session {
    async fn run(&mut self, mut stream: TcpStream) -> io::Result<()> {
        let (mut input, mut output) = (BytesMut::new(), BytesMut::new());
        while !self.over {
            let due = self.playback.as_ref().map(Playback::due);
            tokio::select! {
                count = stream.read_buf(&mut input) => {
                    if count? == 0 {
                        return Ok(());
                    }
                    self.handle_input(&mut input, &mut output)?;
                }
                () = sleep_until(due.unwrap_or_else(Instant::now)), if due.is_some() => {
                    if let Some(playback) = self.playback.as_mut() {
                        playback.put_due(Instant::now(), &mut output);
                    }
                }
            }
            stream.write_all(&output).await?;
            output.clear();
        }
        Ok(())
    }

    fn handle_input(&mut self, input: &mut BytesMut, output: &mut BytesMut) -> io::Result<()> {
        while let Some(item) = next_item(input).map_err(io::Error::other)? {
            if let Item::Request(request) = item {
                let mut reply = self.answer(&request);
                if let Some(sequence) = request.headers.get("CSeq") {
                    reply.headers.push("CSeq", sequence);
                }
                output.extend_from_slice(&reply.encode());
            }
        }
        Ok(())
    }

    fn answer(&mut self, request: &Request) -> Response {
        if let Some(account) = self.shared.account()
            && request.method != "OPTIONS"
            && !sign_in::is_authorized(request, &self.nonce, &account)
        {
            let mut reply = reply(401, "Unauthorized");
            reply.headers.push("WWW-Authenticate", sign_in::challenge(&self.nonce));
            return reply;
        }
        match request.method.as_str() {
            "OPTIONS" => {
                let mut reply = reply(200, "OK");
                reply.headers.push("Public", "OPTIONS, DESCRIBE, SETUP, PLAY, TEARDOWN, GET_PARAMETER");
                reply
            }
            "DESCRIBE" => self.describe(request),
            "SETUP" => self.set_up(request),
            "PLAY" => self.play(),
            "GET_PARAMETER" | "SET_PARAMETER" => self.in_session(reply(200, "OK")),
            "TEARDOWN" => {
                self.over = true;
                self.in_session(reply(200, "OK"))
            }
            _ => reply(501, "Not Implemented"),
        }
    }

    fn describe(&self, request: &Request) -> Response {
        let Some((_, media)) = self.find(&request.url) else { return reply(404, "Not Found") };
        let mut reply = reply(200, "OK");
        reply.headers.push("Content-Base", format!("{}/", request.url.trim_end_matches('/')));
        reply.headers.push("Content-Type", "application/sdp");
        reply.body = Bytes::from(description(media));
        reply
    }

    fn set_up(&mut self, request: &Request) -> Response {
        let Some((track, media)) = self.find(&request.url).map(|(track, media)| (track, Arc::clone(media)))
        else {
            return reply(404, "Not Found");
        };
        let transport = request.headers.get("Transport").unwrap_or_default().to_owned();
        if !transport.contains("RTP/AVP/TCP") {
            return reply(461, "Unsupported Transport");
        }
        let (slot, channel) = if track.ends_with("sound") { (1, 2) } else { (0, 0) };
        self.set_up[slot] = Some(channel);
        self.media = Some(media);
        let mut reply = self.in_session(reply(200, "OK"));
        let transport = format!("RTP/AVP/TCP;unicast;interleaved={channel}-{}", channel + 1);
        reply.headers.push("Transport", transport);
        reply
    }

    fn play(&mut self) -> Response {
        let (Some(media), Some(picture)) = (self.media.clone(), self.set_up[0]) else {
            return reply(455, "Method Not Valid in This State");
        };
        self.playback = Some(Playback::new(media, picture, self.set_up[1]));
        let mut reply = self.in_session(reply(200, "OK"));
        reply.headers.push("Range", "npt=0.000-");
        reply
    }

    fn in_session(&self, mut reply: Response) -> Response {
        reply.headers.push("Session", format!("{};timeout=60", self.id));
        reply
    }

    /// The stream that an address names, and what stands behind the stream's path.
    fn find<'a>(&'a self, url: &'a str) -> Option<(&'a str, &'a Arc<LoopMedia>)> {
        let path =
            url.split_once("://").and_then(|(_, rest)| rest.find('/').and_then(|at| rest.get(at..)))?;
        self.shared.streams.iter().find_map(|(known, media)| {
            let rest = path.strip_prefix(known.as_str())?;
            (rest.is_empty() || rest.starts_with('/')).then_some((rest, media))
        })
    }
}

fn reply(status: u16, reason: &str) -> Response {
    Response { status, reason: reason.to_owned(), headers: Headers::default(), body: Bytes::new() }
}

fn description(media: &LoopMedia) -> String {
    use base64::Engine as _;
    let base64 = |bytes: &[u8]| base64::engine::general_purpose::STANDARD.encode(bytes);
    let profile: String = media.sps.iter().skip(1).take(3).map(|byte| format!("{byte:02X}")).collect();
    let mut sdp = format!(
        "v=0\r\no=- 1 1 IN IP4 192.0.2.7\r\ns=Hollow Fell\r\nt=0 0\r\na=control:*\r\n\
         m=video 0 RTP/AVP 96\r\na=rtpmap:96 H264/90000\r\na=control:picture\r\n\
         a=fmtp:96 packetization-mode=1;profile-level-id={profile};sprop-parameter-sets={},{}\r\n",
        base64(&media.sps),
        base64(&media.pps)
    );
    if let Some((config, _)) = &media.sound {
        let specific: String = config.specific.iter().map(|byte| format!("{byte:02x}")).collect();
        let (rate, channels) = (config.facts.sample_rate, config.facts.channels);
        sdp += &format!(
            "m=audio 0 RTP/AVP 97\r\na=rtpmap:97 MPEG4-GENERIC/{rate}/{channels}\r\na=control:sound\r\n\
             a=fmtp:97 streamtype=5;profile-level-id=1;mode=AAC-hbr;config={specific};sizelength=13;indexlength=3;indexdeltalength=3\r\n"
        );
    }
    sdp
}
