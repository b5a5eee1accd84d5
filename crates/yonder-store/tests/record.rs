//! The record survives a restart, is found by what is asked for, and does not grow without end.

#![expect(clippy::unwrap_used, reason = "a test ends where something unexpected happens")]

use yonder_core::FaultDomain;
use yonder_core::record::{HistoryEvent, OpenRun, OutageCause, Subject};
use yonder_core::{FeedPhase, Phase};
use yonder_store::{LogFilter, LoggedAction, MasterKey, RecordKind, Store};

fn store() -> Store {
    Store::open_in_memory(MasterKey::from_bytes(&[7; 32])).unwrap()
}

fn feed() -> Subject {
    Subject::Feed("Summit".into())
}

fn push() -> Subject {
    Subject::Push("Line".into(), "One".into())
}

fn cause() -> OutageCause {
    OutageCause { code: "feed.stalled".into(), side: FaultDomain::Camera, message: "Nothing comes.".into() }
}

fn began(at_ms: i64, subject: Subject) -> [HistoryEvent; 2] {
    [
        HistoryEvent::RunBegan { at_ms, subject: subject.clone() },
        HistoryEvent::State {
            at_ms,
            subject,
            state: Phase::Feed(FeedPhase::Dialing),
            cause: None,
            remark: None,
        },
    ]
}

fn all(limit: u32) -> LogFilter {
    LogFilter { limit, ..LogFilter::default() }
}

#[test]
fn runs_and_outages_are_kept_until_they_end() {
    let store = store();
    store.save_events(&began(10, feed()), 10, false).unwrap();
    store.save_events(&began(10, push()), 12, false).unwrap();
    let down = HistoryEvent::OutageBegan { at_ms: 20, subject: feed(), cause: cause() };
    store.save_events(&[down], 21, false).unwrap();
    let open = store.open_runs().unwrap();
    let expected =
        [OpenRun { subject: feed(), was_down: true }, OpenRun { subject: push(), was_down: false }];
    assert_eq!(open, expected);
    assert_eq!(store.last_alive().unwrap(), Some((21, false)));

    let up = HistoryEvent::OutageEnded { at_ms: 35, subject: feed() };
    let ended = HistoryEvent::RunEnded { at_ms: 50, subject: feed() };
    store.save_events(&[up, ended], 50, true).unwrap();
    assert_eq!(store.open_runs().unwrap(), [OpenRun { subject: push(), was_down: false }]);
    assert_eq!(store.last_alive().unwrap(), Some((50, true)));
    let outages = store.outages(0, 100).unwrap();
    assert_eq!(
        (outages[0].span.begin_ms, outages[0].span.end_ms, &outages[0].cause),
        (20, Some(35), &cause())
    );
    assert_eq!(store.runs(0, 100).unwrap().len(), 2);
    // The push still should run; the feed no longer did.
    assert_eq!(store.runs(60, 100).unwrap().len(), 1);
    assert!(store.outages(35, 100).unwrap().is_empty());
}

#[test]
fn span_that_ends_before_its_begin_is_dropped() {
    let store = store();
    store.save_events(&began(100, feed()), 100, false).unwrap();
    store.save_events(&[HistoryEvent::RunEnded { at_ms: 90, subject: feed() }], 90, false).unwrap();
    assert_eq!(store.runs(0, 1_000).unwrap()[0].end_ms, Some(100));
}

#[test]
fn logbook_is_filtered_by_time_name_and_number() {
    let store = store();
    store.save_events(&began(10, feed()), 10, false).unwrap();
    store.save_events(&began(20, push()), 20, false).unwrap();
    let state = HistoryEvent::State {
        at_ms: 30,
        subject: feed(),
        state: Phase::Feed(FeedPhase::Stalled),
        cause: Some(cause()),
        remark: None,
    };
    store.save_events(&[state], 30, false).unwrap();
    let action = LoggedAction {
        at_ms: 40,
        who: Some("night desk".into()),
        what: "key-revealed".into(),
        kind: RecordKind::Destination,
        name: "One".into(),
        detail: String::new(),
    };
    store.log_action(&action).unwrap();
    let whole = store.logbook(&all(100)).unwrap();
    let times: Vec<i64> = whole.iter().map(|line| line.at_ms).collect();
    assert_eq!(times, [10, 20, 30, 40]);
    assert_eq!((whole[2].code.as_deref(), whole[2].side.as_deref()), (Some("feed.stalled"), Some("camera")));
    assert_eq!((whole[1].name.as_str(), whole[1].part.as_deref()), ("Line", Some("One")));
    assert_eq!((whole[3].kind.as_str(), whole[3].who.as_deref()), ("destination", Some("night desk")));

    let latest: Vec<i64> = store.logbook(&all(2)).unwrap().iter().map(|line| line.at_ms).collect();
    assert_eq!(latest, [30, 40]);
    let about = |name: &str| {
        let filter = LogFilter { about: Some(name.into()), ..all(100) };
        store.logbook(&filter).unwrap().iter().map(|line| line.at_ms).collect::<Vec<_>>()
    };
    assert_eq!((about("summit"), about("ONE"), about("Line")), (vec![10, 30], vec![20, 40], vec![20]));
    let newer = LogFilter { after: Some(whole[2].id), ..all(100) };
    assert_eq!(store.logbook(&newer).unwrap().len(), 1);
    let later = LogFilter { from_ms: Some(25), ..all(100) };
    assert_eq!(store.logbook(&later).unwrap().len(), 2);
}

#[test]
fn old_entries_are_pruned_except_open_ones() {
    let store = store();
    store.save_events(&began(10, feed()), 10, false).unwrap();
    store
        .save_events(&[HistoryEvent::OutageBegan { at_ms: 12, subject: feed(), cause: cause() }], 12, false)
        .unwrap();
    store.save_events(&[HistoryEvent::OutageEnded { at_ms: 14, subject: feed() }], 14, false).unwrap();
    store.save_events(&began(20, push()), 20, false).unwrap();
    store.prune_record(15, 100).unwrap();
    assert_eq!(store.logbook(&all(100)).unwrap().len(), 1);
    assert!(store.outages(0, 100).unwrap().is_empty());
    assert_eq!(store.runs(0, 100).unwrap().len(), 2);
    for at_ms in 30..60 {
        let state = HistoryEvent::State {
            at_ms,
            subject: feed(),
            state: Phase::Feed(FeedPhase::Waiting),
            cause: None,
            remark: None,
        };
        store.save_events(&[state], at_ms, false).unwrap();
    }
    store.prune_record(0, 10).unwrap();
    let left = store.logbook(&all(100)).unwrap();
    assert_eq!((left.len(), left[0].at_ms), (10, 50));
}
