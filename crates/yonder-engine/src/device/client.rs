//! HTTP requests to one ONVIF device. They block, so they run on a blocking thread.

use std::time::{Duration, SystemTime};

use secrecy::SecretString;
use ureq::Agent;
use url::Url;
use yonder_onvif::{
    Capabilities, Clock, DeviceAccount, Element, Fault, MAX_BYTES, MediaService, Profile,
    capabilities_request, clock_request, envelope, profiles_request, read_capabilities, read_clock,
    read_profiles, read_services, read_stream_address, services_request, stream_request,
};
use yonder_rtsp::Credentials;
use yonder_rtsp::auth::{Authenticator, Challenge, strongest};

/// Timeout of one response.
const TIMEOUT: Duration = Duration::from_secs(5);

/// Error of a request to a device.
#[derive(Debug)]
pub(crate) enum DeviceError {
    /// No response.
    Unreachable(String),
    /// Invalid response.
    InvalidResponse(String),
    /// Refusal.
    Fault(Fault),
    /// The device accepts only Basic, which would reveal the password.
    CleartextPassword,
}

impl DeviceError {
    fn not_authorized() -> Self {
        Self::Fault(Fault { code: "NotAuthorized".into(), reason: "sign-in needed".into() })
    }

    pub(crate) fn needs_sign_in(&self) -> bool {
        matches!(self, Self::Fault(fault) if fault.wants_sign_in())
    }

    /// Returns the message for a person.
    pub(crate) fn message(&self, has_credentials: bool) -> String {
        match self {
            Self::Unreachable(detail) => format!("The web service does not answer ({detail})."),
            Self::InvalidResponse(detail) => format!("The response is invalid ({detail})."),
            Self::Fault(fault) if fault.wants_sign_in() && has_credentials => {
                "The camera refuses this user name and password.".to_owned()
            }
            Self::Fault(fault) if fault.wants_sign_in() => "The camera requires a user name and password.".to_owned(),
            Self::CleartextPassword => {
                "The camera requires the password in clear (HTTP Basic without TLS); it was not sent. Enable digest authentication in the camera."
                    .to_owned()
            }
            Self::Fault(fault) => format!("The camera refused: {}.", fault.reason.trim_end_matches('.')),
        }
    }
}

impl From<Fault> for DeviceError {
    fn from(fault: Fault) -> Self {
        Self::Fault(fault)
    }
}

/// Client of one device.
pub(crate) struct DeviceClient {
    agent: Agent,
    credentials: Option<Credentials>,
    clock: Clock,
}

impl DeviceClient {
    pub(crate) fn new(credentials: Option<Credentials>) -> Self {
        let config = Agent::config_builder()
            .timeout_global(Some(TIMEOUT))
            .http_status_as_error(false)
            // Redirects are not followed: another device may be at the target.
            .max_redirects(0)
            .build();
        Self { agent: config.into(), credentials, clock: Clock::default() }
    }

    /// Returns true if it has credentials.
    pub(crate) fn has_credentials(&self) -> bool {
        self.credentials.is_some()
    }

    /// Requests the device's clock, and sets it for the authentication tokens of later requests.
    ///
    /// Devices that protect their whole web server require HTTP authentication for it; others refuse a request without a
    /// token, but have the time in the `Date` field of the response (RFC 9110, 6.6.1).
    pub(crate) fn read_clock(&mut self, device: &str) -> Result<Option<Clock>, DeviceError> {
        let response = self.send(device, &envelope(&clock_request(), None))?;
        let by_date = response.date_s.map(|date_s| Clock { ahead_s: date_s - now_s() });
        if response.status == 401 {
            return Err(DeviceError::not_authorized());
        }
        let answer = read(&response.body)?;
        let clock = read_clock(&answer, now_s()).or(by_date);
        if let Some(clock) = clock {
            self.clock = clock;
        }
        Ok(clock)
    }

    /// Requests the media services. Devices before ONVIF 2.1, and many low-cost ones, only support `GetCapabilities`.
    pub(crate) fn capabilities(&self, device: &str) -> Result<Capabilities, DeviceError> {
        let services =
            self.request(device, &services_request()).and_then(|answer| Ok(read_services(&answer)?));
        match services {
            Ok(found) if found.media.is_some() || found.media2.is_some() => Ok(found),
            Err(error) if error.needs_sign_in() => Err(error),
            Err(error @ (DeviceError::Unreachable(_) | DeviceError::CleartextPassword)) => Err(error),
            Ok(_) | Err(_) => Ok(read_capabilities(&self.request(device, &capabilities_request())?)?),
        }
    }

    /// Requests the media profiles.
    pub(crate) fn profiles(&self, service: &str, kind: MediaService) -> Result<Vec<Profile>, DeviceError> {
        Ok(read_profiles(&self.request(service, &profiles_request(kind))?, kind)?)
    }

    /// Requests the stream address of a profile, as the device reports it.
    pub(crate) fn stream_address(
        &self,
        service: &str,
        kind: MediaService,
        profile: &str,
    ) -> Result<Option<String>, DeviceError> {
        Ok(read_stream_address(&self.request(service, &stream_request(kind, profile))?)?)
    }

    /// Sends a request, with a token if there is an account.
    pub(crate) fn request(&self, service: &str, body: &str) -> Result<Element, DeviceError> {
        let account = self.credentials.as_ref().map(|credentials| DeviceAccount {
            user: credentials.user.clone(),
            password: SecretString::clone(&credentials.password),
            device_time_s: now_s() + self.clock.ahead_s,
            nonce: rand::random(),
        });
        let response = self.send(service, &envelope(body, account.as_ref()))?;
        if response.status == 401 { Err(DeviceError::not_authorized()) } else { read(&response.body) }
    }

    /// Sends a request, and repeats it with HTTP authentication after status 401 (RFC 7616). The password is never sent
    /// in clear.
    fn send(&self, service: &str, message: &str) -> Result<Response, DeviceError> {
        let first = self.post(service, message, None)?;
        let (401, Some(credentials)) = (first.status, &self.credentials) else { return Ok(first) };
        let Some(challenge) = strongest(first.challenges.iter().map(String::as_str)) else {
            return Ok(first);
        };
        if matches!(challenge, Challenge::Basic) && !service.starts_with("https://") {
            return Err(DeviceError::CleartextPassword);
        }
        let mut authenticator = Authenticator::new(challenge, credentials.clone(), rand::random());
        let authorization = authenticator.authorize("POST", &path_of(service));
        self.post(service, message, Some(&authorization))
    }

    fn post(
        &self,
        service: &str,
        message: &str,
        authorization: Option<&str>,
    ) -> Result<Response, DeviceError> {
        let mut request =
            self.agent.post(service).header("Content-Type", "application/soap+xml; charset=utf-8");
        if let Some(authorization) = authorization {
            request = request.header("Authorization", authorization);
        }
        let mut response =
            request.send(message).map_err(|error| DeviceError::Unreachable(error.to_string()))?;
        let field = |name| response.headers().get_all(name).iter().filter_map(|value| value.to_str().ok());
        let challenges = field("www-authenticate").map(str::to_owned).collect();
        let date_s = field("date").find_map(|date| httpdate::parse_http_date(date).ok()).and_then(seconds);
        let limit = u64::try_from(MAX_BYTES).unwrap_or(u64::MAX);
        let body = response.body_mut().with_config().limit(limit).read_to_vec();
        let body = body.map_err(|error| DeviceError::InvalidResponse(error.to_string()))?;
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

fn read(answer: &[u8]) -> Result<Element, DeviceError> {
    Element::parse(answer).map_err(|error| DeviceError::InvalidResponse(error.to_string()))
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
