//! Caller and listener against each other, over a simulated way that loses, delays, reorders and repeats, in
//! simulated time. A failing run prints its seed.

#![expect(clippy::unwrap_used, reason = "a test ends where something unexpected happens")]

use std::collections::BTreeMap;
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

use bytes::{Bytes, BytesMut};
use rstest::rstest;
use yonder_address::{KeyLength, Passphrase, StreamKey};
use yonder_srt::{
    Caller, CallerConfig, CallerEvent, CloseReason, Connection, Entropy, KeyRefresh, Listener,
    ListenerConfig, ListenerEvent, Packet, Rejection, SrtError,
};

/// A small generator; good enough to lose packets with.
#[derive(Clone)]
struct Dice(u64);

impl Dice {
    fn roll(&mut self) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0
    }

    fn chance(&mut self, percent: u64) -> bool {
        self.roll() % 100 < percent
    }
}

/// What the way does.
#[derive(Clone, Copy, Default)]
struct Way {
    loss: u64,
    reorder: u64,
    repeat: u64,
    delay_ms: u64,
}

struct Pair {
    now: Duration,
    caller: Caller,
    listener: Listener,
    accepted: Option<(u32, Connection)>,
    verdict: Option<Rejection>,
    seen_id: Option<String>,
    dice: Dice,
    way: Way,
    /// Datagrams under way by arrival: towards the listener or back.
    flying: BTreeMap<(Duration, u64), (bool, Bytes)>,
    flown: u64,
    received: Vec<Bytes>,
    events: Vec<CallerEvent>,
    error: Option<SrtError>,
    silent: bool,
}

const CALLER: &str = "192.0.2.7:40000";

fn entropy(seed: u64) -> Entropy {
    let mut dice = Dice(seed | 1);
    Box::new(move |out| out.iter_mut().for_each(|byte| *byte = dice.roll().to_le_bytes()[3]))
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
    way: Way,
}

impl Default for Setup {
    fn default() -> Self {
        Self {
            id: Some("publish/summit"),
            ours: None,
            theirs: None,
            refresh: KeyRefresh::default(),
            seed: 1,
            way: Way { delay_ms: 15, ..Way::default() },
        }
    }
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
        let listener = ListenerConfig {
            passphrase: setup.theirs.map(phrase),
            key_length: KeyLength::Aes128,
            latency: Duration::from_millis(20),
            secret: 7,
        };
        Self {
            now,
            caller,
            listener: Listener::new(listener, now),
            accepted: None,
            verdict: None,
            seen_id: None,
            dice: Dice(setup.seed.wrapping_mul(0x9e37_79b9) | 1),
            way: setup.way,
            flying: BTreeMap::new(),
            flown: 0,
            received: Vec::new(),
            events: Vec::new(),
            error: None,
            silent: false,
        }
    }

    fn fly(&mut self, to_listener: bool, datagram: Bytes) {
        let Way { loss, reorder, repeat, delay_ms } = self.way;
        let copies = if self.dice.chance(repeat) { 2 } else { 1 };
        for _ in 0..copies {
            if self.silent || self.dice.chance(loss) {
                continue;
            }
            let detour = if self.dice.chance(reorder) { 1 + self.dice.roll() % 12 } else { 0 };
            let arrival = self.now + Duration::from_millis(delay_ms + detour);
            self.flown += 1;
            self.flying.insert((arrival, self.flown), (to_listener, datagram.clone()));
        }
    }

    /// Lets everything happen that is due now.
    fn turn(&mut self) {
        while let Some((&(arrival, number), _)) = self.flying.first_key_value()
            && arrival <= self.now
        {
            let (to_listener, datagram) = self.flying.remove(&(arrival, number)).unwrap();
            if !to_listener {
                if let Err(error) = self.caller.handle_datagram(datagram, self.now) {
                    self.error = Some(error);
                }
            } else {
                let packet = Packet::read(datagram.clone()).unwrap();
                match &mut self.accepted {
                    Some((socket, connection)) if packet.destination == *socket => {
                        connection.handle_packet(packet, self.now);
                    }
                    _ => self.listener.handle_datagram(
                        CALLER.parse::<SocketAddr>().unwrap(),
                        datagram,
                        self.now,
                    ),
                }
            }
        }
        while let Some(ListenerEvent::Request(request)) = self.listener.poll_event() {
            self.seen_id = request.stream_id.as_ref().map(|id| id.expose().to_owned());
            match self.verdict {
                Some(rejection) => self.listener.reject(&request, rejection, self.now),
                None => self.accepted = Some(self.listener.accept(*request, self.now)),
            }
        }
        if let Err(error) = self.caller.handle_timeout(self.now) {
            self.error = Some(error);
        }
        let mut out = BytesMut::new();
        while let Some(length) = self.caller.poll_transmit(self.now, self.now, &mut out) {
            assert!(length <= 1_472, "a datagram of {length} bytes");
            let datagram = out.split().freeze();
            self.fly(true, datagram);
        }
        while let Some((_, datagram)) = self.listener.poll_transmit() {
            self.fly(false, datagram);
        }
        if let Some((socket, mut connection)) = self.accepted.take() {
            connection.handle_timeout(self.now);
            while connection.poll_transmit(self.now, self.now, &mut out).is_some() {
                let datagram = out.split().freeze();
                self.fly(false, datagram);
            }
            self.received.extend(std::iter::from_fn(|| connection.poll_data(self.now)));
            self.accepted = Some((socket, connection));
        }
        self.events.extend(std::iter::from_fn(|| self.caller.poll_event()));
    }

    /// Runs for so long, a millisecond at a time.
    fn run(&mut self, span_ms: u64) {
        for _ in 0..span_ms {
            self.turn();
            self.now += Duration::from_millis(1);
        }
    }

    fn connect(&mut self) {
        self.run(400);
        assert!(
            self.events.iter().any(|event| matches!(event, CallerEvent::Connected { .. })),
            "{:?}",
            self.error
        );
    }

    /// Sends numbered payloads evenly over so many milliseconds.
    fn stream(&mut self, packets: u32, span_ms: u64) {
        for number in 0..packets {
            let at = self.now + Duration::from_millis(span_ms * u64::from(number) / u64::from(packets));
            self.caller.send(payload(number), at);
        }
        self.run(span_ms + 600);
    }

    fn connection(&self) -> &Connection {
        &self.accepted.as_ref().unwrap().1
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
    assert_eq!(pair.seen_id.as_deref(), Some("publish/summit"));
    assert_eq!(pair.events.last(), Some(&CallerEvent::Connected { latency: Duration::from_millis(120) }));
    pair.stream(500, 1_000);
    assert!(pair.received == all(500));
    let figures = pair.caller.figures();
    assert_eq!((figures.sent, figures.retransmitted, figures.dropped, figures.in_flight), (500, 0, 0, 0));
    assert!((30..=45).contains(&figures.rtt.as_millis()), "{figures:?}");
}

#[test]
fn a_listener_that_wants_more_time_gets_it() {
    let mut pair = Pair::new(Setup::default());
    pair.listener = Listener::new(
        ListenerConfig {
            passphrase: None,
            key_length: KeyLength::Aes128,
            latency: Duration::from_millis(900),
            secret: 3,
        },
        pair.now,
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
    let way = Way { loss: 5, reorder: 10, repeat: 2, delay_ms: 8 };
    let ours = length.map(|length| ("a passphrase of ours", length));
    let theirs = ours.map(|(text, _)| text);
    let mut pair = Pair::new(Setup { ours, theirs, way, seed, ..Setup::default() });
    pair.run(1_500);
    pair.stream(3_000, 6_000);
    assert!(pair.received == all(3_000), "seed {seed}: {} of 3000 arrived", pair.received.len());
    let figures = pair.caller.figures();
    assert!(figures.lost > 100 && figures.retransmitted >= figures.lost, "seed {seed}: {figures:?}");
    assert_eq!(pair.connection().figures().missing, 0, "seed {seed}");
}

#[test]
fn keys_are_changed_on_the_way_without_losing_a_packet() {
    let passphrase = "a passphrase of ours";
    let mut pair = Pair::new(Setup {
        ours: Some((passphrase, KeyLength::Aes256)),
        theirs: Some(passphrase),
        refresh: KeyRefresh { every: 200, announce: 60 },
        way: Way { loss: 3, delay_ms: 10, ..Way::default() },
        seed: 11,
        ..Setup::default()
    });
    pair.run(1_500);
    pair.stream(2_000, 8_000);
    assert!(pair.received == all(2_000), "{} of 2000 arrived", pair.received.len());
    assert_eq!(pair.connection().figures().undecrypted, 0);
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
    pair.caller = Caller::new(
        CallerConfig {
            stream_id: None,
            encryption: None,
            latency: Duration::from_millis(120),
            refresh: KeyRefresh::default(),
            address: IpAddr::from([192, 0, 2, 7]),
            induction_only: false,
            entropy: near_the_end,
        },
        pair.now,
    );
    pair.way.loss = 5;
    pair.run(1_500);
    pair.stream(300, 1_000);
    assert!(pair.received == all(300));
}

#[test]
fn timestamps_wrap_without_a_gap() {
    // 32 bits of microseconds: 71 minutes and 35 seconds.
    let mut pair = Pair::new(Setup::default());
    pair.connect();
    for _ in 0..43 {
        pair.received.clear();
        // A hundred seconds in long steps: only keep-alives and the stream's own packets.
        for second in 0..100 {
            pair.caller.send(payload(second), pair.now);
            for _ in 0..40 {
                pair.turn();
                pair.now += Duration::from_millis(25);
            }
        }
        assert!(pair.received == all(100), "at {:?}", pair.now);
    }
    assert!(pair.now > Duration::from_secs(4_295));
    assert_eq!(pair.connection().figures().missing, 0);
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
    assert_eq!(pair.error, Some(error));
}

#[rstest]
#[case(Rejection::NotFound)]
#[case(Rejection::Conflict)]
#[case(Rejection::Forbidden)]
fn a_refusal_tells_its_reason(#[case] rejection: Rejection) {
    let mut pair = Pair::new(Setup::default());
    pair.verdict = Some(rejection);
    pair.run(400);
    assert_eq!(pair.error, Some(SrtError::Rejected(rejection)));
}

#[test]
fn nobody_there_is_told_after_three_seconds() {
    let mut pair = Pair::new(Setup::default());
    pair.silent = true;
    pair.run(3_100);
    let after = Duration::from_secs(3);
    assert_eq!(pair.error, Some(SrtError::NoAnswer { step: "beginning", after }));
}

#[test]
fn a_handshake_survives_heavy_loss() {
    let connected = (1..=20_u64).filter(|seed| {
        let way = Way { loss: 30, delay_ms: 20, ..Way::default() };
        let mut pair = Pair::new(Setup { seed: *seed, way, ..Setup::default() });
        pair.run(5_000);
        pair.events.iter().any(|event| matches!(event, CallerEvent::Connected { .. }))
    });
    assert_eq!(connected.count(), 20);
}

#[test]
fn a_peer_that_falls_silent_is_noticed_in_five_seconds() {
    let mut pair = Pair::new(Setup::default());
    pair.connect();
    pair.silent = true;
    pair.run(6_000);
    assert!(matches!(pair.caller.closed(), Some(CloseReason::Silent(_))), "{:?}", pair.caller.closed());
}

#[test]
fn an_idle_connection_is_kept_alive() {
    let mut pair = Pair::new(Setup::default());
    pair.connect();
    pair.run(30_000);
    assert_eq!(pair.caller.closed(), None);
    pair.stream(10, 100);
    assert_eq!(pair.received.len(), 10);
}

#[test]
fn shutdown_ends_both_sides() {
    let mut pair = Pair::new(Setup::default());
    pair.connect();
    pair.caller.close(pair.now, Duration::ZERO);
    pair.run(50);
    assert_eq!(pair.connection().closed(), Some(CloseReason::ByPeer));
    assert_eq!(pair.caller.closed(), Some(CloseReason::Ours));
}

#[test]
fn orderly_end_over_a_lossy_network_costs_no_packet_and_the_shutdown_arrives() {
    let (mut incomplete, mut without_shutdown) = (0, 0);
    for seed in 1..=200 {
        let mut pair = Pair::new(Setup { seed, ..Setup::default() });
        pair.connect();
        pair.way = Way { loss: 5, delay_ms: 15, ..Way::default() };
        for number in 0..100 {
            pair.caller.send(payload(number), pair.now + Duration::from_millis(2 * u64::from(number)));
        }
        pair.run(200);
        pair.caller.close(pair.now, Duration::from_millis(120));
        pair.caller.send(payload(1_000), pair.now);
        pair.run(100);
        assert_eq!(pair.caller.closed(), None, "losses are repaired before the shutdown");
        pair.run(100);
        assert_eq!(pair.caller.closed(), Some(CloseReason::Ours));
        incomplete += u32::from(pair.received != all(100));
        without_shutdown += u32::from(pair.connection().closed() != Some(CloseReason::ByPeer));
    }
    assert_eq!((incomplete, without_shutdown), (0, 0));
}

#[test]
fn connection_that_has_sent_nothing_ends_at_once() {
    let mut pair = Pair::new(Setup::default());
    pair.connect();
    pair.caller.close(pair.now, Duration::from_secs(2));
    pair.run(50);
    assert_eq!(pair.caller.closed(), Some(CloseReason::Ours));
}

#[test]
fn a_way_that_is_cut_for_a_while_costs_what_was_too_late_and_no_more() {
    let mut pair = Pair::new(Setup::default());
    pair.connect();
    for number in 0..1_000_u32 {
        let at = pair.now + Duration::from_millis(u64::from(number) * 4);
        pair.caller.send(payload(number), at);
    }
    pair.run(500);
    pair.silent = true;
    pair.run(2_500);
    pair.silent = false;
    pair.run(4_000);
    // What was sent more than a second before the way was there again is given up, and told to be.
    let received = pair.received.len();
    assert!((560..=720).contains(&received), "{received} of 1000 arrived");
    assert!(pair.received.windows(2).all(|two| two[0] < two[1]), "order");
    assert!(pair.caller.figures().dropped > 300, "{:?}", pair.caller.figures());
    assert_eq!(pair.received.last(), Some(&payload(999)));
}

#[test]
fn packets_of_strangers_change_nothing() {
    let mut pair = Pair::new(Setup::default());
    pair.connect();
    // A goodbye for another socket, and noise.
    let mut stranger = BytesMut::new();
    yonder_srt::Control::Shutdown.put(0, 12_345, &mut stranger);
    pair.caller.handle_datagram(stranger.freeze(), pair.now).unwrap();
    pair.caller.handle_datagram(Bytes::from_static(b"GET / HTTP/1.1"), pair.now).unwrap();
    pair.stream(20, 100);
    assert_eq!((pair.received.len(), pair.caller.closed()), (20, None));
}

#[test]
fn a_flood_of_first_packets_is_not_remembered_and_a_stolen_cookie_is_worth_nothing() {
    let mut pair = Pair::new(Setup::default());
    let mut out = BytesMut::new();
    pair.caller.poll_transmit(pair.now, pair.now, &mut out).unwrap();
    let first = out.split().freeze();
    let from = |port: u16| SocketAddr::from(([192, 0, 2, 9], port));
    pair.listener.handle_datagram(from(1), first.clone(), pair.now);
    let (_, answer) = pair.listener.poll_transmit().unwrap();
    pair.caller.handle_datagram(answer, pair.now).unwrap();
    pair.caller.poll_transmit(pair.now, pair.now, &mut out).unwrap();
    // The conclusion comes from another port than the induction did.
    pair.listener.handle_datagram(from(2), out.split().freeze(), pair.now);
    assert!(pair.listener.poll_event().is_none() && pair.listener.poll_transmit().is_none());
    for port in 1..20_000 {
        pair.listener.handle_datagram(from(port), first.clone(), pair.now);
        assert!(pair.listener.poll_transmit().is_some());
    }
    assert!(pair.listener.poll_event().is_none());
}

#[test]
fn hostile_packets_on_a_connection_neither_stop_it_nor_grow_it() {
    let mut dice = Dice(99);
    let mut pair = Pair::new(Setup::default());
    pair.connect();
    for round in 0..20_000_u64 {
        // Control packets of every kind with random contents, for the caller's socket and the listener's.
        let mut bytes = BytesMut::zeroed(16 + usize::try_from(dice.roll() % 60).unwrap());
        bytes.iter_mut().for_each(|byte| *byte = dice.roll().to_le_bytes()[2]);
        let kind = dice.roll() % 8;
        if kind != 5 {
            bytes[..2].copy_from_slice(&(0x8000 | u16::try_from(kind).unwrap()).to_be_bytes());
        } else {
            bytes[0] &= 0x7f;
        }
        let (socket, connection) = pair.accepted.as_mut().unwrap();
        bytes[12..16].copy_from_slice(&socket.to_be_bytes());
        if let Ok(packet) = Packet::read(bytes.freeze()) {
            connection.handle_packet(packet, pair.now);
        }
        if round % 50 == 0 {
            pair.run(1);
        }
    }
    assert_eq!(pair.connection().closed(), None);
}
