//! Demo data: cameras and platforms of the railway, and the records for them.

use std::sync::Arc;
use std::time::Duration;

use anyhow::Context as _;
use secrecy::SecretString;
use yonder_address::{Passphrase, StreamKey, read_server};
use yonder_api::{
    DestinationChange, FeedChange, NewDestination, NewFeed, NewRelay, NewSignpost, NewUplink, Rekey,
    RelayChange, Transport,
};
use yonder_core::grade::ChannelReport;
use yonder_core::rendition::Adapt;
use yonder_service::{Service, ServiceError, Transaction};
use yonder_sim::{
    Camera, CameraConfig, CameraStream, Device, DeviceConfig, DeviceProfile, Encoder, EncoderConfig, Limits,
    Platform, PlatformConfig, PlatformFaults, SrtConfig, TestAuthority, railway_feeds,
};

/// User name of all cameras.
const CAMERA_USER: &str = "rail";

/// Relay of the demo, with the name of its feed.
struct DemoLine {
    feed: &'static str,
    channels: &'static [&'static str],
    /// The relay may adapt video as well, which takes about a third of a processor core.
    adapts_video: bool,
}

impl DemoLine {
    const fn new(feed: &'static str, channels: &'static [&'static str]) -> Self {
        Self { feed, channels, adapts_video: false }
    }
}

/// Relays. The Signal Box has G.711, which no platform accepts: its audio is adapted. The Level Crossing has 1080 lines and no audio,
/// Thistle Stage accepts 720 and needs audio: both are adapted.
const LINES: [DemoLine; 6] = [
    DemoLine::new("Summit Station", &["Bramble TV", "Bramble TV Mountain Lines", "Thistle Stage Summit"]),
    DemoLine::new("Viaduct", &["Bramble TV Night Trains", "Marrow Hall Viaduct"]),
    DemoLine::new("Engine Shed", &["Bramble TV Workshop"]),
    DemoLine::new("Bandstand", &["Bramble TV Music"]),
    DemoLine::new("Signal Box", &["Bramble TV Signals", "Marrow Hall Signals"]),
    DemoLine { adapts_video: true, ..DemoLine::new("Level Crossing", &["Thistle Stage Crossing"]) },
];

/// Uplink of the demo.
struct DemoUplink {
    name: &'static str,
    site: Option<&'static str>,
    rate: &'static str,
    allowance: &'static str,
    backup: bool,
}

const UPLINKS: [DemoUplink; 3] = [
    DemoUplink { name: "Office fibre", site: None, rate: "40Mbit/s", allowance: "6TB", backup: false },
    DemoUplink { name: "Office radio", site: None, rate: "12Mbit/s", allowance: "500GB", backup: true },
    DemoUplink {
        name: "Summit mast",
        site: Some("Summit"),
        rate: "4Mbit/s",
        allowance: "1TB",
        backup: false,
    },
];
/// Signpost of the demo.
struct DemoSignpost {
    alias: &'static str,
    title: &'static str,
    relay: &'static str,
    has_player: bool,
}

/// Signposts: one with the own player and a status page, and one that leads to the watch page at the platform.
const SIGNPOSTS: [DemoSignpost; 2] = [
    DemoSignpost {
        alias: "summit",
        title: "Summit Station, Hollow Fell Light Railway",
        relay: "Summit Station",
        has_player: true,
    },
    DemoSignpost {
        alias: "bandstand",
        title: "Music at the Bandstand",
        relay: "Bandstand",
        has_player: false,
    },
];
/// Destination with a watch page.
const WITH_WATCH_PAGE: &str = "Bramble TV Music";
/// Watch page of that destination.
const WATCH_PAGE: &str = "https://watch.bramble.example.net/music";
/// Read rate of the slow platform, in bytes per second: half the bit rate of the Summit.
const SLOW_BYTES: u32 = 110_000;
/// Feed that an encoder publishes.
const OF_ENCODER: &str = "Bandstand";
/// Feed that uses the uplink of its site.
const AT_SUMMIT: &str = "Summit Station";

/// Platform of the demo.
struct DemoPlatform {
    /// Name of its rule sheet, with which the channels' names begin.
    name: &'static str,
    platform: Platform,
    /// Certificate of its authority.
    authority: Option<String>,
    passphrase: Option<String>,
}

impl DemoPlatform {
    fn server(&self) -> String {
        self.platform
            .srt_server()
            .or_else(|| self.platform.tls_server())
            .unwrap_or_else(|| self.platform.server())
    }
}

struct StandIn {
    feed: &'static str,
    path: &'static str,
    sub_path: Option<&'static str>,
    streams: Vec<CameraStream>,
    camera: Camera,
}

/// Running stand-ins.
pub(super) struct Railway {
    cameras: Vec<StandIn>,
    password: String,
    platforms: Vec<DemoPlatform>,
    keys: Vec<(String, String)>,
    /// ONVIF devices of the cameras, for `yonder feed find`.
    devices: Vec<(&'static str, Device)>,
    /// Encoder of the Bandstand.
    encoder: Option<Encoder>,
}

impl Railway {
    /// Starts cameras and platforms. Must be called within a tokio runtime.
    pub(super) fn start() -> anyhow::Result<Self> {
        let password = random_text(16);
        let cameras = railway_feeds()
            .into_iter()
            .filter(|feed| feed.name != OF_ENCODER)
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
        let channels = LINES.iter().flat_map(|line| line.channels);
        let keys: Vec<(String, String)> =
            channels.map(|name| ((*name).to_owned(), random_text(20))).collect();
        let platforms = start_platforms(&keys).context("a stand-in platform cannot be started")?;
        Ok(Self { cameras, password, platforms, keys, devices: Vec::new(), encoder: None })
    }

    /// Makes the cameras discoverable. If another process uses the port of probes, they only answer directly.
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
                encoders: Some(stand_in.camera.encoders()),
                ..DeviceConfig::default()
            };
            match Device::start(config).await {
                Ok(device) => self.devices.push((stand_in.feed, device)),
                Err(error) => tracing::info!(feed = stand_in.feed, %error, "this camera cannot be found"),
            }
        }
    }

    /// Returns user name and password of all cameras.
    pub(super) fn camera_account(&self) -> (&'static str, &str) {
        (CAMERA_USER, &self.password)
    }

    /// Adds the feeds, destinations and relays of the demo, or updates those of an earlier one, and starts the relays.
    /// With `is_light`, relays that adapt video are stopped.
    pub(super) fn register(&self, service: &Service, is_light: bool) -> Result<(), ServiceError> {
        service.provision(|transaction| self.register_records(transaction, is_light))
    }

    fn register_records(&self, records: &Transaction<'_>, is_light: bool) -> Result<(), ServiceError> {
        for stand_in in &self.cameras {
            self.register_feed(records, stand_in)?;
        }
        // The demo of an older version pulled this feed.
        if records.feed(OF_ENCODER).is_ok_and(|feed| feed.ingest.is_none()) {
            if records.relay(OF_ENCODER).is_ok() {
                records.remove_relay(OF_ENCODER)?;
            }
            records.remove_feed(OF_ENCODER)?;
        }
        if records.feed(OF_ENCODER).is_err() {
            records.add_feed(NewFeed { name: OF_ENCODER.to_owned(), ingest: true, ..NewFeed::default() })?;
        }
        for (name, key) in &self.keys {
            self.register_destination(records, name, key)?;
        }
        for DemoUplink { name, site, rate, allowance, backup } in UPLINKS {
            if records.uplink(name).is_err() {
                records.add_uplink(&NewUplink {
                    name: name.to_owned(),
                    site: site.map(str::to_owned),
                    rate: rate.to_owned(),
                    allowance: Some(allowance.to_owned()),
                    backup,
                    ..NewUplink::default()
                })?;
            }
        }
        for DemoLine { feed, channels, adapts_video } in LINES {
            let to: Vec<String> = channels.iter().map(|name| (*name).to_owned()).collect();
            let adapt = if adapts_video { Adapt::All } else { Adapt::Audio };
            if records.relay(feed).is_ok() {
                let change =
                    RelayChange { feed: Some(feed.to_owned()), to: Some(to), ..RelayChange::default() };
                records.edit_relay(feed, change)?;
            } else {
                records.add_relay(&NewRelay {
                    name: feed.to_owned(),
                    feed: feed.to_owned(),
                    to,
                    adapt: Some(adapt),
                    ..NewRelay::default()
                })?;
            }
            if adapts_video && is_light {
                records.stop_relay(feed)?;
            } else {
                records.start_relay(feed)?;
            }
        }
        register_signposts(records)
    }

    /// Starts the encoder of the Bandstand, which publishes to the service. Must be called within a tokio runtime.
    pub(super) fn start_encoder(&mut self, service: &Service) -> anyhow::Result<()> {
        let access = service.ingest().reveal(OF_ENCODER)?;
        let access = access.rtmp.context("the service does not listen for RTMP")?;
        let scene = railway_feeds().into_iter().find(|feed| feed.name == OF_ENCODER);
        self.encoder = Some(Encoder::start(EncoderConfig {
            server: read_server(&access.server)?.0,
            key: StreamKey::from_stored(access.key.into_inner()),
            encryption: None,
            media: Arc::new(scene.context("the scene is missing")?.main()),
        }));
        Ok(())
    }

    fn register_feed(&self, records: &Transaction<'_>, stand_in: &StandIn) -> Result<(), ServiceError> {
        let url = stand_in.camera.url(stand_in.path);
        let sub_url = stand_in.sub_path.map(|path| stand_in.camera.url(path));
        let user = Some(CAMERA_USER.to_owned());
        let password = Some(self.password.clone().into());
        let site = (stand_in.feed == AT_SUMMIT).then(|| "Summit".to_owned());
        let device = self.devices.iter().find(|(feed, _)| *feed == stand_in.feed);
        let device = device.map(|(_, device)| device.address().to_string());
        if records.feed(stand_in.feed).is_ok() {
            let change = FeedChange {
                url: Some(url.into()),
                sub_url: sub_url.map(Into::into),
                user,
                password,
                site,
                device,
                ..FeedChange::default()
            };
            return records.edit_feed(stand_in.feed, change).map(|_| ());
        }
        let new = NewFeed {
            name: stand_in.feed.to_owned(),
            url: url.into(),
            sub_url: sub_url.map(Into::into),
            transport: Transport::Auto,
            user,
            password,
            site,
            device,
            ..NewFeed::default()
        };
        records.add_feed(new).map(|_| ())
    }

    fn platform_of(&self, channel: &str) -> Option<&DemoPlatform> {
        self.platforms.iter().find(|demo| channel.starts_with(demo.name))
    }

    fn register_destination(
        &self,
        records: &Transaction<'_>,
        name: &str,
        key: &str,
    ) -> Result<(), ServiceError> {
        let Some(demo) = self.platform_of(name) else { return Ok(()) };
        let server = Some(demo.server().into());
        let passphrase = demo.passphrase.clone().map(Into::into);
        let (key, authority) = (Some(key.to_owned().into()), demo.authority.clone());
        if records.destination(name).is_ok() {
            let watch_page = (name == WITH_WATCH_PAGE).then(|| WATCH_PAGE.to_owned());
            let change = DestinationChange { server, authority, watch_page, ..DestinationChange::default() };
            records.edit_destination(name, change)?;
            let new = Rekey { key, passphrase, ..Rekey::default() };
            return records.rekey_destination(name, &new).map(|_| ());
        }
        let new = NewDestination {
            name: name.to_owned(),
            server,
            platform: Some(demo.name.to_owned()),
            watch_page: (name == WITH_WATCH_PAGE).then(|| WATCH_PAGE.to_owned()),
            key,
            passphrase,
            authority,
            ..NewDestination::default()
        };
        records.add_destination(new).map(|_| ())
    }

    /// Returns the grade of a channel.
    pub(super) fn report(&self, channel: &str) -> Option<ChannelReport> {
        self.platform_of(channel)?.platform.report(channel)
    }

    /// Injects three faults: the Viaduct's camera freezes with an open connection, Bramble TV refuses the Workshop's
    /// stream key, and Thistle Stage reads more slowly than the Summit sends.
    pub(super) fn inject_faults(&self) {
        for stand_in in self.cameras.iter().filter(|stand_in| stand_in.feed == "Viaduct") {
            stand_in.camera.change(|faults| faults.frozen = true);
        }
        for demo in &self.platforms {
            match demo.name {
                "Bramble TV" => {
                    demo.platform.set_key("Bramble TV Workshop", random_text(20).into());
                    // The others reconnect at once with their valid keys.
                    demo.platform.change(|faults| faults.resets += 1);
                }
                "Thistle Stage" => demo.platform.change(|faults| faults.slow = Some(SLOW_BYTES)),
                _ => {}
            }
        }
    }

    /// Leaves the stand-ins running until the process ends.
    pub(super) fn keep(self) {
        Box::leak(Box::new(self));
    }
}

fn register_signposts(records: &Transaction<'_>) -> Result<(), ServiceError> {
    let known = records.store.signposts()?;
    for DemoSignpost { alias, title, relay, has_player } in SIGNPOSTS {
        if known.iter().all(|signpost| signpost.name != alias) {
            records.add_signpost(&NewSignpost {
                name: alias.to_owned(),
                relay: relay.to_owned(),
                title: Some(title.to_owned()),
                player: Some(has_player),
                status_page: has_player,
                ..NewSignpost::default()
            })?;
        }
    }
    Ok(())
}

/// Starts the platforms: Bramble TV accepts nearly everything, Thistle Stage only RTMPS and at most 720 lines, Marrow
/// Hall SRT with a passphrase.
fn start_platforms(keys: &[(String, String)]) -> std::io::Result<Vec<DemoPlatform>> {
    let channels = |demo: &str| -> Vec<(String, SecretString)> {
        let of_platform = keys.iter().filter(|(name, _)| name.starts_with(demo));
        of_platform.map(|(name, key)| (name.clone(), SecretString::from(key.as_str()))).collect()
    };
    let config = |demo: &str| PlatformConfig {
        app: "live".to_owned(),
        channels: channels(demo),
        ..PlatformConfig::default()
    };
    let bramble = Platform::start(config("Bramble TV"))?;
    let authority = TestAuthority::new()?;
    let limits = Limits { lines: Some(720), h264_only: true, needs_audio: true, kbps: None };
    let faults = PlatformFaults { limits, grace: Some(Duration::from_secs(30)), ..PlatformFaults::default() };
    let tls = Some((0, authority.issue("localhost")?));
    let thistle = Platform::start(PlatformConfig { tls, faults, ..config("Thistle Stage") })?;
    let phrase = random_text(24);
    let srt = SrtConfig {
        passphrase: Some(Passphrase::from_stored(phrase.as_str().into())),
        ..SrtConfig::default()
    };
    let marrow = Platform::start(PlatformConfig { srt: Some(srt), ..config("Marrow Hall") })?;
    Ok(vec![
        DemoPlatform { name: "Bramble TV", platform: bramble, authority: None, passphrase: None },
        DemoPlatform {
            name: "Thistle Stage",
            platform: thistle,
            authority: Some(authority.pem()),
            passphrase: None,
        },
        DemoPlatform { name: "Marrow Hall", platform: marrow, authority: None, passphrase: Some(phrase) },
    ])
}

/// Returns a random text of letters and digits that are not easily confused.
pub(super) fn random_text(length: usize) -> String {
    const LETTERS: &[u8] = b"abcdefghjkmnpqrstuvwxyz23456789";
    (0..length).map(|_| char::from(LETTERS[rand::random_range(0..LETTERS.len())])).collect()
}
