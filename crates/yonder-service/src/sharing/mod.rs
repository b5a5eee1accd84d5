//! Sharing: what the public pages of signposts show, and how many watch.

mod addresses;
mod viewers;

use std::sync::Arc;
use std::time::{Duration, Instant, SystemTime};

use parking_lot::{Mutex, RwLock};
use tokio::time::sleep;
use url::Url;
use yonder_api::{Signpost, SignpostState};
use yonder_core::PushPhase;
use yonder_core::budget::Audience;
use yonder_engine::Engine;
use yonder_media::hls::LiveWindow;
use yonder_records::{
    Records, ServiceError, SignpostRecord, WatchTarget, is_on_air, run_blocking, schedule, time, unsigned,
};
use yonder_store::{DesiredState, Identity, RecordKind};

use viewers::Viewers;

pub use viewers::{Refusal, ViewerId};

/// Interval at which traffic is stored.
const STORE_INTERVAL: Duration = Duration::from_secs(60);
/// Age of the newest segment, in addition to three target durations, beyond which a stream is not live.
const STREAM_MARGIN_MS: i64 = 5_000;

/// Content of the pages of a signpost.
#[derive(Debug, Clone)]
pub struct PublicView {
    /// Alias.
    pub name: String,
    /// Title.
    pub title: String,
    /// State.
    pub state: SignpostState,
    /// The page plays the picture itself.
    pub has_player: bool,
    /// Search engines are asked not to list it.
    pub is_unlisted: bool,
    /// It has a status page.
    pub has_status_page: bool,
    /// Relay.
    pub relay: String,
    /// Feed, for a still; `None` while an operator holds the picture.
    pub feed: Option<String>,
    /// Live watch page at a platform.
    pub leads_to: Option<String>,
    /// Expected begin of the next on-air window, and the time zone of the relay.
    pub expected: Option<Expected>,
}

/// Expected begin of a broadcast.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Expected {
    /// Time, in milliseconds since 1970.
    pub at_ms: i64,
    /// IANA time zone of the relay.
    pub zone: String,
}

/// Statistics of a signpost.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SignpostStats {
    /// Alias.
    pub name: String,
    /// The picture can be watched.
    pub is_live: bool,
    /// Viewers of the own player.
    pub viewers: u32,
    /// Bytes to viewers since the start of the service.
    pub bytes: u64,
}

/// Public side of all signposts.
#[derive(Debug)]
pub struct Sharing {
    records: Arc<Records>,
    engine: Engine,
    viewers: Mutex<Viewers>,
    /// Address of the public pages; `None` without a listener.
    base: RwLock<Option<Url>>,
}

impl Sharing {
    pub(crate) fn new(records: Arc<Records>, engine: Engine) -> Self {
        Self { records, engine, viewers: Mutex::default(), base: RwLock::default() }
    }

    /// Sets the address of the public pages.
    pub fn set_base(&self, base: Url) {
        *self.base.write() = Some(base);
    }

    /// Returns the address of the public pages; `None` without a listener.
    #[must_use]
    pub fn base(&self) -> Option<Url> {
        self.base.read().clone()
    }

    /// Returns what the pages of a signpost show; `None` for an unknown one. Reads no records from the disk.
    #[must_use]
    pub fn public_view(&self, alias: &str) -> Option<PublicView> {
        let signposts = self.records.signposts();
        let record = signposts.iter().find(|record| record.settings.name == alias)?;
        let settings = &record.settings;
        let (state, leads_to) = self.state(record);
        let relays = self.records.stored_relays();
        let relay = relays.iter().find(|relay| relay.name == settings.relay);
        let expected = relay.filter(|_| state == SignpostState::OffAir).and_then(|relay| {
            let schedule = schedule(relay).ok()?;
            let now_ms = time::millis(SystemTime::now());
            let at_ms = schedule.next_change(now_ms).filter(|_| !schedule.is_on_air(now_ms))?;
            Some(Expected { at_ms, zone: relay.zone.clone() })
        });
        Some(PublicView {
            name: settings.name.clone(),
            title: settings.title.clone(),
            state,
            has_player: settings.has_player,
            is_unlisted: settings.is_unlisted,
            has_status_page: settings.has_status_page,
            relay: settings.relay.clone(),
            feed: relay.filter(|relay| relay.wanted == DesiredState::On).map(|relay| relay.feed.clone()),
            leads_to,
            expected,
        })
    }

    /// Returns the stream of a signpost with the own player; `None` for any other one, and while there is none.
    #[must_use]
    pub fn stream(&self, alias: &str) -> Option<Arc<LiveWindow>> {
        let signposts = self.records.signposts();
        let settings = &signposts.iter().find(|record| record.settings.name == alias)?.settings;
        let relay = Some(&settings.relay).filter(|_| settings.has_player && !settings.is_paused)?;
        let window = Arc::clone(&self.engine.hls(relay)?.borrow());
        Some(window)
    }

    /// Counts a viewer of the own player.
    ///
    /// # Errors
    /// [`Refusal`] if the signpost has its maximum of viewers or of traffic.
    pub fn admit(&self, alias: &str, viewer: ViewerId) -> Result<(), Refusal> {
        let signposts = self.records.signposts();
        let Some(record) = signposts.iter().find(|record| record.settings.name == alias) else {
            return Ok(());
        };
        let limits = viewers::Limits {
            viewers: usize::try_from(record.settings.max_viewers).unwrap_or(usize::MAX),
            daily_bytes: record.settings.daily_bytes.and_then(|bytes| u64::try_from(bytes).ok()),
        };
        let day = time::Calendar::now().day();
        self.viewers.lock().admit(alias, viewer, limits, &day, Instant::now())
    }

    /// Counts bytes to a viewer.
    pub fn count_bytes(&self, alias: &str, bytes: usize) {
        self.viewers.lock().count_bytes(alias, u64::try_from(bytes).unwrap_or_default());
    }

    /// Returns all signposts for the API.
    ///
    /// # Errors
    /// If the records cannot be read.
    pub fn signposts(&self) -> Result<Vec<Signpost>, ServiceError> {
        let identities = self.records.store.identities(RecordKind::Signpost)?;
        let identity = |name: &str| identities.get(name).cloned().unwrap_or_default();
        let signposts = self.records.signposts();
        Ok(signposts.iter().map(|record| self.view(record, identity(&record.settings.name))).collect())
    }

    /// Returns the present viewers of all signposts, as loads of the uplinks.
    pub(crate) fn audiences(&self) -> Vec<Audience> {
        let day = time::Calendar::now().day();
        let audience = |record: &SignpostRecord| {
            let signpost = record.settings.name.clone();
            let viewers = self.viewers.lock().audience(&signpost, &day, Instant::now()).now;
            let stream = self.engine.hls(&record.settings.relay);
            let media_kbps = stream.map(|stream| stream.borrow().average_rate() / 1_000);
            Audience { signpost, viewers, media_kbps }
        };
        let signposts = self.records.signposts();
        signposts.iter().map(audience).filter(|audience| audience.viewers > 0).collect()
    }

    /// Returns statistics of all signposts.
    #[must_use]
    pub fn stats(&self) -> Vec<SignpostStats> {
        let day = time::Calendar::now().day();
        let stats = |record: &SignpostRecord| {
            let name = record.settings.name.clone();
            let audience = self.viewers.lock().audience(&name, &day, Instant::now());
            let is_live = self.state(record).0 == SignpostState::Live;
            SignpostStats { name, is_live, viewers: audience.now, bytes: audience.total_bytes }
        };
        self.records.signposts().iter().map(stats).collect()
    }

    /// Returns a signpost for the API.
    ///
    /// # Errors
    /// [`ServiceError::NotFound`], or if the records cannot be read.
    pub fn signpost(&self, name: &str) -> Result<Signpost, ServiceError> {
        let signposts = self.records.signposts();
        match signposts.iter().find(|record| record.settings.name.eq_ignore_ascii_case(name)) {
            Some(record) => {
                let name = &record.settings.name;
                let identity = self.records.store.identity(RecordKind::Signpost, name)?.unwrap_or_default();
                Ok(self.view(record, identity))
            }
            None => {
                let (kind, name) = (RecordKind::Signpost, name.to_owned());
                Err(self.records.explain(yonder_store::StoreError::NotFound { kind, name }))
            }
        }
    }

    fn view(&self, record: &SignpostRecord, identity: Identity) -> Signpost {
        let settings = &record.settings;
        let (state, leads_to) = self.state(record);
        let day = time::Calendar::now().day();
        let audience = self.viewers.lock().audience(&settings.name, &day, Instant::now());
        Signpost {
            name: settings.name.clone(),
            id: identity.uid,
            revision: identity.revision,
            relay: settings.relay.clone(),
            title: settings.title.clone(),
            player: settings.has_player,
            to: settings.to.clone(),
            unlisted: settings.is_unlisted,
            status_page: settings.has_status_page,
            max_viewers: u32::try_from(settings.max_viewers).unwrap_or(u32::MAX),
            daily_bytes: settings.daily_bytes.map(unsigned),
            state,
            leads_to,
            links: self.base().map(|base| addresses::links(&base, settings)),
            viewers: audience.now,
            viewers_today: audience.today.viewers,
            bytes_today: audience.today.bytes,
        }
    }

    /// Returns the state of a signpost, and the live watch page that it leads to.
    fn state(&self, record: &SignpostRecord) -> (SignpostState, Option<String>) {
        let settings = &record.settings;
        if settings.is_paused {
            return (SignpostState::Paused, None);
        }
        let page = self.live_page(&settings.relay, &record.targets);
        let plays = settings.has_player && self.has_live_stream(&settings.relay);
        let state = if plays || page.is_some() {
            SignpostState::Live
        } else if self.should_run(&settings.relay) {
            SignpostState::Interrupted
        } else {
            SignpostState::OffAir
        };
        (state, page)
    }

    /// Returns true if a relay is wanted, and within its on-air windows.
    fn should_run(&self, relay: &str) -> bool {
        let relays = self.records.stored_relays();
        relays.iter().any(|stored| stored.name == relay && stored.wanted.is_running() && is_on_air(stored))
    }

    /// Returns the first watch page whose push is live.
    fn live_page(&self, relay: &str, targets: &[WatchTarget]) -> Option<String> {
        if targets.is_empty() {
            return None;
        }
        let relay = self.engine.relay(relay)?;
        let is_live = |destination: &str| {
            let live = [PushPhase::Live, PushPhase::Holding, PushPhase::Lagging];
            relay.pushes.iter().any(|push| push.destination == destination && live.contains(&push.state))
        };
        targets.iter().find(|target| is_live(&target.destination)).map(|target| target.page.clone())
    }

    fn has_live_stream(&self, relay: &str) -> bool {
        let Some(stream) = self.engine.hls(relay) else { return false };
        let window = stream.borrow();
        let Some(newest) = window.newest().filter(|_| window.is_ready() && !window.is_ended()) else {
            return false;
        };
        let age_ms = time::millis(SystemTime::now()) - newest.begins_ms - newest.millis();
        let target_ms = i64::try_from(window.target_s()).unwrap_or_default().saturating_mul(1_000);
        age_ms < target_ms.saturating_mul(3).saturating_add(STREAM_MARGIN_MS)
    }

    /// Reads the traffic of today, so that it continues after a restart.
    pub(crate) fn resume(&self) {
        let day = time::Calendar::now().day();
        match self.records.store.signpost_traffic(&day, &day) {
            Ok(traffic) => self.viewers.lock().resume(&day, traffic),
            Err(error) => tracing::error!(%error, "traffic of signposts cannot be read"),
        }
    }

    /// Stores the traffic since the last call.
    ///
    /// # Errors
    /// If the records cannot be written; the traffic is stored with the next call.
    pub fn store_traffic(&self) -> Result<(), ServiceError> {
        let unstored = self.viewers.lock().take_unstored();
        for (day, traffic) in unstored {
            if let Err(error) = self.records.store.add_signpost_traffic(&day, &traffic) {
                self.viewers.lock().put_back(&day, traffic);
                return Err(error.into());
            }
        }
        Ok(())
    }

    /// Stores traffic at intervals. Never ends.
    ///
    /// # Cancel safety
    /// Safe.
    pub(crate) async fn run(self: Arc<Self>) {
        loop {
            sleep(STORE_INTERVAL).await;
            let sharing = Arc::clone(&self);
            if let Err(error) = run_blocking(move || sharing.store_traffic()).await {
                tracing::debug!(%error, "traffic of signposts could not be stored");
            }
        }
    }
}
