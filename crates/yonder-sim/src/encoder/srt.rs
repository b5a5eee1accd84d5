//! Publishing by SRT.

use std::time::Duration;

use bytes::{Bytes, BytesMut};
use tokio::net::{UdpSocket, lookup_host};
use tokio::time::{Instant, timeout_at};
use yonder_address::{SrtServer, StreamKey, stream_id};
use yonder_media::ts::{Muxer, PACKET};
use yonder_media::{AccessUnit, StreamHeaders};
use yonder_protocol::{Core as _, DatagramCore as _};
use yonder_srt::{Caller, CallerConfig, CallerStep, KeyRefresh, MAX_PAYLOAD};

use super::{CONNECT_TIMEOUT, SrtEncryption};

/// Maximum size of a datagram.
const MAX_DATAGRAM: usize = 2_048;
/// Time for the last packets, and for the end, to be acknowledged.
const CLOSE_TIME: Duration = Duration::from_millis(300);
/// Interval of the caller's timers.
const TIMER: Duration = Duration::from_millis(5);
/// Packets with one encryption key, and before its replacement is announced (draft-sharabayko-srt-01, 6.1.6).
const REFRESH: KeyRefresh = KeyRefresh { every: 1 << 20, announce: 1 << 12 };

/// Connection of an SRT caller.
pub(super) struct SrtConnection {
    caller: Caller,
    socket: UdpSocket,
    began: Instant,
    muxer: Muxer,
}

impl SrtConnection {
    /// Connects.
    ///
    /// # Errors
    /// The reason, as text.
    pub(super) async fn connect(
        server: &SrtServer,
        key: &StreamKey,
        encryption: Option<&SrtEncryption>,
    ) -> Result<Self, String> {
        let text = |error: std::io::Error| error.to_string();
        let mut addresses = lookup_host((server.host.as_str(), server.port)).await.map_err(text)?;
        let address = addresses.next().ok_or("the server has no address")?;
        let any = if address.is_ipv4() { "0.0.0.0:0" } else { "[::]:0" };
        let socket = UdpSocket::bind(any).await.map_err(text)?;
        socket.connect(address).await.map_err(text)?;
        let config = CallerConfig {
            stream_id: stream_id(server, Some(key)).map_err(|error| error.to_string())?,
            encryption: encryption.map(|with| (with.passphrase.clone(), with.key_length)),
            latency: Duration::from_millis(u64::from(server.latency_ms)),
            refresh: REFRESH,
            address: address.ip(),
            induction_only: false,
            entropy: Box::new(|bytes: &mut [u8]| rand::fill(bytes)),
        };
        let caller = Caller::new(config, Duration::ZERO);
        let mut connection = Self { caller, socket, began: Instant::now(), muxer: Muxer::default() };
        while connection.caller.step() != CallerStep::Connected {
            if connection.began.elapsed() > CONNECT_TIMEOUT {
                return Err("no answer".to_owned());
            }
            connection.wait_until(Instant::now() + TIMER).await?;
        }
        Ok(connection)
    }

    /// Exchanges datagrams until `deadline`.
    pub(super) async fn wait_until(&mut self, deadline: Instant) -> Result<(), String> {
        let (mut input, mut out) = (vec![0; MAX_DATAGRAM], BytesMut::new());
        loop {
            let now = self.began.elapsed();
            self.caller.handle_timeout(now);
            while self.caller.poll_datagram(now, now, &mut out).is_some() {
                // Refused while the server is away, which its timeout reports.
                let _unused = self.socket.send(&out.split()).await;
            }
            if let Some(end) = self.caller.end() {
                return Err(end.why.to_string());
            }
            if Instant::now() >= deadline {
                return Ok(());
            }
            let next = deadline.min(Instant::now() + TIMER);
            if let Ok(Ok(count)) = timeout_at(next, self.socket.recv(&mut input)).await {
                let datagram = Bytes::copy_from_slice(&input[..count]);
                self.caller.handle_datagram((), datagram, self.began.elapsed());
            }
        }
    }

    pub(super) async fn send(&mut self, unit: &AccessUnit, headers: &StreamHeaders) -> Result<(), String> {
        let chunk = self.muxer.write(unit, headers);
        let now = self.began.elapsed();
        for (_, packets) in chunk.groups(MAX_PAYLOAD / PACKET) {
            self.caller.send(packets, now);
        }
        self.wait_until(Instant::now()).await
    }

    /// Ends the connection in order.
    pub(super) async fn close(mut self) {
        self.caller.close(self.began.elapsed(), CLOSE_TIME);
        // It ends with that.
        let _ended = self.wait_until(Instant::now() + 2 * CLOSE_TIME).await;
    }
}
