//! Requests, responses and problem documents of the API, shared by server and client.
//!
//! Times are RFC 3339 texts in UTC; rates are in kilobits (1000 bits) per second.

mod alerts;
mod book;
mod destinations;
mod discoveries;
mod enums;
mod events;
mod facts;
mod feeds;
mod jobs;
mod patterns;
mod people;
mod platforms;
mod preflights;
mod problem;
mod record;
mod relays;
mod secret;
mod service;
mod signposts;
mod stats;
mod surveys;
mod tuning;
mod uplinks;

pub use alerts::{
    Acknowledge, AddedContact, Alert, AlertChange, AlertMessage, Channel, Contact, ContactChange,
    MailSecurity, Mute, NewAlert, NewContact, OpenAlert,
};
pub use book::{BookChange, BookFault, BookOutcome, BookRequest, SealedSecret, SiteBook, ToStart};
pub use destinations::{
    Destination, DestinationChange, KeyFacts, KeyKind, NewDestination, PassphraseFacts, Rekey, RevealedKey,
    Stored,
};
pub use discoveries::{FoundCamera, FoundChannel, FoundStream, NewDiscovery};
pub use enums::{
    AdviceSubject, BookAction, BudgetVerdict, Fit, MediaTransport, NotificationKind, Origin, Protocol,
    RateRange, ReportSubject,
};
pub use events::RelayEvent;
pub use facts::{CauseFacts, DialStep, LinkFacts};
pub use feeds::{
    Feed, FeedChange, IngestFacts, IngestRekey, NewFeed, PublisherFacts, RevealedIngest, RtmpAccess,
    SrtAccess, Transport,
};
pub use jobs::{BulkStart, Job, JobKind, JobProgress, JobRequest, JobState, StartOutcome};
pub use patterns::{Choice, Pattern, PatternFeeds, Placeholder, PlaceholderKind, StoredPattern};
pub use people::{
    Invitation, InvitationCode, Join, MadeInvitation, MadeToken, NewInvitation, NewToken, PasswordChange,
    Person, PersonChange, Role, Session, Token,
};
pub use platforms::{NewPlatform, Platform, PlatformChange, PlatformRule, RuleKind};
pub use preflights::{Check, Graded, NewRehearsal, Preflight, Rehearsal, Start};
pub use problem::Problem;
pub use record::{
    AuditEntry, AuditRequest, Band, Day, FieldChange, LogEntry, LogbookRequest, Outage, RelayDay, Report,
    ReportLine, ReportRequest, SideShare,
};
pub use relays::{
    Condition, FeedState, NewRelay, OnAir, PushRates, PushRendition, PushState, Rates, RatesRequest, Relay,
    RelayChange, RenditionAudio, RenditionVideo,
};
pub use secret::Secret;
pub use service::{
    Credentials, IngestListeners, MasterKeyRotation, ServiceFacts, SetUp, SetUpNeeded, SignedIn, Status,
};
pub use signposts::{NewSignpost, Signpost, SignpostChange, SignpostLinks, SignpostState};
pub use stats::{FeedStats, PushStats, RelayStats};
pub use surveys::{
    DropFacts, MeasuredFacts, NewSurvey, OfferedTrack, PreviewEvent, Survey, SurveyAdvice, SurveyStream,
};
pub use tuning::{NewTuning, TunedElsewhere, Tuning, TuningRequest, TuningResult, TuningUndo};
pub use uplinks::{Budget, FitRow, Load, NewUplink, Uplink, UplinkBudget, UplinkChange, WhatFits, WhatIf};
pub use yonder_core::{AudioInfo, VideoInfo};

/// Header with the CSRF token, required for changes authenticated by a cookie.
pub const CSRF_HEADER: &str = "X-Yonder-Token";
