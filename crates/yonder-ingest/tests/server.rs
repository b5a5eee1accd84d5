//! The ingest server with real sockets: media arrives bit-exact, and peers that deviate are refused within bounds.

#![expect(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    reason = "a test ends where something unexpected happens"
)]

mod support;

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use rstest::rstest;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::{TcpStream, UdpSocket};
use tokio::sync::mpsc;
use tokio::time::timeout;
use tokio_rustls::rustls::pki_types::{PrivateKeyDer, PrivatePkcs8KeyDer, ServerName};
use tokio_rustls::rustls::{ClientConfig, RootCertStore, ServerConfig};
use tokio_rustls::{TlsAcceptor, TlsConnector};
use yonder_address::{KeyLength, Passphrase, StreamKey};
use yonder_ingest::{
    FeedAccess, IngestConfig, IngestProtocol, IngestRegistry, IngestServer, Publisher, PublisherEnd,
    PublisherMessage, UnitEvent,
};
use yonder_media::Track;
use yonder_rtmp::PushError;
use yonder_srt::{Rejection, SrtError};

use support::{RtmpEncoder, SrtEncoder, clip, headers, receive, sent, timed};

const KEY: &str = "planted-key-3kd9";
const PASSPHRASE: &str = "a passphrase of the bandstand";
const FRAMES: usize = 100;

struct Site {
    server: IngestServer,
    registry: IngestRegistry,
    publishers: mpsc::UnboundedReceiver<Publisher>,
}

impl Site {
    fn start(passphrase: Option<&str>, tls: Option<TlsAcceptor>) -> Self {
        let loopback: SocketAddr = "127.0.0.1:0".parse().unwrap();
        let registry = IngestRegistry::default();
        let config = IngestConfig {
            rtmp: Some(loopback),
            rtmps: tls.as_ref().map(|_| loopback),
            srt: Some(loopback),
            latency: Duration::from_millis(120),
        };
        let server = IngestServer::start(config, tls, &registry).unwrap();
        let (sender, publishers) = mpsc::unbounded_channel();
        let access = FeedAccess {
            keys: vec![StreamKey::from_stored(KEY.to_owned().into())],
            passphrase: passphrase.map(|text| Passphrase::parse(text).unwrap()),
            publishers: sender,
        };
        registry.set("Bandstand", access);
        Self { server, registry, publishers }
    }

    async fn connect(&self) -> TcpStream {
        TcpStream::connect(self.server.addresses().rtmp.unwrap()).await.unwrap()
    }

    async fn rtmp(&self, key: &str) -> Result<RtmpEncoder<TcpStream>, PushError> {
        RtmpEncoder::publish(self.connect().await, "live", key).await
    }

    fn srt(&self) -> SocketAddr {
        self.server.addresses().srt.unwrap()
    }

    async fn publisher(&mut self) -> Publisher {
        timeout(Duration::from_secs(20), self.publishers.recv()).await.expect("no publisher").unwrap()
    }
}

#[rstest]
#[case::from_zero(0)]
#[case::across_the_wrap_of_timestamps(((1_i64 << 32) - 1_000) * 90)]
#[case::with_extended_timestamps_from_the_first(30_000_000 * 90)]
#[tokio::test]
async fn rtmp_media_arrives_bit_exact(#[case] base: i64) {
    let mut site = Site::start(None, None);
    let mut encoder = site.rtmp(KEY).await.unwrap();
    let mut publisher = site.publisher().await;
    assert_eq!(publisher.info.protocol, IngestProtocol::Rtmp);
    assert!(publisher.info.software.as_ref().unwrap().contains("Yonder Relay"), "{:?}", publisher.info);
    let units = clip(2, base);
    let receiving = tokio::spawn(async move { receive(&mut publisher, usize::MAX).await });
    encoder.send(&units, &headers()).await;
    encoder.close().await;
    let received = receiving.await.unwrap();
    assert_eq!(received.end, Some(PublisherEnd::Ended));
    assert_eq!(received.headers, Some(headers()));
    for track in [Track::Video, Track::Audio] {
        assert!(timed(&received.units, track) == timed(&sent(&units), track), "{track:?} differs");
    }
    assert!(received.bytes > 50_000, "{}", received.bytes);
}

#[rstest]
#[case::plain(None, 0)]
#[case::aes_128(Some(KeyLength::Aes128), 0)]
#[case::aes_256_with_loss(Some(KeyLength::Aes256), 20)]
#[case::plain_with_loss(None, 20)]
#[tokio::test]
async fn srt_media_arrives_bit_exact(#[case] length: Option<KeyLength>, #[case] loss: u64) {
    let mut site = Site::start(length.map(|_| PASSPHRASE), None);
    let encryption = length.map(|length| (PASSPHRASE, length));
    let id = format!("#!::r={KEY},m=publish");
    let mut encoder = SrtEncoder::publish(site.srt(), &id, encryption, loss).await.unwrap();
    let mut publisher = site.publisher().await;
    assert_eq!(
        (publisher.info.protocol, publisher.info.is_encrypted),
        (IngestProtocol::Srt, length.is_some())
    );
    let units = clip(3, 90_000);
    let receiving = tokio::spawn(async move { receive(&mut publisher, usize::MAX).await });
    encoder.send(&units, &headers()).await;
    encoder.close().await;
    let received = receiving.await.unwrap();
    assert_eq!(received.end, Some(PublisherEnd::Ended));
    assert_eq!(received.headers, Some(headers()));
    // The last frames of a stream without an end mark are not complete.
    for track in [Track::Video, Track::Audio] {
        let (received, sent) = (timed(&received.units, track), timed(&sent(&units), track));
        assert!(received.len() + 2 >= sent.len(), "{track:?}: {} of {}", received.len(), sent.len());
        for ((dts, pts, payload), expected) in received.iter().zip(&sent) {
            assert_eq!((*dts, *pts), (expected.0, expected.1), "{track:?}");
            assert!(ends_with(payload, &expected.2), "{track:?} differs");
        }
    }
}

/// Returns true if the second payload is the end of the first: a transport stream carries parameter sets along.
fn ends_with(received: &yonder_media::Payload, sent: &yonder_media::Payload) -> bool {
    use yonder_media::Payload;
    match (received, sent) {
        (Payload::Nals(received), Payload::Nals(sent)) => received.ends_with(sent),
        _ => received == sent,
    }
}

#[tokio::test]
async fn rtmps_is_received_with_the_certificate_of_the_server() {
    let certified = rcgen::generate_simple_self_signed(["ingest.example.net".to_owned()]).unwrap();
    let key = PrivateKeyDer::from(PrivatePkcs8KeyDer::from(certified.signing_key.serialize_der()));
    let provider = Arc::new(tokio_rustls::rustls::crypto::ring::default_provider());
    let server = ServerConfig::builder_with_provider(Arc::clone(&provider))
        .with_safe_default_protocol_versions()
        .unwrap()
        .with_no_client_auth()
        .with_single_cert(vec![certified.cert.der().clone()], key)
        .unwrap();
    let mut roots = RootCertStore::empty();
    roots.add(certified.cert.der().clone()).unwrap();
    let client = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .unwrap()
        .with_root_certificates(roots)
        .with_no_client_auth();
    let mut site = Site::start(None, Some(TlsAcceptor::from(Arc::new(server))));
    let stream = TcpStream::connect(site.server.addresses().rtmps.unwrap()).await.unwrap();
    let name = ServerName::try_from("ingest.example.net").unwrap();
    let stream = TlsConnector::from(Arc::new(client)).connect(name, stream).await.unwrap();
    let mut encoder = RtmpEncoder::publish(stream, "live", KEY).await.unwrap();
    let mut publisher = site.publisher().await;
    assert_eq!((publisher.info.protocol, publisher.info.is_encrypted), (IngestProtocol::Rtmps, true));
    let receiving = tokio::spawn(async move { receive(&mut publisher, FRAMES).await });
    encoder.send(&clip(2, 0), &headers()).await;
    assert_eq!(receiving.await.unwrap().units.len(), FRAMES);
}

#[tokio::test]
async fn wrong_keys_are_refused_slower_and_slower_and_counted() {
    let site = Site::start(None, None);
    let mut times = Vec::new();
    for _ in 0..3 {
        let began = tokio::time::Instant::now();
        let refused = site.rtmp("planted-wrong-key").await.err().unwrap();
        let PushError::Refused { status, .. } = &refused else { panic!("{refused}") };
        assert!(status.to_string().contains("BadName"), "{status}");
        assert!(!status.to_string().contains("planted"), "{status}");
        times.push(began.elapsed());
    }
    assert!(times[1] >= Duration::from_millis(500) && times[2] >= Duration::from_millis(1_000), "{times:?}");
    let refused = SrtEncoder::publish(site.srt(), "planted-wrong-key", None, 0).await.err().unwrap();
    assert_eq!(refused, SrtError::Rejected(Rejection::Forbidden));
    let refused = SrtEncoder::publish(site.srt(), "#!::m=request,r=x", None, 0).await.err().unwrap();
    assert_eq!(refused, SrtError::Rejected(Rejection::BadRequest));
    assert_eq!(site.registry.counts().wrong_key, 4);
}

#[rstest]
#[case::another(Some("a passphrase of the viaduct"), PASSPHRASE)]
#[case::missing(None, PASSPHRASE)]
#[tokio::test]
async fn passphrase_of_the_feed_is_required(#[case] theirs: Option<&str>, #[case] ours: &str) {
    let mut site = Site::start(Some(ours), None);
    let theirs = theirs.map(|text| (text, KeyLength::Aes128));
    assert!(SrtEncoder::publish(site.srt(), KEY, theirs, 0).await.is_err());
    assert!(site.publishers.try_recv().is_err());
    assert_eq!(site.registry.counts().wrong_key, 1);
    let right = Some((PASSPHRASE, KeyLength::Aes192));
    assert!(SrtEncoder::publish(site.srt(), KEY, right, 0).await.is_ok());
}

#[tokio::test]
async fn second_encoder_is_refused_while_the_first_sends_and_takes_over_from_a_silent_one() {
    let mut site = Site::start(None, None);
    let mut first = site.rtmp(KEY).await.unwrap();
    let mut publisher = site.publisher().await;
    let receiving = tokio::spawn(async move { receive(&mut publisher, usize::MAX).await });
    first.send(&clip(1, 0), &headers()).await;
    let busy = site.rtmp(KEY).await.err().unwrap();
    assert!(busy.to_string().contains("already"), "{busy}");
    let busy = SrtEncoder::publish(site.srt(), KEY, None, 0).await.err().unwrap();
    assert_eq!(busy, SrtError::Rejected(Rejection::Conflict));
    tokio::time::sleep(Duration::from_millis(3_100)).await;
    let _second = SrtEncoder::publish(site.srt(), KEY, None, 0).await.unwrap();
    assert_eq!(receiving.await.unwrap().end, Some(PublisherEnd::Replaced));
    assert_eq!(site.publisher().await.info.protocol, IngestProtocol::Srt);
}

#[tokio::test]
async fn abrupt_end_is_reported_and_the_encoder_may_return_at_once() {
    let mut site = Site::start(None, None);
    for _ in 0..3 {
        let mut encoder = site.rtmp(KEY).await.unwrap();
        let mut publisher = site.publisher().await;
        encoder.send(&clip(1, 0), &headers()).await;
        drop(encoder);
        let received = receive(&mut publisher, usize::MAX).await;
        assert!(
            matches!(received.end, Some(PublisherEnd::Closed | PublisherEnd::Lost(_))),
            "{:?}",
            received.end
        );
    }
}

/// The socket serves all feeds, so that it does not wait for one whose queue is full.
#[tokio::test]
async fn feed_that_was_blocked_continues_with_a_keyframe() {
    let mut site = Site::start(None, None);
    let mut encoder = SrtEncoder::publish(site.srt(), KEY, None, 0).await.unwrap();
    let mut publisher = site.publisher().await;
    let units = clip(14, 0);
    // Without a reader the queue is full before the end.
    encoder.send(&units[..600], &headers()).await;
    let mut seen = Vec::new();
    let mut drain = |publisher: &mut Publisher| {
        while let Ok(message) = publisher.messages.try_recv() {
            if let PublisherMessage::Media(UnitEvent::Unit(unit)) = message {
                seen.push(unit);
            }
        }
    };
    drain(&mut publisher);
    encoder.send(&units[600..], &headers()).await;
    encoder.run(Duration::from_millis(1_500)).await;
    drain(&mut publisher);
    let videos: Vec<_> = seen.iter().filter(|unit| unit.track == Track::Video).collect();
    let gap = videos.windows(2).position(|pair| pair[1].dts - pair[0].dts > 4_000).expect("a gap");
    assert!(videos[gap + 1].keyframe, "{:?}", videos[gap + 1].dts);
    assert_eq!(videos[gap + 1..].windows(2).filter(|pair| pair[1].dts - pair[0].dts > 4_000).count(), 0);
}

#[tokio::test]
async fn feed_that_takes_no_media_any_more_ends_the_connection() {
    let mut site = Site::start(None, None);
    let mut encoder = site.rtmp(KEY).await.unwrap();
    drop(site.publisher().await);
    encoder.send(&clip(1, 0)[..2], &headers()).await;
    // A new one is accepted.
    let again = async {
        while site.rtmp(KEY).await.is_err() {
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
    };
    timeout(Duration::from_secs(5), again).await.unwrap();
}

#[tokio::test]
async fn a_thousand_silent_connections_do_not_touch_a_publisher() {
    let mut site = Site::start(None, None);
    let mut encoder = site.rtmp(KEY).await.unwrap();
    let mut publisher = site.publisher().await;
    let mut silent = Vec::new();
    for _ in 0..1_000 {
        silent.push(site.connect().await);
    }
    let receiving = tokio::spawn(async move { receive(&mut publisher, FRAMES).await });
    let began = tokio::time::Instant::now();
    encoder.send(&clip(2, 0), &headers()).await;
    assert_eq!(receiving.await.unwrap().units.len(), FRAMES);
    assert!(began.elapsed() < Duration::from_secs(2), "{:?}", began.elapsed());
    // All but a few of one address were closed at once.
    assert!(site.registry.counts().over_limit > 900, "{:?}", site.registry.counts());
    let refused = timeout(Duration::from_secs(5), silent[999].read(&mut [0])).await.unwrap();
    assert!(matches!(refused, Ok(0) | Err(_)));
}

#[tokio::test(start_paused = true)]
async fn peer_that_shows_no_key_is_closed_after_ten_seconds() {
    let site = Site::start(None, None);
    let mut silent = site.connect().await;
    let began = tokio::time::Instant::now();
    assert_eq!(silent.read(&mut [0]).await.unwrap(), 0);
    assert_eq!(began.elapsed().as_secs(), 10);
    assert_eq!(site.registry.counts().without_key, 1);
}

#[rstest]
#[case::no_rtmp(b"GET / HTTP/1.1\r\nHost: ingest.example.net\r\n\r\n".to_vec())]
#[case::endless_message([&[3_u8][..], &[0; 3_072], &[3, 0, 0, 0, 0xff, 0xff, 0xff, 20, 0, 0, 0, 0]].concat())]
#[case::endless_handshake(vec![3; 200_000])]
#[tokio::test]
async fn garbage_is_closed_and_counted(#[case] bytes: Vec<u8>) {
    let site = Site::start(None, None);
    let mut peer = site.connect().await;
    // The server may close before everything is written.
    let _unused = peer.write_all(&bytes).await;
    let _unused = peer.shutdown().await;
    let closed =
        timeout(Duration::from_secs(5), async { while let Ok(1..) = peer.read(&mut [0; 4_096]).await {} });
    closed.await.unwrap();
    assert_eq!(site.registry.counts().without_key, 1);
}

#[tokio::test]
async fn induction_flood_costs_no_connection() {
    let mut site = Site::start(None, None);
    let flood = UdpSocket::bind("127.0.0.1:0").await.unwrap();
    flood.connect(site.srt()).await.unwrap();
    // Induction requests (3.2.1) with changing socket IDs, and noise.
    for at in 0..5_000_u32 {
        let mut datagram = vec![0x80, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0];
        datagram.extend_from_slice(&[
            0, 0, 0, 4, 0, 0, 0, 2, 0, 0, 0, 1, 0, 0, 5, 0xdc, 0, 0, 0x20, 0, 0, 0, 0, 1,
        ]);
        datagram.extend_from_slice(&at.to_be_bytes());
        datagram.extend_from_slice(&[0; 20]);
        let _unused = flood.send(if at % 2 == 0 { &datagram } else { &[0xff; 40] }).await;
    }
    let mut encoder = SrtEncoder::publish(site.srt(), KEY, None, 0).await.unwrap();
    let mut publisher = site.publisher().await;
    let receiving = tokio::spawn(async move { receive(&mut publisher, 20).await });
    encoder.send(&clip(1, 0), &headers()).await;
    assert!(receiving.await.unwrap().units.len() >= 20);
}
