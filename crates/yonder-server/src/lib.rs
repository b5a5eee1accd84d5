//! The HTTP side of the service: API, live events, sign-in and the embedded console; and the service behind
//! it, which keeps records and engine in step.

mod auth;
mod error;
mod home;
mod http;
mod metrics;
mod process;
mod restore;
mod service;
mod tell;
mod time;

pub use error::ServiceError;
pub use home::{Home, HomeError};
pub use http::{Server, ServerError, openapi};
pub use restore::Restored;
pub use service::Service;
