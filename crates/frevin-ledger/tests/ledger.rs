//! What the ledger keeps, it keeps: across a reopening, whole or not at all, and unchanged.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

use std::path::Path;

use frevin_core::frames::{FrameSeries, RunConditions, metrics};
use frevin_core::layers::{ChangeId, Layers, Selection};
use frevin_core::preview::{Action, BackStep, Reason, Step};
use frevin_core::profile::ProfileName;
use frevin_core::setting::{Address, RegistryData, State, TakesEffect, Value};
use frevin_core::surroundings::{BeforeAndAfter, Surroundings};
use frevin_ledger::{
    ChangeStatus, Ledger, LedgerError, NewChange, NewRollback, NewRun, NewVisit, RunFilter,
    RunSource, Saved, Scene, SnapshotId, Unfinished,
};
use jiff::Timestamp;

const PC: &str = "a-pc";

fn now() -> Timestamp {
    "2026-03-01T20:00:00Z".parse().unwrap()
}

fn name(text: &str) -> ProfileName {
    text.parse().unwrap()
}

fn address() -> Address {
    r"registry:HKLM\SYSTEM\A#v".parse().unwrap()
}

fn dword(number: u32) -> State {
    Value::Registry(RegistryData::dword(number)).into()
}

fn step(before: State, after: State) -> Step {
    Step {
        tweak: "a/b".parse().unwrap(),
        address: address(),
        before,
        after,
        action: Action::Write,
        takes_effect: TakesEffect::Restart,
        reason: Reason::Wanted,
    }
}

fn begin(ledger: &mut Ledger, boot: &str, steps: &[Step]) -> ChangeId {
    let title = "evening@1";
    let change = NewChange { pc: PC, title, revision: None, boot, begun_at: now(), steps };
    ledger.begin_change(&change).unwrap()
}

fn roll_back(ledger: &mut Ledger, selection: &Selection, before: State, after: State) {
    let write = BackStep::Write { address: address(), before, after };
    let steps = [(write, TakesEffect::Restart)];
    let new = NewRollback { pc: PC, selection, boot: "1", begun_at: now(), steps: &steps };
    let id = ledger.begin_rollback(&new).unwrap();
    ledger.finish_rollback(PC, id, selection, now()).unwrap();
}

fn reopen(home: &Path) -> Ledger {
    Ledger::open(home).unwrap()
}

#[test]
fn revisions_are_numbered_and_found_by_number_and_hash() {
    let home = tempfile::tempdir().unwrap();
    let mut ledger = reopen(home.path());
    let evening = name("evening");
    let Saved::New(first) = ledger.save_revision(&evening, "one", None, "m", now()).unwrap() else {
        panic!("the first is new")
    };
    assert_eq!((first.number, first.parent), (1, None));
    let again = ledger.save_revision(&evening, "one", None, "m", now()).unwrap();
    assert_eq!(again, Saved::Unchanged(first.clone()));
    ledger.save_revision(&evening, "two", None, "m", now()).unwrap();
    let Saved::New(third) = ledger.save_revision(&evening, "one", None, "back", now()).unwrap()
    else {
        panic!("going back is a new revision")
    };
    assert_eq!((third.number, third.parent), (3, Some(2)));

    let ledger = reopen(home.path());
    assert_eq!(ledger.revision(&"evening".parse().unwrap()).unwrap(), third);
    assert_eq!(ledger.revision(&"evening@1".parse().unwrap()).unwrap(), first);
    let by_hash = format!("evening@{}", first.hash.short());
    let ambiguous = ledger.revision(&by_hash.parse().unwrap());
    assert!(matches!(ambiguous, Err(LedgerError::AmbiguousRevision(_))));
    let missing = |name: &str| ledger.revision(&name.parse().unwrap()).unwrap_err().to_string();
    assert_eq!(missing("evening@9"), "there is no revision `evening@9` in the ledger");
    assert_eq!(missing("morning"), "there is no profile `morning` in the ledger");
}

#[test]
fn a_ledger_of_the_first_schema_is_brought_forward_with_all_that_it_holds() {
    let home = tempfile::tempdir().unwrap();
    let path = reopen(home.path()).path().to_owned();
    for suffix in ["", "-wal", "-shm"] {
        let _ = std::fs::remove_file(format!("{}{suffix}", path.display()));
    }
    let old = rusqlite::Connection::open(&path).unwrap();
    old.execute_batch(include_str!("../src/schema/1.sql")).unwrap();
    old.execute(
        "INSERT INTO revision (profile, number, hash, message, saved_at, document)
         VALUES ('evening', 1, 'abcd', 'm', '2026-01-01T00:00:00Z', 'one')",
        [],
    )
    .unwrap();
    // A run as it was kept then: all of its frames in one piece.
    let series = FrameSeries::new(vec![10.0, 12.5, 11.0]).unwrap();
    let plain: Vec<u8> = series.frame_ms().iter().flat_map(|frame| frame.to_le_bytes()).collect();
    old.execute_batch(
        "INSERT INTO scene VALUES ('mill', 'g', 'high', 'r', 'x');
         INSERT INTO visit VALUES (1, 'mill', NULL, 'before', '2026-01-01T00:00:00Z', '[]');",
    )
    .unwrap();
    old.execute(
        "INSERT INTO run VALUES (1, 1, 0, '\"rehearsal\"', NULL, NULL, 0, ?1, 'f64le', ?2)",
        rusqlite::params![serde_json::to_string(&metrics(&series)).unwrap(), plain],
    )
    .unwrap();
    old.pragma_update(None, "user_version", 1).unwrap();
    drop(old);
    let mut ledger = reopen(home.path());
    let run = ledger.visits(&RunFilter::default()).unwrap()[0].runs[0].clone();
    assert_eq!(ledger.frames(run.id).unwrap(), series);
    assert_eq!(run.conditions, None, "nobody looked");
    let kept = ledger.revision(&"evening@1".parse().unwrap()).unwrap();
    assert_eq!((kept.document.as_str(), kept.stands_alone.as_deref()), ("one", None));
    assert_eq!(kept.whole(), "one");
    let evening = name("evening");
    let Saved::New(second) =
        ledger.save_revision(&evening, "two", Some("whole"), "m", now()).unwrap()
    else {
        panic!("another document is new")
    };
    assert_eq!(second.whole(), "whole");
    let other_base = ledger.save_revision(&evening, "two", Some("other"), "m", now()).unwrap();
    assert!(matches!(other_base, Saved::New(_)), "what it builds on has changed");
}

#[test]
fn revisions_and_snapshots_cannot_be_changed_even_by_hand() {
    let home = tempfile::tempdir().unwrap();
    let mut ledger = reopen(home.path());
    ledger.save_revision(&name("evening"), "one", None, "m", now()).unwrap();
    begin(&mut ledger, "1", &[step(State::Absent, dword(1))]);
    let raw = rusqlite::Connection::open(ledger.path()).unwrap();
    for sql in [
        "UPDATE revision SET document = 'other'",
        "DELETE FROM revision",
        "UPDATE snapshot_state SET state = 'other'",
    ] {
        assert!(raw.execute(sql, []).is_err(), "{sql}");
    }
}

#[test]
fn a_change_is_unfinished_until_it_is_ended_and_then_its_layers_are_there() {
    let home = tempfile::tempdir().unwrap();
    let mut ledger = reopen(home.path());
    let id = begin(&mut ledger, "1", &[step(State::Absent, dword(1))]);

    let mut ledger_after_crash = reopen(home.path());
    let Some(Unfinished::Change(change)) = ledger_after_crash.unfinished(PC).unwrap() else {
        panic!("it is unfinished")
    };
    assert_eq!((change.id, &change.status), (id, &ChangeStatus::Begun));
    assert_eq!(change.steps, [step(State::Absent, dword(1))]);
    assert_eq!(ledger_after_crash.unfinished("another").unwrap(), None);
    assert_eq!(ledger_after_crash.layers(PC).unwrap(), Layers::new());
    let snapshot = ledger_after_crash.snapshot(PC, SnapshotId(1)).unwrap();
    assert_eq!(snapshot.states, [(address(), State::Absent)]);

    ledger_after_crash.finish_change(id, now()).unwrap();
    assert!(ledger_after_crash.finish_change(id, now()).is_err(), "only once");
    let ledger = reopen(home.path());
    assert_eq!(ledger.unfinished(PC).unwrap(), None);
    let layers = ledger.layers(PC).unwrap();
    assert_eq!(layers.get(&address()).unwrap().effective(), &dword(1));
    assert_eq!(ledger.change(id).unwrap().layers_left, 1);
}

#[test]
fn a_rollback_takes_layers_out_when_it_ends() {
    let home = tempfile::tempdir().unwrap();
    let mut ledger = reopen(home.path());
    let id = begin(&mut ledger, "1", &[step(State::Absent, dword(1))]);
    ledger.finish_change(id, now()).unwrap();
    let selection = Selection::Change(id);
    let write = BackStep::Write { address: address(), before: dword(1), after: State::Absent };
    let steps = [(write.clone(), TakesEffect::Restart)];
    let new =
        NewRollback { pc: PC, selection: &selection, boot: "1", begun_at: now(), steps: &steps };
    let rollback = ledger.begin_rollback(&new).unwrap();

    let mut ledger = reopen(home.path());
    let Some(Unfinished::Rollback(unfinished)) = ledger.unfinished(PC).unwrap() else {
        panic!("it is unfinished")
    };
    assert_eq!((unfinished.selection, unfinished.steps), (selection.clone(), vec![write]));
    assert!(!ledger.layers(PC).unwrap().is_empty());
    ledger.finish_rollback(PC, rollback, &selection, now()).unwrap();
    assert!(ledger.layers(PC).unwrap().is_empty());
    let change = ledger.change(id).unwrap();
    assert_eq!((change.layers_laid, change.layers_left), (1, 0));
}

#[test]
fn what_waits_for_a_restart_is_known_until_it_has_happened_or_was_put_back() {
    let home = tempfile::tempdir().unwrap();
    let mut ledger = reopen(home.path());
    let id = begin(&mut ledger, "1", &[step(dword(0), dword(1))]);
    assert!(ledger.waiting_for_restart(PC, "1").unwrap().is_empty(), "nothing is applied yet");
    ledger.finish_change(id, now()).unwrap();
    let waiting = ledger.waiting_for_restart(PC, "1").unwrap();
    assert_eq!(waiting.len(), 1);
    assert_eq!(waiting[0].tweak.as_ref().unwrap().as_str(), "a/b");
    assert!(ledger.waiting_for_restart(PC, "2").unwrap().is_empty(), "it has restarted");
    roll_back(&mut ledger, &Selection::All, dword(1), dword(0));
    assert!(ledger.waiting_for_restart(PC, "1").unwrap().is_empty(), "put back in time");
    roll_back(&mut ledger, &Selection::All, dword(0), dword(7));
    assert_eq!(ledger.waiting_for_restart(PC, "1").unwrap()[0].tweak, None);
}

#[test]
fn every_frame_of_a_run_is_kept_exactly() {
    let home = tempfile::tempdir().unwrap();
    let mut ledger = reopen(home.path());
    let text = |text: &str| text.to_owned();
    let scene = Scene {
        name: name("mill"),
        game: text("g"),
        graphics: text("high"),
        resolution: text("r"),
        route: text("x"),
    };
    ledger.add_scene(&scene).unwrap();
    ledger.add_scene(&scene).unwrap();
    let other = Scene { game: text("other"), ..scene.clone() };
    assert!(matches!(ledger.add_scene(&other), Err(LedgerError::SceneExists(_))));

    let series = FrameSeries::new(vec![10.0, 1.0 / 3.0, f64::MIN_POSITIVE, 99.9]).unwrap();
    let runs = [NewRun {
        is_warm_up: false,
        source: RunSource::LogFile("a.csv".into()),
        boot: None,
        run_since_boot: Some(2),
        waits_for_restart: false,
        conditions: RunConditions { on_battery: Some(true), ..RunConditions::default() },
        metrics: metrics(&series),
        frames: series.clone().into(),
    }];
    let around = BeforeAndAfter {
        before: Surroundings { processes: Some(112), ..Surroundings::default() },
        after: Surroundings::default(),
    };
    let visit = NewVisit {
        scene: &scene.name,
        pc: None,
        state_name: &name("before"),
        recorded_at: now(),
        tweaks: &[],
        surroundings: Some(&around),
        runs: &runs,
    };
    ledger.add_visit(&visit).unwrap();
    let ledger = reopen(home.path());
    let visits = ledger.visits(&RunFilter::default()).unwrap();
    let run = &visits[0].runs[0];
    assert_eq!(visits[0].surroundings.as_ref(), Some(&around));
    assert_eq!(run.metrics, metrics(&series));
    assert_eq!(run.conditions.as_ref(), Some(&runs[0].conditions));
    assert_eq!(ledger.frames(run.id).unwrap(), series);
    assert_eq!(ledger.run(run.id).unwrap().0.state_name.as_str(), "before");
    let elsewhere = RunFilter { state_name: Some(name("after")), ..RunFilter::default() };
    assert!(ledger.visits(&elsewhere).unwrap().is_empty());
}

#[test]
fn a_ledger_of_a_newer_frevin_and_a_file_that_is_none_are_left_alone() {
    let home = tempfile::tempdir().unwrap();
    let path = reopen(home.path()).path().to_owned();
    rusqlite::Connection::open(&path).unwrap().pragma_update(None, "user_version", 99).unwrap();
    assert!(matches!(Ledger::open(home.path()), Err(LedgerError::Newer(_))));

    let home = tempfile::tempdir().unwrap();
    let file = home.path().join("ledger.sqlite3");
    fs_err::write(&file, "this is no database, and long enough to be looked at ".repeat(30))
        .unwrap();
    assert!(matches!(Ledger::open(home.path()), Err(LedgerError::Damaged { .. })));
    assert!(fs_err::read_to_string(&file).unwrap().starts_with("this is no database"));
}
