//! Name resolution with one resolver for the process.
//!
//! At most one query per name is in flight, for any number of feeds and pushes, and no thread waits for a response: an
//! unresponsive name server costs neither threads nor memory. Without a response the last one is used.
//!
//! Names outside of DNS (`.local`, RFC 6762) are resolved by the system, a few at a time.

use std::collections::HashMap;
use std::io;
use std::net::{IpAddr, SocketAddr, ToSocketAddrs as _};
use std::sync::{Arc, OnceLock};
use std::thread;
use std::time::{Duration, SystemTime};

use hickory_resolver::TokioResolver;
use hickory_resolver::config::{ConnectionConfig, NameServerConfig, ResolverConfig};
use hickory_resolver::net::NetError;
use hickory_resolver::net::runtime::TokioRuntimeProvider;
use parking_lot::Mutex;
use tokio::runtime::{Builder, Handle};
use tokio::sync::{Semaphore, watch};
use tokio::task::JoinSet;
use tokio::time::timeout;

/// Timeout of a query, over all name servers and attempts.
const QUERY_TIMEOUT: Duration = Duration::from_secs(5);
/// Timeout of one attempt at one name server.
const ATTEMPT_TIMEOUT: Duration = Duration::from_secs(2);
/// Maximum wait for a response if an earlier one is known.
const STALE_AFTER: Duration = Duration::from_millis(500);
/// Maximum TTL of a cached response or failure, since addresses change.
const MAX_TTL: Duration = Duration::from_secs(30);
const MAX_NEGATIVE_TTL: Duration = Duration::from_secs(2);
/// Maximum concurrent queries to the system's resolver, each of which takes a thread.
const MAX_SYSTEM_QUERIES: usize = 4;
/// Maximum cached names.
const MAX_NAMES: usize = 4_096;
/// Comma-separated name servers (`address` or `address:port`) in place of the system's.
const NAME_SERVERS_VARIABLE: &str = "YONDER_NAME_SERVERS";
/// Configuration of the system's resolver, read again after a change, as when a network comes up.
const SYSTEM_FILES: [&str; 2] = ["/etc/resolv.conf", "/etc/hosts"];

/// Modification time and size of each of [`SYSTEM_FILES`].
type SystemFiles = [Option<(SystemTime, u64)>; 2];

fn system_files() -> SystemFiles {
    SYSTEM_FILES.map(|path| {
        let file = std::fs::metadata(path).ok()?;
        Some((file.modified().ok()?, file.len()))
    })
}

/// Response to a query: addresses, or the error.
type Answer = Result<Arc<[IpAddr]>, ResolveError>;

/// Error of a name resolution.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ResolveError {
    /// The name has no address.
    #[error("{0}")]
    NotFound(String),
    /// No name server has answered.
    #[error("{0}")]
    NoAnswer(String),
}

/// State of one name: last response and query in flight.
#[derive(Debug, Default)]
struct Name {
    last: Option<Arc<[IpAddr]>>,
    /// Query in flight.
    pending: Option<watch::Receiver<Option<Answer>>>,
}

/// Resolver of the process.
#[derive(Debug)]
pub struct Resolver {
    runtime: Handle,
    servers: Vec<SocketAddr>,
    names: Mutex<HashMap<String, Name>>,
    queries: Mutex<JoinSet<()>>,
    dns: Mutex<Option<(TokioResolver, SystemFiles)>>,
    system: Arc<Semaphore>,
}

impl Resolver {
    /// Returns the resolver of the process, which is started at the first call.
    pub fn shared() -> &'static Arc<Self> {
        static SHARED: OnceLock<Arc<Resolver>> = OnceLock::new();
        SHARED.get_or_init(|| Self::start(servers_from_environment()))
    }

    /// Starts a resolver with the given name servers, or those of the system if there are none.
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

    /// Resolves `host`; an IP address is returned unchanged.
    ///
    /// # Errors
    /// [`ResolveError`] if the name has no address, or no name server answers and no earlier response is known.
    ///
    /// # Cancel safety
    /// When dropped, the query stays in flight for others and for the next call.
    pub async fn resolve(self: &Arc<Self>, host: &str) -> Answer {
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
            // An old response is better than none.
            (Some(Err(ResolveError::NoAnswer(_))) | None, Some(last)) => Ok(last),
            (Some(Err(error)), None) => Err(error),
            (None, None) => Err(ResolveError::NoAnswer("the name server does not answer".to_owned())),
        }
    }

    /// Joins the query in flight for `host`, or starts one. Returns the last response as well.
    fn ask(self: &Arc<Self>, host: &str) -> (watch::Receiver<Option<Answer>>, Option<Arc<[IpAddr]>>) {
        let mut names = self.names.lock();
        if names.len() > MAX_NAMES {
            names.retain(|_, name| name.pending.is_some());
        }
        let name = names.entry(host.to_owned()).or_default();
        // A query whose task panicked is started again.
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
        let mut queries = self.queries.lock();
        while queries.try_join_next().is_some() {}
        queries.spawn_on(
            async move {
                let answer = resolver.query(&host).await;
                if let Some(name) = resolver.names.lock().get_mut(&host) {
                    name.pending = None;
                    if let Ok(addresses) = &answer {
                        name.last = Some(Arc::clone(addresses));
                    }
                }
                // The waiting tasks may have been dropped.
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

    /// Returns a DNS resolver with the present configuration; `None` if there is none.
    fn dns(&self) -> Option<TokioResolver> {
        let files = system_files();
        let mut dns = self.dns.lock();
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
        // The thread, and its permit, outlive a caller that no longer waits.
        let lookup = tokio::task::spawn_blocking(move || {
            let _permit = permit;
            (host.as_str(), 0).to_socket_addrs().map(Iterator::collect::<Vec<_>>)
        });
        let found = lookup.await.map_err(|error| ResolveError::NoAnswer(first_line(&error)))?;
        // The system does not distinguish an unknown name from a timeout.
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

/// Returns true for names of multicast DNS (RFC 6762, 3).
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

/// Starts the thread of the resolver. If that fails, the caller's runtime is used.
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
