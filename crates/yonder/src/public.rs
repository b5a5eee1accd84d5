//! Listener for viewers: the public pages of signposts.

use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;

use tokio::runtime::Handle;
use url::Url;
use yonder_http::{Access, Certificate, TlsFiles};
use yonder_public::{PublicConfig, PublicServer};
use yonder_service::Service;

/// Settings of the listener.
#[derive(Debug, Clone)]
pub(crate) struct PublicSettings {
    pub(crate) listen: SocketAddr,
    /// Address under which viewers reach the pages.
    pub(crate) viewer_url: Option<Url>,
    pub(crate) tls: Option<TlsFiles>,
    pub(crate) trusted_proxies: Vec<IpAddr>,
}

/// Starts the listener. Its certificate is read again when it changes.
pub(crate) fn start(
    settings: PublicSettings,
    service: &Arc<Service>,
    runtime: &Handle,
) -> anyhow::Result<PublicServer> {
    let PublicSettings { listen, viewer_url, tls, trusted_proxies } = settings;
    let certificate = tls.map(Certificate::load).transpose()?.map(Arc::new);
    let tls = certificate.as_ref().map(Certificate::server_config).transpose()?.map(Arc::new);
    let access = Access { public_url: None, trusted_proxies, tls: tls.is_some() };
    let config = PublicConfig { listen, tls, access, base: viewer_url };
    let server = PublicServer::start(Arc::clone(service), config)?;
    if let Some(certificate) = certificate {
        runtime.spawn(certificate.watch());
    }
    Ok(server)
}
