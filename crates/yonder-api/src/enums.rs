//! Fixed values of fields that are texts in requests and replies: they appear as enumerations in the OpenAPI document.
//!
//! The service reads such a field itself, since it can then name the field and the nearest value in its refusal.

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

/// Time range of recorded rates: an hour by the second, a day by ten seconds, a month by the minute.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ToSchema)]
#[schema(rename_all = "lowercase")]
pub enum RateRange {
    /// The last hour, by the second.
    Hour,
    /// The last day, by ten seconds.
    Day,
    /// The last month, by the minute.
    Month,
}

/// Whether a load fits an uplink or its allowance.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ToSchema)]
#[schema(rename_all = "lowercase")]
pub enum BudgetVerdict {
    /// It fits.
    Fits,
    /// It fits, without the headroom.
    Tight,
    /// It does not fit.
    Over,
}

/// Whether a size and frame rate can be sent at what is left: well, barely, or not.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ToSchema)]
#[schema(rename_all = "lowercase")]
pub enum Fit {
    /// At a rate recommended for it.
    Good,
    /// Below that rate.
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
    /// An on-air window, or the service itself.
    Schedule,
}

/// Kind of a notification.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ToSchema)]
#[schema(rename_all = "lowercase")]
pub enum NotificationKind {
    /// An alert was raised.
    Raised,
    /// It is repeated.
    Still,
    /// An alert is over.
    Over,
    /// A sign of life.
    Alive,
    /// A test.
    Test,
    /// Several that had to wait, joined.
    Several,
}

/// Stream of a feed that an advice is about.
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
