//! Uplinks that destinations are bound to, by command, with an address of this machine that goes and comes back.

use crate::support::{KEY, Service, World, privileged, text};
use serde_json::Value;

/// An address for documentation, which this machine has for as long as the value lives.
struct Address;

impl Address {
    const TEXT: &str = "192.0.2.41";

    /// # Panics
    /// Message if addresses cannot be added: the test needs root, or `sudo` without a password.
    fn take() -> Self {
        assert!(ip("add"), "addresses of this machine cannot be changed");
        Self
    }
}

impl Drop for Address {
    fn drop(&mut self) {
        ip("del");
    }
}

fn ip(verb: &str) -> bool {
    let address = format!("{}/32", Address::TEXT);
    let output = privileged("ip").args(["address", verb, &address, "dev", "lo"]).output();
    output.is_ok_and(|output| output.status.success())
}

fn line_by_two_uplinks(world: &World) -> Service {
    let service = Service::start();
    service.set_up_line(world);
    let fibre = ["uplink", "add", "Office fibre", "--rate", "40Mbit/s", "--source", Address::TEXT];
    service.must(&fibre, "");
    service.must(
        &["uplink", "add", "Office radio", "--rate", "12Mbit/s", "--backup", "--source", "127.0.0.43"],
        "",
    );
    let bind = ["--uplink", "Office fibre", "--uplink", "office radio", "--return-after", "5"];
    service.must(&[&["destination", "edit", "Bramble"], &bind[..]].concat(), "");
    service
}

fn by<'a>(uplink: &'a str) -> impl Fn(&Value) -> bool + 'a {
    move |relay| relay["pushes"][0]["state"] == "live" && relay["pushes"][0]["uplink"] == uplink
}

#[test]
fn a_push_survives_an_uplink_that_goes_and_returns_once_it_is_back() {
    let world = World::start();
    let address = Address::take();
    let mut service = line_by_two_uplinks(&world);
    service.must(&["relay", "start", "Line", "--force"], "");
    service.wait("Line", "by the fibre", by("Office fibre"));
    drop(address);
    // The connection hangs for ten seconds before it counts as dead; the platform notices later than we do.
    service.wait("Line", "on its way by the radio", |relay| {
        let push = &relay["pushes"][0];
        push["uplink"] == "Office radio" && push["cause"]["code"] == "push.key-busy"
    });
    world.platform.change(|faults| faults.resets += 1);
    service.wait("Line", "by the radio", by("Office radio"));
    let _address = Address::take();
    let relay = service.wait("Line", "by the fibre again", by("Office fibre"));
    assert_eq!(relay["pushes"][0]["reconnects"], 2, "{relay:#}");
    let output = service.must(&["logbook"], "");
    assert!(output.contains("push.uplink-away"), "{output}");
    // Traffic is counted per uplink, and written at the end.
    assert!(service.stop());
    service.start_again();
    let uplinks: Value = serde_json::from_str(&service.must(&["uplink", "list", "--json"], "")).unwrap();
    let sent: Vec<u64> =
        uplinks.as_array().unwrap().iter().map(|one| one["sent_bytes"].as_u64().unwrap()).collect();
    assert!(sent.len() == 2 && sent.iter().all(|bytes| *bytes > 10_000), "{uplinks:#}");
}

#[test]
fn uplink_bindings_are_checked_before_they_are_stored() {
    let service = Service::start();
    service.must(&["uplink", "add", "Office fibre", "--rate", "40Mbit/s", "--source", "127.0.0.44"], "");
    service.must(&["uplink", "add", "Plain", "--rate", "40Mbit/s"], "");
    let add = ["destination", "add", "Bramble", "--server", "rtmp://ingest.example.net/live", "--key-stdin"];
    let refused = [
        (vec!["uplink", "edit", "Plain", "--source", "summit"], "is no IP address"),
        (vec!["uplink", "edit", "Plain", "--interface", "a-name-that-is-too-long"], "no name of a network"),
        (vec!["uplink", "add", "Mast", "--rate", "4Mbit/s", "--site", "Summit", "--interface", "lo"], "site"),
        (vec!["uplink", "edit", "Plain", "--source", "::1", "--interface", "lo"], "cannot be used with"),
        ([&add[..], &["--uplink", "Plain"]].concat(), "Nothing binds a push to the uplink"),
        ([&add[..], &["--uplink", "Office fiber"]].concat(), "Office fibre"),
        ([&add[..], &["--uplink", "Office fibre", "--uplink", "OFFICE FIBRE"]].concat(), "named twice"),
    ];
    for (arguments, words) in refused {
        let output = service.run_with(&arguments, KEY);
        let said = text(&output.stderr);
        assert!(
            !output.status.success() && said.contains(words),
            "{arguments:?}: {said} {}",
            text(&output.stdout)
        );
    }
    service.must(&[&add[..], &["--uplink", "Office fibre"]].concat(), KEY);
    assert!(service.must(&["destination", "show", "Bramble"], "").contains("uplinks    Office fibre\n"));
    for arguments in
        [["uplink", "remove", "Office fibre"].as_slice(), &["uplink", "edit", "Office fibre", "--source", ""]]
    {
        let said = text(&service.run(arguments).stderr);
        assert!(said.contains("is used by Bramble"), "{arguments:?}: {said}");
    }
    service.must(&["uplink", "edit", "Office fibre", "--interface", "lo"], "");
    assert!(service.must(&["uplink", "show", "Office fibre"], "").contains("leaves by  lo\n"));
    service.must(&["destination", "edit", "Bramble", "--no-uplink"], "");
    service.must(&["uplink", "remove", "Office fibre"], "");
}
