//! Delivery by RTMP, with TLS or without.
//!
//! The dialogue has a task of its own, which reads, waits for a socket that is full, and watches the time. Units are
//! written by whoever publishes them ([`wire`]).

mod wire;

use std::sync::Arc;

use bytes::BytesMut;
use tokio::net::TcpStream;
use tokio::time::timeout;
use yonder_address::RtmpServer;
use yonder_core::{Cause, CauseCode};

use crate::alarm::Alarm;
use crate::causes;
use crate::dial;
use crate::push::link::Link;
use crate::reach::{TLS_TIMEOUT, trust};
use crate::spec::UplinkSpec;
use crate::tls::TlsError;

use super::{CLOSE_PATIENCE, End, Push, Steps, wait_for_end};

use wire::{Wire, broke};

pub(super) async fn run(
    push: &Arc<Push>,
    server: &RtmpServer,
    uplink: Option<&UplinkSpec>,
) -> Result<End, Cause> {
    let key = push.spec.key.clone().ok_or_else(|| {
        Cause::new(CauseCode::PushKeyRefused, "There is no stream key, and RTMP needs one.")
    })?;
    let steps = Steps::begin(push);
    let link = tokio::select! {
        link = reach(&steps, server, uplink) => link?,
        () = push.hung_up() => return Ok(End::Disabled),
    };
    let stream = link.stream();
    let wire = Wire::open(push, steps, link, server, key);
    let result = tokio::select! {
        result = attend(push, &wire, &stream) => result.map(|()| End::Disabled),
        end = wait_for_end(push) => Ok(end),
    };
    if result.is_ok() {
        close(&wire, &stream).await;
    }
    result
}

async fn reach(steps: &Steps, server: &RtmpServer, uplink: Option<&UplinkSpec>) -> Result<Link, Cause> {
    let addresses = steps.resolve(&server.host, server.port).await?;
    let target = format!("{}:{}", server.host, server.port);
    let stream = dial::connect(&addresses, uplink).await;
    let stream = stream.map_err(|error| causes::push_dial(&error, &target))?;
    steps.note("connected");
    if !server.tls {
        return Ok(Link::plain(stream));
    }
    let trust = trust(steps.push.spec.authority.as_ref());
    let secured = timeout(TLS_TIMEOUT, Link::secure(stream, &server.host, trust)).await;
    let link = secured
        .unwrap_or_else(|_| Err(TlsError::Failed("no answer".to_owned())))
        .map_err(|error| causes::push_tls(&error))?;
    steps.note("TLS agreed");
    Ok(link)
}

/// Runs the dialogue, and sees to what the writing of units leaves behind.
async fn attend(push: &Push, wire: &Wire, stream: &TcpStream) -> Result<(), Cause> {
    let mut input = BytesMut::with_capacity(4096);
    let mut signal = push.output.signal();
    signal.mark_changed();
    let mut alarm = Alarm::new(push.clock);
    wire.lock().start();
    loop {
        let (blocked, deadline) = wire.lock().pump_for_task()?;
        tokio::select! {
            ready = stream.readable() => {
                ready.map_err(|error| broke(&error))?;
                wire.lock().read(&mut input)?;
            }
            ready = stream.writable(), if blocked => ready.map_err(|error| broke(&error))?,
            () = wire.needs_task() => {}
            _ = signal.changed() => push.note_source(),
            () = alarm.until(deadline) => wire.lock().handle_deadline()?,
        }
    }
}

/// Ends the broadcast in order, if the platform still listens: says goodbye, and waits until the platform has
/// heard it. Closing at once could take back what it has not read yet.
async fn close(wire: &Wire, stream: &TcpStream) {
    wire.lock().say_goodbye();
    let farewell = async {
        loop {
            let blocked = wire.lock().write_farewell();
            match blocked {
                Ok(false) => break,
                Ok(true) if stream.writable().await.is_ok() => {}
                Ok(true) | Err(_) => return,
            }
        }
        // What the platform still says is left aside, until it closes.
        let mut rest = BytesMut::new();
        while stream.readable().await.is_ok() && wire.lock().read_rest(&mut rest) {}
    };
    // A platform that does not listen cannot be told.
    let _told = timeout(CLOSE_PATIENCE, farewell).await;
}
