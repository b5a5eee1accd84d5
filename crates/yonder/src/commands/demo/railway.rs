//! The railway's cameras, its platform, and the records that tie them together.

use std::sync::Arc;

use anyhow::Context as _;
use secrecy::SecretString;
use yonder_api::{DestinationChange, FeedChange, NewDestination, NewFeed, NewRelay, RelayChange, Transport};
use yonder_lab::{
    Camera, CameraConfig, CameraStream, ChannelReport, Device, DeviceConfig, DeviceProfile, Platform,
    PlatformConfig, railway_feeds,
};
use yonder_server::{Service, ServiceError};

/// User name at all of the railway's cameras.
const CAMERA_USER: &str = "rail";

/// What is pushed where: feed, then channels.
const LINES: [(&str, &[&str]); 4] = [
    ("Summit Station", &["Bramble TV", "Bramble TV Mountain Lines"]),
    ("Viaduct", &["Bramble TV Night Trains"]),
    ("Engine Shed", &["Bramble TV Workshop"]),
    ("Bandstand", &["Bramble TV Music"]),
];

struct StandIn {
    feed: &'static str,
    path: &'static str,
    sub_path: Option<&'static str>,
    streams: Vec<CameraStream>,
    camera: Camera,
}

/// The stand-ins, running.
pub(super) struct Railway {
    cameras: Vec<StandIn>,
    password: String,
    platform: Platform,
    keys: Vec<(String, String)>,
    /// Device services of the cameras, by which `yonder feed find` finds them.
    devices: Vec<Device>,
}

impl Railway {
    /// Starts cameras and platform. To be called within a tokio runtime.
    pub(super) fn start() -> anyhow::Result<Self> {
        let password = random_word(16);
        let cameras = railway_feeds()
            .into_iter()
            .map(|feed| {
                let mut streams = vec![CameraStream { path: feed.path.into(), media: Arc::new(feed.main()) }];
                let sub = feed.sub();
                let sub_path = sub.as_ref().map(|(path, _)| *path);
                streams.extend(
                    sub.map(|(path, media)| CameraStream { path: path.into(), media: Arc::new(media) }),
                );
                let account = Some((CAMERA_USER.to_owned(), password.as_str().into()));
                let config = CameraConfig { streams: streams.clone(), account, ..CameraConfig::default() };
                let camera = Camera::start(config)?;
                Ok(StandIn { feed: feed.name, path: feed.path, sub_path, streams, camera })
            })
            .collect::<std::io::Result<Vec<_>>>()
            .context("a stand-in camera cannot be started")?;
        let channels = LINES.iter().flat_map(|(_, channels)| *channels);
        let keys: Vec<(String, String)> =
            channels.map(|name| ((*name).to_owned(), random_word(20))).collect();
        let platform = Platform::start(PlatformConfig {
            app: "live".to_owned(),
            channels: keys
                .iter()
                .map(|(name, key)| (name.clone(), SecretString::from(key.as_str())))
                .collect(),
            port: 0,
            record: false,
        })
        .context("the stand-in platform cannot be started")?;
        Ok(Self { cameras, password, platform, keys, devices: Vec::new() })
    }

    /// Lets the cameras be found. Where another program holds the port for probes, they can still be asked directly.
    pub(super) async fn announce(&mut self) {
        for stand_in in &self.cameras {
            let profiles = stand_in
                .streams
                .iter()
                .map(|stream| DeviceProfile::of_stream(stream, &stand_in.camera))
                .collect();
            let config = DeviceConfig {
                name: stand_in.feed.to_owned(),
                model: "Fellside 2".to_owned(),
                profiles,
                account: Some((CAMERA_USER.to_owned(), self.password.as_str().into())),
                has_media2: true,
                answers_probes: true,
                ..DeviceConfig::default()
            };
            match Device::start(config).await {
                Ok(device) => self.devices.push(device),
                Err(error) => tracing::info!(feed = stand_in.feed, %error, "this camera cannot be found"),
            }
        }
    }

    /// User name and password of all cameras.
    pub(super) fn camera_account(&self) -> (&'static str, &str) {
        (CAMERA_USER, &self.password)
    }

    /// Adds the railway's feeds, destinations and relays, or brings those of an earlier demonstration up to
    /// date, and starts the relays.
    pub(super) fn register(&self, service: &Service) -> Result<(), ServiceError> {
        for stand_in in &self.cameras {
            self.register_feed(service, stand_in)?;
        }
        for (name, key) in &self.keys {
            self.register_destination(service, name, key)?;
        }
        for (feed, channels) in LINES {
            let to: Vec<String> = channels.iter().map(|name| (*name).to_owned()).collect();
            if service.relay(feed).is_ok() {
                let change = RelayChange { feed: Some(feed.to_owned()), to: Some(to), name: None };
                service.edit_relay(feed, change)?;
            } else {
                service.add_relay(&NewRelay { name: feed.to_owned(), feed: feed.to_owned(), to })?;
            }
            service.start_relay(feed)?;
        }
        Ok(())
    }

    fn register_feed(&self, service: &Service, stand_in: &StandIn) -> Result<(), ServiceError> {
        let url = stand_in.camera.url(stand_in.path);
        let sub_url = stand_in.sub_path.map(|path| stand_in.camera.url(path));
        let user = Some(CAMERA_USER.to_owned());
        let password = Some(self.password.clone().into());
        if service.feed(stand_in.feed).is_ok() {
            let change = FeedChange {
                url: Some(url.into()),
                sub_url: sub_url.map(Into::into),
                user,
                password,
                ..FeedChange::default()
            };
            return service.edit_feed(stand_in.feed, change).map(|_| ());
        }
        let new = NewFeed {
            name: stand_in.feed.to_owned(),
            url: url.into(),
            sub_url: sub_url.map(Into::into),
            transport: Transport::Auto,
            user,
            password,
            pin: None,
        };
        service.add_feed(new).map(|_| ())
    }

    fn register_destination(&self, service: &Service, name: &str, key: &str) -> Result<(), ServiceError> {
        let server = self.platform.server();
        if service.destination(name).is_ok() {
            let change = DestinationChange { server: Some(server), ..DestinationChange::default() };
            service.edit_destination(name, change)?;
            return service.rekey_destination(name, &key.to_owned().into()).map(|_| ());
        }
        let platform = Some("Bramble TV".to_owned());
        let new = NewDestination { name: name.to_owned(), server, platform, key: key.to_owned().into() };
        service.add_destination(new).map(|_| ())
    }

    /// What the platform says of one of its channels.
    pub(super) fn report(&self, channel: &str) -> Option<ChannelReport> {
        self.platform.report(channel)
    }

    /// Lets the stand-ins run until the process ends.
    pub(super) fn keep(self) {
        Box::leak(Box::new(self));
    }
}

/// A word that nobody guesses: letters and digits that are not taken for each other.
pub(super) fn random_word(length: usize) -> String {
    const LETTERS: &[u8] = b"abcdefghjkmnpqrstuvwxyz23456789";
    (0..length).map(|_| char::from(LETTERS[rand::random_range(0..LETTERS.len())])).collect()
}
