//! Stand-in encoder: publishes a scene to a server by RTMP, RTMPS or SRT, as field encoders and phones do, and connects again
//! after an end.

mod rtmp;
mod source;
mod srt;

use std::sync::Arc;
use std::time::Duration;

use parking_lot::Mutex;
use tokio::sync::watch;
use tokio::task::JoinHandle;
use tokio::time::{Instant, sleep};
use yonder_address::{KeyLength, Passphrase, ServerAddress, StreamKey};
use yonder_media::{AccessUnit, StreamHeaders};

use crate::media::LoopMedia;
use rtmp::RtmpConnection;
use source::Source;
use srt::SrtConnection;

/// Timeout of connecting.
const CONNECT_TIMEOUT: Duration = Duration::from_secs(10);
/// Pause before the next attempt.
const RETRY_AFTER: Duration = Duration::from_millis(500);
/// Interval at which a frozen encoder checks its faults.
const FROZEN_CHECK: Duration = Duration::from_millis(50);

/// Encryption of SRT.
#[derive(Debug, Clone)]
pub struct SrtEncryption {
    /// Passphrase.
    pub passphrase: Passphrase,
    /// Key length.
    pub key_length: KeyLength,
}

/// Settings of an encoder.
#[derive(Debug, Clone)]
pub struct EncoderConfig {
    /// Server. The certificate of an RTMPS server is not checked, as in many field encoders.
    pub server: ServerAddress,
    /// Stream key.
    pub key: StreamKey,
    /// Encryption of SRT.
    pub encryption: Option<SrtEncryption>,
    /// Scene.
    pub media: Arc<LoopMedia>,
}

/// Faults of an encoder, and what it is asked to do. Counters take effect when they rise.
#[derive(Debug, Clone, Default)]
pub struct EncoderFaults {
    /// The broadcast is ended in order, and not begun again.
    pub off: bool,
    /// The connection stays open, and nothing is sent.
    pub frozen: bool,
    /// The connection is dropped without an end.
    pub resets: u64,
    /// Milliseconds by which all timestamps are moved, in total.
    pub moved_ms: i64,
    /// Another scene, without a new connection.
    pub media: Option<Arc<LoopMedia>>,
    /// Another stream key, from the next connection on.
    pub key: Option<StreamKey>,
}

/// Commands that inject faults, with their meaning.
pub const ENCODER_COMMANDS: &[(&str, &str)] = &[
    ("off | on", "end the broadcast in order | publish again"),
    ("freeze | thaw", "send nothing over the open connection | continue"),
    ("reset", "drop the connection, and connect again"),
    ("jump MS", "move all timestamps by so many milliseconds"),
    ("scene other|own", "another scene, with another size, over the same connection"),
];

impl EncoderFaults {
    /// Applies a command.
    ///
    /// # Errors
    /// If the command is unknown.
    pub fn apply_command(&mut self, line: &str, other: &Arc<LoopMedia>) -> Result<(), String> {
        match line.split_whitespace().collect::<Vec<_>>()[..] {
            ["off"] => self.off = true,
            ["on"] => self.off = false,
            ["freeze"] => self.frozen = true,
            ["thaw"] => self.frozen = false,
            ["reset"] => self.resets += 1,
            ["jump", number] => {
                self.moved_ms += number.parse::<i64>().map_err(|_| format!("{number:?} is no number"))?;
            }
            ["scene", "other"] => self.media = Some(Arc::clone(other)),
            ["scene", "own"] => self.media = None,
            _ => return Err(format!("{line:?} is no command; say help")),
        }
        Ok(())
    }
}

/// State of an encoder.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum EncoderState {
    /// It is off, or connects.
    #[default]
    Idle,
    /// It publishes.
    Live,
    /// The last attempt failed, or the broadcast was ended by the server.
    Failed(String),
}

/// Running encoder, which ends when this is dropped.
#[derive(Debug)]
pub struct Encoder {
    faults: watch::Sender<EncoderFaults>,
    state: Arc<Mutex<EncoderState>>,
    task: JoinHandle<()>,
}

impl Drop for Encoder {
    fn drop(&mut self) {
        self.task.abort();
    }
}

impl Encoder {
    /// Starts an encoder. Must be called within a tokio runtime.
    #[must_use]
    pub fn start(config: EncoderConfig) -> Self {
        let (faults, changes) = watch::channel(EncoderFaults::default());
        let state = Arc::<Mutex<EncoderState>>::default();
        let task = tokio::spawn(run(config, changes, Arc::clone(&state)));
        Self { faults, state, task }
    }

    /// Changes the faults.
    pub fn change(&self, change: impl FnOnce(&mut EncoderFaults)) {
        self.faults.send_modify(change);
    }

    /// Applies a command.
    ///
    /// # Errors
    /// As [`EncoderFaults::apply_command`].
    pub fn apply_command(&self, line: &str, other: &Arc<LoopMedia>) -> Result<(), String> {
        let mut changed = self.faults.borrow().clone();
        changed.apply_command(line, other)?;
        self.faults.send_replace(changed);
        Ok(())
    }

    /// Returns the state.
    #[must_use]
    pub fn state(&self) -> EncoderState {
        self.state.lock().clone()
    }
}

/// Connection of either protocol.
#[expect(clippy::large_enum_variant, reason = "there is one of them")]
enum Connection {
    Rtmp(RtmpConnection),
    Srt(SrtConnection),
}

impl Connection {
    async fn open(config: &EncoderConfig, key: &StreamKey) -> Result<Self, String> {
        match &config.server {
            ServerAddress::Rtmp(server) => RtmpConnection::connect(server, key).await.map(Self::Rtmp),
            ServerAddress::Srt(server) => {
                SrtConnection::connect(server, key, config.encryption.as_ref()).await.map(Self::Srt)
            }
        }
    }

    async fn wait_until(&mut self, deadline: Instant) -> Result<(), String> {
        match self {
            Self::Rtmp(connection) => connection.wait_until(deadline).await,
            Self::Srt(connection) => connection.wait_until(deadline).await,
        }
    }

    /// Sends headers, which in MPEG-TS are part of the media.
    async fn send_headers(&mut self, headers: &StreamHeaders, time: i64) -> Result<(), String> {
        match self {
            Self::Rtmp(connection) => connection.send_headers(headers, time).await,
            Self::Srt(_) => Ok(()),
        }
    }

    async fn send(&mut self, unit: &AccessUnit, headers: &StreamHeaders) -> Result<(), String> {
        match self {
            Self::Rtmp(connection) => connection.send(unit, headers).await,
            Self::Srt(connection) => connection.send(unit, headers).await,
        }
    }

    async fn close(self) {
        match self {
            Self::Rtmp(connection) => connection.close().await,
            Self::Srt(connection) => connection.close().await,
        }
    }
}

/// Publishes until the encoder is dropped.
async fn run(
    config: EncoderConfig,
    mut faults: watch::Receiver<EncoderFaults>,
    state: Arc<Mutex<EncoderState>>,
) {
    loop {
        if faults.wait_for(|faults| !faults.off).await.is_err() {
            return;
        }
        let key = faults.borrow().key.clone().unwrap_or_else(|| config.key.clone());
        let ended = match Connection::open(&config, &key).await {
            Ok(connection) => {
                *state.lock() = EncoderState::Live;
                publish(connection, &config, &faults).await
            }
            Err(reason) => Err(reason),
        };
        *state.lock() = ended.map_or_else(EncoderState::Failed, |()| EncoderState::Idle);
        sleep(RETRY_AFTER).await;
    }
}

/// Sends the scene at its pace, until the encoder is switched off or reset.
///
/// # Errors
/// If the server ends the connection.
async fn publish(
    mut connection: Connection,
    config: &EncoderConfig,
    faults: &watch::Receiver<EncoderFaults>,
) -> Result<(), String> {
    let scene = |faults: &EncoderFaults| faults.media.clone().unwrap_or_else(|| Arc::clone(&config.media));
    let EncoderFaults { resets, mut moved_ms, .. } = *faults.borrow();
    let mut shown = scene(&faults.borrow());
    let (mut began, mut base) = (Instant::now(), 0);
    let mut source = Source::new(Arc::clone(&shown), base);
    let mut headers = source.headers();
    connection.send_headers(&headers, base).await?;
    loop {
        let now = faults.borrow().clone();
        if now.off {
            connection.close().await;
            return Ok(());
        }
        if now.resets != resets {
            return Ok(());
        }
        if now.frozen {
            connection.wait_until(Instant::now() + FROZEN_CHECK).await?;
            source.skip_to(ticks(began.elapsed()));
            continue;
        }
        if now.moved_ms != moved_ms {
            source.jump((now.moved_ms - moved_ms) * 90);
            base += (now.moved_ms - moved_ms) * 90;
            moved_ms = now.moved_ms;
        }
        let wanted = scene(&now);
        if !Arc::ptr_eq(&wanted, &shown) {
            base += ticks(began.elapsed());
            (began, shown) = (Instant::now(), wanted);
            source = Source::new(Arc::clone(&shown), base);
            headers = source.headers();
            connection.send_headers(&headers, base).await?;
        }
        let due =
            began + Duration::from_micros(u64::try_from(source.next_time()).unwrap_or_default() * 100 / 9);
        connection.wait_until(due).await?;
        connection.send(&source.next_unit(), &headers).await?;
    }
}

fn ticks(time: Duration) -> i64 {
    i64::try_from(time.as_micros()).unwrap_or_default() * 9 / 100
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::railway_feeds;

    #[test]
    fn commands_change_the_faults() {
        let other = Arc::new(railway_feeds()[0].main());
        let mut faults = EncoderFaults::default();
        for line in ["off", "freeze", "reset", "jump 250", "jump -50", "scene other"] {
            faults.apply_command(line, &other).unwrap();
        }
        assert!(faults.off && faults.frozen && faults.media.is_some());
        assert_eq!((faults.resets, faults.moved_ms), (1, 200));
        faults.apply_command("scene own", &other).unwrap();
        assert!(faults.media.is_none());
        assert!(
            faults.apply_command("jump far", &other).is_err()
                && faults.apply_command("sing", &other).is_err()
        );
    }
}
