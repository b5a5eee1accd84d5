use std::sync::atomic::{AtomicU32, Ordering};

use rstest::rstest;
use tokio::net::UdpSocket;

use tokio::time::Instant;

use super::*;

/// A name server on loopback that answers every A question with one address, unless it is silent.
struct NameServer {
    address: SocketAddr,
    questions: Arc<AtomicU32>,
    silent: Arc<watch::Sender<bool>>,
    _task: JoinSet<()>,
}

impl NameServer {
    async fn start() -> Self {
        let socket = UdpSocket::bind("127.0.0.1:0").await.unwrap();
        let address = socket.local_addr().unwrap();
        let questions = Arc::new(AtomicU32::new(0));
        let silent = Arc::new(watch::Sender::new(false));
        let (counted, is_silent) = (Arc::clone(&questions), silent.subscribe());
        let mut task = JoinSet::new();
        task.spawn(async move {
            let mut block = [0; 1_500];
            loop {
                let (length, from) = socket.recv_from(&mut block).await.unwrap();
                counted.fetch_add(1, Ordering::Relaxed);
                if !*is_silent.borrow() {
                    socket.send_to(&answer(&block[..length]), from).await.unwrap();
                }
            }
        });
        Self { address, questions, silent, _task: task }
    }

    fn questions(&self) -> u32 {
        self.questions.load(Ordering::Relaxed)
    }
}

/// Returns a DNS response (RFC 1035, 4.1): 192.0.2.9 with a time to live of zero to an A question, `NXDOMAIN` to names
/// that begin with `no`, and nothing to other questions.
fn answer(question: &[u8]) -> Vec<u8> {
    let mut name_end = 12;
    while question[name_end] != 0 {
        name_end += 1 + usize::from(question[name_end]);
    }
    let end = name_end + 5;
    let is_a = question[name_end + 1..name_end + 3] == [0, 1];
    let unknown = question[13..].to_ascii_lowercase().starts_with(b"no");
    let mut response = question[..2].to_vec();
    response.extend([
        0x81,
        if unknown { 0x83 } else { 0x80 },
        0,
        1,
        0,
        u8::from(is_a && !unknown),
        0,
        0,
        0,
        0,
    ]);
    response.extend(&question[12..end]);
    if is_a && !unknown {
        response.extend([0xc0, 12, 0, 1, 0, 1, 0, 0, 0, 0, 0, 4, 192, 0, 2, 9]);
    }
    response
}

#[rstest]
#[case("192.0.2.7", "192.0.2.7")]
#[case("2001:db8::7", "2001:db8::7")]
#[case("[2001:db8::7]", "2001:db8::7")]
#[tokio::test]
async fn addresses_need_no_query(#[case] host: &str, #[case] address: IpAddr) {
    let server = NameServer::start().await;
    let resolver = Resolver::start(vec![server.address]);
    assert_eq!(resolver.resolve(host).await.as_deref(), Ok(&[address][..]));
    assert_eq!(server.questions(), 0);
}

#[tokio::test]
async fn known_and_unknown_names_are_distinguished() {
    let server = NameServer::start().await;
    let resolver = Resolver::start(vec![server.address]);
    let found = resolver.resolve("summit.example.net").await.unwrap();
    assert_eq!(found[..], ["192.0.2.9".parse::<IpAddr>().unwrap()]);
    let unknown = resolver.resolve("nowhere.example.net").await;
    assert!(matches!(unknown, Err(ResolveError::NotFound(_))), "{unknown:?}");
}

#[tokio::test]
async fn one_query_per_name_is_in_flight() {
    let server = NameServer::start().await;
    server.silent.send_replace(true);
    let resolver = Resolver::start(vec![server.address]);
    let mut asking = JoinSet::new();
    for _ in 0..100 {
        let resolver = Arc::clone(&resolver);
        asking.spawn(async move { resolver.resolve("summit.example.net").await });
    }
    while let Some(answer) = asking.join_next().await {
        assert!(matches!(answer.unwrap(), Err(ResolveError::NoAnswer(_))));
    }
    // A and AAAA, each with retransmissions and a second attempt.
    assert!(server.questions() <= 24, "{} questions", server.questions());
}

#[tokio::test]
async fn last_response_is_used_without_a_new_one() {
    let server = NameServer::start().await;
    let resolver = Resolver::start(vec![server.address]);
    let found = resolver.resolve("summit.example.net").await.unwrap();
    server.silent.send_replace(true);
    let began = Instant::now();
    assert_eq!(resolver.resolve("summit.example.net").await, Ok(found));
    assert!(began.elapsed() < Duration::from_secs(2), "{:?}", began.elapsed());
}

#[tokio::test]
async fn lost_query_is_repeated() {
    let server = NameServer::start().await;
    let resolver = Resolver::start(vec![server.address]);
    // The task that would have answered it panicked.
    let (_, pending) = watch::channel(None);
    resolver
        .names
        .lock()
        .insert("summit.example.net".to_owned(), Name { pending: Some(pending), ..Name::default() });
    assert!(resolver.resolve("summit.example.net").await.is_ok());
}

#[test]
fn multicast_names_are_resolved_by_the_system() {
    assert!(is_multicast_name("summit.local") && is_multicast_name("Summit.LOCAL."));
    assert!(!is_multicast_name("local.example.net") && !is_multicast_name("local"));
}
