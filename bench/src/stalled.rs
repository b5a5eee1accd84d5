//! Effect of a stalled push on other pushes.

use std::time::Duration;

use anyhow::ensure;
use yonder_core::PushPhase;
use yonder_engine::{Engine, FeedSpec, HoldSpec, RelaySpec, RtspSpec, SourceSpec, TransportChoice};
use yonder_rtsp::CameraUrl;

use crate::load::{Load, PATH, push};

/// Runs eight pushes of one feed, one of which goes to a platform that reads nothing, and prints the loss of the other seven.
#[expect(clippy::print_stdout, reason = "this is the figure")]
pub(crate) fn run(seconds: u64) -> anyhow::Result<()> {
    const PUSHES: u32 = 8;
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build()?;
    runtime.block_on(async {
        let load = Load::start(4, PUSHES - 1)?;
        let stuck = Load::start(4, PUSHES)?;
        let engine = Engine::new(tokio::runtime::Handle::current());
        let (url, credentials) = CameraUrl::parse(&load.camera.url(PATH))?;
        let feed = FeedSpec {
            name: "load".into(),
            source: SourceSpec::Rtsp(RtspSpec {
                url,
                credentials,
                secret_lost: false,
                transport: TransportChoice::Tcp,
                pin: None,
            }),
            history: Default::default(),
            measured: None,
        };
        let mut pushes = (0..PUSHES - 1)
            .map(|at| push(at, &load.platform.server()))
            .collect::<anyhow::Result<Vec<_>>>()?;
        pushes.push(push(PUSHES - 1, &stuck.platform.server())?);
        engine.apply(RelaySpec { name: "load".into(), feed, pushes, hold: HoldSpec::default(), hls: false });
        tokio::time::sleep(Duration::from_secs(3)).await;
        stuck.platform.change(|faults| faults.frozen = true);
        tokio::time::sleep(Duration::from_secs(seconds)).await;
        let view = engine.relay("load");
        let all = view.map(|view| view.pushes).unwrap_or_default();
        let lost: u64 = all.iter().take(7).map(|push| push.frames_dropped).sum();
        let live = all.iter().take(7).filter(|push| push.state == PushPhase::Live).count();
        let state = all.last().map_or(PushPhase::Off, |push| push.state);
        println!(
            "Eight pushes, one stalled for {seconds} s (now {state}): {live} of 7 live, {lost} pictures lost"
        );
        ensure!(lost == 0 && live == 7, "neighbours were hurt: {all:?}");
        Ok(())
    })
}
