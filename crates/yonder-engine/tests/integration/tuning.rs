//! Encoder configuration of cameras, against stand-in devices.

use std::sync::Arc;

use rstest::rstest;
use yonder_core::tuning::{EncoderSettings, FrameSize, Setting};
use yonder_engine::{CameraTarget, Engine, RtspSpec, TransportChoice, TuneError};
use yonder_rtsp::{CameraUrl, Credentials};
use yonder_sim::{
    Camera, CameraConfig, CameraStream, Device, DeviceConfig, DeviceProfile, DeviceSignIn, EncoderQuirk,
    railway_feeds,
};

const PASSWORD: &str = "planted-device-word";
/// Path of the stream with a sub stream.
const SUMMIT: &str = "/summit/main";
/// Path of the stream with G.711.
const SIGNAL_BOX: &str = "/box";

struct Site {
    engine: Engine,
    camera: Camera,
    device: Device,
}

impl Site {
    async fn start(change: impl FnOnce(&mut DeviceConfig)) -> Self {
        let mut streams = Vec::new();
        for feed in railway_feeds() {
            streams.push(CameraStream { path: feed.path.into(), media: Arc::new(feed.main()) });
            let sub = feed.sub();
            streams
                .extend(sub.map(|(path, media)| CameraStream { path: path.into(), media: Arc::new(media) }));
        }
        let camera =
            Camera::start(CameraConfig { streams: streams.clone(), ..CameraConfig::default() }).unwrap();
        let profiles = streams.iter().map(|stream| DeviceProfile::of_stream(stream, &camera)).collect();
        let mut config = DeviceConfig {
            profiles,
            account: Some(("rail".into(), PASSWORD.into())),
            has_media2: true,
            encoders: Some(camera.encoders()),
            ..DeviceConfig::default()
        };
        change(&mut config);
        let device = Device::start(config).await.unwrap();
        Self { engine: Engine::new(tokio::runtime::Handle::current()), camera, device }
    }

    fn target(&self, path: &str, password: &str) -> CameraTarget {
        let (url, _) = CameraUrl::parse(&self.camera.url(path)).unwrap();
        let feed = RtspSpec {
            url,
            credentials: Some(Credentials { user: "rail".into(), password: password.into() }),
            secret_lost: false,
            transport: TransportChoice::Auto,
            pin: None,
        };
        CameraTarget { device: Some(self.device.address().to_string()), feed }
    }

    async fn set(
        &self,
        path: &str,
        settings: EncoderSettings,
    ) -> Result<yonder_engine::SetReport, TuneError> {
        self.engine.set_encoder(self.target(path, PASSWORD), settings, true).await
    }
}

fn slower() -> EncoderSettings {
    EncoderSettings { kbps: Some(1_500), keyframe_interval_s: Some(4.0), ..EncoderSettings::default() }
}

#[rstest]
#[case::media2_with_token(true, DeviceSignIn::Token)]
#[case::media_with_digest(false, DeviceSignIn::HttpDigest)]
#[tokio::test]
async fn settings_are_read_changed_and_restored(#[case] has_media2: bool, #[case] sign_in: DeviceSignIn) {
    let site = Site::start(|config| {
        config.has_media2 = has_media2;
        config.sign_in = sign_in;
    })
    .await;
    let read = site.engine.read_encoder(site.target(SUMMIT, PASSWORD)).await.unwrap();
    assert_eq!((read.format.codec.as_str(), read.format.width), ("H.264", 1_280));
    assert_eq!(read.format.audio.as_deref(), Some("AAC"));
    let options = read.options.video_of("H.264").unwrap();
    assert!(options.sizes.contains(&FrameSize { width: 640, height: 360 }), "{options:?}");
    assert_eq!(options.kbps.unwrap().max, 16_384);
    let report = site.set(SUMMIT, slower()).await.unwrap();
    assert_eq!(report.before, read.format);
    let expected = read.format.with(&slower());
    assert_eq!(report.after.format, expected);
    assert!(report.elsewhere.is_empty() && report.audio_refused.is_none());
    let undone = site.set(SUMMIT, EncoderSettings::of(&read.format)).await.unwrap();
    assert_eq!(undone.after.format, read.format);
}

#[tokio::test]
async fn codec_of_the_audio_is_changed_alone() {
    let site = Site::start(|_| {}).await;
    let settings = EncoderSettings { audio: Some("AAC".into()), ..EncoderSettings::default() };
    let report = site.set(SIGNAL_BOX, settings).await.unwrap();
    assert_eq!(report.before.audio.as_deref(), Some("G.711"));
    assert_eq!(report.after.format.audio.as_deref(), Some("AAC"));
    assert_eq!(report.after.format.kbps, report.before.kbps);
}

#[tokio::test]
async fn settings_that_are_not_offered_are_not_sent() {
    let site = Site::start(|_| {}).await;
    let settings = EncoderSettings { kbps: Some(90_000), ..EncoderSettings::default() };
    let error = site.set(SUMMIT, settings).await.unwrap_err();
    assert!(matches!(&error, TuneError::NotOffered(offer) if offer.setting == Setting::BitRate), "{error}");
    let text = error.to_string();
    assert!(text.contains("it offers 128 to 16384 kbit/s"), "{text}");
}

#[tokio::test]
async fn refusal_has_the_reason_of_the_camera() {
    let site = Site::start(|config| config.encoder_quirk = EncoderQuirk::Refuses).await;
    let error = site.set(SUMMIT, slower()).await.unwrap_err();
    assert!(matches!(&error, TuneError::Refused(reason) if reason.contains("locked")), "{error}");
}

#[tokio::test]
async fn rounded_values_are_reported() {
    let site = Site::start(|config| config.encoder_quirk = EncoderQuirk::Rounds).await;
    let report = site.set(SUMMIT, slower()).await.unwrap();
    assert_eq!(report.after.format.kbps, Some(1_024));
}

#[tokio::test]
async fn ignored_change_leaves_the_report_as_it_was() {
    let site = Site::start(|config| config.encoder_quirk = EncoderQuirk::Ignores).await;
    let report = site.set(SUMMIT, slower()).await.unwrap();
    assert_eq!(report.after.format, report.before);
    assert!(report.elsewhere.is_empty());
}

#[rstest]
#[case::once(true)]
#[case::always(false)]
#[tokio::test]
async fn change_of_another_profile_is_found_and_taken_back(#[case] is_restored: bool) {
    let quirk = if is_restored { EncoderQuirk::OtherProfileOnce } else { EncoderQuirk::OtherProfile };
    let site = Site::start(|config| config.encoder_quirk = quirk).await;
    let sub = site.target("/summit/sub", PASSWORD);
    let before = site.engine.read_encoder(sub.clone()).await.unwrap();
    let report = site.set(SUMMIT, slower()).await.unwrap();
    assert_eq!(report.after.format, report.before);
    let found = report.elsewhere.first().unwrap();
    assert_eq!((found.profile.as_str(), found.is_restored), ("summit-sub", is_restored));
    let after = site.engine.read_encoder(sub).await.unwrap();
    assert_eq!(after.format == before.format, is_restored);
}

#[tokio::test]
async fn wrong_password_and_foreign_address_have_their_reasons() {
    let site = Site::start(|_| {}).await;
    let error = site.engine.read_encoder(site.target(SUMMIT, "wrong")).await.unwrap_err();
    assert!(matches!(&error, TuneError::Device { needs_sign_in: true, .. }), "{error:?}");
    assert!(!format!("{error:?}").contains("wrong\""));
    let error = site.engine.read_encoder(site.target("/elsewhere", PASSWORD)).await.unwrap_err();
    assert!(matches!(&error, TuneError::NoProfile(addresses) if addresses.len() == 7), "{error}");
    let mut target = site.target(SUMMIT, PASSWORD);
    target.device = Some("127.0.0.1:9".into());
    let error = site.engine.read_encoder(target).await.unwrap_err();
    assert!(matches!(error, TuneError::Device { needs_sign_in: false, .. }), "{error:?}");
}
