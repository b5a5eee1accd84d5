//! Reads and changes the encoder configuration of the profile that a feed's stream belongs to.

use std::time::Duration;

use url::Url;
use yonder_core::tuning::{CameraOptions, EncoderFormat, EncoderSettings, TuningError};
use yonder_onvif::{
    AudioEncoder, AudioEncoderOptions, DeviceFacts, MediaService, Profile, VideoEncoder, VideoEncoderChange,
    VideoEncoderOptions, audio_encoders_request, audio_options_request, facts_request, read_audio_encoders,
    read_audio_options, read_facts, read_set, read_video_encoders, read_video_options, set_audio_request,
    set_video_request, video_encoders_request, video_options_request,
};
use yonder_rtsp::{CameraUrl, Credentials};

use super::client::{DeviceClient, DeviceError};
use super::encoder::{audio_codec, format, options, video_change};
use super::with_host;
use crate::find;
use crate::spec::RtspSpec;

/// Wait for the response to a probe.
const PROBE_WAIT: Duration = Duration::from_secs(1);
/// Timeout of all requests together.
const TIMEOUT: Duration = Duration::from_secs(30);
/// Maximum stream addresses requested for the profile of a feed.
const MAX_PROFILES: usize = 128;

/// Camera whose encoder is read or changed.
#[derive(Debug, Clone)]
pub struct CameraTarget {
    /// Device service: a host, a host with a port, or a URL; the host of the feed by default.
    pub device: Option<String>,
    /// Stream of the feed, with the credentials of the camera.
    pub feed: RtspSpec,
}

/// Encoder configuration of a feed's stream.
#[derive(Debug, Clone, PartialEq)]
pub struct EncoderReport {
    /// Address of the device service.
    pub device: String,
    /// Device information.
    pub facts: DeviceFacts,
    /// Name of the media profile.
    pub profile: String,
    /// Configured format.
    pub format: EncoderFormat,
    /// Options of the camera.
    pub options: CameraOptions,
    /// Other profiles with the same video encoder: a change is one of their streams, too.
    pub shared_with: Vec<String>,
    /// Other profiles with the same audio encoder.
    pub audio_shared_with: Vec<String>,
}

/// Encoder configuration after a change.
#[derive(Debug, Clone, PartialEq)]
pub struct SetReport {
    /// Format before.
    pub before: EncoderFormat,
    /// Configuration as the camera reports it now.
    pub after: EncoderReport,
    /// Reason for which the camera refused the audio, after it has changed the video.
    pub audio_refused: Option<String>,
    /// Profiles that the camera has changed instead of the requested one.
    pub elsewhere: Vec<ChangedElsewhere>,
}

/// Profile that a camera has changed instead of the requested one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ChangedElsewhere {
    /// Name of the profile.
    pub profile: String,
    /// Its former values were restored.
    pub is_restored: bool,
}

/// Error of a request for, or a change of an encoder configuration.
#[derive(Debug, thiserror::Error)]
pub enum TuneError {
    /// The host of the device was not found.
    #[error("{0:?} is no host that can be found")]
    Host(String),
    /// The camera did not answer, or not as needed.
    #[error("{message}")]
    Device {
        /// Message.
        message: String,
        /// Authentication is required, or has failed.
        needs_sign_in: bool,
    },
    /// No media profile has the address of the feed.
    #[error("no media profile of the camera has the address of this feed; it has {}", .0.join(", "))]
    NoProfile(Vec<String>),
    /// The camera does not report the encoder of the profile.
    #[error("the camera does not report the encoder configuration of the profile {0:?}")]
    NoEncoder(String),
    /// Settings that the camera does not offer.
    #[error(transparent)]
    NotOffered(#[from] TuningError),
    /// The camera has refused the change.
    #[error("the camera refuses the change: {0}")]
    Refused(String),
    /// The account may read the configuration, and not change it.
    #[error("the account of the feed may read the settings of the camera, but not change them")]
    NotPermitted,
    /// The requests took too long, or were interrupted.
    #[error("the camera did not answer within {} s", TIMEOUT.as_secs())]
    Timeout,
}

/// Reads the encoder configuration of a feed's stream.
pub(crate) async fn read_encoder(target: CameraTarget) -> Result<EncoderReport, TuneError> {
    run(target, |session| Ok(session.report())).await
}

/// Changes the encoder configuration of a feed's stream. Only settings that differ are sent. `must_be_offered` refuses those
/// that the camera does not offer; values that it had before need not be.
pub(crate) async fn set_encoder(
    target: CameraTarget,
    settings: EncoderSettings,
    must_be_offered: bool,
) -> Result<SetReport, TuneError> {
    run(target, move |session| session.set(&settings, must_be_offered)).await
}

async fn run<T: Send + 'static>(
    target: CameraTarget,
    work: impl FnOnce(EncoderSession) -> Result<T, TuneError> + Send + 'static,
) -> Result<T, TuneError> {
    let CameraTarget { device, feed } = target;
    let device = device.unwrap_or_else(|| feed.url.host.clone());
    let services = services_of(&device).await?;
    let credentials = feed.credentials.clone();
    let blocking =
        tokio::task::spawn_blocking(move || work(EncoderSession::open(&services, credentials, &feed.url)?));
    match tokio::time::timeout(TIMEOUT, blocking).await {
        Ok(Ok(done)) => done,
        Ok(Err(_)) | Err(_) => Err(TuneError::Timeout),
    }
}

/// Returns the possible addresses of a device service.
async fn services_of(device: &str) -> Result<Vec<String>, TuneError> {
    if device.contains("://") {
        return Ok(vec![device.to_owned()]);
    }
    let not_found = |_| TuneError::Host(device.to_owned());
    find::services_at(device, PROBE_WAIT).await.map_err(not_found)
}

/// Client of a device, for the media profile of a feed.
struct ProfileClient {
    http: DeviceClient,
    device: String,
    facts: DeviceFacts,
    /// Address of the media service.
    media: String,
    kind: MediaService,
    profiles: Vec<Profile>,
    /// Profile of the feed.
    profile: Profile,
}

impl ProfileClient {
    fn read_all_video(&self) -> Result<Vec<VideoEncoder>, DeviceError> {
        let answer = self.http.request(&self.media, &video_encoders_request(self.kind))?;
        Ok(read_video_encoders(&answer, self.kind)?)
    }

    /// Reads the audio encoder; `None` if there is none that can be read.
    fn read_audio(&self) -> Option<AudioEncoder> {
        let token = self.profile.audio_encoder.as_ref()?;
        let answer = self.http.request(&self.media, &audio_encoders_request(self.kind)).ok()?;
        read_audio_encoders(&answer).ok()?.into_iter().find(|encoder| encoder.token == *token)
    }
}

/// Encoder configurations of a device, as read before a change.
struct EncoderSession {
    client: ProfileClient,
    video: Vec<VideoEncoder>,
    /// Video encoder of the profile.
    encoder: VideoEncoder,
    video_options: Vec<VideoEncoderOptions>,
    audio: Option<AudioEncoder>,
    audio_options: Vec<AudioEncoderOptions>,
}

impl EncoderSession {
    fn open(
        services: &[String],
        credentials: Option<Credentials>,
        feed: &CameraUrl,
    ) -> Result<Self, TuneError> {
        let mut failure = TuneError::Timeout;
        for device in services {
            let http = DeviceClient::new(credentials.clone());
            let explain = |error: DeviceError| device_error(&error, credentials.is_some());
            match Self::open_at(http, device, feed, explain) {
                Ok(session) => return Ok(session),
                Err(error) => failure = error,
            }
        }
        Err(failure)
    }

    fn open_at(
        mut http: DeviceClient,
        device: &str,
        feed: &CameraUrl,
        explain: impl Fn(DeviceError) -> TuneError,
    ) -> Result<Self, TuneError> {
        http.read_clock(device).map_err(&explain)?;
        let facts = http.request(device, &facts_request()).and_then(|answer| Ok(read_facts(&answer)?));
        let capabilities = http.capabilities(device).map_err(&explain)?;
        let host = Url::parse(device).ok().and_then(|url| url.host_str().map(str::to_owned));
        let host = host.unwrap_or_else(|| feed.host.clone());
        let services =
            [(MediaService::Media2, capabilities.media2), (MediaService::Media, capabilities.media)];
        let mut failure = TuneError::NoProfile(Vec::new());
        for (kind, address) in services.into_iter().filter_map(|(kind, address)| Some((kind, address?))) {
            // The media service is used at the host of the device service.
            let Some(media) = with_host(&address, host.trim_matches(['[', ']'])) else { continue };
            let profiles = match http.profiles(&media, kind) {
                Ok(profiles) => profiles,
                Err(error) => {
                    failure = explain(error);
                    continue;
                }
            };
            match profile_of(&http, &media, kind, &profiles, feed) {
                Ok(profile) => {
                    let (device, facts) = (device.to_owned(), facts.unwrap_or_default());
                    let client = ProfileClient { http, device, facts, media, kind, profiles, profile };
                    return Self::read(client, explain);
                }
                Err(error) => failure = error,
            }
        }
        Err(failure)
    }

    /// Reads the configurations of a profile's encoders, and their options.
    fn read(client: ProfileClient, explain: impl Fn(DeviceError) -> TuneError) -> Result<Self, TuneError> {
        let ProfileClient { http, media, kind, profile, .. } = &client;
        let video = client.read_all_video().map_err(&explain)?;
        let encoder = video.iter().find(|encoder| encoder.token == profile.video_encoder).cloned();
        let encoder = encoder.ok_or_else(|| TuneError::NoEncoder(name_of(profile)))?;
        let asked = http.request(media, &video_options_request(*kind, &encoder.token));
        let video_options = asked.and_then(|answer| Ok(read_video_options(&answer, *kind)?));
        let video_options = video_options.map_err(&explain)?;
        let audio = client.read_audio();
        // Cameras without options for the audio can still be tuned otherwise.
        let audio_options = audio.as_ref().and_then(|audio| {
            let asked = http.request(media, &audio_options_request(*kind, &audio.token));
            asked.and_then(|answer| Ok(read_audio_options(&answer)?)).ok()
        });
        let audio_options = audio_options.unwrap_or_default();
        Ok(Self { client, video, encoder, video_options, audio, audio_options })
    }

    fn report(&self) -> EncoderReport {
        let own = &self.client.profile;
        let others = || self.client.profiles.iter().filter(|profile| profile.token != own.token);
        let shares_audio =
            |profile: &&Profile| own.audio_encoder.is_some() && profile.audio_encoder == own.audio_encoder;
        EncoderReport {
            device: self.client.device.clone(),
            facts: self.client.facts.clone(),
            profile: name_of(&self.client.profile),
            format: format(&self.encoder, self.audio.as_ref()),
            options: options(&self.video_options, &self.audio_options),
            shared_with: others()
                .filter(|profile| profile.video_encoder == self.encoder.token)
                .map(name_of)
                .collect(),
            audio_shared_with: others().filter(shares_audio).map(name_of).collect(),
        }
    }

    fn set(mut self, settings: &EncoderSettings, must_be_offered: bool) -> Result<SetReport, TuneError> {
        let before = self.report();
        let settings = settings.without_unchanged(&before.format);
        if must_be_offered {
            settings.check(&before.format, &before.options)?;
        }
        let video = video_change(&settings, &before.format);
        if let Some(change) = &video {
            self.set_video(&self.encoder, change)?;
        }
        let audio_refused = match settings.audio.as_ref().map(|codec| self.set_audio(codec)) {
            Some(Err(refusal)) if video.is_none() => return Err(refusal),
            Some(Err(refusal)) => Some(refusal.to_string()),
            Some(Ok(())) | None => None,
        };
        let elsewhere = self.read_back()?;
        Ok(SetReport { before: before.format, after: self.report(), audio_refused, elsewhere })
    }

    fn set_video(&self, encoder: &VideoEncoder, change: &VideoEncoderChange) -> Result<(), TuneError> {
        self.send_change(&set_video_request(self.client.kind, encoder, change))
    }

    fn set_audio(&self, codec: &str) -> Result<(), TuneError> {
        let refused = || TuneError::Refused(format!("it has no {codec} for this profile"));
        let encoder = self.audio.as_ref().ok_or_else(refused)?;
        let options = self.audio_options.iter().find(|options| audio_codec(&options.encoding) == codec);
        let change = options.ok_or_else(refused)?.change();
        self.send_change(&set_audio_request(self.client.kind, encoder, &change))
    }

    /// Sends a change. The account could read the configuration before, so that a refusal to authorize is one of the change.
    fn send_change(&self, request: &str) -> Result<(), TuneError> {
        let answer = match self.client.http.request(&self.client.media, request) {
            Err(error) if error.needs_sign_in() => return Err(TuneError::NotPermitted),
            answer => answer.map_err(|error| self.explain(&error))?,
        };
        read_set(&answer).map_err(|fault| {
            if fault.wants_sign_in() { TuneError::NotPermitted } else { TuneError::Refused(fault.reason) }
        })
    }

    /// Reads the configurations again. Those that were changed in place of the requested one get their former values, if the
    /// camera lets them.
    fn read_back(&mut self) -> Result<Vec<ChangedElsewhere>, TuneError> {
        let (now, changed) = self.read_changes()?;
        let is_unchanged = now == self.encoder;
        self.encoder = now;
        if self.audio.is_some() {
            self.audio = self.client.read_audio();
        }
        if !is_unchanged || changed.is_empty() {
            return Ok(Vec::new());
        }
        for former in &changed {
            self.set_video(former, &VideoEncoderChange::default())?;
        }
        // A camera that mixes up its profiles may do so again.
        let (_, remaining) = self.read_changes()?;
        let mut elsewhere: Vec<ChangedElsewhere> = Vec::new();
        for former in changed.iter().chain(&remaining) {
            let user = self.client.profiles.iter().find(|profile| profile.video_encoder == former.token);
            let profile = user.map_or_else(|| former.token.clone(), name_of);
            let is_restored = !remaining.contains(former);
            if !elsewhere.iter().any(|known| known.profile == profile) {
                elsewhere.push(ChangedElsewhere { profile, is_restored });
            }
        }
        Ok(elsewhere)
    }

    /// Reads the video encoders, and returns that of the profile, and the former values of others that have changed.
    fn read_changes(&self) -> Result<(VideoEncoder, Vec<VideoEncoder>), TuneError> {
        let video = self.client.read_all_video().map_err(|error| self.explain(&error))?;
        let own = video.iter().find(|encoder| encoder.token == self.encoder.token).cloned();
        let own = own.ok_or_else(|| TuneError::NoEncoder(name_of(&self.client.profile)))?;
        let is_changed = |former: &&VideoEncoder| {
            former.token != own.token
                && video.iter().any(|encoder| encoder.token == former.token && encoder != *former)
        };
        let changed = self.video.iter().filter(is_changed).cloned().collect();
        Ok((own, changed))
    }

    fn explain(&self, error: &DeviceError) -> TuneError {
        device_error(error, self.client.http.has_credentials())
    }
}

fn device_error(error: &DeviceError, has_credentials: bool) -> TuneError {
    TuneError::Device { message: error.message(has_credentials), needs_sign_in: error.needs_sign_in() }
}

fn name_of(profile: &Profile) -> String {
    if profile.name.is_empty() { profile.token.clone() } else { profile.name.clone() }
}

/// Returns the profile with the address of a feed: the same path and query; or else the same path, if only one has it, since
/// some cameras report a query that changes.
fn profile_of(
    http: &DeviceClient,
    media: &str,
    kind: MediaService,
    profiles: &[Profile],
    feed: &CameraUrl,
) -> Result<Profile, TuneError> {
    let mut addresses = Vec::new();
    for profile in profiles.iter().take(MAX_PROFILES) {
        let Ok(Some(reported)) = http.stream_address(media, kind, &profile.token) else { continue };
        // Credentials in the address are dropped.
        let Ok((url, _)) = CameraUrl::parse(&reported) else { continue };
        if url.path == feed.path {
            return Ok(profile.clone());
        }
        addresses.push((url, profile));
    }
    let mut same_path = addresses.iter().filter(|(url, _)| path_of(url) == path_of(feed));
    match (same_path.next(), same_path.next()) {
        (Some((_, profile)), None) => Ok((*profile).clone()),
        _ => Err(TuneError::NoProfile(addresses.iter().map(|(url, _)| url.to_string()).collect())),
    }
}

/// Returns the path without the query.
fn path_of(url: &CameraUrl) -> &str {
    url.path.split('?').next().unwrap_or_default()
}
