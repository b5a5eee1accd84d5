//! Limits for unauthenticated clients: deadlines of bodies, and the number of open streams.

use std::collections::HashMap;
use std::io;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Duration;

use actix_web::HttpMessage as _;
use actix_web::body::MessageBody;
use actix_web::dev::{Payload, ServiceRequest, ServiceResponse};
use actix_web::error::PayloadError;
use actix_web::http::header::{CONTENT_LENGTH, TRANSFER_ENCODING, UPGRADE};
use actix_web::middleware::Next;
use actix_web::web::Bytes;
use futures_util::Stream;
use parking_lot::Mutex;
use tokio::time::{Instant, Sleep, sleep_until};
use yonder_service::ServiceError;

use crate::caller::is_identified;
use crate::error::HttpError;

/// Deadline of the body of an unauthenticated request, after its head.
const PUBLIC_BODY: Duration = Duration::from_secs(10);
/// Deadline of the body of an authenticated request: site books and pictures have some megabytes.
const KNOWN_BODY: Duration = Duration::from_secs(60);
/// Maximum open streams of one kind, in total and per caller.
const MAX_STREAMS: usize = 128;
const MAX_STREAMS_OF_CALLER: usize = 24;

/// Adds a deadline to the body of each request, except for upgraded connections.
pub(super) async fn limit_body(
    mut request: ServiceRequest,
    next: Next<impl MessageBody + 'static>,
) -> Result<ServiceResponse<impl MessageBody>, actix_web::Error> {
    let is_known = is_identified(&request);
    let headers = request.headers();
    let has_body = headers.contains_key(CONTENT_LENGTH) || headers.contains_key(TRANSFER_ENCODING);
    if has_body && !(is_known && headers.contains_key(UPGRADE)) {
        let deadline = Instant::now() + if is_known { KNOWN_BODY } else { PUBLIC_BODY };
        let body = request.take_payload();
        let timed = TimedBody { body, timer: Box::pin(sleep_until(deadline)) };
        request.set_payload(Payload::Stream { payload: Box::pin(timed) });
    }
    next.call(request).await
}

/// Body with a deadline.
struct TimedBody {
    body: Payload,
    timer: Pin<Box<Sleep>>,
}

impl Stream for TimedBody {
    type Item = Result<Bytes, PayloadError>;

    fn poll_next(mut self: Pin<&mut Self>, task: &mut Context<'_>) -> Poll<Option<Self::Item>> {
        if let Poll::Ready(chunk) = Pin::new(&mut self.body).poll_next(task) {
            return Poll::Ready(chunk);
        }
        self.timer.as_mut().poll(task).map(|()| Some(Err(PayloadError::Io(io::ErrorKind::TimedOut.into()))))
    }
}

/// Returns true if the deadline of a body has passed.
pub(super) fn is_timeout(error: &PayloadError) -> bool {
    matches!(error, PayloadError::Io(error) if error.kind() == io::ErrorKind::TimedOut)
}

/// Open streams of one kind, by caller.
#[derive(Debug, Clone, Default)]
pub(super) struct Streams(Arc<Mutex<HashMap<String, usize>>>);

impl Streams {
    /// Opens a stream; it counts until the guard is dropped.
    ///
    /// # Errors
    /// [`ServiceError::TooManyStreams`].
    pub(super) fn open(&self, caller: &str) -> Result<OpenStream, HttpError> {
        let mut open = self.0.lock();
        let of_caller = open.get(caller).copied().unwrap_or_default();
        if of_caller >= MAX_STREAMS_OF_CALLER || open.values().sum::<usize>() >= MAX_STREAMS {
            return Err(ServiceError::TooManyStreams.into());
        }
        open.insert(caller.to_owned(), of_caller + 1);
        Ok(OpenStream { streams: self.clone(), caller: caller.to_owned() })
    }
}

/// Open stream.
#[derive(Debug)]
pub(super) struct OpenStream {
    streams: Streams,
    caller: String,
}

impl Drop for OpenStream {
    fn drop(&mut self) {
        let mut open = self.streams.0.lock();
        if let Some(count) = open.get_mut(&self.caller) {
            *count -= 1;
            if *count == 0 {
                open.remove(&self.caller);
            }
        }
    }
}

/// Limits shared by all workers of a server.
#[derive(Debug, Clone, Default)]
pub(super) struct Limits {
    /// Live event streams.
    pub(super) event_streams: Streams,
    /// Previews.
    pub(super) previews: Streams,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn streams_are_counted_by_caller_and_in_all_and_until_they_end() {
        let streams = Streams::default();
        let mut open: Vec<OpenStream> =
            (0..MAX_STREAMS_OF_CALLER).map(|_| streams.open("desk").unwrap()).collect();
        assert!(streams.open("desk").is_err());
        for at in 0..MAX_STREAMS - MAX_STREAMS_OF_CALLER {
            open.push(streams.open(&format!("caller {at}")).unwrap());
        }
        assert!(streams.open("another").is_err());
        drop(open);
        assert!(streams.0.lock().is_empty());
        assert!(streams.open("desk").is_ok());
    }
}
