//! Name resolution: one resolver for the whole process.
//!
//! At most one question per name is in flight, however many feeds and pushes ask for it, and no thread waits for an answer: a
//! name server that is silent costs neither threads nor memory. While no answer comes, the last one is used.
//!
//! Names that DNS does not serve (`.local`, RFC 6762) are asked of the system's own resolver, a few at a time.

use std::collections::HashMap;
use std::io;
use std::net::{IpAddr, SocketAddr, ToSocketAddrs as _};
use std::sync::{Arc, Mutex, OnceLock};
use std::thread;
use std::time::{Duration, SystemTime};

use hickory_resolver::TokioResolver;
use hickory_resolver::config::{ConnectionConfig, NameServerConfig, ResolverConfig};
use hickory_resolver::net::NetError;
use hickory_resolver::net::runtime::TokioRuntimeProvider;
use tokio::runtime::{Builder, Handle};
use tokio::sync::{Semaphore, watch};
use tokio::task::JoinSet;
use tokio::time::timeout;

use crate::sync::lock;

/// How long a question may take, over all name servers and attempts.
const QUERY_TIMEOUT: Duration = Duration::from_secs(5);
/// One attempt at one name server.
const ATTEMPT_TIMEOUT: Duration = Duration::from_secs(2);
/// With an earlier answer at hand, a new one is waited for only this long.
const STALE_AFTER: Duration = Duration::from_millis(500);
/// Longest time for which an answer, or the lack of one, is taken from the cache: sites change their addresses.
const MAX_TTL: Duration = Duration::from_secs(30);
const MAX_NEGATIVE_TTL: Duration = Duration::from_secs(2);
/// Questions to the system's resolver at a time; each takes a thread.
const MAX_SYSTEM_QUERIES: usize = 4;
/// Names whose last answers are kept.
const MAX_NAMES: usize = 4_096;
/// Comma-separated name servers (`address` or `address:port`) that replace those of the system.
const NAME_SERVERS_VARIABLE: &str = "YONDER_NAME_SERVERS";
/// The system's name servers and its own table of names; read again when they change, as they do when a network comes up.
const SYSTEM_FILES: [&str; 2] = ["/etc/resolv.conf", "/etc/hosts"];

/// When each of [`SYSTEM_FILES`] was changed last, and its size.
type SystemFiles = [Option<(SystemTime, u64)>; 2];

fn system_files() -> SystemFiles {
    SYSTEM_FILES.map(|path| {
        let file = std::fs::metadata(path).ok()?;
        Some((file.modified().ok()?, file.len()))
    })
}

/// Answer to a question: addresses, or a reason for people.
type Answer = Result<Arc<[IpAddr]>, ResolveError>;

/// Why a name has no address.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub(crate) enum ResolveError {
    /// The name servers say so.
    #[error("{0}")]
    NotFound(String),
    /// No name server has answered.
    #[error("{0}")]
    NoAnswer(String),
}

/// State of one name: its last answer and the question in flight.
#[derive(Debug, Default)]
struct Name {
    last: Option<Arc<[IpAddr]>>,
    /// The question in flight.
    pending: Option<watch::Receiver<Option<Answer>>>,
}

/// Resolver of the process.
#[derive(Debug)]
pub(crate) struct Resolver {
    runtime: Handle,
    servers: Vec<SocketAddr>,
    names: Mutex<HashMap<String, Name>>,
    queries: Mutex<JoinSet<()>>,
    dns: Mutex<Option<(TokioResolver, SystemFiles)>>,
    system: Arc<Semaphore>,
}

impl Resolver {
    /// Returns the resolver of the process, which is started at the first call.
    pub(crate) fn shared() -> &'static Arc<Self> {
        static SHARED: OnceLock<Arc<Resolver>> = OnceLock::new();
        SHARED.get_or_init(|| Self::start(servers_from_environment()))
    }

    /// Starts a resolver that asks `servers`, or those of the system where there are none.
    fn start(servers: Vec<SocketAddr>) -> Arc<Self> {
        Arc::new(Self {
            runtime: start_thread(),
            servers,
            names: Mutex::default(),
            queries: Mutex::default(),
            dns: Mutex::default(),
            system: Arc::new(Semaphore::new(MAX_SYSTEM_QUERIES)),
        })
    }

    /// Finds the addresses of `host`; an IP address is returned as it is.
    ///
    /// # Errors
    /// [`ResolveError`] when the name has no address, or when no name server answers and no earlier answer is known.
    ///
    /// # Cancel safety
    /// When dropped, the question stays in flight for others and for the next call.
    pub(crate) async fn resolve(self: &Arc<Self>, host: &str) -> Answer {
        if let Ok(address) = host.trim_start_matches('[').trim_end_matches(']').parse::<IpAddr>() {
            return Ok(Arc::from([address]));
        }
        let (mut pending, last) = self.ask(host);
        let patience = if last.is_some() { STALE_AFTER } else { QUERY_TIMEOUT };
        let answer = timeout(patience, pending.wait_for(Option::is_some)).await;
        let answer = answer.ok().and_then(Result::ok).and_then(|answer| answer.clone());
        match (answer, last) {
            (Some(Ok(addresses)), _) => Ok(addresses),
            (Some(Err(ResolveError::NotFound(reason))), _) => Err(ResolveError::NotFound(reason)),
            // An old answer is better than none.
            (Some(Err(ResolveError::NoAnswer(_))) | None, Some(last)) => Ok(last),
            (Some(Err(error)), None) => Err(error),
            (None, None) => Err(ResolveError::NoAnswer("the name server does not answer".to_owned())),
        }
    }

    /// Joins the question in flight for `host`, or asks it. Returns the last answer besides.
    fn ask(self: &Arc<Self>, host: &str) -> (watch::Receiver<Option<Answer>>, Option<Arc<[IpAddr]>>) {
        let mut names = lock(&self.names);
        if names.len() > MAX_NAMES {
            names.retain(|_, name| name.pending.is_some());
        }
        let name = names.entry(host.to_owned()).or_default();
        // A question whose task panicked is asked again.
        if let Some(pending) = &name.pending
            && pending.has_changed().is_ok()
        {
            return (pending.clone(), name.last.clone());
        }
        let (sender, receiver) = watch::channel(None);
        name.pending = Some(receiver.clone());
        let last = name.last.clone();
        drop(names);
        let (resolver, host) = (Arc::clone(self), host.to_owned());
        let mut queries = lock(&self.queries);
        while queries.try_join_next().is_some() {}
        queries.spawn_on(
            async move {
                let answer = resolver.query(&host).await;
                if let Some(name) = lock(&resolver.names).get_mut(&host) {
                    name.pending = None;
                    if let Ok(addresses) = &answer {
                        name.last = Some(Arc::clone(addresses));
                    }
                }
                // Those who asked may have gone.
                let _unused = sender.send(Some(answer));
            },
            &self.runtime,
        );
        (receiver, last)
    }

    async fn query(&self, host: &str) -> Answer {
        let asked = async {
            match self.dns() {
                Some(dns) if !is_multicast_name(host) => ask_dns(&dns, host).await,
                _ => self.ask_system(host).await,
            }
        };
        let unanswered = || Err(ResolveError::NoAnswer("the name server does not answer".to_owned()));
        timeout(QUERY_TIMEOUT, asked).await.unwrap_or_else(|_| unanswered())
    }

    /// The DNS resolver by the present configuration; `None` where there is none.
    fn dns(&self) -> Option<TokioResolver> {
        let files = system_files();
        let mut dns = lock(&self.dns);
        match &*dns {
            Some((resolver, read)) if *read == files => return Some(resolver.clone()),
            _ => {}
        }
        let mut builder = if self.servers.is_empty() {
            TokioResolver::builder_tokio().ok()?
        } else {
            TokioResolver::builder_with_config(config_of(&self.servers), TokioRuntimeProvider::default())
        };
        let options = builder.options_mut();
        options.timeout = ATTEMPT_TIMEOUT;
        options.attempts = 2;
        options.positive_max_ttl = Some(MAX_TTL);
        options.negative_max_ttl = Some(MAX_NEGATIVE_TTL);
        let resolver = builder.build().ok()?;
        *dns = Some((resolver.clone(), files));
        Some(resolver)
    }

    async fn ask_system(&self, host: &str) -> Answer {
        let permit = Arc::clone(&self.system).acquire_owned().await;
        let host = host.to_owned();
        // The thread outlives a caller that no longer waits, and so does its permit.
        let lookup = tokio::task::spawn_blocking(move || {
            let _permit = permit;
            (host.as_str(), 0).to_socket_addrs().map(Iterator::collect::<Vec<_>>)
        });
        let found = lookup.await.map_err(|error| ResolveError::NoAnswer(first_line(&error)))?;
        // The system does not tell an unknown name from a question without an answer.
        let found = found.map_err(|error| ResolveError::NoAnswer(first_line(&error)))?;
        let addresses: Arc<[IpAddr]> = found.iter().map(SocketAddr::ip).collect();
        if addresses.is_empty() { Err(no_address()) } else { Ok(addresses) }
    }
}

async fn ask_dns(dns: &TokioResolver, host: &str) -> Answer {
    match dns.lookup_ip(host).await {
        Ok(found) => {
            let addresses: Arc<[IpAddr]> = found.iter().collect();
            if addresses.is_empty() { Err(no_address()) } else { Ok(addresses) }
        }
        Err(error) if error.is_nx_domain() => Err(ResolveError::NotFound("there is no such name".to_owned())),
        Err(error) if error.is_no_records_found() => Err(no_address()),
        Err(NetError::Timeout) => Err(ResolveError::NoAnswer("the name server does not answer".to_owned())),
        Err(error) => Err(ResolveError::NoAnswer(first_line(&error))),
    }
}

fn no_address() -> ResolveError {
    ResolveError::NotFound("the name has no address".to_owned())
}

fn first_line(error: &dyn std::fmt::Display) -> String {
    error.to_string().lines().next().unwrap_or_default().to_owned()
}

/// Multicast DNS serves these (RFC 6762, 3).
fn is_multicast_name(host: &str) -> bool {
    let host = host.trim_end_matches('.');
    host.len() >= 6 && host.get(host.len() - 6..).is_some_and(|end| end.eq_ignore_ascii_case(".local"))
}

fn config_of(servers: &[SocketAddr]) -> ResolverConfig {
    let of = |server: &SocketAddr| {
        let connections = [ConnectionConfig::udp(), ConnectionConfig::tcp()].map(|mut connection| {
            connection.port = server.port();
            connection
        });
        NameServerConfig::new(server.ip(), true, connections.to_vec())
    };
    ResolverConfig::from_name_servers(servers.iter().map(of).collect())
}

fn servers_from_environment() -> Vec<SocketAddr> {
    let text = std::env::var(NAME_SERVERS_VARIABLE).unwrap_or_default();
    let servers = text.split(',').map(str::trim).filter(|server| !server.is_empty());
    let read = |server: &str| {
        let address = server.parse().ok();
        let address = address.or_else(|| server.parse().ok().map(|ip: IpAddr| SocketAddr::new(ip, 53)));
        if address.is_none() {
            tracing::error!(
                server,
                variable = NAME_SERVERS_VARIABLE,
                "not a name server's address, left out"
            );
        }
        address
    };
    servers.filter_map(read).collect()
}

/// Starts the thread on which questions are asked. Where it cannot be started, the caller's runtime is used.
fn start_thread() -> Handle {
    let started = || -> io::Result<Handle> {
        let runtime = Builder::new_current_thread().enable_all().build()?;
        let handle = runtime.handle().clone();
        let run = move || runtime.block_on(std::future::pending::<()>());
        thread::Builder::new().name("yonder-resolver".to_owned()).spawn(run)?;
        Ok(handle)
    };
    started().unwrap_or_else(|error| {
        tracing::error!(%error, "resolver thread not started");
        Handle::current()
    })
}

#[cfg(test)]
mod tests;
