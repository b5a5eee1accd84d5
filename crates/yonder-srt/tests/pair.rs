//! Caller and listener against each other, over a simulated network that loses, delays, reorders and repeats. A failing
//! run prints its seed.

#![expect(clippy::unwrap_used, reason = "a test ends where something unexpected happens")]

use std::convert::Infallible;
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

use bytes::{Bytes, BytesMut};
use rstest::rstest;
use yonder_address::{KeyLength, Passphrase, StreamKey};
use yonder_protocol::simulation::{Datagrams, Line, Network, Random};
use yonder_protocol::{Core, DatagramCore, End};
use yonder_srt::{
    Caller, CallerConfig, CallerEvent, CloseReason, Connection, Entropy, KeyRefresh, Listener,
    ListenerConfig, ListenerEvent, Packet, Rejection, RequiredPassphrase, SrtError,
};

/// A listener with the one connection that it has accepted.
struct Server {
    listener: Listener,
    accepted: Option<(u32, Connection)>,
    /// How the next request is refused; accepted without.
    rejection: Option<Rejection>,
    /// Passphrases by stream ID, for a listener that needs them.
    of_request: Option<fn(&str) -> Option<Passphrase>>,
    stream_id: Option<String>,
    received: Vec<Bytes>,
}

impl Server {
    fn handle_events(&mut self, now: Duration) {
        while let Some(ListenerEvent::Request(request)) = self.listener.poll_event() {
            self.stream_id = request.stream_id.as_ref().map(|id| id.expose().to_owned());
            let mut request = request;
            if let Some(of_request) = self.of_request {
                let passphrase = of_request(self.stream_id.as_deref().unwrap_or_default());
                self.rejection = request.unlock(passphrase.as_ref()).err();
            }
            match self.rejection {
                Some(rejection) => self.listener.reject(&request, rejection, now),
                None => self.accepted = Some(self.listener.accept(*request, now)),
            }
        }
    }
}

impl Core for Server {
    type Event = Infallible;
    type Why = Infallible;

    fn handle_timeout(&mut self, now: Duration) {
        if let Some((_, connection)) = &mut self.accepted {
            connection.handle_timeout(now);
            self.received.extend(std::iter::from_fn(|| connection.poll_data(now)));
        }
    }

    fn poll_timeout(&self) -> Option<Duration> {
        self.accepted.as_ref().and_then(|(_, connection)| connection.poll_timeout())
    }

    fn poll_event(&mut self) -> Option<Infallible> {
        None
    }

    fn end(&self) -> Option<&End<Infallible>> {
        None
    }
}

impl DatagramCore for Server {
    type Path = ();

    fn handle_datagram(&mut self, _path: (), datagram: Bytes, now: Duration) {
        let destination = Packet::read(datagram.clone()).unwrap().destination;
        match &mut self.accepted {
            Some((socket, connection)) if destination == *socket => {
                connection.handle_datagram((), datagram, now);
            }
            _ => self.listener.handle_datagram(CALLER.parse::<SocketAddr>().unwrap(), datagram, now),
        }
        self.handle_events(now);
    }

    fn poll_datagram(&mut self, now: Duration, horizon: Duration, out: &mut BytesMut) -> Option<((), usize)> {
        if let Some((_, length)) = self.listener.poll_datagram(now, horizon, out) {
            return Some(((), length));
        }
        self.accepted.as_mut()?.1.poll_datagram(now, horizon, out)
    }
}

struct Pair {
    network: Network<Datagrams<Caller>, Datagrams<Server>>,
    events: Vec<CallerEvent>,
}

const CALLER: &str = "192.0.2.7:40000";

fn entropy(seed: u64) -> Entropy {
    let mut random = Random::new(seed);
    Box::new(move |out| out.iter_mut().for_each(|byte| *byte = random.next_number().to_le_bytes()[3]))
}

fn phrase(text: &str) -> Passphrase {
    Passphrase::parse(text).unwrap()
}

struct Setup {
    id: Option<&'static str>,
    ours: Option<(&'static str, KeyLength)>,
    theirs: Option<&'static str>,
    refresh: KeyRefresh,
    seed: u64,
    line: Line,
}

impl Default for Setup {
    fn default() -> Self {
        Self {
            id: Some("publish/summit"),
            ours: None,
            theirs: None,
            refresh: KeyRefresh::default(),
            seed: 1,
            line: Line::default(),
        }
    }
}

fn listener_config() -> ListenerConfig {
    let latency = Duration::from_millis(20);
    ListenerConfig { passphrase: RequiredPassphrase::None, key_length: KeyLength::Aes128, latency, secret: 7 }
}

impl Pair {
    fn new(setup: Setup) -> Self {
        let now = Duration::from_secs(5);
        let caller = Caller::new(
            CallerConfig {
                stream_id: setup.id.map(|id| StreamKey::from_stored(id.into())),
                encryption: setup.ours.map(|(text, length)| (phrase(text), length)),
                latency: Duration::from_millis(120),
                refresh: setup.refresh,
                address: IpAddr::from([192, 0, 2, 7]),
                induction_only: false,
                entropy: entropy(setup.seed),
            },
            now,
        );
        let listener = ListenerConfig { passphrase: setup.theirs.map(phrase).into(), ..listener_config() };
        let server = Server {
            listener: Listener::new(listener, now),
            accepted: None,
            rejection: None,
            of_request: None,
            stream_id: None,
            received: Vec::new(),
        };
        let (local, peer) = (Datagrams { core: caller }, Datagrams { core: server });
        let mut network = Network::new(local, peer, setup.line, setup.seed);
        network.now = now;
        Self { network, events: Vec::new() }
    }

    /// Lets so many milliseconds pass.
    fn run(&mut self, span_ms: u64) {
        let until = self.now() + Duration::from_millis(span_ms);
        self.network.run_until(until, |caller, server, now| {
            self.events.extend(std::iter::from_fn(|| caller.core.poll_event()));
            server.core.handle_timeout(now);
        });
    }

    fn now(&self) -> Duration {
        self.network.now
    }

    fn caller(&mut self) -> &mut Caller {
        &mut self.network.local.core
    }

    fn send(&mut self, payload: Bytes, at: Duration) {
        self.caller().send(payload, at);
    }

    fn close(&mut self, drain: Duration) {
        let now = self.now();
        self.caller().close(now, drain);
    }

    fn server(&mut self) -> &mut Server {
        &mut self.network.peer.core
    }

    fn set_line(&mut self, line: Line) {
        self.network.to_local = line;
        self.network.to_peer = line;
    }

    fn error(&mut self) -> Option<SrtError> {
        self.caller().end().map(|end| end.why)
    }

    fn received(&mut self) -> &mut Vec<Bytes> {
        &mut self.server().received
    }

    fn connect(&mut self) {
        self.run(400);
        assert!(
            self.events.iter().any(|event| matches!(event, CallerEvent::Connected { .. })),
            "{:?}",
            self.error()
        );
    }

    /// Sends numbered payloads evenly over so many milliseconds.
    fn stream(&mut self, packets: u32, span_ms: u64) {
        for number in 0..packets {
            let at = self.now() + Duration::from_millis(span_ms * u64::from(number) / u64::from(packets));
            self.caller().send(payload(number), at);
        }
        self.run(span_ms + 600);
    }

    fn connection(&mut self) -> &mut Connection {
        &mut self.server().accepted.as_mut().unwrap().1
    }

    fn end_of_connection(&mut self) -> Option<End<CloseReason>> {
        self.connection().end().cloned()
    }

    fn end_of_call(&mut self) -> Option<End<SrtError>> {
        self.caller().end().cloned()
    }
}

fn payload(number: u32) -> Bytes {
    let mut out = BytesMut::zeroed(1_316);
    out[..4].copy_from_slice(&number.to_be_bytes());
    out.freeze()
}

fn all(packets: u32) -> Vec<Bytes> {
    (0..packets).map(payload).collect()
}

#[test]
fn a_stream_arrives_whole_and_in_order() {
    let mut pair = Pair::new(Setup::default());
    pair.connect();
    assert_eq!(pair.server().stream_id.as_deref(), Some("publish/summit"));
    assert_eq!(pair.events.last(), Some(&CallerEvent::Connected { latency: Duration::from_millis(120) }));
    pair.stream(500, 1_000);
    assert!(*pair.received() == all(500));
    let figures = pair.caller().stats();
    assert_eq!((figures.sent, figures.retransmitted, figures.dropped, figures.in_flight), (500, 0, 0, 0));
    assert!((30..=45).contains(&figures.rtt.as_millis()), "{figures:?}");
}

#[test]
fn larger_latency_of_the_listener_is_used() {
    let mut pair = Pair::new(Setup::default());
    pair.server().listener = Listener::new(
        ListenerConfig {
            passphrase: RequiredPassphrase::None,
            key_length: KeyLength::Aes128,
            latency: Duration::from_millis(900),
            secret: 3,
        },
        pair.now(),
    );
    pair.connect();
    assert_eq!(pair.events.last(), Some(&CallerEvent::Connected { latency: Duration::from_millis(900) }));
}

#[rstest]
#[case::plain(None)]
#[case::aes_128(Some(KeyLength::Aes128))]
#[case::aes_192(Some(KeyLength::Aes192))]
#[case::aes_256(Some(KeyLength::Aes256))]
fn five_percent_loss_and_reordering_are_repaired_within_the_latency(
    #[case] length: Option<KeyLength>,
    #[values(3, 17, 4_711)] seed: u64,
) {
    let line = Line { delay: Duration::from_millis(8), loss: 5, reorder: 10, repeat: 2, ..Line::default() };
    let ours = length.map(|length| ("a passphrase of ours", length));
    let theirs = ours.map(|(text, _)| text);
    let mut pair = Pair::new(Setup { ours, theirs, line, seed, ..Setup::default() });
    pair.run(1_500);
    pair.stream(3_000, 6_000);
    assert!(*pair.received() == all(3_000), "seed {seed}: {} of 3000 arrived", pair.received().len());
    let figures = pair.caller().stats();
    assert!(figures.lost > 100 && figures.retransmitted >= figures.lost, "seed {seed}: {figures:?}");
    assert_eq!(pair.connection().stats().missing, 0, "seed {seed}");
}

#[rstest]
#[case::right("encoder/summit", Some("a passphrase of the summit"), None)]
#[case::of_another_stream(
    "encoder/viaduct",
    Some("a passphrase of the summit"),
    Some(SrtError::PassphraseRefused)
)]
#[case::without_encryption("encoder/summit", None, Some(SrtError::Rejected(Rejection::Unsecured)))]
#[case::encrypted_where_none_is_needed(
    "encoder/open",
    Some("a passphrase of ours"),
    Some(SrtError::PassphraseUnexpected)
)]
#[case::open("encoder/open", None, None)]
fn passphrase_may_depend_on_the_stream_id(
    #[case] id: &'static str,
    #[case] ours: Option<&'static str>,
    #[case] refused: Option<SrtError>,
) {
    let ours = ours.map(|text| (text, KeyLength::Aes192));
    let mut pair = Pair::new(Setup { id: Some(id), ours, ..Setup::default() });
    let config = ListenerConfig { passphrase: RequiredPassphrase::OfRequest, ..listener_config() };
    let now = pair.now();
    pair.server().listener = Listener::new(config, now);
    pair.server().of_request = Some(|id| match id {
        "encoder/summit" => Some(phrase("a passphrase of the summit")),
        "encoder/viaduct" => Some(phrase("a passphrase of the viaduct")),
        _ => None,
    });
    pair.run(1_500);
    match refused {
        None => {
            pair.stream(50, 500);
            assert_eq!(*pair.received(), all(50));
        }
        Some(_) => assert_eq!(pair.caller().end().map(|end| end.why), refused, "{:?}", pair.events),
    }
}

#[test]
fn key_change_loses_no_packet() {
    let passphrase = "a passphrase of ours";
    let mut pair = Pair::new(Setup {
        ours: Some((passphrase, KeyLength::Aes256)),
        theirs: Some(passphrase),
        refresh: KeyRefresh { every: 200, announce: 60 },
        line: Line { delay: Duration::from_millis(10), loss: 3, ..Line::default() },
        seed: 11,
        ..Setup::default()
    });
    pair.run(1_500);
    pair.stream(2_000, 8_000);
    assert!(*pair.received() == all(2_000), "{} of 2000 arrived", pair.received().len());
    assert_eq!(pair.connection().stats().undecrypted, 0);
}

#[test]
fn the_numbers_of_packets_wrap_without_a_gap() {
    // Whatever the first number is, one of these seeds lies close enough below the end of the numbers; the
    // entropy is replaced to make sure.
    let mut pair = Pair::new(Setup::default());
    let near_the_end: Entropy = Box::new(|out| {
        for (at, byte) in out.iter_mut().enumerate() {
            *byte = if at == 7 { 0xf0 } else { 0xff };
        }
    });
    *pair.caller() = Caller::new(
        CallerConfig {
            stream_id: None,
            encryption: None,
            latency: Duration::from_millis(120),
            refresh: KeyRefresh::default(),
            address: IpAddr::from([192, 0, 2, 7]),
            induction_only: false,
            entropy: near_the_end,
        },
        pair.now(),
    );
    pair.set_line(Line { loss: 5, ..Line::default() });
    pair.run(1_500);
    pair.stream(300, 1_000);
    assert!(*pair.received() == all(300));
}

#[test]
fn timestamps_wrap_without_a_gap() {
    // 32 bits of microseconds: 71 minutes and 35 seconds.
    let mut pair = Pair::new(Setup::default());
    pair.connect();
    for _ in 0..43 {
        pair.received().clear();
        // A hundred seconds in long steps: only keep-alives and the stream's own packets.
        for second in 0..100 {
            let now = pair.now();
            pair.send(payload(second), now);
            pair.run(1_000);
        }
        assert!(*pair.received() == all(100), "at {:?}", pair.now());
    }
    assert!(pair.now() > Duration::from_secs(4_295));
    assert_eq!(pair.connection().stats().missing, 0);
}

#[rstest]
#[case::another_passphrase(
    Some("not the passphrase"),
    Some("a passphrase of ours"),
    SrtError::PassphraseRefused
)]
#[case::no_passphrase_here(None, Some("a passphrase of ours"), SrtError::Rejected(Rejection::Unsecured))]
#[case::no_passphrase_there(Some("a passphrase of ours"), None, SrtError::PassphraseUnexpected)]
fn passphrases_must_agree(
    #[case] ours: Option<&'static str>,
    #[case] theirs: Option<&'static str>,
    #[case] error: SrtError,
) {
    let ours = ours.map(|text| (text, KeyLength::Aes128));
    let mut pair = Pair::new(Setup { ours, theirs, ..Setup::default() });
    pair.run(400);
    assert_eq!(pair.error(), Some(error));
}

#[rstest]
#[case(Rejection::NotFound)]
#[case(Rejection::Conflict)]
#[case(Rejection::Forbidden)]
fn rejection_has_its_reason(#[case] rejection: Rejection) {
    let mut pair = Pair::new(Setup::default());
    pair.server().rejection = Some(rejection);
    pair.run(400);
    assert_eq!(pair.end_of_call(), Some(End::peer(SrtError::Rejected(rejection))));
}

#[test]
fn missing_listener_times_out_after_three_seconds() {
    let mut pair = Pair::new(Setup::default());
    pair.set_line(Line { is_cut: true, ..Line::default() });
    pair.run(3_100);
    let after = Duration::from_secs(3);
    assert_eq!(pair.end_of_call(), Some(End::local(SrtError::NoAnswer { step: "beginning", after })));
}

#[test]
fn a_handshake_survives_heavy_loss() {
    let connected = (1..=20_u64).filter(|seed| {
        let line = Line { delay: Duration::from_millis(20), loss: 30, ..Line::default() };
        let mut pair = Pair::new(Setup { seed: *seed, line, ..Setup::default() });
        pair.run(5_000);
        pair.events.iter().any(|event| matches!(event, CallerEvent::Connected { .. }))
    });
    assert_eq!(connected.count(), 20);
}

#[test]
fn silent_peer_is_detected_after_five_seconds() {
    let mut pair = Pair::new(Setup::default());
    pair.connect();
    pair.set_line(Line { is_cut: true, ..Line::default() });
    pair.run(6_000);
    let end = pair.end_of_call();
    assert!(matches!(end, Some(End { why: SrtError::Closed(CloseReason::Silent(_)), .. })), "{end:?}");
}

#[test]
fn an_idle_connection_is_kept_alive() {
    let mut pair = Pair::new(Setup::default());
    pair.connect();
    pair.run(30_000);
    assert_eq!(pair.end_of_call(), None);
    pair.stream(10, 100);
    assert_eq!(pair.received().len(), 10);
}

#[test]
fn shutdown_ends_both_sides() {
    let mut pair = Pair::new(Setup::default());
    pair.connect();
    pair.close(Duration::ZERO);
    pair.run(50);
    assert_eq!(pair.end_of_connection(), Some(End::peer(CloseReason::Shutdown)));
    assert_eq!(pair.end_of_call(), Some(End::local(CloseReason::Shutdown.into())));
}

#[test]
fn orderly_end_over_a_lossy_network_repairs_losses_and_the_shutdown_arrives() {
    let (mut incomplete, mut without_shutdown) = (0, 0);
    for seed in 1..=200 {
        let mut pair = Pair::new(Setup { seed, ..Setup::default() });
        pair.connect();
        pair.set_line(Line { loss: 5, ..Line::default() });
        for number in 0..100 {
            let at = pair.now() + Duration::from_millis(2 * u64::from(number));
            pair.send(payload(number), at);
        }
        pair.run(200);
        pair.close(Duration::from_millis(120));
        let now = pair.now();
        pair.send(payload(1_000), now);
        pair.run(100);
        assert_eq!(pair.end_of_call(), None, "losses are repaired before the shutdown");
        pair.run(100);
        assert_eq!(pair.end_of_call(), Some(End::local(CloseReason::Shutdown.into())));
        incomplete += u32::from(*pair.received() != all(100));
        without_shutdown += u32::from(pair.end_of_connection() != Some(End::peer(CloseReason::Shutdown)));
    }
    // Within 120 ms a packet is sent four times at most: at 5 % of loss each way one in 27 000 never arrives, which is one
    // call in 270.
    assert!(incomplete <= 2, "{incomplete} of 200 calls lost a packet");
    assert_eq!(without_shutdown, 0);
}

#[test]
fn connection_that_has_sent_nothing_ends_at_once() {
    let mut pair = Pair::new(Setup::default());
    pair.connect();
    pair.close(Duration::from_secs(2));
    pair.run(50);
    assert_eq!(pair.end_of_call(), Some(End::local(CloseReason::Shutdown.into())));
}

#[test]
fn interrupted_link_loses_only_packets_that_were_too_late() {
    let mut pair = Pair::new(Setup::default());
    pair.connect();
    for number in 0..1_000_u32 {
        let at = pair.now() + Duration::from_millis(u64::from(number) * 4);
        pair.send(payload(number), at);
    }
    pair.run(500);
    pair.set_line(Line { is_cut: true, ..Line::default() });
    pair.run(2_500);
    pair.set_line(Line::default());
    pair.run(4_000);
    // Packets that were sent more than a second before the line was restored are given up.
    let received = pair.received().len();
    assert!((560..=720).contains(&received), "{received} of 1000 arrived");
    assert!(pair.received().windows(2).all(|two| two[0] < two[1]), "order");
    assert!(pair.caller().stats().dropped > 300, "{:?}", pair.caller().stats());
    assert_eq!(pair.received().last(), Some(&payload(999)));
}

#[test]
fn packets_of_other_hosts_are_ignored() {
    let mut pair = Pair::new(Setup::default());
    pair.connect();
    // A goodbye for another socket, and noise.
    let mut stranger = BytesMut::new();
    yonder_srt::Control::Shutdown.put(0, 12_345, &mut stranger);
    let now = pair.now();
    pair.caller().handle_datagram((), stranger.freeze(), now);
    pair.caller().handle_datagram((), Bytes::from_static(b"GET / HTTP/1.1"), now);
    pair.stream(20, 100);
    assert_eq!((pair.received().len(), pair.error()), (20, None));
}

#[test]
fn induction_flood_costs_no_memory_and_cookies_are_bound_to_addresses() {
    let mut pair = Pair::new(Setup::default());
    let mut out = BytesMut::new();
    let now = pair.now();
    let send = |caller: &mut Caller, out: &mut BytesMut| {
        caller.poll_datagram(now, now, out).unwrap();
        out.split().freeze()
    };
    let first = send(pair.caller(), &mut out);
    let from = |port: u16| SocketAddr::from(([192, 0, 2, 9], port));
    let answer = |listener: &mut Listener| {
        let mut out = BytesMut::new();
        listener.poll_datagram(now, now, &mut out).map(|_| out.freeze())
    };
    let mut listener = Listener::new(ListenerConfig { secret: 7, ..listener_config() }, now);
    listener.handle_datagram(from(1), first.clone(), now);
    pair.caller().handle_datagram((), answer(&mut listener).unwrap(), now);
    // The conclusion comes from another port than the induction did.
    listener.handle_datagram(from(2), send(pair.caller(), &mut out), now);
    assert!(listener.poll_event().is_none() && answer(&mut listener).is_none());
    for port in 1..20_000 {
        listener.handle_datagram(from(port), first.clone(), now);
        assert!(answer(&mut listener).is_some());
    }
    assert!(listener.poll_event().is_none());
}

#[test]
fn any_packets_on_a_connection_are_handled_in_bounded_memory() {
    let mut random = Random::new(99);
    let mut pair = Pair::new(Setup::default());
    pair.connect();
    for round in 0..20_000_u64 {
        // Control packets of every kind with random contents, for the caller's socket and the listener's.
        let mut bytes = BytesMut::zeroed(16 + usize::try_from(random.next_number() % 60).unwrap());
        bytes.iter_mut().for_each(|byte| *byte = random.next_number().to_le_bytes()[2]);
        let kind = random.next_number() % 8;
        if kind != 5 {
            bytes[..2].copy_from_slice(&(0x8000 | u16::try_from(kind).unwrap()).to_be_bytes());
        } else {
            bytes[0] &= 0x7f;
        }
        let now = pair.now();
        let (socket, connection) = pair.server().accepted.as_mut().unwrap();
        bytes[12..16].copy_from_slice(&socket.to_be_bytes());
        connection.handle_datagram((), bytes.freeze(), now);
        if round % 50 == 0 {
            pair.run(1);
        }
    }
    assert_eq!(pair.end_of_connection(), None);
}
