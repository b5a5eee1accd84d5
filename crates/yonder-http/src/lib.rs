//! HTTP interface with Actix Web: routes, authentication, problem documents, and the embedded console.

mod access;
mod alerts;
mod book;
mod caller;
mod console;
mod conventions;
mod destinations;
mod discoveries;
mod error;
mod events;
mod fallback;
mod feeds;
mod health;
mod holding;
mod jobs;
mod json;
mod limits;
mod maintenance;
mod metrics;
mod openapi;
mod page;
mod patterns;
mod people;
mod platforms;
mod preview;
mod record;
mod relays;
mod self_signed;
mod server;
mod session;
mod signposts;
mod surveys;
mod tls;
mod tokens;
mod tuning;
mod uplinks;

use std::sync::Arc;

use actix_web::middleware::from_fn;
use actix_web::web::{self, Data, ServiceConfig};

use crate::error::HttpError;
use crate::limits::Limits;
use crate::metrics::RequestMetrics;
use yonder_service::Service;
use yonder_service::ServiceError;

pub use access::Access;
pub use console::accepts_gzip;
pub use openapi::openapi;
pub use self_signed::self_signed;
pub use server::{Server, ServerConfig, ServerError, max_connections};
pub use tls::{Certificate, TlsError, TlsFiles};

/// Returns the configuration of all routes. Clones of `limits` and of `requests` share their counters.
fn configure(access: Access, limits: Limits, requests: RequestMetrics) -> impl FnOnce(&mut ServiceConfig) {
    move |config| configure_routes(config, access, limits, requests)
}

fn configure_routes(config: &mut ServiceConfig, access: Access, limits: Limits, requests: RequestMetrics) {
    config
        .app_data(Data::new(access))
        .app_data(Data::new(limits))
        .app_data(Data::new(requests))
        .app_data(json::configuration())
        .app_data(
            web::QueryConfig::default()
                .error_handler(|error, _| HttpError::from(ServiceError::Malformed(error.to_string())).into()),
        )
        .app_data(
            web::PathConfig::default()
                .error_handler(|error, _| HttpError::from(ServiceError::Malformed(error.to_string())).into()),
        )
        .configure(health::configure)
        .configure(maintenance::configure_metrics)
        .service(
            web::scope("/api/v1")
                // The last one is executed first.
                .wrap(from_fn(limits::limit_body))
                .wrap(from_fn(caller::identify_first))
                .configure(openapi::configure)
                .configure(session::configure)
                .configure(people::configure)
                .configure(tokens::configure)
                .configure(feeds::configure)
                .configure(destinations::configure)
                .configure(platforms::configure)
                .configure(uplinks::configure)
                .configure(signposts::configure)
                .configure(relays::configure)
                .configure(holding::configure)
                .configure(record::configure)
                .configure(maintenance::configure)
                .configure(alerts::configure)
                .configure(book::configure)
                .configure(surveys::configure)
                .configure(tuning::configure)
                .configure(patterns::configure)
                .configure(discoveries::configure)
                .configure(jobs::configure)
                .configure(preview::configure)
                .configure(events::configure)
                .default_service(web::to(fallback::no_such_page)),
        )
        .default_service(web::get().to(console::serve));
}

/// Runs a blocking call of the service on a blocking thread.
async fn run_blocking<T: Send + 'static>(
    service: &Data<Service>,
    call: impl FnOnce(&Service) -> Result<T, ServiceError> + Send + 'static,
) -> Result<T, HttpError> {
    let service = Arc::clone(service);
    let done = web::block(move || {
        let result = call(&service);
        // Subscribers are notified of a change at once.
        if result.is_ok() {
            service.events().notify_changes();
        }
        result
    })
    .await;
    Ok(done.map_err(|_| ServiceError::Internal("a blocking call was lost"))??)
}

#[cfg(test)]
mod tests;
