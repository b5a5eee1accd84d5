//! Requests for the information and the streams of a camera.

use yonder_onvif::{MediaService, Profile, facts_request, read_facts, read_name, scopes_request};
use yonder_rtsp::{CameraUrl, Credentials};

use super::probe::Candidate;
use super::{FoundCamera, FoundStream};
use crate::device::{DeviceClient, DeviceError, with_host};

/// Maximum streams requested.
const MAX_STREAMS: usize = 128;

/// Requests to one camera.
pub(super) struct Conversation(DeviceClient);

impl Conversation {
    pub(super) fn new(credentials: Option<Credentials>) -> Self {
        Self(DeviceClient::new(credentials))
    }

    /// Requests all information about the camera.
    pub(super) fn about(mut self, candidate: Candidate) -> FoundCamera {
        let Candidate { host, services, name, hardware } = candidate;
        let mut camera = FoundCamera {
            name: name.or(hardware).unwrap_or_else(|| host.clone()),
            host,
            ..FoundCamera::default()
        };
        let mut problem = DeviceError::Unreachable("it named no address".to_owned());
        for service in services {
            camera.service.clone_from(&service);
            match self.ask_device(&mut camera) {
                Ok(()) => return camera,
                Err(error @ (DeviceError::Fault(_) | DeviceError::CleartextPassword)) => {
                    problem = error;
                    break;
                }
                Err(error) => problem = error,
            }
        }
        camera.problem = Some(problem.message(self.0.has_credentials()));
        camera.needs_sign_in = problem.needs_sign_in();
        camera
    }

    fn ask_device(&mut self, camera: &mut FoundCamera) -> Result<(), DeviceError> {
        let device = camera.service.clone();
        // The clock comes first: an authentication token must have the device's time.
        camera.clock_ahead_s = self.0.read_clock(&device)?.map(|clock| clock.ahead_s);
        if camera.name == camera.host
            && let Some(name) = self.0.request(&device, &scopes_request()).ok().as_ref().and_then(read_name)
        {
            camera.name = name;
        }
        // The device information is optional.
        if let Ok(facts) =
            self.0.request(&device, &facts_request()).and_then(|answer| Ok(read_facts(&answer)?))
        {
            if camera.name == camera.host && !facts.model.is_empty() {
                camera.name.clone_from(&facts.model);
            }
            camera.facts = facts;
        }
        let capabilities = self.0.capabilities(&device)?;
        let services =
            [(MediaService::Media2, capabilities.media2), (MediaService::Media, capabilities.media)];
        let mut last = None;
        for (kind, address) in services.into_iter().filter_map(|(kind, address)| Some((kind, address?))) {
            // The media service is used at the host of the device service.
            let Some(here) = with_host(&address, &camera.host) else { continue };
            match self.0.profiles(&here, kind) {
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

    fn streams(
        &self,
        service: &str,
        kind: MediaService,
        profiles: Vec<Profile>,
        host: &str,
    ) -> Vec<FoundStream> {
        let mut streams = Vec::new();
        for profile in profiles.into_iter().take(MAX_STREAMS) {
            let Ok(Some(reported)) = self.0.stream_address(service, kind, &profile.token) else { continue };
            // Credentials in the address are dropped.
            let Ok((url, _)) = CameraUrl::parse(&reported) else { continue };
            let here = CameraUrl { host: host.to_owned(), ..url.clone() };
            let reported = (here.host != url.host).then(|| url.to_string());
            streams.push(FoundStream { profile, address: here.to_string(), reported_address: reported });
        }
        streams
    }
}
