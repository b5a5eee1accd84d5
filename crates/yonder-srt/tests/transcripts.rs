//! Dialogues written by hand from the draft, run against the caller and against the listener.

#![expect(clippy::unwrap_used, clippy::panic, reason = "a test ends where something unexpected happens")]

use std::collections::VecDeque;
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

use bytes::{Bytes, BytesMut};
use yonder_address::{KeyLength, Passphrase, StreamKey};
use yonder_protocol::{Core as _, DatagramCore as _};
use yonder_srt::{
    Caller, CallerConfig, Connection, Entropy, KeyRefresh, Listener, ListenerConfig, ListenerEvent, Packet,
};
use yonder_transcript::{Side, Step, Transcript, Variables};

const ADDRESS: IpAddr = IpAddr::V4(std::net::Ipv4Addr::new(192, 0, 2, 7));
const PASSPHRASE: &str = "steam and semaphores";

/// Bytes 1, 2, 3 and so on: eight for socket and sequence number, sixteen for the salt, sixteen for each key.
fn entropy() -> Entropy {
    let mut next = 0_u8;
    Box::new(move |out| {
        for byte in out {
            next = next.wrapping_add(1);
            *byte = next;
        }
    })
}

fn ms(ms: u64) -> Duration {
    Duration::from_millis(ms)
}

fn phrase() -> Passphrase {
    Passphrase::parse(PASSPHRASE).unwrap()
}

/// A payload that the caller is given at a time, or its end.
enum Action {
    Send(&'static str),
    Close,
}

struct Script {
    transcript: Transcript,
    is_encrypted: bool,
    refresh: KeyRefresh,
    /// Actions of the caller's application, by time.
    actions: Vec<(u64, Action)>,
}

/// One side of a connection, driven millisecond by millisecond.
trait Half {
    fn advance(&mut self, now: Duration);
    fn handle(&mut self, datagram: Bytes, now: Duration);
    fn transmit(&mut self, now: Duration) -> Option<Bytes>;
}

struct CallerHalf {
    caller: Caller,
    actions: VecDeque<(u64, Action)>,
}

impl Half for CallerHalf {
    fn advance(&mut self, now: Duration) {
        while self.actions.front().is_some_and(|(at, _)| ms(*at) <= now) {
            match self.actions.pop_front().unwrap().1 {
                Action::Send(text) => self.caller.send(Bytes::from_static(text.as_bytes()), now),
                Action::Close => self.caller.close(now, Duration::ZERO),
            }
        }
        self.caller.handle_timeout(now);
    }

    fn handle(&mut self, datagram: Bytes, now: Duration) {
        self.caller.handle_datagram((), datagram, now);
    }

    fn transmit(&mut self, now: Duration) -> Option<Bytes> {
        let mut out = BytesMut::new();
        self.caller.poll_datagram(now, now, &mut out)?;
        Some(out.freeze())
    }
}

struct ListenerHalf {
    listener: Listener,
    accepted: Option<(u32, Connection)>,
    stream_id: Option<String>,
    received: Vec<Bytes>,
}

impl Half for ListenerHalf {
    fn advance(&mut self, now: Duration) {
        if let Some((_, connection)) = &mut self.accepted {
            connection.handle_timeout(now);
            self.received.extend(std::iter::from_fn(|| connection.poll_data(now)));
        }
    }

    fn handle(&mut self, datagram: Bytes, now: Duration) {
        let packet = Packet::read(datagram.clone()).unwrap();
        match &mut self.accepted {
            Some((socket, connection)) if packet.destination == *socket => {
                connection.handle_datagram((), datagram, now);
            }
            _ => self.listener.handle_datagram(SocketAddr::new(ADDRESS, 40_000), datagram, now),
        }
    }

    fn transmit(&mut self, now: Duration) -> Option<Bytes> {
        // The application takes its time.
        if now >= ms(40)
            && let Some(ListenerEvent::Request(request)) = self.listener.poll_event()
        {
            self.stream_id = request.stream_id.as_ref().map(|id| id.expose().to_owned());
            self.accepted = Some(self.listener.accept(*request, now));
        }
        let mut out = BytesMut::new();
        if self.listener.poll_datagram(now, now, &mut out).is_some() {
            return Some(out.freeze());
        }
        let (_, connection) = self.accepted.as_mut()?;
        connection.poll_datagram(now, now, &mut out)?;
        Some(out.freeze())
    }
}

/// Runs a transcript against one side: what it sends must be the steps of that side, and nothing else.
fn run(steps: &[Step], side: Side, half: &mut impl Half) {
    let mut variables = Variables::default();
    let mut sent = VecDeque::new();
    let mut now = Duration::ZERO;
    half.advance(now);
    for step in steps {
        while now < step.at {
            sent.extend(std::iter::from_fn(|| half.transmit(now)));
            now += ms(1);
            half.advance(now);
        }
        sent.extend(std::iter::from_fn(|| half.transmit(now)));
        if step.side == side {
            let datagram = sent.pop_front().unwrap_or_else(|| panic!("line {}: nothing was sent", step.line));
            let checked = step.pattern.check(&datagram, &mut variables);
            checked.unwrap_or_else(|mismatch| panic!("line {}: {mismatch}", step.line));
        } else if !step.is_lost {
            half.handle(step.pattern.bytes(&mut variables).into(), now);
        }
    }
    assert!(sent.is_empty(), "sent besides: {sent:02x?}");
}

fn run_caller(script: Script) {
    let Script { transcript, is_encrypted, refresh, actions } = script;
    let config = CallerConfig {
        stream_id: Some(StreamKey::from_stored("publish/summit".into())),
        encryption: is_encrypted.then(|| (phrase(), KeyLength::Aes128)),
        latency: ms(120),
        refresh,
        address: ADDRESS,
        induction_only: false,
        entropy: entropy(),
    };
    let caller = Caller::new(config, Duration::ZERO);
    run(&transcript.steps, Side::Client, &mut CallerHalf { caller, actions: actions.into() });
}

fn run_listener(script: &Script) -> (Option<String>, Vec<Bytes>) {
    let config = ListenerConfig {
        passphrase: script.is_encrypted.then(phrase).into(),
        key_length: KeyLength::Aes128,
        latency: ms(120),
        secret: 7,
    };
    let listener = Listener::new(config, Duration::ZERO);
    let mut half = ListenerHalf { listener, accepted: None, stream_id: None, received: Vec::new() };
    run(&script.transcript.steps, Side::Server, &mut half);
    (half.stream_id, half.received)
}

fn transcript(parts: &[&str]) -> Transcript {
    Transcript::parse(&parts.concat()).unwrap()
}

fn plain() -> Script {
    Script {
        transcript: transcript(&[
            include_str!("transcripts/handshake.txt"),
            include_str!("transcripts/plain.txt"),
        ]),
        is_encrypted: false,
        refresh: KeyRefresh::default(),
        actions: vec![
            (60, Action::Send("summit")),
            (62, Action::Send("valley")),
            (64, Action::Send("tunnel")),
            (200, Action::Close),
        ],
    }
}

fn sealed() -> Script {
    let payloads = ["p0", "p1", "p2", "p3", "p4"];
    Script {
        transcript: transcript(&[include_str!("transcripts/sealed.txt")]),
        is_encrypted: true,
        refresh: KeyRefresh { every: 4, announce: 2 },
        actions: (0..).zip(payloads).map(|(at, payload)| (60 + 2 * at, Action::Send(payload))).collect(),
    }
}

#[test]
fn caller_follows_the_transcript_without_encryption() {
    run_caller(plain());
}

#[test]
fn listener_follows_the_transcript_without_encryption() {
    let (stream_id, received) = run_listener(&plain());
    assert_eq!(stream_id.as_deref(), Some("publish/summit"));
    assert_eq!(received, ["summit", "valley", "tunnel"]);
}

#[test]
fn caller_follows_the_transcript_with_encryption_and_key_change() {
    run_caller(sealed());
}

#[test]
fn listener_follows_the_transcript_with_encryption_and_key_change() {
    let mut script = sealed();
    // Time for everything to be released.
    let last = script.transcript.steps.last().unwrap().clone();
    script.transcript.steps.push(Step { at: ms(300), is_lost: true, side: Side::Client, ..last });
    let (_, received) = run_listener(&script);
    assert_eq!(received, ["p0", "p1", "p2", "p3", "p4"]);
}

#[test]
fn caller_answers_a_report_of_dropped_packets() {
    let parts = [include_str!("transcripts/handshake.txt"), include_str!("transcripts/drop.txt")];
    run_caller(Script {
        transcript: transcript(&parts),
        is_encrypted: false,
        refresh: KeyRefresh::default(),
        actions: vec![(60, Action::Send("summit"))],
    });
}
