//! Publishing by RTMP and RTMPS.

use std::io;
use std::sync::Arc;
use std::time::Duration;

use bytes::BytesMut;
use tokio::io::{AsyncRead, AsyncReadExt as _, AsyncWrite, AsyncWriteExt as _};
use tokio::net::TcpStream;
use tokio::time::{Instant, timeout_at};
use tokio_rustls::TlsConnector;
use tokio_rustls::rustls::pki_types::ServerName;
use yonder_address::{RtmpServer, StreamKey};
use yonder_media::flv::Body;
use yonder_media::{AccessUnit, StreamHeaders};
use yonder_protocol::{Core as _, deliver, take_transmit};
use yonder_rtmp::{MeasuredRates, Publisher, PublisherConfig, PushStep};

use super::CONNECT_TIMEOUT;
use crate::tls::unverified_client;

trait Stream: AsyncRead + AsyncWrite + Unpin + Send {}
impl<T: AsyncRead + AsyncWrite + Unpin + Send> Stream for T {}

/// Connection of an RTMP publisher.
pub(super) struct RtmpConnection {
    publisher: Publisher,
    stream: Box<dyn Stream>,
    began: Instant,
    input: BytesMut,
}

impl RtmpConnection {
    /// Connects and publishes.
    ///
    /// # Errors
    /// The reason, as text.
    pub(super) async fn connect(server: &RtmpServer, key: &StreamKey) -> Result<Self, String> {
        let deadline = Instant::now() + CONNECT_TIMEOUT;
        let stream = timeout_at(deadline, open(server)).await.map_err(|_| "no answer")?;
        let stream = stream.map_err(|error| error.to_string())?;
        let config = PublisherConfig { server: server.clone(), key: key.clone(), seed: 7 };
        let mut publisher = Publisher::new(config);
        publisher.start(Duration::ZERO);
        let mut connection = Self { publisher, stream, began: Instant::now(), input: BytesMut::new() };
        while connection.publisher.step() != PushStep::Live {
            connection.flush().await?;
            if !timeout_at(deadline, connection.read()).await.map_err(|_| "no answer")?? {
                return Err("the server closed the connection".to_owned());
            }
        }
        Ok(connection)
    }

    /// Reads once. Returns false at the end.
    async fn read(&mut self) -> Result<bool, String> {
        let read = self.stream.read_buf(&mut self.input).await.map_err(|error| error.to_string())?;
        // The end is read below.
        let _unused = deliver(&mut self.publisher, &mut self.input, self.began.elapsed());
        match self.publisher.end() {
            Some(end) => Err(end.why.to_string()),
            None => Ok(read > 0),
        }
    }

    async fn flush(&mut self) -> Result<(), String> {
        let out = take_transmit(&mut self.publisher, self.began.elapsed());
        self.stream.write_all(&out).await.map_err(|error| error.to_string())
    }

    /// Answers the server until `deadline`.
    pub(super) async fn wait_until(&mut self, deadline: Instant) -> Result<(), String> {
        while Instant::now() < deadline {
            match timeout_at(deadline, self.read()).await {
                Err(_) => break,
                Ok(Ok(true)) => self.flush().await?,
                Ok(Ok(false)) => return Err("the server closed the connection".to_owned()),
                Ok(Err(error)) => return Err(error),
            }
        }
        Ok(())
    }

    pub(super) async fn send_headers(&mut self, headers: &StreamHeaders, time: i64) -> Result<(), String> {
        self.publisher.send_headers(headers, MeasuredRates::default(), milliseconds(time));
        self.flush().await
    }

    pub(super) async fn send(&mut self, unit: &AccessUnit, headers: &StreamHeaders) -> Result<(), String> {
        self.publisher.send_body(&Body::of_unit(unit, headers), milliseconds(unit.dts));
        self.flush().await
    }

    /// Ends the broadcast in order.
    pub(super) async fn close(mut self) {
        self.publisher.close();
        // The server may have gone.
        let _unused = self.flush().await;
    }
}

/// Returns an RTMP timestamp, which wraps at 2^32 milliseconds.
fn milliseconds(time: i64) -> u32 {
    u32::try_from((time / 90).rem_euclid(1 << 32)).unwrap_or_default()
}

async fn open(server: &RtmpServer) -> io::Result<Box<dyn Stream>> {
    let stream = TcpStream::connect((server.host.trim_matches(['[', ']']), server.port)).await?;
    stream.set_nodelay(true)?;
    if !server.tls {
        return Ok(Box::new(stream));
    }
    let name = ServerName::try_from(server.host.clone()).map_err(io::Error::other)?;
    let stream = TlsConnector::from(Arc::new(unverified_client()?)).connect(name, stream).await?;
    Ok(Box::new(stream))
}
