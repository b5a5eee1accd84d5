//! Tuning of cameras through the command line and the API: the stream really changes, and cameras that deviate are found out.

use std::process::Output;

use rstest::rstest;
use serde_json::{Value, json};
use yonder_sim::{Device, DeviceConfig, DeviceProfile, EncoderQuirk};

use crate::support::{CAMERA_PASSWORD, KEY, Service, World, text};

/// Path of a stream of 1080 lines at 6 frames per second, which is encoded quickly.
const CROSSING: &str = "/crossing";

struct Site {
    service: Service,
    world: World,
    device: Device,
}

impl Site {
    /// Starts a service with the feed Crossing, whose camera has a device service.
    fn start(change: impl FnOnce(&mut DeviceConfig)) -> Self {
        let (service, world) = (Service::start(), World::start());
        let mut config = DeviceConfig {
            profiles: world
                .streams()
                .iter()
                .map(|stream| DeviceProfile::of_stream(stream, &world.camera))
                .collect(),
            account: Some(("rail".into(), CAMERA_PASSWORD.into())),
            has_media2: true,
            encoders: Some(world.camera.encoders()),
            ..DeviceConfig::default()
        };
        change(&mut config);
        let device = world.block_on(Device::start(config)).unwrap();
        let site = Self { service, world, device };
        site.add_feed("Crossing", CROSSING);
        site
    }

    fn add_feed(&self, name: &str, path: &str) {
        let url = self.world.camera.url(path).replace("://", &format!("://rail:{CAMERA_PASSWORD}@"));
        let at = self.device.address().to_string();
        self.service.must(&["feed", "add", name, "--url-stdin", "--device", &at], &url);
    }

    fn tune(&self, arguments: &[&str]) -> Output {
        self.service.run(&[&["feed", "tune", "Crossing", "--json"], arguments].concat())
    }

    fn show(&self) -> Value {
        read(&self.tune(&["--show"]))
    }

    /// Adds a relay to a platform that accepts 720 lines.
    fn add_relay(&self) {
        let server = self.world.platform.server();
        self.service.must(&["platform", "add", "Narrow", "--set", "video.max-lines=720"], "");
        let add = ["destination", "add", "Stage", "--server", &server, "--platform", "Narrow", "--key-stdin"];
        self.service.must(&add, KEY);
        self.service.must(&["relay", "add", "Crossing", "--feed", "Crossing", "--to", "Stage"], "");
    }
}

fn read(output: &Output) -> Value {
    serde_json::from_str(&text(&output.stdout)).unwrap_or_else(|_| panic!("{output:?}"))
}

/// Returns name, reported value and outcome of each setting.
fn outcomes(result: &Value) -> Vec<(String, String, String)> {
    let of = |setting: &Value, name: &str| setting[name].as_str().unwrap().to_owned();
    let settings = result["settings"].as_array().unwrap().iter();
    settings
        .map(|setting| (of(setting, "setting"), of(setting, "reported"), of(setting, "outcome")))
        .collect()
}

fn applied(setting: &str, value: &str) -> (String, String, String) {
    (setting.to_owned(), value.to_owned(), "applied".to_owned())
}

#[test]
fn keyframe_interval_and_bit_rate_are_changed_verified_and_restored() {
    let site = Site::start(|_| {});
    let slow = site.tune(&["--keyframe", "10s", "--rate", "8Mbit/s"]);
    assert!(slow.status.success(), "{slow:?}");
    assert_eq!(
        outcomes(&read(&slow)),
        [applied("bit-rate", "8000 kbit/s"), applied("keyframes", "every 10 s")]
    );
    let quick = read(&site.tune(&["--keyframe", "2s", "--rate", "3Mbit/s"]));
    assert_eq!(outcomes(&quick), [applied("bit-rate", "3000 kbit/s"), applied("keyframes", "every 2 s")]);
    // Measured by another survey.
    let survey = site.service.must(&["feed", "survey", "Crossing", "--for", "6s", "--json"], "");
    let survey: Value = serde_json::from_str(&survey).unwrap();
    let measured = &survey["main"]["measured"];
    let kbps = measured["video_kbps"].as_f64().unwrap();
    assert!((2_700.0..3_300.0).contains(&kbps), "{measured:#}");
    assert!((measured["keyframe_max_s"].as_f64().unwrap() - 2.0).abs() < 0.2, "{measured:#}");
    let undone = read(&site.tune(&["--undo"]));
    assert_eq!(outcomes(&undone), [applied("bit-rate", "8000 kbit/s"), applied("keyframes", "every 10 s")]);
    // The first change is undone next, and then nothing is left.
    let undone = read(&site.tune(&["--undo"]));
    assert_eq!(undone["verified"], true, "{undone:#}");
    let nothing = site.tune(&["--undo"]);
    assert!(text(&nothing.stderr).contains("device.nothing-to-undo"), "{nothing:?}");
    let audit = site.service.must(&["audit"], "");
    assert!(audit.contains("tuned feed Crossing") && audit.contains("every 10 s → every 2 s"), "{audit}");
    assert!(!audit.contains(CAMERA_PASSWORD) && !site.service.log().contains(CAMERA_PASSWORD));
}

#[rstest]
#[case::ignores(EncoderQuirk::Ignores, "ignored", "kept the former bit rate")]
#[case::needs_a_restart(EncoderQuirk::NeedsRestart, "pending", "still sends the former bit rate")]
#[case::changes_another(EncoderQuirk::OtherProfileOnce, "ignored", "Its former settings were restored")]
fn camera_that_says_yes_and_does_nothing_is_found_out(
    #[case] quirk: EncoderQuirk,
    #[case] outcome: &str,
    #[case] message: &str,
) {
    let site = Site::start(|config| config.encoder_quirk = quirk);
    let before = site.show();
    let output = site.tune(&["--rate", "256kbit/s"]);
    assert_eq!(output.status.code(), Some(1), "{output:?}");
    let result = read(&output);
    assert_eq!((&result["verified"], &result["settings"][0]["outcome"]), (&false.into(), &outcome.into()));
    assert!(result["message"].as_str().unwrap().contains(message), "{result:#}");
    assert!(result["next_step"].is_string(), "{result:#}");
    if quirk != EncoderQuirk::NeedsRestart {
        // Nothing was changed, so nothing can be undone.
        assert_eq!(site.show()["undo"], Value::Null);
        return;
    }
    site.device.set_encoder_quirk(EncoderQuirk::None);
    let undone = read(&site.tune(&["--undo"]));
    let rate = format!("{} kbit/s", before["configured"]["kbps"]);
    assert_eq!(outcomes(&undone), [applied("bit-rate", &rate)], "{undone:#}");
}

#[test]
fn refusals_have_the_reason_of_the_camera_and_leave_nothing_to_undo() {
    let site = Site::start(|config| config.encoder_quirk = EncoderQuirk::Refuses);
    let refused = text(&site.tune(&["--rate", "3Mbit/s"]).stderr);
    assert!(
        refused.contains("device.refused") && refused.contains("locked by the administrator"),
        "{refused}"
    );
    let not_offered = text(&site.tune(&["--rate", "90Mbit/s"]).stderr);
    assert!(not_offered.contains("it offers 128 to 16384 kbit/s"), "{not_offered}");
    assert_eq!(site.show()["undo"], Value::Null);
    let nowhere = text(&site.tune(&["--show", "--device", "127.0.0.1:9"]).stderr);
    assert!(nowhere.contains("device.unreachable") && nowhere.contains("--device"), "{nowhere}");
    site.service.must(&["feed", "edit", "Crossing", "--user", "rail", "--password-stdin"], "wrong");
    let signed = text(&site.tune(&["--show"]).stderr);
    assert!(signed.contains("device.sign-in-refused"), "{signed}");
}

#[test]
fn encoder_of_other_profiles_needs_consent() {
    let site = Site::start(|config| {
        for profile in &mut config.profiles {
            if profile.token == "bandstand" {
                profile.encoder_of = Some("crossing".into());
            }
        }
    });
    assert_eq!(site.show()["shared_with"], json!(["bandstand"]));
    let refused = text(&site.tune(&["--rate", "512kbit/s"]).stderr);
    assert!(refused.contains("device.shared-encoder") && refused.contains("--shared"), "{refused}");
    let changed = read(&site.tune(&["--rate", "512kbit/s", "--shared"]));
    assert_eq!(changed["verified"], true, "{changed:#}");
}

#[test]
fn shared_audio_encoder_needs_consent_for_audio_only() {
    let site = Site::start(|config| {
        for profile in &mut config.profiles {
            if profile.token == "box" {
                profile.audio_encoder_of = Some("bandstand".into());
            }
        }
    });
    let tune = |name: &str, arguments: &[&str]| {
        site.service.run(&[&["feed", "tune", name, "--json"], arguments].concat())
    };
    site.add_feed("Bandstand", "/bandstand");
    let shown = read(&tune("Bandstand", &["--show"]));
    assert_eq!((&shown["shared_with"], &shown["audio_shared_with"]), (&json!([]), &json!(["box"])));
    let refused = text(&tune("Bandstand", &["--audio", "G.711"]).stderr);
    assert!(refused.contains("device.shared-encoder") && refused.contains("box"), "{refused}");
    let changed = read(&tune("Bandstand", &["--rate", "512kbit/s"]));
    assert_eq!(changed["verified"], true, "{changed:#}");
}

#[test]
fn account_that_may_only_read_the_settings_is_named_as_such() {
    let site = Site::start(|config| config.encoder_quirk = EncoderQuirk::ReadOnly);
    let refused = text(&site.tune(&["--rate", "512kbit/s"]).stderr);
    assert!(
        refused.contains("device.not-permitted")
            && refused.contains("account of the camera's administrators"),
        "{refused}"
    );
    assert_eq!(site.show()["undo"], Value::Null);
}

#[test]
fn preflight_offers_what_the_camera_can_do() {
    let site = Site::start(|_| {});
    site.add_relay();
    let failed = read(&site.service.run(&["relay", "preflight", "Crossing", "--json"]));
    let size = failed["checks"].as_array().unwrap().iter().find(|check| check["check"] == "size").unwrap();
    assert_eq!((&size["level"], &size["tune"]), (&"fail".into(), &true.into()), "{size:#}");
    assert!(size["next_step"].as_str().unwrap().contains("yonder feed tune \"Crossing\""), "{size:#}");
    let shown = site.show();
    assert_eq!(shown["proposed"]["size"], json!({ "width": 1280, "height": 720 }), "{shown:#}");
    assert_eq!(shown["reasons"][0]["destination"], "Stage");
    let tuned = read(&site.tune(&["--yes"]));
    assert_eq!(tuned["verified"], true, "{tuned:#}");
    let passed = site.service.run(&["relay", "preflight", "Crossing", "--json"]);
    assert!(passed.status.success(), "{passed:?}");
    site.service.must(&["relay", "start", "Crossing"], "");
    site.service.wait_live("Crossing");
    // A change on air: the camera ends its sessions, and the push continues with the new size.
    let smaller = read(&site.tune(&["--size", "640x360"]));
    assert_eq!(smaller["verified"], true, "{smaller:#}");
    site.service.wait("Crossing", "live with 360 lines", |relay| {
        relay["feed"]["video"]["height"] == 360 && relay["pushes"][0]["state"] == "live"
    });
}
