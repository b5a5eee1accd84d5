//! Metrics of HTTP requests.

use std::sync::Arc;
use std::time::Instant;

use actix_web::body::MessageBody;
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::middleware::Next;
use actix_web::web::Data;
use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::histogram::Histogram;
use prometheus_client::registry::{Registry, Unit};

/// Upper bounds of the duration buckets, in seconds.
const BUCKETS: [f64; 8] = [0.005, 0.025, 0.1, 0.25, 0.5, 1.0, 5.0, 30.0];

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct OfRequest {
    method: String,
    /// Route pattern instead of the path, so that the number of values is bounded.
    path: String,
    status: u16,
}

/// Request counters. Clones share them.
#[derive(Debug, Clone)]
pub(crate) struct RequestMetrics(Arc<Counters>);

#[derive(Debug)]
struct Counters {
    requests: Family<OfRequest, Counter>,
    duration: Histogram,
}

impl Default for RequestMetrics {
    fn default() -> Self {
        Self(Arc::new(Counters { requests: Family::default(), duration: Histogram::new(BUCKETS) }))
    }
}

impl RequestMetrics {
    pub(super) fn register(&self, registry: &mut Registry) {
        registry.register("http_requests", "Answered requests", self.0.requests.clone());
        registry.register_with_unit(
            "http_request_duration",
            "Time from the head of a request to the head of its response",
            Unit::Seconds,
            self.0.duration.clone(),
        );
    }
}

/// Counts a request when its response begins.
pub(crate) async fn count_request(
    request: ServiceRequest,
    next: Next<impl MessageBody + 'static>,
) -> Result<ServiceResponse<impl MessageBody>, actix_web::Error> {
    let begun = Instant::now();
    let method = known_method(request.method().as_str());
    let metrics = request.app_data::<Data<RequestMetrics>>().cloned();
    let response = next.call(request).await;
    if let Some(metrics) = metrics {
        let (path, status) = match &response {
            Ok(response) => (response.request().match_pattern(), response.status()),
            Err(error) => (None, error.as_response_error().status_code()),
        };
        let path = path.unwrap_or_else(|| "other".to_owned());
        let label = OfRequest { method: method.to_owned(), path, status: status.as_u16() };
        metrics.0.requests.get_or_create(&label).inc();
        metrics.0.duration.observe(begun.elapsed().as_secs_f64());
    }
    response
}

/// Unknown methods share one label, so that clients cannot add labels.
fn known_method(method: &str) -> &'static str {
    ["GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS"]
        .into_iter()
        .find(|known| *known == method)
        .unwrap_or("other")
}
