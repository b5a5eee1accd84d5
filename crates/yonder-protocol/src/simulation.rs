//! Network simulation: connects two cores by lines with delay, loss, reordering and duplication, in simulated time. Runs are
//! deterministic for a seed.

use std::collections::BTreeMap;
use std::time::Duration;

use bytes::{Bytes, BytesMut};

use crate::{DatagramCore, Outbox, Side, StreamCore, deliver_discarding};

/// Delay of a lost segment of a stream, which TCP retransmits.
const RETRANSMISSION_TIMEOUT: Duration = Duration::from_millis(200);
/// Maximum retransmissions of one segment.
const MAX_RETRANSMISSIONS: u32 = 5;
/// Rounds at one time after which a core counts as stuck in a loop.
const MAX_ROUNDS: u32 = 100_000;

/// Pseudo-random number generator, reproducible by its seed.
#[derive(Debug, Clone)]
pub struct Random(fastrand::Rng);

impl Random {
    /// Creates a generator.
    #[must_use]
    pub fn new(seed: u64) -> Self {
        Self(fastrand::Rng::with_seed(seed))
    }

    /// Returns the next number.
    pub fn next_number(&mut self) -> u64 {
        self.0.u64(..)
    }

    /// Returns true with a probability of `percent`.
    pub fn chance(&mut self, percent: u64) -> bool {
        self.next_number() % 100 < percent
    }

    /// Returns a number below `limit`; zero for zero.
    pub fn below(&mut self, limit: u64) -> u64 {
        self.next_number().checked_rem(limit).unwrap_or_default()
    }
}

/// Behavior of a line in one direction. Percentages apply to datagrams and to segments of a stream; a stream arrives
/// complete and in order, so a loss delays it.
#[derive(Debug, Clone, Copy)]
pub struct Line {
    /// Delay.
    pub delay: Duration,
    /// Maximum additional delay, uniformly distributed.
    pub jitter: Duration,
    /// Percentage that is lost.
    pub loss: u64,
    /// Percentage of datagrams that are delayed by another 20 ms.
    pub reorder: u64,
    /// Percentage of datagrams that arrive twice.
    pub repeat: u64,
    /// Maximum size of a stream segment, in bytes.
    pub max_segment: u64,
    /// Nothing arrives.
    pub is_cut: bool,
}

impl Default for Line {
    fn default() -> Self {
        Self {
            delay: Duration::from_millis(15),
            jitter: Duration::ZERO,
            loss: 0,
            reorder: 0,
            repeat: 0,
            max_segment: 1460,
            is_cut: false,
        }
    }
}

/// Data on a line.
#[derive(Debug, Clone)]
pub enum Parcel<P> {
    /// Part of the stream.
    Stream(Bytes),
    /// Datagram, with its path.
    Datagram(P, Bytes),
}

/// Endpoint of a line.
pub trait Endpoint {
    /// Path of datagrams.
    type Path: Clone;

    /// Handles received data.
    fn receive(&mut self, parcel: Parcel<Self::Path>, now: Duration);
    /// As [`crate::Core::handle_timeout`].
    fn handle_timeout(&mut self, now: Duration);
    /// As [`crate::Core::poll_timeout`].
    fn poll_timeout(&self) -> Option<Duration>;
    /// Appends the data to be sent at `now`.
    fn transmit(&mut self, now: Duration, out: &mut Vec<Parcel<Self::Path>>);
}

/// Core over a stream.
#[derive(Debug)]
pub struct Stream<C> {
    /// The core.
    pub core: C,
    unread: BytesMut,
}

impl<C> Stream<C> {
    /// Creates an endpoint.
    pub fn new(core: C) -> Self {
        Self { core, unread: BytesMut::new() }
    }
}

impl<C: StreamCore> Endpoint for Stream<C> {
    type Path = ();

    fn receive(&mut self, parcel: Parcel<()>, now: Duration) {
        if let Parcel::Stream(bytes) = parcel {
            self.unread.extend_from_slice(&bytes);
            deliver_discarding(&mut self.core, &mut self.unread, now);
        }
    }

    fn handle_timeout(&mut self, now: Duration) {
        self.core.handle_timeout(now);
    }

    fn poll_timeout(&self) -> Option<Duration> {
        self.core.poll_timeout()
    }

    fn transmit(&mut self, now: Duration, out: &mut Vec<Parcel<()>>) {
        transmit_stream(&mut self.core, now, out);
    }
}

/// Core over datagrams.
#[derive(Debug)]
pub struct Datagrams<C> {
    /// The core.
    pub core: C,
}

impl<C: DatagramCore> Endpoint for Datagrams<C>
where
    C::Path: Clone,
{
    type Path = C::Path;

    fn receive(&mut self, parcel: Parcel<C::Path>, now: Duration) {
        if let Parcel::Datagram(path, datagram) = parcel {
            self.core.handle_datagram(path, datagram, now);
        }
    }

    fn handle_timeout(&mut self, now: Duration) {
        self.core.handle_timeout(now);
    }

    fn poll_timeout(&self) -> Option<Duration> {
        self.core.poll_timeout()
    }

    fn transmit(&mut self, now: Duration, out: &mut Vec<Parcel<C::Path>>) {
        transmit_datagrams(&mut self.core, now, out);
    }
}

/// Core over a stream with additional datagrams.
#[derive(Debug)]
pub struct StreamAndDatagrams<C> {
    /// The core.
    pub core: C,
    unread: BytesMut,
}

impl<C> StreamAndDatagrams<C> {
    /// Creates an endpoint.
    pub fn new(core: C) -> Self {
        Self { core, unread: BytesMut::new() }
    }
}

impl<C: StreamCore + DatagramCore> Endpoint for StreamAndDatagrams<C>
where
    C::Path: Clone,
{
    type Path = C::Path;

    fn receive(&mut self, parcel: Parcel<C::Path>, now: Duration) {
        match parcel {
            Parcel::Stream(bytes) => {
                self.unread.extend_from_slice(&bytes);
                deliver_discarding(&mut self.core, &mut self.unread, now);
            }
            Parcel::Datagram(path, datagram) => self.core.handle_datagram(path, datagram, now),
        }
    }

    fn handle_timeout(&mut self, now: Duration) {
        self.core.handle_timeout(now);
    }

    fn poll_timeout(&self) -> Option<Duration> {
        self.core.poll_timeout()
    }

    fn transmit(&mut self, now: Duration, out: &mut Vec<Parcel<C::Path>>) {
        transmit_stream(&mut self.core, now, out);
        transmit_datagrams(&mut self.core, now, out);
    }
}

fn transmit_stream<C: StreamCore, P>(core: &mut C, now: Duration, out: &mut Vec<Parcel<P>>) {
    let mut outbox = Outbox::default();
    while core.poll_transmit(now, now, &mut outbox).is_some() {}
    if !outbox.is_empty() {
        out.push(Parcel::Stream(outbox.take_all().into()));
    }
}

fn transmit_datagrams<C: DatagramCore>(core: &mut C, now: Duration, out: &mut Vec<Parcel<C::Path>>) {
    let mut bytes = BytesMut::new();
    while let Some((path, _)) = core.poll_datagram(now, now, &mut bytes) {
        out.push(Parcel::Datagram(path, bytes.split().freeze()));
    }
}

/// Parcel in flight.
#[derive(Debug)]
struct Flight<P> {
    to: Side,
    parcel: Parcel<P>,
}

/// Two endpoints and the lines between them.
#[derive(Debug)]
pub struct Network<A: Endpoint, B> {
    /// First endpoint.
    pub local: A,
    /// Second endpoint.
    pub peer: B,
    /// Line to the first endpoint.
    pub to_local: Line,
    /// Line to the second endpoint.
    pub to_peer: Line,
    /// Current time.
    pub now: Duration,
    random: Random,
    /// Parcels in flight, by arrival and in order of sending.
    flying: BTreeMap<(Duration, u64), Flight<A::Path>>,
    flown: u64,
    /// Arrival of the last stream segment at each endpoint, since segments do not overtake each other.
    last_arrival: [Duration; 2],
}

impl<A: Endpoint, B: Endpoint<Path = A::Path>> Network<A, B> {
    /// Creates a network with the same line in both directions.
    pub fn new(local: A, peer: B, line: Line, seed: u64) -> Self {
        Self {
            local,
            peer,
            to_local: line,
            to_peer: line,
            now: Duration::ZERO,
            random: Random::new(seed),
            flying: BTreeMap::new(),
            flown: 0,
            last_arrival: [Duration::ZERO; 2],
        }
    }

    /// Advances the time to `until`. `act` is called after each event, to drain and answer the cores' events.
    ///
    /// # Panics
    /// If a core asks for the same time again and again.
    pub fn run_until(&mut self, until: Duration, mut act: impl FnMut(&mut A, &mut B, Duration)) {
        let mut rounds = 0;
        loop {
            act(&mut self.local, &mut self.peer, self.now);
            self.transmit();
            let arrival = self.flying.first_key_value().map(|((at, _), _)| *at);
            let next = [arrival, self.local.poll_timeout(), self.peer.poll_timeout()];
            let next = next.into_iter().flatten().min().filter(|next| *next <= until);
            let Some(next) = next else {
                self.now = until;
                return;
            };
            rounds = if next > self.now { 0 } else { rounds + 1 };
            assert!(rounds < MAX_ROUNDS, "a core is never done at {:?}", self.now);
            self.now = self.now.max(next);
            self.arrive();
            if self.local.poll_timeout().is_some_and(|at| at <= self.now) {
                self.local.handle_timeout(self.now);
            }
            if self.peer.poll_timeout().is_some_and(|at| at <= self.now) {
                self.peer.handle_timeout(self.now);
            }
        }
    }

    fn transmit(&mut self) {
        let mut out = Vec::new();
        self.local.transmit(self.now, &mut out);
        for parcel in out.drain(..) {
            self.send(Side::Peer, parcel);
        }
        self.peer.transmit(self.now, &mut out);
        for parcel in out {
            self.send(Side::Local, parcel);
        }
    }

    fn arrive(&mut self) {
        while let Some(entry) = self.flying.first_entry().filter(|entry| entry.key().0 <= self.now) {
            let Flight { to, parcel } = entry.remove();
            match to {
                Side::Local => self.local.receive(parcel, self.now),
                Side::Peer => self.peer.receive(parcel, self.now),
            }
        }
    }

    /// Puts a parcel on the line to an endpoint.
    pub fn send(&mut self, to: Side, parcel: Parcel<A::Path>) {
        let line = match to {
            Side::Local => self.to_local,
            Side::Peer => self.to_peer,
        };
        if line.is_cut {
            return;
        }
        match parcel {
            Parcel::Stream(bytes) => self.send_segments(to, &line, bytes),
            Parcel::Datagram(path, datagram) => {
                let copies = if self.random.chance(line.repeat) { 2 } else { 1 };
                for _ in 0..copies {
                    if self.random.chance(line.loss) {
                        continue;
                    }
                    let late = if self.random.chance(line.reorder) { 20 } else { 0 };
                    let at = self.now + self.delay(&line) + Duration::from_millis(late);
                    self.fly(at, to, Parcel::Datagram(path.clone(), datagram.clone()));
                }
            }
        }
    }

    fn send_segments(&mut self, to: Side, line: &Line, mut bytes: Bytes) {
        while !bytes.is_empty() {
            let length = 1 + self.random.below(line.max_segment);
            let segment = bytes.split_to(bytes.len().min(usize::try_from(length).unwrap_or(usize::MAX)));
            let mut at = self.now + self.delay(line);
            for _ in 0..MAX_RETRANSMISSIONS {
                if !self.random.chance(line.loss) {
                    break;
                }
                at += RETRANSMISSION_TIMEOUT;
            }
            let [local, peer] = &mut self.last_arrival;
            let last = if to == Side::Local { local } else { peer };
            *last = at.max(*last);
            let at = *last;
            self.fly(at, to, Parcel::Stream(segment));
        }
    }

    fn delay(&mut self, line: &Line) -> Duration {
        let jitter = u64::try_from(line.jitter.as_micros()).unwrap_or(u64::MAX);
        line.delay + Duration::from_micros(self.random.below(jitter))
    }

    fn fly(&mut self, at: Duration, to: Side, parcel: Parcel<A::Path>) {
        self.flown += 1;
        self.flying.insert((at, self.flown), Flight { to, parcel });
    }
}
