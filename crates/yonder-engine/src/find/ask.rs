//! The conversation with one camera over HTTP. Blocks; runs on a thread that may.

use std::time::{Duration, SystemTime};

use secrecy::SecretString;
use ureq::Agent;
use yonder_onvif::{
    Clock, DeviceAccount, Element, Fault, MAX_BYTES, MediaService, Profile, capabilities_request,
    clock_request, envelope, facts_request, profiles_request, read_capabilities, read_clock, read_facts,
    read_profiles, read_stream_address, stream_request,
};
use yonder_rtsp::auth::{Authenticator, strongest};
use yonder_rtsp::{CameraUrl, Credentials};

use super::probe::{Candidate, with_host};
use super::{FoundCamera, FoundStream};

/// How long one answer may take.
const TIMEOUT: Duration = Duration::from_secs(5);
/// Streams asked for, at most.
const MOST_STREAMS: usize = 128;

/// Why a camera told nothing.
#[derive(Debug)]
enum AskError {
    NotReached(String),
    NoSense(String),
    Fault(Fault),
}

impl AskError {
    fn sentence(&self) -> String {
        match self {
            Self::NotReached(detail) => format!("It does not answer at its web service ({detail})."),
            Self::NoSense(detail) => format!("Its answer makes no sense ({detail})."),
            Self::Fault(fault) if fault.wants_sign_in() => {
                "It wants a user name and password, or refuses the ones given; give them with --user and --password-file."
                    .to_owned()
            }
            Self::Fault(fault) => format!("It refused: {}.", fault.reason.trim_end_matches('.')),
        }
    }
}

impl From<Fault> for AskError {
    fn from(fault: Fault) -> Self {
        Self::Fault(fault)
    }
}

/// Asks one camera.
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
            // A device that sends us elsewhere is not the one that was asked.
            .max_redirects(0)
            .build();
        Self { agent: config.into(), credentials, clock: Clock::default() }
    }

    /// All that the camera tells.
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
                Err(error @ AskError::Fault(_)) => {
                    problem = error;
                    break;
                }
                Err(error) => problem = error,
            }
        }
        camera.problem = Some(problem.sentence());
        camera
    }

    fn ask_device(&mut self, camera: &mut FoundCamera) -> Result<(), AskError> {
        let device = camera.service.clone();
        // The clock comes first, unsigned: what is signed must be of the device's time.
        let answer = self.exchange(&device, &envelope(&clock_request(), None), None)?;
        if let Some(clock) = read_clock(&answer, now_s()) {
            camera.clock_ahead_s = Some(clock.ahead_s);
            self.clock = clock;
        }
        // Facts are a courtesy: what streams there are is what matters.
        if let Ok(facts) = self.ask(&device, &facts_request()).and_then(|answer| Ok(read_facts(&answer)?)) {
            if camera.name == camera.host && !facts.model.is_empty() {
                camera.name.clone_from(&facts.model);
            }
            camera.facts = facts;
        }
        let capabilities = read_capabilities(&self.ask(&device, &capabilities_request())?)?;
        let services =
            [(MediaService::Media2, capabilities.media2), (MediaService::Media, capabilities.media)];
        let mut last = None;
        for (kind, address) in services.into_iter().filter_map(|(kind, address)| Some((kind, address?))) {
            // Where the device service answered, the media service does.
            let here = with_host(&address, &camera.host);
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
        for profile in profiles.into_iter().take(MOST_STREAMS) {
            let asked = self.ask(service, &stream_request(kind, &profile.token));
            let Ok(Some(told)) = asked.and_then(|answer| Ok(read_stream_address(&answer)?)) else { continue };
            // Credentials in the address are not ours to keep.
            let Ok((url, _)) = CameraUrl::parse(&told) else { continue };
            let here = CameraUrl { host: host.to_owned(), ..url.clone() };
            let told = (here.host != url.host).then(|| url.to_string());
            streams.push(FoundStream { profile, address: here.to_string(), told });
        }
        streams
    }

    /// A signed request, where there is an account.
    fn ask(&self, service: &str, body: &str) -> Result<Element, AskError> {
        let account = self.credentials.as_ref().map(|credentials| DeviceAccount {
            user: credentials.user.clone(),
            password: SecretString::clone(&credentials.password),
            device_time_s: now_s() + self.clock.ahead_s,
            nonce: rand::random(),
        });
        self.exchange(service, &envelope(body, account.as_ref()), self.credentials.as_ref())
    }

    /// One request and its answer. A device that signs by HTTP asks for it with status 401 (RFC 7616).
    fn exchange(
        &self,
        service: &str,
        message: &str,
        credentials: Option<&Credentials>,
    ) -> Result<Element, AskError> {
        let (status, challenges, answer) = self.post(service, message, None)?;
        if status != 401 {
            return read(&answer);
        }
        let refused =
            || AskError::Fault(Fault { code: "NotAuthorized".into(), reason: "sign-in needed".into() });
        let challenge = strongest(challenges.iter().map(String::as_str)).ok_or_else(refused)?;
        let credentials = credentials.cloned().ok_or_else(refused)?;
        let mut authenticator = Authenticator::new(challenge, credentials, rand::random());
        let authorization = authenticator.authorize("POST", path_of(service));
        let (status, _, answer) = self.post(service, message, Some(&authorization))?;
        if status == 401 { Err(refused()) } else { read(&answer) }
    }

    fn post(
        &self,
        service: &str,
        message: &str,
        authorization: Option<&str>,
    ) -> Result<(u16, Vec<String>, Vec<u8>), AskError> {
        let mut request =
            self.agent.post(service).header("Content-Type", "application/soap+xml; charset=utf-8");
        if let Some(authorization) = authorization {
            request = request.header("Authorization", authorization);
        }
        let mut response = request.send(message).map_err(|error| AskError::NotReached(error.to_string()))?;
        let challenges = response.headers().get_all("www-authenticate").iter();
        let challenges = challenges.filter_map(|value| value.to_str().ok().map(str::to_owned)).collect();
        let limit = u64::try_from(MAX_BYTES).unwrap_or(u64::MAX);
        let body = response.body_mut().with_config().limit(limit).read_to_vec();
        let body = body.map_err(|error| AskError::NoSense(error.to_string()))?;
        Ok((response.status().as_u16(), challenges, body))
    }
}

fn read(answer: &[u8]) -> Result<Element, AskError> {
    Element::parse(answer).map_err(|error| AskError::NoSense(error.to_string()))
}

fn path_of(address: &str) -> &str {
    let behind = address.find("://").map_or(0, |at| at + 3);
    let path = address.get(behind..).and_then(|rest| rest.find('/')).map(|at| behind + at);
    path.and_then(|at| address.get(at..)).unwrap_or("/")
}

fn now_s() -> i64 {
    let since = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
    i64::try_from(since.as_secs()).unwrap_or_default()
}
