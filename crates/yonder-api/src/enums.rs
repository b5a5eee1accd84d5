//! Fixed values of text fields, which appear as enumerations in the OpenAPI document.
//!
//! The service parses such a field itself, so that an error can name the field and the nearest value.

use utoipa::ToSchema;

/// Protocol of a push.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ToSchema)]
#[schema(rename_all = "lowercase")]
pub enum Protocol {
    /// RTMP.
    Rtmp,
    /// RTMP over TLS.
    Rtmps,
    /// SRT.
    Srt,
}

/// Transport of a feed's media while it is connected.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ToSchema)]
#[schema(rename_all = "lowercase")]
pub enum MediaTransport {
    /// Interleaved in the RTSP connection.
    Tcp,
    /// RTP over UDP.
    Udp,
}

/// Time range of bit rates: an hour per second, a day per ten seconds, a month per minute.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ToSchema)]
#[schema(rename_all = "lowercase")]
pub enum RateRange {
    /// Last hour, per second.
    Hour,
    /// Last day, per ten seconds.
    Day,
    /// Last month, per minute.
    Month,
}

/// Whether a load fits an uplink or its allowance.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ToSchema)]
#[schema(rename_all = "lowercase")]
pub enum BudgetVerdict {
    /// It fits.
    Fits,
    /// It fits, but uses part of the headroom.
    Tight,
    /// It does not fit.
    Over,
}

/// Whether a frame size and rate fits the available bit rate.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ToSchema)]
#[schema(rename_all = "lowercase")]
pub enum Fit {
    /// At a recommended bit rate.
    Good,
    /// Below the recommended bit rate.
    Plain,
    /// Not at all.
    No,
}

/// Change of a record by a site book.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ToSchema)]
#[schema(rename_all = "lowercase")]
pub enum BookAction {
    /// The record is new.
    Added,
    /// Fields have changed.
    Changed,
    /// The record was removed.
    Removed,
}

/// Interface by which a change was made.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ToSchema)]
#[schema(rename_all = "kebab-case")]
pub enum Origin {
    /// The web console.
    Console,
    /// The command-line client.
    CommandLine,
    /// Another client of the API.
    Api,
    /// A site book.
    SiteBook,
    /// On-air window, or the service itself.
    Schedule,
}

/// Kind of a notification.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ToSchema)]
#[schema(rename_all = "lowercase")]
pub enum NotificationKind {
    /// An alert was raised.
    Raised,
    /// An open alert is repeated.
    Still,
    /// An alert is resolved.
    Over,
    /// Periodic sign of life.
    Alive,
    /// A test.
    Test,
    /// Several joined notifications.
    Several,
}

/// Stream of a feed that advice is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ToSchema)]
#[schema(rename_all = "lowercase")]
pub enum AdviceSubject {
    /// The main stream.
    Main,
    /// The sub stream.
    Sub,
    /// Both streams.
    Both,
}

/// Subject of an availability figure.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ToSchema)]
#[schema(rename_all = "lowercase")]
pub enum ReportSubject {
    /// A feed.
    Feed,
    /// A push.
    Push,
    /// A relay.
    Relay,
    /// A site.
    Site,
}
