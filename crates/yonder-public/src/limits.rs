//! Limits of requests by address.

use std::collections::HashMap;
use std::net::IpAddr;
use std::time::{Duration, Instant};

use actix_web::HttpResponse;
use actix_web::body::{EitherBody, MessageBody};
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::http::Method;
use actix_web::http::header::RETRY_AFTER;
use actix_web::middleware::Next;
use actix_web::web::Data;
use parking_lot::Mutex;

use crate::request::client_address;

/// Requests of one address in a burst. Behind one address there may be an office of viewers.
const BURST: f64 = 400.0;
/// Requests of one address in a second, in the long run.
const RATE: f64 = 100.0;
/// Maximum addresses that are remembered.
const MAX_ADDRESSES: usize = 20_000;

/// Token bucket of an address.
#[derive(Debug, Clone, Copy)]
struct Bucket {
    tokens: f64,
    filled_at: Instant,
}

/// Token buckets by address.
#[derive(Debug, Default)]
pub(super) struct Limits(Mutex<HashMap<IpAddr, Bucket>>);

impl Limits {
    /// Takes a token of an address. Returns the time after which there is one, if there is none.
    fn take(&self, address: IpAddr, now: Instant) -> Result<(), Duration> {
        let mut buckets = self.0.lock();
        if buckets.len() >= MAX_ADDRESSES && !buckets.contains_key(&address) {
            // A full bucket limits nothing.
            buckets.retain(|_, bucket| bucket.at(now) < BURST);
            if buckets.len() >= MAX_ADDRESSES {
                buckets.clear();
            }
        }
        let bucket = buckets.entry(address).or_insert(Bucket { tokens: BURST, filled_at: now });
        bucket.tokens = bucket.at(now);
        bucket.filled_at = now;
        if bucket.tokens < 1.0 {
            return Err(Duration::from_secs_f64((1.0 - bucket.tokens) / RATE));
        }
        bucket.tokens -= 1.0;
        Ok(())
    }
}

impl Bucket {
    /// Returns the tokens at `now`.
    fn at(&self, now: Instant) -> f64 {
        let since = now.saturating_duration_since(self.filled_at).as_secs_f64();
        since.mul_add(RATE, self.tokens).min(BURST)
    }
}

/// Refuses requests over the limit of their address, and all methods but GET and HEAD.
pub(super) async fn limit<B: MessageBody>(
    request: ServiceRequest,
    next: Next<B>,
) -> Result<ServiceResponse<EitherBody<B>>, actix_web::Error> {
    if ![Method::GET, Method::HEAD].contains(request.method()) {
        let refused = HttpResponse::MethodNotAllowed().insert_header(("Allow", "GET, HEAD")).finish();
        return Ok(request.into_response(refused).map_into_right_body());
    }
    let limits = request.app_data::<Data<Limits>>().cloned();
    let address = client_address(request.request());
    if let Some((limits, address)) = limits.zip(address)
        && let Err(wait) = limits.take(address, Instant::now())
    {
        let seconds = wait.as_secs() + 1;
        let refused = HttpResponse::TooManyRequests().insert_header((RETRY_AFTER, seconds)).finish();
        return Ok(request.into_response(refused).map_into_right_body());
    }
    Ok(next.call(request).await?.map_into_left_body())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_address_has_a_burst_and_a_rate_of_its_own() {
        let (limits, now) = (Limits::default(), Instant::now());
        let (one, other) = ("192.0.2.1".parse().unwrap(), "192.0.2.2".parse().unwrap());
        assert_eq!((0..1_000).filter(|_| limits.take(one, now).is_ok()).count(), 400);
        assert!(limits.take(one, now).unwrap_err() <= Duration::from_millis(10));
        assert_eq!(limits.take(other, now), Ok(()));
        let later = now + Duration::from_secs(1);
        assert_eq!((0..1_000).filter(|_| limits.take(one, later).is_ok()).count(), 100);
    }

    #[test]
    fn the_number_of_addresses_is_bounded() {
        let (limits, now) = (Limits::default(), Instant::now());
        for at in 0..30_000_u32 {
            assert_eq!(limits.take(IpAddr::from(at.to_be_bytes()), now), Ok(()));
        }
        assert!(limits.0.lock().len() <= MAX_ADDRESSES);
    }
}
