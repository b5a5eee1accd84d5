//! Camera discovery.

use std::time::Duration;

use yonder_api::{FoundCamera, FoundChannel, FoundStream, NewDiscovery};
use yonder_engine::{FindRequest, FindTarget};
use yonder_rtsp::Credentials;

use super::Planner;
use yonder_records::JobContext;
use yonder_records::ServiceError;
use yonder_records::views;

/// Default wait for responses, in seconds.
const DEFAULT_SECONDS: u32 = 3;
const MAX_SECONDS: u32 = 30;
/// Maximum hosts in one discovery.
const MAX_HOSTS: usize = 64;

impl Planner {
    /// Discovers cameras.
    ///
    /// # Errors
    /// An invalid duration or host, or a machine without a network.
    pub async fn find(
        &self,
        new: NewDiscovery,
        context: &JobContext,
    ) -> Result<Vec<FoundCamera>, ServiceError> {
        let seconds = new.for_s.unwrap_or(DEFAULT_SECONDS);
        if !(1..=MAX_SECONDS).contains(&seconds) {
            return Err(ServiceError::Invalid {
                field: "for_s",
                detail: format!("{seconds} s is not from 1 to {MAX_SECONDS} s"),
                hint: "Three seconds are enough for most networks.",
            });
        }
        let credentials = match (new.user.filter(|user| !user.is_empty()), new.password) {
            (Some(user), password) => {
                let password = password.map_or_else(|| "".into(), yonder_api::Secret::into_inner);
                Some(Credentials { user, password })
            }
            (None, Some(_)) => {
                return Err(ServiceError::Invalid {
                    field: "user",
                    detail: "a password is given without a user name".to_owned(),
                    hint: "Give the user name as well.",
                });
            }
            (None, None) => None,
        };
        let hosts = hosts_of(new.at.as_deref());
        if hosts.len() > MAX_HOSTS {
            return Err(ServiceError::Invalid {
                field: "at",
                detail: format!("{} hosts are more than {MAX_HOSTS}", hosts.len()),
                hint: "Split them into several searches.",
            });
        }
        let target = match (hosts.is_empty(), credentials) {
            (true, None) => FindTarget::Networks,
            (true, Some(_)) => {
                return Err(ServiceError::Invalid {
                    field: "at",
                    detail: "user name and password are sent only to hosts that you list".to_owned(),
                    hint: "Search without them first, then list the hosts of your cameras: any device in the network can reply to a search.",
                });
            }
            (false, credentials) => FindTarget::Hosts { hosts, credentials },
        };
        let request = FindRequest { target, wait: Duration::from_secs(u64::from(seconds)) };
        context.set_step("waiting for answers of cameras");
        let engine = self.engine.clone();
        let found = self.engine.runtime().spawn(async move { engine.find(request).await });
        let found = async { found.await.map_err(|_| ServiceError::Internal("the search was interrupted")) };
        let found = context.unless_canceled(found).await?;
        let found = found.map_err(|error| ServiceError::Invalid {
            field: "at",
            detail: error.to_string(),
            hint: "Name a camera's host like 192.0.2.7 or cam.example.net:8080, or omit it to search the local networks.",
        })?;
        Ok(found.into_iter().map(camera).collect())
    }
}

/// Splits a comma-separated list of hosts.
fn hosts_of(at: Option<&str>) -> Vec<String> {
    let hosts = at.unwrap_or_default().split(',').map(str::trim);
    hosts.filter(|host| !host.is_empty()).map(str::to_owned).collect()
}

fn camera(found: yonder_engine::FoundCamera) -> FoundCamera {
    let mut sources: Vec<String> = Vec::new();
    for stream in &found.streams {
        if !sources.contains(&stream.profile.source) {
            sources.push(stream.profile.source.clone());
        }
    }
    let one = sources.len() == 1;
    let channels = sources
        .iter()
        .enumerate()
        .map(|(at, source)| {
            let name = if one { found.name.clone() } else { format!("{} {}", found.name, at + 1) };
            let own = found.streams.iter().filter(|stream| stream.profile.source == *source);
            let mut streams: Vec<FoundStream> = own.map(stream).collect();
            streams
                .sort_by_key(|stream| std::cmp::Reverse(u64::from(stream.width) * u64::from(stream.height)));
            FoundChannel { name, streams }
        })
        .collect();
    FoundCamera {
        name: found.name,
        host: found.host,
        service: found.service,
        model: found.facts.model,
        firmware: found.facts.firmware,
        clock_ahead_s: found.clock_ahead_s,
        channels,
        problem: found.problem,
        needs_sign_in: found.needs_sign_in,
    }
}

fn stream(found: &yonder_engine::FoundStream) -> FoundStream {
    let profile = &found.profile;
    let codec = match profile.codec.as_str() {
        "H264" => "H.264",
        "H265" => "H.265",
        other => other,
    };
    FoundStream {
        profile: if profile.name.is_empty() { profile.token.clone() } else { profile.name.clone() },
        codec: codec.to_owned(),
        width: profile.width,
        height: profile.height,
        fps: profile.fps,
        kbps: profile.kbps,
        keyframe_interval_s: profile.keyframe_interval_s().map(views::to_hundredths),
        audio: profile.audio.clone(),
        address: found.address.clone(),
        reported_address: found.reported_address.clone(),
    }
}
