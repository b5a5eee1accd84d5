//! `yonder feed find`: camera discovery.

use std::time::Duration;

use clap::Args;
use url::Url;
use yonder_api::{Feed, FoundCamera, FoundChannel, FoundStream, NewDiscovery, NewFeed, Secret, Transport};

use super::AccountArguments;
use crate::client::Client;
use crate::duration::parse_duration;
use crate::failure::Failure;
use crate::output::{Tone, colorize, has_color, print, print_json, table, wants_json};

#[derive(Debug, Args)]
pub(crate) struct FindArguments {
    /// Hosts, with the port of their web service unless it is 80; if omitted, the networks of the service's machine are
    /// probed, without credentials.
    #[arg(long, value_name = "HOST", value_delimiter = ',')]
    at: Vec<String>,
    #[command(flatten)]
    account: AccountArguments,
    /// Time to wait for responses, from 1s to 30s.
    #[arg(long = "for", value_parser = parse_duration, value_name = "TIME", default_value = "3s")]
    duration: Duration,
    /// Add the found cameras as feeds: `all`, or numbers of the list like `1,3`. The largest stream becomes the main
    /// stream, the smallest the sub stream; the given credentials are stored with them.
    #[arg(long, value_name = "WHICH")]
    add: Option<String>,
}

pub(super) fn run(arguments: FindArguments, client: &Client) -> Result<(), Failure> {
    let password = arguments.account.password()?;
    let user = arguments.account.user;
    let new = NewDiscovery {
        at: Some(arguments.at.join(",")).filter(|hosts| !hosts.is_empty()),
        user: user.clone(),
        password: password.clone(),
        for_s: Some(u32::try_from(arguments.duration.as_secs()).unwrap_or(u32::MAX)),
    };
    let cameras: Vec<FoundCamera> = client.run_job(&["discoveries"], &new)?;
    let channels: Vec<(&FoundCamera, &FoundChannel)> = cameras
        .iter()
        .flat_map(|camera| camera.channels.iter().map(move |channel| (camera, channel)))
        .collect();
    let chosen = arguments.add.as_deref().map(|which| choose(which, channels.len())).transpose()?;
    let mut added: Vec<Feed> = Vec::new();
    for at in chosen.into_iter().flatten() {
        if let Some((camera, channel)) = channels.get(at)
            && let Some(new) = feed_of(camera, channel, user.clone(), password.clone())
        {
            added.push(client.post(&["feeds"], &new)?);
        }
    }
    if wants_json() {
        return if arguments.add.is_some() { print_json(&added) } else { print_json(&cameras) };
    }
    print(&text(&cameras, has_color()));
    if let Some(hint) = sign_in_hint(&cameras, user.as_deref()) {
        print(&hint);
    }
    for feed in &added {
        print(&format!("Feed {} added.\n", feed.name));
    }
    Ok(())
}

/// Returns the command for cameras that require credentials, if none were given.
fn sign_in_hint(cameras: &[FoundCamera], user: Option<&str>) -> Option<String> {
    let hosts: Vec<String> = cameras
        .iter()
        .filter(|camera| camera.needs_sign_in)
        .map(|camera| authority_of(&camera.service))
        .collect();
    if hosts.is_empty() || user.is_some() {
        return None;
    }
    Some(format!(
        "\nSign in to your cameras:\n  yonder feed find --at {} --user NAME --password-file FILE\n",
        hosts.join(",")
    ))
}

/// Returns host and port of a device service.
fn authority_of(service: &str) -> String {
    Url::parse(service).map_or_else(|_| service.to_owned(), |url| url.authority().to_owned())
}

/// Parses `all`, or a list of numbers from one, to indices of the list.
fn choose(which: &str, count: usize) -> Result<Vec<usize>, Failure> {
    if which.trim().eq_ignore_ascii_case("all") {
        return Ok((0..count).collect());
    }
    let read = |part: &str| {
        let number = part.trim().parse::<usize>().ok().filter(|number| (1..=count).contains(number));
        number.map(|number| number - 1)
    };
    let chosen: Option<Vec<usize>> = which.split(',').map(read).collect();
    chosen.ok_or_else(|| {
        Failure::Usage(format!(
            "--add {which:?}: give `all`, or numbers of the list from 1 to {count}, like 1,3"
        ))
    })
}

fn feed_of(
    camera: &FoundCamera,
    channel: &FoundChannel,
    user: Option<String>,
    password: Option<Secret>,
) -> Option<NewFeed> {
    let main = channel.streams.first()?;
    let sub = channel.streams.last().filter(|_| channel.streams.len() > 1);
    Some(NewFeed {
        name: channel.name.clone(),
        url: main.address.clone().into(),
        sub_url: sub.map(|sub| sub.address.clone().into()),
        transport: Transport::Auto,
        user,
        password,
        device: Some(camera.service.clone()).filter(|service| !service.is_empty()),
        ..NewFeed::default()
    })
}

fn text(cameras: &[FoundCamera], color: bool) -> String {
    if cameras.is_empty() {
        return "No cameras found. Discovery reaches cameras in the same network segment that have ONVIF discovery\n\
            enabled; query a host directly with --at HOST.\n"
            .to_owned();
    }
    let mut text = String::new();
    let mut number = 0;
    for camera in cameras {
        let firmware = if camera.firmware.is_empty() {
            String::new()
        } else {
            format!(", firmware {}", camera.firmware)
        };
        let model =
            if camera.model.is_empty() { String::new() } else { format!("  {}{firmware}", camera.model) };
        let address = authority_of(&camera.service);
        let title = match camera.name == camera.host {
            true => colorize(&address, Tone::Strong, color),
            false => format!("{}  {address}", colorize(&camera.name, Tone::Strong, color)),
        };
        text += &format!("{title}{model}\n");
        if let Some(problem) = &camera.problem {
            text += &format!("  {}\n", colorize(problem, Tone::Bad, color));
        }
        if let Some(ahead) = camera.clock_ahead_s.filter(|ahead| ahead.abs() > 30) {
            let direction = if ahead > 0 { "ahead of" } else { "behind" };
            let note =
                format!("the camera's clock is {} s {direction} the clock of the service", ahead.abs());
            text += &format!("  {}\n", colorize(&note, Tone::Wait, color));
        }
        let mut rows = Vec::new();
        let mut reported = None;
        for channel in &camera.channels {
            number += 1;
            for (at, stream) in channel.streams.iter().enumerate() {
                rows.push(row(if at == 0 { number.to_string() } else { String::new() }, stream));
                reported = reported.or(stream.reported_address.as_deref());
            }
        }
        if !rows.is_empty() {
            let head = ["NO", "PROFILE", "CODEC", "SIZE", "FPS", "KBIT/S", "KEYFRAME", "ADDRESS"];
            for line in table(&head, &rows).lines() {
                text += &format!("  {line}\n");
            }
        }
        if let Some(reported) = reported {
            let note = format!("reported as {reported}: replaced by the host that replied");
            text += &format!("  {}\n", colorize(&note, Tone::Quiet, color));
        }
        text.push('\n');
    }
    text.trim_end().to_owned() + "\n"
}

fn row(number: String, stream: &FoundStream) -> Vec<String> {
    let or_dash = |value: Option<String>| value.unwrap_or_else(|| "-".to_owned());
    vec![
        number,
        stream.profile.clone(),
        stream.codec.clone(),
        format!("{}x{}", stream.width, stream.height),
        or_dash(stream.fps.map(|fps| format!("{fps}"))),
        or_dash(stream.kbps.map(|kbps| kbps.to_string())),
        or_dash(stream.keyframe_interval_s.map(|seconds| format!("{seconds} s"))),
        stream.address.clone(),
    ]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn cameras_that_need_sign_in_are_in_the_hint() {
        let camera = |service: &str, needs_sign_in| FoundCamera {
            name: "Summit".into(),
            host: "192.0.2.7".into(),
            service: service.into(),
            model: String::new(),
            firmware: String::new(),
            clock_ahead_s: None,
            channels: Vec::new(),
            problem: None,
            needs_sign_in,
        };
        let cameras = [
            camera("http://192.0.2.7/onvif/device_service", true),
            camera("http://192.0.2.8:8080/onvif/device_service", true),
            camera("http://192.0.2.9/onvif/device_service", false),
        ];
        let hint = sign_in_hint(&cameras, None).unwrap();
        assert!(hint.contains("--at 192.0.2.7,192.0.2.8:8080 --user"), "{hint}");
        assert_eq!(sign_in_hint(&cameras, Some("rail")), None);
        assert_eq!(sign_in_hint(&cameras[2..], None), None);
    }

    #[test]
    fn numbers_of_the_list_are_chosen() {
        assert_eq!(choose("all", 3).unwrap(), [0, 1, 2]);
        assert_eq!(choose("1, 3", 3).unwrap(), [0, 2]);
        for wrong in ["0", "4", "x", ""] {
            assert!(choose(wrong, 3).is_err(), "{wrong}");
        }
    }
}
