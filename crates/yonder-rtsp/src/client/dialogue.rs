//! Handling of responses, and the next request after each.

use std::time::Duration;

use secrecy::{ExposeSecret as _, SecretString};
use yonder_address::redact;

use crate::auth::{self, Authenticator, Challenge};
use crate::error::PullError;
use crate::message::{Headers, Response};
use crate::sdp::{Description, resolve_control};
use crate::url::CameraUrl;

use super::tracks::{choose_tracks, offered, read_channels, read_datagram_peer, read_session};
use super::{Client, ClientConfig, ClientEvent, MAX_STALE, Pending, State, Step, Transport};

impl Client {
    pub(super) fn handle_response(&mut self, response: &Response, now: Duration) -> Result<(), PullError> {
        let sequence = response.headers.get("CSeq").and_then(|value| value.trim().parse::<u32>().ok());
        let Some(pending) = self.pending.take_if(|pending| sequence.is_none_or(|s| s == pending.sequence))
        else {
            // A late reply to a request that timed out.
            return Ok(());
        };
        if response.status == 401 && self.state == State::Playing {
            self.handle_refused_keep_alive(response, pending, now);
            return Ok(());
        }
        if response.status == 401 {
            return self.handle_challenge(response, pending, now);
        }
        if (100..200).contains(&response.status) {
            self.pending = Some(pending);
            return Ok(());
        }
        let granted = (200..300).contains(&response.status);
        if granted && pending.authorized && !self.signed_in {
            self.signed_in = true;
            self.events.push_back(ClientEvent::Step(Step::SignedIn));
        }
        match self.state {
            State::Options => self.after_options(response, now),
            State::Describe if granted => {
                self.note_greeted();
                self.after_describe(response, &pending, now)
            }
            State::SetUp(track) => self.after_set_up(response, &pending, track, now),
            State::Play if granted => {
                self.state = State::Playing;
                self.keep_alive_at = Some(now + self.session_timeout / 2);
                self.events.push_back(ClientEvent::Step(Step::Playing));
                Ok(())
            }
            State::Playing => {
                // The session does not exist any more, even if the connection still delivers data.
                if response.status == 454 {
                    return Err(PullError::ClosedByCamera);
                }
                if !granted {
                    self.change_keep_alive();
                }
                Ok(())
            }
            State::Closed | State::New => Ok(()),
            // 457 Invalid Range, and 400 or 451 of cameras that do not support the header.
            State::Play if !self.without_range && matches!(response.status, 400 | 451 | 457) => {
                self.without_range = true;
                let url = self.aggregate.clone();
                self.request("PLAY", url, Vec::new(), now);
                Ok(())
            }
            State::Describe | State::Play => Err(self.refusal(&pending, response)),
        }
    }

    /// Handles a keep-alive answered with 401: its nonce may have expired. A refused keep-alive never ends a session
    /// that plays.
    fn handle_refused_keep_alive(&mut self, response: &Response, mut pending: Pending, now: Duration) {
        let fields = response.headers.all("WWW-Authenticate");
        if let (Some(challenge), Some(credentials)) =
            (auth::strongest(fields), self.config.credentials.clone())
            && pending.stale < MAX_STALE
            && !self.is_downgrade(&challenge)
        {
            pending.stale += 1;
            let authenticator = Authenticator::new(challenge, credentials, self.config.seed);
            self.authenticator = Some(authenticator.with_bytes(response.headers.is_bytes()));
            self.send(pending, now);
            return;
        }
        self.change_keep_alive();
    }

    /// Changes the method of the keep-alive after 401, 405, 501 and the like: to OPTIONS, and after another refusal to
    /// our RTCP reports alone.
    fn change_keep_alive(&mut self) {
        if self.keep_alive_method == "OPTIONS" {
            self.keep_alive_at = None;
        }
        self.keep_alive_method = "OPTIONS";
    }

    fn handle_challenge(
        &mut self,
        response: &Response,
        mut pending: Pending,
        now: Duration,
    ) -> Result<(), PullError> {
        let challenge = auth::strongest(response.headers.all("WWW-Authenticate"));
        let (method, reason) = (pending.method, self.reason(response));
        let refused = |authorized| PullError::Refused {
            method,
            status: response.status,
            reason: reason.clone(),
            authorized,
        };
        let Some(credentials) = self.config.credentials.clone() else { return Err(refused(false)) };
        let challenge = challenge.ok_or_else(|| refused(true))?;
        self.note_digest(&challenge);
        if self.is_downgrade(&challenge) {
            return Err(PullError::ClearPassword);
        }
        if pending.authorized {
            // Many cameras change their nonce without `stale`; credentials that were accepted once are still valid.
            let only_nonce = challenge.is_stale() || self.signed_in;
            if !only_nonce || pending.stale >= MAX_STALE {
                return Err(refused(true));
            }
            pending.stale += 1;
        }
        let authenticator = Authenticator::new(challenge, credentials, self.config.seed);
        self.authenticator = Some(authenticator.with_bytes(response.headers.is_bytes()));
        self.send(pending, now);
        Ok(())
    }

    /// Reports once that the camera offers Digest.
    fn note_digest(&mut self, challenge: &Challenge) {
        if matches!(challenge, Challenge::Digest { .. }) && !std::mem::replace(&mut self.digest_offered, true)
        {
            self.events.push_back(ClientEvent::DigestOffered);
        }
    }

    /// Returns true for a challenge for Basic of a camera that has offered Digest.
    fn is_downgrade(&self, challenge: &Challenge) -> bool {
        matches!(challenge, Challenge::Basic) && (self.config.requires_digest || self.digest_offered)
    }

    /// Returns the error for a refusal or a redirect (RFC 2326, 11.3).
    fn refusal(&self, pending: &Pending, response: &Response) -> PullError {
        match response.status {
            300..=399 => redirected(&response.headers),
            status => PullError::Refused {
                method: pending.method,
                status,
                reason: self.reason(response),
                authorized: pending.authorized,
            },
        }
    }

    /// Returns the reason phrase without secrets, which some cameras repeat.
    fn reason(&self, response: &Response) -> String {
        let ClientConfig { url, credentials, .. } = &self.config;
        let in_url = url.secrets();
        let password = credentials.iter().map(|credentials| credentials.password.expose_secret());
        redact(&response.reason, in_url.iter().map(SecretString::expose_secret).chain(password))
    }

    /// Handles the response to OPTIONS. Any response shows that the camera speaks RTSP.
    fn after_options(&mut self, response: &Response, now: Duration) -> Result<(), PullError> {
        // A list without GET_PARAMETER determines the keep-alive method; many cameras omit the list.
        if response.headers.get("Public").is_some_and(|methods| !methods.contains("GET_PARAMETER")) {
            self.keep_alive_method = "OPTIONS";
        }
        self.note_greeted();
        self.describe(now);
        Ok(())
    }

    /// Reports that the camera speaks RTSP, at its response to OPTIONS or DESCRIBE.
    fn note_greeted(&mut self) {
        if !std::mem::replace(&mut self.greeted, true) {
            self.events.push_back(ClientEvent::Step(Step::Greeted));
        }
    }

    pub(super) fn describe(&mut self, now: Duration) {
        self.state = State::Describe;
        let url = self.config.url.request_url();
        self.request("DESCRIBE", url, vec![("Accept", "application/sdp".to_owned())], now);
    }

    fn after_describe(
        &mut self,
        response: &Response,
        pending: &Pending,
        now: Duration,
    ) -> Result<(), PullError> {
        // Order of precedence for the base URL (RFC 2326, C.1.1).
        let base = response
            .headers
            .get("Content-Base")
            .or_else(|| response.headers.get("Content-Location"))
            .filter(|base| base.contains("://"))
            .unwrap_or(&pending.url)
            .to_owned();
        let description = Description::parse(&String::from_utf8_lossy(&response.body));
        let chosen = choose_tracks(&description, &base);
        let pulled = chosen.as_deref().unwrap_or_default();
        self.events.push_back(ClientEvent::Offered(offered(&description, &base, pulled)));
        self.tracks = chosen?;
        self.aggregate = resolve_control(&base, description.control.as_deref());
        self.events.push_back(ClientEvent::Step(Step::Described));
        self.set_up(0, now);
        Ok(())
    }

    fn set_up(&mut self, track: usize, now: Duration) {
        let Some(wanted) = self.tracks.get(track) else {
            self.state = State::Play;
            self.events.push_back(ClientEvent::Tracks(self.tracks.clone()));
            self.events.push_back(ClientEvent::Step(Step::SetUp));
            let url = self.aggregate.clone();
            self.request("PLAY", url, vec![("Range", "npt=0.000-".to_owned())], now);
            return;
        };
        self.state = State::SetUp(track);
        let transport = match &self.config.transport {
            Transport::Interleaved => {
                let (media, control) = wanted.channels;
                format!("RTP/AVP/TCP;unicast;interleaved={media}-{control}")
            }
            Transport::Datagrams(ports) => {
                let Some((media, control)) = ports.get(track) else {
                    // No ports are available for more tracks.
                    self.tracks.truncate(track);
                    return self.set_up(track, now);
                };
                format!("RTP/AVP;unicast;client_port={media}-{control}")
            }
        };
        let url = wanted.control.clone();
        self.request("SETUP", url, vec![("Transport", transport)], now);
    }

    fn after_set_up(
        &mut self,
        response: &Response,
        pending: &Pending,
        track: usize,
        now: Duration,
    ) -> Result<(), PullError> {
        if !(200..300).contains(&response.status) {
            // A refused audio track is dropped; the video is required.
            if track > 0 {
                self.tracks.remove(track);
                self.set_up(track, now);
                return Ok(());
            }
            return Err(self.refusal(pending, response));
        }
        if let Some(session) = response.headers.get("Session") {
            let (id, timeout) = read_session(session);
            self.session = Some(id);
            self.session_timeout = timeout.unwrap_or(self.session_timeout);
        } else if self.session.is_none() {
            return Err(PullError::Incomplete { method: "SETUP", what: "a session" });
        }
        self.read_transport(response, track)?;
        self.set_up(track + 1, now);
        Ok(())
    }

    /// Parses the Transport header of a SETUP response. A transport that differs from the request is an error, since
    /// its packets would not arrive.
    fn read_transport(&mut self, response: &Response, at: usize) -> Result<(), PullError> {
        let transport = response.headers.get("Transport").unwrap_or_default();
        let refused = || PullError::OtherTransport { transport: transport.to_owned() };
        // A multicast group, which this client does not join.
        let is_multicast = transport.split(';').any(|part| part.trim().eq_ignore_ascii_case("multicast"));
        if is_multicast {
            return Err(refused());
        }
        let Some(track) = self.tracks.get_mut(at) else { return Ok(()) };
        match self.config.transport {
            Transport::Interleaved => match read_channels(transport) {
                Some(channels) => track.channels = channels,
                None if transport.contains("server_port") => return Err(refused()),
                None => {}
            },
            Transport::Datagrams(_) => {
                track.peer = read_datagram_peer(transport);
                if track.peer.is_none() && transport.contains("interleaved") {
                    return Err(refused());
                }
            }
        }
        Ok(())
    }
}

/// Credentials in the location are dropped.
pub(super) fn redirected(headers: &Headers) -> PullError {
    let location = CameraUrl::parse(headers.get("Location").unwrap_or_default());
    PullError::Redirected { location: location.ok().map(|(url, _)| Box::new(url)) }
}
