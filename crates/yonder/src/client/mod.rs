//! API client: finds the service and sends requests.

mod jobs;

pub(crate) use jobs::Progress;

use std::fs;
use std::io::{BufRead, BufReader, Write};
use std::path::Path;
use std::time::Duration;

use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
use serde::Serialize;
use serde::de::DeserializeOwned;
use ureq::http::Response;
use ureq::{Agent, Body};
use url::{Host, Url};
use yonder_api::{Problem, RelayEvent, Secret, ServiceFacts};
use yonder_service::DataDir;

use crate::failure::Failure;

/// Timeout of a request. Starting and stopping respond at once.
const TIMEOUT: Duration = Duration::from_secs(15);

/// Timeout of a still, or of a device's settings, for which the camera may have to be dialed.
const CAMERA_TIMEOUT: Duration = Duration::from_secs(40);

/// Client of one service.
#[derive(Debug)]
pub(crate) struct Client {
    agent: Agent,
    base: String,
    token: Secret,
}

/// Returns true for an address on this machine.
fn is_loopback(url: &str) -> bool {
    let host = Url::parse(url).ok().and_then(|url| url.host().map(|host| host.to_owned()));
    match host {
        Some(Host::Domain(name)) => name == "localhost",
        Some(Host::Ipv4(address)) => address.is_loopback(),
        Some(Host::Ipv6(address)) => address.is_loopback(),
        None => false,
    }
}

impl Client {
    /// Creates a client of the service that runs in a data directory.
    pub(crate) fn local(home: &Path) -> Result<Self, Failure> {
        let files = DataDir::new(home);
        let none = || Failure::NotReachable(format!("No service runs in {}.", home.display()));
        let text = fs::read_to_string(files.service_file()).map_err(|_| none())?;
        let facts: ServiceFacts = serde_json::from_str(&text).map_err(|_| none())?;
        let token = fs::read_to_string(files.token_file()).map_err(|error| {
            Failure::NotReachable(format!("The token in {} cannot be read: {error}.", home.display()))
        })?;
        Ok(Self::new(facts.url, token))
    }

    /// Creates a client of a remote service.
    pub(crate) fn remote(url: &str, token_file: &Path, plain_http: bool) -> Result<Self, Failure> {
        if !(url.starts_with("http://") || url.starts_with("https://")) {
            return Err(Failure::Usage(format!("{url:?} must begin with https:// or http://")));
        }
        if url.starts_with("http://") && !plain_http && !is_loopback(url) {
            return Err(Failure::Usage(format!(
                "{url} would send the token unencrypted; use https://, or allow it with --plain-http"
            )));
        }
        let token = fs::read_to_string(token_file)
            .map_err(|error| Failure::Usage(format!("{}: {error}", token_file.display())))?;
        Ok(Self::new(url.trim_end_matches('/').to_owned(), token))
    }

    fn new(base: String, token: String) -> Self {
        let config = Agent::config_builder()
            .user_agent(concat!("yonder/", env!("CARGO_PKG_VERSION")))
            .timeout_connect(Some(TIMEOUT))
            .http_status_as_error(false)
            .build();
        Self { agent: config.into(), base, token: token.trim().to_owned().into() }
    }

    pub(crate) fn get<T: DeserializeOwned>(&self, path: &[&str]) -> Result<T, Failure> {
        self.get_with(path, &[])
    }

    pub(crate) fn get_with<T: DeserializeOwned>(
        &self,
        path: &[&str],
        query: &[(&str, &str)],
    ) -> Result<T, Failure> {
        self.get_within(path, query, TIMEOUT)
    }

    /// As [`Client::get_with`], for an answer that needs a dialog with a camera.
    pub(crate) fn get_slowly<T: DeserializeOwned>(
        &self,
        path: &[&str],
        query: &[(&str, &str)],
    ) -> Result<T, Failure> {
        self.get_within(path, query, CAMERA_TIMEOUT)
    }

    fn get_within<T: DeserializeOwned>(
        &self,
        path: &[&str],
        query: &[(&str, &str)],
        timeout: Duration,
    ) -> Result<T, Failure> {
        let request = self.agent.get(self.url(path)).query_pairs(query.iter().copied());
        let request = request.header("Authorization", self.authorization());
        read(self.sent(request.config().timeout_global(Some(timeout)).build().call())?)
    }

    /// Requests a body that is not JSON.
    pub(crate) fn get_bytes(&self, path: &[&str], query: &[(&str, &str)]) -> Result<Vec<u8>, Failure> {
        let request = self.agent.get(self.url(path)).query_pairs(query.iter().copied());
        let request = request.header("Authorization", self.authorization());
        let response = self.sent(request.config().timeout_global(Some(CAMERA_TIMEOUT)).build().call())?;
        let mut response = check(response)?;
        response
            .body_mut()
            .read_to_vec()
            .map_err(|error| Failure::NotReachable(format!("The image is incomplete: {error}.")))
    }

    /// Writes the file of a job.
    pub(crate) fn write_job_file(&self, id: &str, file: &mut impl Write) -> Result<u64, Failure> {
        let request = self.agent.get(self.url(&["jobs", id, "file"]));
        let response = check(self.sent(request.header("Authorization", self.authorization()).call())?)?;
        std::io::copy(&mut response.into_body().into_reader(), file)
            .map_err(|error| Failure::NotReachable(format!("The file did not arrive complete: {error}.")))
    }

    pub(crate) fn post<B: Serialize, T: DeserializeOwned>(
        &self,
        path: &[&str],
        body: &B,
    ) -> Result<T, Failure> {
        let request = self.agent.post(self.url(path)).header("Authorization", self.authorization());
        read(self.sent(request.config().timeout_global(Some(TIMEOUT)).build().send_json(body))?)
    }

    /// Sends a request with an empty response.
    pub(crate) fn post_nothing<B: Serialize>(&self, path: &[&str], body: &B) -> Result<(), Failure> {
        let request = self.agent.post(self.url(path)).header("Authorization", self.authorization());
        let request = request.config().timeout_global(Some(CAMERA_TIMEOUT)).build();
        check(self.sent(request.send_json(body))?).map(|_| ())
    }

    pub(crate) fn put<B: Serialize, T: DeserializeOwned>(
        &self,
        path: &[&str],
        body: &B,
    ) -> Result<T, Failure> {
        let request = self.agent.put(self.url(path)).header("Authorization", self.authorization());
        read(self.sent(request.config().timeout_global(Some(TIMEOUT)).build().send_json(body))?)
    }

    pub(crate) fn patch<B: Serialize, T: DeserializeOwned>(
        &self,
        path: &[&str],
        body: &B,
    ) -> Result<T, Failure> {
        let request = self.agent.patch(self.url(path)).header("Authorization", self.authorization());
        read(self.sent(request.config().timeout_global(Some(TIMEOUT)).build().send_json(body))?)
    }

    pub(crate) fn delete(&self, path: &[&str]) -> Result<(), Failure> {
        let request = self.agent.delete(self.url(path)).header("Authorization", self.authorization());
        let response = self.sent(request.config().timeout_global(Some(TIMEOUT)).build().call())?;
        check(response).map(|_| ())
    }

    /// Calls `each` with every live event until it returns false or the service disconnects.
    pub(crate) fn follow(
        &self,
        mut each: impl FnMut(RelayEvent) -> Result<bool, Failure>,
    ) -> Result<(), Failure> {
        let request = self.agent.get(self.url(&["events"])).header("Authorization", self.authorization());
        let response = check(self.sent(request.call())?)?;
        let gone = || Failure::NotReachable("The service closed the connection.".to_owned());
        for line in BufReader::new(response.into_body().into_reader()).lines() {
            let line = line.map_err(|_| gone())?;
            let Some(data) = line.strip_prefix("data: ") else { continue };
            let event = serde_json::from_str(data).map_err(anyhow::Error::from)?;
            if !each(event)? {
                return Ok(());
            }
        }
        Err(gone())
    }

    fn authorization(&self) -> String {
        format!("Bearer {}", self.token.expose())
    }

    /// Returns the base URL of the service.
    pub(crate) fn base(&self) -> &str {
        &self.base
    }

    /// Returns a URL with each path segment percent-encoded, since names may contain blanks.
    fn url(&self, path: &[&str]) -> String {
        let parts: Vec<String> =
            path.iter().map(|part| utf8_percent_encode(part, NON_ALPHANUMERIC).to_string()).collect();
        format!("{}/api/v1/{}", self.base, parts.join("/"))
    }

    fn sent(&self, result: Result<Response<Body>, ureq::Error>) -> Result<Response<Body>, Failure> {
        result.map_err(|error| {
            Failure::NotReachable(format!("The service at {} does not answer: {error}.", self.base))
        })
    }
}

fn check(mut response: Response<Body>) -> Result<Response<Body>, Failure> {
    if response.status().is_success() {
        return Ok(response);
    }
    let status = response.status();
    match response.body_mut().read_json::<Problem>() {
        Ok(problem) => Err(Failure::Refused(Box::new(problem))),
        Err(_) => Err(Failure::NotReachable(format!("The server is not a Yonder Relay service ({status})."))),
    }
}

fn read<T: DeserializeOwned>(response: Response<Body>) -> Result<T, Failure> {
    let mut response = check(response)?;
    response
        .body_mut()
        .read_json()
        .map_err(|error| Failure::NotReachable(format!("The server is not a Yonder Relay service: {error}.")))
}
