//! HTTP requests to one ONVIF device. Blocks, so it runs on a blocking thread.

use std::time::{Duration, SystemTime};

use secrecy::SecretString;
use ureq::Agent;
use url::Url;
use yonder_onvif::{
    Capabilities, Clock, DeviceAccount, Element, Fault, MAX_BYTES, MediaService, Profile,
    capabilities_request, clock_request, envelope, facts_request, profiles_request, read_capabilities,
    read_clock, read_facts, read_name, read_profiles, read_services, read_stream_address, scopes_request,
    services_request, stream_request,
};
use yonder_rtsp::auth::{Authenticator, Challenge, strongest};
use yonder_rtsp::{CameraUrl, Credentials};

use super::probe::{Candidate, with_host};
use super::{FoundCamera, FoundStream};

/// Timeout of one response.
const TIMEOUT: Duration = Duration::from_secs(5);
/// Maximum streams requested.
const MAX_STREAMS: usize = 128;

/// Error of a request to a device.
#[derive(Debug)]
enum AskError {
    NotReached(String),
    NoSense(String),
    Fault(Fault),
    /// The device accepts only Basic, which would reveal the password.
    ClearPassword,
}

impl AskError {
    fn not_authorized() -> Self {
        Self::Fault(Fault { code: "NotAuthorized".into(), reason: "sign-in needed".into() })
    }

    fn needs_sign_in(&self) -> bool {
        matches!(self, Self::Fault(fault) if fault.wants_sign_in())
    }

    fn sentence(&self, has_credentials: bool) -> String {
        match self {
            Self::NotReached(detail) => format!("The web service does not answer ({detail})."),
            Self::NoSense(detail) => format!("The response is invalid ({detail})."),
            Self::Fault(fault) if fault.wants_sign_in() && has_credentials => {
                "The camera refuses this user name and password.".to_owned()
            }
            Self::Fault(fault) if fault.wants_sign_in() => "The camera requires a user name and password.".to_owned(),
            Self::ClearPassword => {
                "The camera requires the password in clear (HTTP Basic without TLS); it was not sent. Enable digest authentication in the camera."
                    .to_owned()
            }
            Self::Fault(fault) => format!("The camera refused: {}.", fault.reason.trim_end_matches('.')),
        }
    }
}

impl From<Fault> for AskError {
    fn from(fault: Fault) -> Self {
        Self::Fault(fault)
    }
}

/// Requests to one device.
pub(super) struct Conversation {
    agent: Agent,
    credentials: Option<Credentials>,
    clock: Clock,
}

impl Conversation {
    pub(super) fn new(credentials: Option<Credentials>) -> Self {
        let config = Agent::config_builder()
            .timeout_global(Some(TIMEOUT))
            .http_status_as_error(false)
            // Redirects are not followed: another device may be at the target.
            .max_redirects(0)
            .build();
        Self { agent: config.into(), credentials, clock: Clock::default() }
    }

    /// Requests all information about the camera.
    pub(super) fn about(mut self, candidate: Candidate) -> FoundCamera {
        let Candidate { host, services, name, hardware } = candidate;
        let mut camera = FoundCamera {
            name: name.or(hardware).unwrap_or_else(|| host.clone()),
            host,
            ..FoundCamera::default()
        };
        let mut problem = AskError::NotReached("it named no address".to_owned());
        for service in services {
            camera.service.clone_from(&service);
            match self.ask_device(&mut camera) {
                Ok(()) => return camera,
                Err(error @ (AskError::Fault(_) | AskError::ClearPassword)) => {
                    problem = error;
                    break;
                }
                Err(error) => problem = error,
            }
        }
        camera.problem = Some(problem.sentence(self.credentials.is_some()));
        camera.needs_sign_in = problem.needs_sign_in();
        camera
    }

    fn ask_device(&mut self, camera: &mut FoundCamera) -> Result<(), AskError> {
        let device = camera.service.clone();
        // The clock comes first: an authentication token must have the device's time.
        let clock = self.ask_clock(&device)?;
        if let Some(clock) = clock {
            camera.clock_ahead_s = Some(clock.ahead_s);
            self.clock = clock;
        }
        if camera.name == camera.host
            && let Some(name) = self.ask(&device, &scopes_request()).ok().as_ref().and_then(read_name)
        {
            camera.name = name;
        }
        // The device information is optional.
        if let Ok(facts) = self.ask(&device, &facts_request()).and_then(|answer| Ok(read_facts(&answer)?)) {
            if camera.name == camera.host && !facts.model.is_empty() {
                camera.name.clone_from(&facts.model);
            }
            camera.facts = facts;
        }
        let capabilities = self.capabilities(&device)?;
        let services =
            [(MediaService::Media2, capabilities.media2), (MediaService::Media, capabilities.media)];
        let mut last = None;
        for (kind, address) in services.into_iter().filter_map(|(kind, address)| Some((kind, address?))) {
            // The media service is used at the host of the device service.
            let Some(here) = with_host(&address, &camera.host) else { continue };
            match self.profiles(&here, kind) {
                Ok(profiles) if !profiles.is_empty() => {
                    camera.streams = self.streams(&here, kind, profiles, &camera.host);
                    return Ok(());
                }
                Ok(_) => {}
                Err(error) => last = Some(error),
            }
        }
        match last {
            Some(error) => Err(error),
            None => {
                camera.problem = Some("It offers no video profile.".to_owned());
                Ok(())
            }
        }
    }

    /// Requests the device's clock. Devices that protect their whole web server require HTTP authentication for it;
    /// others refuse a request without a token, but have the time in the `Date` field of the response (RFC 9110,
    /// 6.6.1).
    fn ask_clock(&self, device: &str) -> Result<Option<Clock>, AskError> {
        let response = self.send(device, &envelope(&clock_request(), None), self.credentials.as_ref())?;
        let by_date = response.date_s.map(|date_s| Clock { ahead_s: date_s - now_s() });
        if response.status == 401 {
            return Err(AskError::not_authorized());
        }
        let answer = read(&response.body)?;
        Ok(read_clock(&answer, now_s()).or(by_date))
    }

    /// Requests the media services. Devices before ONVIF 2.1, and many low-cost ones, only support `GetCapabilities`.
    fn capabilities(&self, device: &str) -> Result<Capabilities, AskError> {
        let services = self.ask(device, &services_request()).and_then(|answer| Ok(read_services(&answer)?));
        match services {
            Ok(found) if found.media.is_some() || found.media2.is_some() => Ok(found),
            Err(error) if error.needs_sign_in() => Err(error),
            Err(error @ (AskError::NotReached(_) | AskError::ClearPassword)) => Err(error),
            Ok(_) | Err(_) => Ok(read_capabilities(&self.ask(device, &capabilities_request())?)?),
        }
    }

    fn profiles(&self, service: &str, kind: MediaService) -> Result<Vec<Profile>, AskError> {
        Ok(read_profiles(&self.ask(service, &profiles_request(kind))?, kind)?)
    }

    fn streams(
        &self,
        service: &str,
        kind: MediaService,
        profiles: Vec<Profile>,
        host: &str,
    ) -> Vec<FoundStream> {
        let mut streams = Vec::new();
        for profile in profiles.into_iter().take(MAX_STREAMS) {
            let asked = self.ask(service, &stream_request(kind, &profile.token));
            let Ok(Some(reported)) = asked.and_then(|answer| Ok(read_stream_address(&answer)?)) else {
                continue;
            };
            // Credentials in the address are dropped.
            let Ok((url, _)) = CameraUrl::parse(&reported) else { continue };
            let here = CameraUrl { host: host.to_owned(), ..url.clone() };
            let reported = (here.host != url.host).then(|| url.to_string());
            streams.push(FoundStream { profile, address: here.to_string(), reported_address: reported });
        }
        streams
    }

    /// Sends a request, with a token if there is an account.
    fn ask(&self, service: &str, body: &str) -> Result<Element, AskError> {
        let account = self.credentials.as_ref().map(|credentials| DeviceAccount {
            user: credentials.user.clone(),
            password: SecretString::clone(&credentials.password),
            device_time_s: now_s() + self.clock.ahead_s,
            nonce: rand::random(),
        });
        self.exchange(service, &envelope(body, account.as_ref()), self.credentials.as_ref())
    }

    fn exchange(
        &self,
        service: &str,
        message: &str,
        credentials: Option<&Credentials>,
    ) -> Result<Element, AskError> {
        let response = self.send(service, message, credentials)?;
        if response.status == 401 { Err(AskError::not_authorized()) } else { read(&response.body) }
    }

    /// Sends a request, and repeats it with HTTP authentication after status 401 (RFC 7616). The password is never sent
    /// in clear.
    fn send(
        &self,
        service: &str,
        message: &str,
        credentials: Option<&Credentials>,
    ) -> Result<Response, AskError> {
        let first = self.post(service, message, None)?;
        let (401, Some(credentials)) = (first.status, credentials) else { return Ok(first) };
        let Some(challenge) = strongest(first.challenges.iter().map(String::as_str)) else {
            return Ok(first);
        };
        if matches!(challenge, Challenge::Basic) && !service.starts_with("https://") {
            return Err(AskError::ClearPassword);
        }
        let mut authenticator = Authenticator::new(challenge, credentials.clone(), rand::random());
        let authorization = authenticator.authorize("POST", &path_of(service));
        self.post(service, message, Some(&authorization))
    }

    fn post(&self, service: &str, message: &str, authorization: Option<&str>) -> Result<Response, AskError> {
        let mut request =
            self.agent.post(service).header("Content-Type", "application/soap+xml; charset=utf-8");
        if let Some(authorization) = authorization {
            request = request.header("Authorization", authorization);
        }
        let mut response = request.send(message).map_err(|error| AskError::NotReached(error.to_string()))?;
        let field = |name| response.headers().get_all(name).iter().filter_map(|value| value.to_str().ok());
        let challenges = field("www-authenticate").map(str::to_owned).collect();
        let date_s = field("date").find_map(|date| httpdate::parse_http_date(date).ok()).and_then(seconds);
        let limit = u64::try_from(MAX_BYTES).unwrap_or(u64::MAX);
        let body = response.body_mut().with_config().limit(limit).read_to_vec();
        let body = body.map_err(|error| AskError::NoSense(error.to_string()))?;
        Ok(Response { status: response.status().as_u16(), challenges, date_s, body })
    }
}

/// Response of a device.
struct Response {
    status: u16,
    /// `WWW-Authenticate` fields.
    challenges: Vec<String>,
    /// Time of the device, in seconds since 1970.
    date_s: Option<i64>,
    body: Vec<u8>,
}

fn seconds(time: SystemTime) -> Option<i64> {
    i64::try_from(time.duration_since(SystemTime::UNIX_EPOCH).ok()?.as_secs()).ok()
}

fn read(answer: &[u8]) -> Result<Element, AskError> {
    Element::parse(answer).map_err(|error| AskError::NoSense(error.to_string()))
}

/// Returns path and query of a URL.
fn path_of(address: &str) -> String {
    let Ok(url) = Url::parse(address) else { return "/".to_owned() };
    match url.query() {
        Some(query) => format!("{}?{query}", url.path()),
        None => url.path().to_owned(),
    }
}

fn now_s() -> i64 {
    seconds(SystemTime::now()).unwrap_or_default()
}
