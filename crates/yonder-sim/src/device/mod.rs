//! Stand-in ONVIF device: answers probes, and requests for profiles and stream addresses, with or without authentication.

mod config;
mod encoders;
mod quirk;

use std::collections::HashMap;
use std::io;
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use crate::encoding::StreamSettings;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use encoders::{Encoders, NOT_AUTHORIZED, audio_configuration, fault, video_configuration};
use md5::{Digest as _, Md5};
use parking_lot::Mutex;
use secrecy::ExposeSecret as _;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::{TcpListener, TcpStream, UdpSocket};
use tokio::task::JoinHandle;
use yonder_onvif::{Element, MULTICAST_ADDRESS, MULTICAST_PORT, password_digest};

pub use config::{DeviceConfig, DeviceProfile, DeviceSignIn};
pub use quirk::EncoderQuirk;

/// Protection space of HTTP Digest.
const REALM: &str = "Hollow Fell";
/// Maximum length of a request, in bytes.
const MAX_REQUEST: usize = 64 * 1024;

/// Device that runs until it is dropped.
#[derive(Debug)]
pub struct Device {
    address: SocketAddr,
    shared: Arc<Shared>,
    tasks: Vec<JoinHandle<()>>,
}

impl Drop for Device {
    fn drop(&mut self) {
        for task in &self.tasks {
            task.abort();
        }
    }
}

#[derive(Debug)]
struct Shared {
    config: DeviceConfig,
    port: u16,
    encoders: Encoders,
    /// Nonces of received tokens, each of which is valid once.
    nonces: Mutex<HashMap<String, ()>>,
    /// Requests that held a token or HTTP credentials.
    signed: AtomicU64,
}

impl Device {
    /// Starts a device. To be called within a tokio runtime.
    ///
    /// # Errors
    /// When a port cannot be bound.
    pub async fn start(config: DeviceConfig) -> io::Result<Self> {
        let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, config.port)).await?;
        let address = listener.local_addr()?;
        let answers_probes = config.answers_probes;
        let encoders = Encoders::new(&config.profiles, config.encoders.clone(), config.encoder_quirk);
        let shared = Arc::new(Shared {
            config,
            port: address.port(),
            encoders,
            nonces: Mutex::default(),
            signed: AtomicU64::new(0),
        });
        let serving = Arc::clone(&shared);
        let mut tasks = vec![tokio::spawn(async move {
            while let Ok((stream, _)) = listener.accept().await {
                let shared = Arc::clone(&serving);
                tokio::spawn(async move {
                    if let Err(error) = shared.serve(stream).await {
                        tracing::debug!(%error, "caller gone");
                    }
                });
            }
        })];
        if answers_probes {
            let socket = probe_socket()?;
            let shared = Arc::clone(&shared);
            tasks.push(tokio::spawn(async move { shared.answer_probes(&socket).await }));
        }
        Ok(Self { address, shared, tasks })
    }

    /// Returns the number of requests with a token or HTTP credentials so far.
    #[must_use]
    pub fn signed_requests(&self) -> u64 {
        self.shared.signed.load(Ordering::Relaxed)
    }

    /// Changes the deviation when an encoder is configured.
    pub fn set_encoder_quirk(&self, quirk: EncoderQuirk) {
        self.shared.encoders.set_quirk(quirk);
    }

    /// Restarts the encoders: stored configurations are applied. To be called within a tokio runtime.
    pub fn restart(&self) {
        self.shared.encoders.restart();
    }

    /// Returns the address of its web service.
    #[must_use]
    pub fn address(&self) -> SocketAddr {
        self.address
    }
}

fn probe_socket() -> io::Result<UdpSocket> {
    let socket = socket2::Socket::new(socket2::Domain::IPV4, socket2::Type::DGRAM, None)?;
    socket.set_reuse_address(true)?;
    socket.set_nonblocking(true)?;
    socket.bind(&SocketAddr::from((Ipv4Addr::UNSPECIFIED, MULTICAST_PORT)).into())?;
    let group: Ipv4Addr = MULTICAST_ADDRESS.parse().map_err(io::Error::other)?;
    socket.join_multicast_v4(&group, &Ipv4Addr::LOCALHOST)?;
    UdpSocket::from_std(socket.into())
}

impl Shared {
    fn host(&self) -> String {
        let host = self.config.believes_host.clone().unwrap_or_else(|| "127.0.0.1".to_owned());
        format!("{host}:{}", self.port)
    }

    async fn answer_probes(&self, socket: &UdpSocket) {
        let mut buffer = vec![0; MAX_REQUEST];
        while let Ok((length, from)) = socket.recv_from(&mut buffer).await {
            let Ok(probe) = Element::parse(&buffer[..length]) else { continue };
            let types = probe.find("Types").map(|types| types.text.clone()).unwrap_or_default();
            if self.config.is_device_only != types.ends_with(":Device") {
                continue;
            }
            let id = probe.find("MessageID").map(|id| id.text.clone()).unwrap_or_default();
            let answer = format!(
                "<e:Envelope xmlns:e=\"http://www.w3.org/2003/05/soap-envelope\"><e:Header><RelatesTo>{id}</RelatesTo></e:Header>\
                 <e:Body><ProbeMatches><ProbeMatch><EndpointReference><Address>urn:uuid:{}</Address></EndpointReference>\
                 <Scopes>onvif://www.onvif.org/name/{} onvif://www.onvif.org/hardware/{}</Scopes>\
                 <XAddrs>http://{}/onvif/device_service</XAddrs></ProbeMatch></ProbeMatches></e:Body></e:Envelope>",
                self.port,
                self.config.name.replace(' ', "%20"),
                self.config.model.replace(' ', "%20"),
                self.host()
            );
            let _sent = socket.send_to(answer.as_bytes(), from).await;
        }
    }

    async fn serve(&self, mut stream: TcpStream) -> io::Result<()> {
        let mut request = Vec::new();
        loop {
            if let Some((head, length, body_at)) = request_head(&request)
                && request.len() >= body_at + length
            {
                let answer = self.answer(&head, &request[body_at..body_at + length]);
                stream.write_all(answer.as_bytes()).await?;
                request.drain(..body_at + length);
                continue;
            }
            if request.len() > MAX_REQUEST || stream.read_buf(&mut request).await? == 0 {
                return Ok(());
            }
        }
    }

    fn answer(&self, head: &str, body: &[u8]) -> String {
        if let Some(garbage) = &self.config.garbage {
            return http(200, "", garbage);
        }
        let Ok(message) = Element::parse(body) else { return http(400, "", "<what/>") };
        let Some(asked) = message.find("Body").and_then(|body| body.children.first()) else {
            return http(400, "", "<what/>");
        };
        let has_token = message.find("UsernameToken").is_some();
        if has_token || head.to_ascii_lowercase().contains("\r\nauthorization:") {
            self.signed.fetch_add(1, Ordering::Relaxed);
        }
        let is_open =
            asked.name == "GetSystemDateAndTime" && self.config.sign_in != DeviceSignIn::HttpDigestForAll;
        if !is_open && !self.may_ask(head, &message) {
            return match self.config.sign_in {
                DeviceSignIn::Token => http(400, "", &soap(NOT_AUTHORIZED)),
                DeviceSignIn::HttpBasic => http(401, "WWW-Authenticate: Basic realm=\"Hollow Fell\"\r\n", ""),
                DeviceSignIn::HttpDigest | DeviceSignIn::HttpDigestForAll => http(
                    401,
                    "WWW-Authenticate: Digest realm=\"Hollow Fell\", nonce=\"fell\", qop=\"auth\"\r\n",
                    "",
                ),
            };
        }
        http(200, "", &soap(&self.reply(asked, head.starts_with("POST /onvif/media2"))))
    }

    fn may_ask(&self, head: &str, message: &Element) -> bool {
        let Some((user, password)) = &self.config.account else { return true };
        match self.config.sign_in {
            DeviceSignIn::Token => self.token_is_right(message, user, password.expose_secret()),
            DeviceSignIn::HttpDigest | DeviceSignIn::HttpDigestForAll => {
                digest_is_right(head, user, password.expose_secret())
            }
            DeviceSignIn::HttpBasic => {
                let pair = STANDARD.encode(format!("{user}:{}", password.expose_secret()));
                head.contains(&format!("Basic {pair}"))
            }
        }
    }

    fn token_is_right(&self, message: &Element, user: &str, password: &str) -> bool {
        let Some(token) = message.find("UsernameToken") else { return false };
        let text = |name: &str| token.text_at(&[name]).unwrap_or_default().to_owned();
        let (nonce, created) = (text("Nonce"), text("Created"));
        let Ok(raw) = STANDARD.decode(&nonce) else { return false };
        let fresh = self.nonces.lock().insert(nonce, ()).is_none();
        // Within five seconds of the device's own, wrong, clock.
        let now = self.now_s();
        let in_time = (now - 5..=now + 5).any(|second| clock_text(second) == created);
        text("Username") == user
            && fresh
            && in_time
            && text("Password") == password_digest(&raw, &created, password)
    }

    fn now_s(&self) -> i64 {
        let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
        i64::try_from(now.as_secs()).unwrap_or_default() + self.config.clock_ahead_s
    }

    fn reply(&self, asked: &Element, second: bool) -> String {
        if let Some(reply) = self.encoders.reply(asked, second) {
            return reply;
        }
        match asked.name.as_str() {
            "GetSystemDateAndTime" => {
                let text = clock_text(self.now_s());
                let part = |from: usize, to: usize| text[from..to].trim_start_matches('0').to_owned();
                let number =
                    |from, to| if part(from, to).is_empty() { "0".to_owned() } else { part(from, to) };
                format!(
                    "<GetSystemDateAndTimeResponse><SystemDateAndTime><UTCDateTime><Time><Hour>{}</Hour><Minute>{}</Minute><Second>{}</Second></Time>\
                     <Date><Year>{}</Year><Month>{}</Month><Day>{}</Day></Date></UTCDateTime></SystemDateAndTime></GetSystemDateAndTimeResponse>",
                    number(11, 13),
                    number(14, 16),
                    number(17, 19),
                    number(0, 4),
                    number(5, 7),
                    number(8, 10)
                )
            }
            "GetDeviceInformation" => format!(
                "<GetDeviceInformationResponse><Manufacturer>Hollow Fell Works</Manufacturer><Model>{}</Model><FirmwareVersion>1.4</FirmwareVersion></GetDeviceInformationResponse>",
                self.config.model
            ),
            "GetScopes" => format!(
                "<GetScopesResponse><Scopes><ScopeDef>Configurable</ScopeDef><ScopeItem>onvif://www.onvif.org/name/{}</ScopeItem></Scopes></GetScopesResponse>",
                self.config.name.replace(' ', "%20")
            ),
            "GetCapabilities" => format!(
                "<GetCapabilitiesResponse><Capabilities><Media><XAddr>http://{}/onvif/media</XAddr></Media></Capabilities></GetCapabilitiesResponse>",
                self.host()
            ),
            "GetServices" if !self.config.is_old => {
                let service = |space: &str, path: &str| {
                    format!(
                        "<Service><Namespace>http://www.onvif.org/{space}</Namespace><XAddr>http://{}/onvif/{path}</XAddr></Service>",
                        self.host()
                    )
                };
                let second = if self.config.has_media2 {
                    service("ver20/media/wsdl", "media2")
                } else {
                    String::new()
                };
                format!(
                    "<GetServicesResponse>{}{second}</GetServicesResponse>",
                    service("ver10/media/wsdl", "media")
                )
            }
            "GetProfiles" => {
                let configured = self
                    .config
                    .profiles
                    .iter()
                    .filter_map(|profile| Some((profile, self.encoders.settings(profile.encoder())?)));
                let shown = configured.filter(|(_, settings)| second || settings.codec != "H265");
                let profiles: String =
                    shown.map(|(profile, settings)| profile_text(profile, &settings, second)).collect();
                format!("<GetProfilesResponse>{profiles}</GetProfilesResponse>")
            }
            "GetStreamUri" => {
                let token = asked.text_at(&["ProfileToken"]).unwrap_or_default();
                let address = self.config.profiles.iter().find(|profile| profile.token == token);
                let address =
                    address.map(|profile| profile.address.replace('&', "&amp;")).unwrap_or_default();
                if second {
                    format!("<GetStreamUriResponse><Uri>{address}</Uri></GetStreamUriResponse>")
                } else {
                    format!(
                        "<GetStreamUriResponse><MediaUri><Uri>{address}</Uri></MediaUri></GetStreamUriResponse>"
                    )
                }
            }
            _ => fault("Unknown action"),
        }
    }
}

fn profile_text(profile: &DeviceProfile, settings: &StreamSettings, second: bool) -> String {
    let DeviceProfile { token, source, .. } = profile;
    let source = format!("<SourceToken>{source}</SourceToken>");
    let (encoder, audio_encoder) = (profile.encoder(), profile.audio_encoder());
    if second {
        let video = video_configuration("VideoEncoder", encoder, settings, second);
        let audio = audio_configuration("AudioEncoder", audio_encoder, settings, second).unwrap_or_default();
        format!(
            "<Profiles token=\"{token}\"><Name>{token}</Name><Configurations><VideoSource>{source}</VideoSource>\
             {video}{audio}</Configurations></Profiles>"
        )
    } else {
        let video = video_configuration("VideoEncoderConfiguration", encoder, settings, second);
        let audio = audio_configuration("AudioEncoderConfiguration", audio_encoder, settings, second)
            .unwrap_or_default();
        format!(
            "<Profiles token=\"{token}\"><Name>{token}</Name><VideoSourceConfiguration>{source}</VideoSourceConfiguration>\
             {video}{audio}</Profiles>"
        )
    }
}

fn digest_is_right(head: &str, user: &str, password: &str) -> bool {
    let Some(value) = head.lines().find_map(|line| {
        let (name, value) = line.split_once(':')?;
        name.eq_ignore_ascii_case("authorization").then(|| value.trim())
    }) else {
        return false;
    };
    let field = |name: &str| {
        let mut parts =
            value.trim_start_matches("Digest ").split(", ").filter_map(|part| part.split_once('='));
        parts
            .find(|(key, _)| *key == name)
            .map(|(_, value)| value.trim_matches('"').to_owned())
            .unwrap_or_default()
    };
    let hash = |text: String| hex::encode(Md5::digest(text));
    let secret = hash(format!("{user}:{REALM}:{password}"));
    let asked = hash(format!("POST:{}", field("uri")));
    let proof = hash(format!("{secret}:fell:{}:{}:auth:{asked}", field("nc"), field("cnonce")));
    field("username") == user && field("response") == proof
}

/// Returns the head of a request, and the length and position of its body.
fn request_head(request: &[u8]) -> Option<(String, usize, usize)> {
    let end = request.windows(4).position(|window| window == b"\r\n\r\n")?;
    let head = String::from_utf8_lossy(&request[..end]).into_owned();
    let length = head.lines().find_map(|line| {
        let (name, value) = line.split_once(':')?;
        name.eq_ignore_ascii_case("content-length").then(|| value.trim().parse().ok()).flatten()
    });
    Some((head, length.unwrap_or(0), end + 4))
}

fn http(status: u16, headers: &str, body: &str) -> String {
    format!(
        "HTTP/1.1 {status} Said\r\n{headers}Content-Type: application/soap+xml\r\nContent-Length: {}\r\n\r\n{body}",
        body.len()
    )
}

fn soap(body: &str) -> String {
    format!(
        "<e:Envelope xmlns:e=\"http://www.w3.org/2003/05/soap-envelope\"><e:Body>{body}</e:Body></e:Envelope>"
    )
}

/// Formats seconds since 1970 as `YYYY-MM-DDTHH:MM:SSZ`.
fn clock_text(seconds: i64) -> String {
    jiff::Timestamp::from_second(seconds).unwrap_or_default().to_string()
}
