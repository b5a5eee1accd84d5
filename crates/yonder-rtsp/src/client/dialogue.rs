//! What each reply means and which request comes next.

use std::time::Duration;

use crate::auth::{self, Authenticator};
use crate::error::PullError;
use crate::message::Response;
use crate::sdp::{Description, resolve_control};

use super::tracks::{choose_tracks, read_channels, read_session};
use super::{Client, ClientEvent, MAX_STALE, Pending, State, Step};

impl Client {
    pub(super) fn handle_response(&mut self, response: &Response, now: Duration) -> Result<(), PullError> {
        let sequence = response.headers.get("CSeq").and_then(|value| value.trim().parse::<u32>().ok());
        let Some(pending) = self.pending.take_if(|pending| sequence.is_none_or(|s| s == pending.sequence))
        else {
            // A late reply to something given up.
            return Ok(());
        };
        if response.status == 401 {
            return self.handle_challenge(response, pending, now);
        }
        if (100..200).contains(&response.status) {
            self.pending = Some(pending);
            return Ok(());
        }
        let granted = (200..300).contains(&response.status);
        match self.state {
            State::Options => self.after_options(now),
            State::Describe if granted => self.after_describe(response, &pending, now),
            State::SetUp(track) => self.after_set_up(response, granted, track, now),
            State::Play if granted => {
                self.state = State::Playing;
                self.keep_alive_at = Some(now + self.session_timeout / 2);
                self.events.push_back(ClientEvent::Step(Step::Playing));
                Ok(())
            }
            State::Playing => {
                // 405, 501 and the like: this camera is kept alive by OPTIONS.
                if !granted {
                    self.keep_alive_method = "OPTIONS";
                }
                Ok(())
            }
            State::Closed | State::New => Ok(()),
            State::Describe | State::Play => Err(refusal(pending.method, response)),
        }
    }

    fn handle_challenge(
        &mut self,
        response: &Response,
        mut pending: Pending,
        now: Duration,
    ) -> Result<(), PullError> {
        let challenge = auth::strongest(response.headers.all("WWW-Authenticate"));
        let Some(credentials) = self.config.credentials.clone() else {
            return Err(PullError::PasswordNeeded);
        };
        let refused =
            || PullError::WrongPassword { status: response.status, reason: response.reason.clone() };
        let challenge = challenge.ok_or_else(refused)?;
        if pending.authorized {
            if !challenge.is_stale() || pending.stale >= MAX_STALE {
                return Err(refused());
            }
            pending.stale += 1;
        }
        self.authenticator = Some(Authenticator::new(challenge, credentials, self.config.seed));
        self.send(pending, now);
        Ok(())
    }

    /// OPTIONS is a courtesy: whatever the answer, the camera speaks RTSP.
    fn after_options(&mut self, now: Duration) -> Result<(), PullError> {
        self.events.push_back(ClientEvent::Step(Step::Greeted));
        self.state = State::Describe;
        let url = self.config.url.request_url();
        self.request("DESCRIBE", url, vec![("Accept", "application/sdp".to_owned())], now);
        Ok(())
    }

    fn after_describe(
        &mut self,
        response: &Response,
        pending: &Pending,
        now: Duration,
    ) -> Result<(), PullError> {
        // RFC 2326, C.1.1: the order in which the base address is looked for.
        let base = response
            .headers
            .get("Content-Base")
            .or_else(|| response.headers.get("Content-Location"))
            .filter(|base| base.contains("://"))
            .unwrap_or(&pending.url)
            .to_owned();
        let description = Description::parse(&String::from_utf8_lossy(&response.body));
        self.tracks = choose_tracks(&description, &base)?;
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
        let (media, control) = wanted.channels;
        let transport = format!("RTP/AVP/TCP;unicast;interleaved={media}-{control}");
        let url = wanted.control.clone();
        self.request("SETUP", url, vec![("Transport", transport)], now);
    }

    fn after_set_up(
        &mut self,
        response: &Response,
        granted: bool,
        track: usize,
        now: Duration,
    ) -> Result<(), PullError> {
        if !granted {
            // Sound that cannot be had is done without; the picture is what the relay is for.
            if track > 0 {
                self.tracks.remove(track);
                self.set_up(track, now);
                return Ok(());
            }
            return Err(refusal("SETUP", response));
        }
        if let Some(session) = response.headers.get("Session") {
            let (id, timeout) = read_session(session);
            self.session = Some(id);
            self.session_timeout = timeout.unwrap_or(self.session_timeout);
        } else if self.session.is_none() {
            return Err(PullError::Incomplete { method: "SETUP", what: "a session" });
        }
        if let Some(channels) = response.headers.get("Transport").and_then(read_channels)
            && let Some(track) = self.tracks.get_mut(track)
        {
            track.channels = channels;
        }
        self.set_up(track + 1, now);
        Ok(())
    }
}

/// Tells refusals apart by what can be done about them (RFC 2326, 7.1.1).
fn refusal(method: &'static str, response: &Response) -> PullError {
    let (status, reason) = (response.status, response.reason.clone());
    match status {
        403 => PullError::WrongPassword { status, reason },
        404 | 410 => PullError::NoSuchStream { status, reason },
        400 | 451 if method == "DESCRIBE" => PullError::NoSuchStream { status, reason },
        453 => PullError::TooManyViewers { status, reason },
        461 => PullError::TransportRefused { status, reason },
        300..=399 => {
            let location = response.headers.get("Location").unwrap_or_default();
            // Only the address proper: credentials in it are not ours to show.
            let location = crate::url::CameraUrl::parse(location).map(|(url, _)| url.to_string());
            PullError::Redirected { location: location.unwrap_or_default() }
        }
        _ => PullError::Refused { method, status, reason },
    }
}
