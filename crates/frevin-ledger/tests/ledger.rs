//! What the ledger keeps, it keeps: across a reopening, whole or not at all, and unchanged.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

mod common;

use std::path::Path;

use frevin_core::environment::{BeforeAndAfter, Environment};
use frevin_core::evidence::ForeignEvidence;
use frevin_core::ids::{BootId, PcId, StartId};
use frevin_core::layers::{ChangeId, Layers, Selection};
use frevin_core::preview::{Action, BackStep, Reason, Step};
use frevin_core::profile::ProfileName;
use frevin_core::setting::{Address, RegistryData, State, TakesEffect, Value};
use frevin_core::sift::SiftEvent;
use frevin_core::trial::Event;
use frevin_core::tweak::{Argument, TweakUse};
use frevin_core::visits::{
    InForce, RunSource, Scene, VisitContext, VisitId, VisitRecord, VisitStatus,
};
use frevin_core::waiting::{Start, Waiting, waiting};
use frevin_frames::{FrameSeries, RunConditions, metrics};
use frevin_ledger::{
    ChangeStatus, FramesDigest, Ledger, LedgerError, NewBackStep, NewChange, NewRollback, NewRun,
    NewSift, NewStep, NewTrial, NewVisit, Saved, SealedPart, SnapshotId, Unfinished, VisitFilter,
};
use jiff::Timestamp;

fn pc() -> PcId {
    PcId::new("a-pc")
}

fn boot(text: &str) -> BootId {
    BootId::new(text)
}

fn now() -> Timestamp {
    "2026-03-01T20:00:00Z".parse().unwrap()
}

fn name<N: std::str::FromStr<Err: std::fmt::Debug>>(text: &str) -> N {
    text.parse().unwrap()
}

fn address() -> Address {
    r"registry:HKLM\SYSTEM\A#v".parse().unwrap()
}

fn dword(number: u32) -> State {
    Value::Registry(RegistryData::dword(number)).into()
}

fn used() -> TweakUse {
    let arguments = [("choice".to_owned(), Argument::Choice("x".to_owned()))];
    TweakUse { tweak: "a/b".parse().unwrap(), arguments: Some(arguments.into()) }
}

fn step(before: State, after: State) -> Step {
    Step {
        used: used(),
        address: address(),
        before,
        after,
        action: Action::Write,
        takes_effect: TakesEffect::Restart,
        reason: Reason::Wanted,
    }
}

fn begin(ledger: &mut Ledger, boot: &BootId, steps: &[Step]) -> ChangeId {
    begin_instead_of(ledger, boot, steps, None)
}

fn begin_instead_of(
    ledger: &mut Ledger,
    boot: &BootId,
    steps: &[Step],
    replaces: Option<ChangeId>,
) -> ChangeId {
    let steps: Vec<NewStep> = steps
        .iter()
        .map(|step| NewStep { step: step.clone(), start: Start::Since(StartId::new("7")) })
        .collect();
    let change = NewChange {
        pc: &pc(),
        title: "evening@1",
        revision: None,
        boot,
        begun_at: now(),
        replaces,
        steps: &steps,
        made_for: None,
    };
    ledger.begin_change(&change).unwrap()
}

fn back_step(before: State, after: State) -> NewBackStep {
    NewBackStep {
        step: BackStep::Write { address: address(), before, after },
        takes_effect: TakesEffect::Restart,
        start: Start::Unknown,
    }
}

fn roll_back(ledger: &mut Ledger, selection: &Selection, before: State, after: State) {
    let steps = [back_step(before, after)];
    let new =
        NewRollback { pc: &pc(), selection, boot: &boot("1"), begun_at: now(), steps: &steps };
    let id = ledger.begin_rollback(&new).unwrap();
    ledger.finish_rollback(id, now()).unwrap();
}

fn reopen(home: &Path) -> Ledger {
    Ledger::open(home).unwrap()
}

#[test]
fn revisions_are_numbered_and_found_by_number_and_hash() {
    let home = tempfile::tempdir().unwrap();
    let mut ledger = reopen(home.path());
    let evening: ProfileName = name("evening");
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

/// Figures as the first version kept them, to the letter: what is added since is not among them.
const FIGURES_OF_THE_FIRST_VERSION: &str = r#"{"frames":3,"seconds":0.0335,"average_fps":89.55,
    "median_fps":90.9,"low_1_percent_fps":80.1,"low_01_percent_fps":80.0,
    "slowest_1_percent_average_fps":80.0,"slowest_01_percent_average_fps":80.0,
    "time_weighted_low_1_percent_fps":80.0,"longest_frame_ms":12.5,"standard_deviation_ms":1.25,
    "pacing":0.17,"stutter":{"frames":0,"events":0,"events_per_minute":0.0,"excess_share":0.0}}"#;

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
        rusqlite::params![FIGURES_OF_THE_FIRST_VERSION, plain],
    )
    .unwrap();
    old.pragma_update(None, "user_version", 1).unwrap();
    drop(old);
    let mut ledger = reopen(home.path());
    let run = ledger.visits(&VisitFilter::default()).unwrap()[0].runs[0].clone();
    assert_eq!(ledger.frames(run.id).unwrap(), series);
    assert_eq!(run.metrics, metrics(&series), "figures of another version are counted again");
    let kept = ledger.revision(&"evening@1".parse().unwrap()).unwrap();
    assert_eq!((kept.document.as_str(), kept.stands_alone.as_deref()), ("one", None));
    assert_eq!(kept.whole(), "one");
    let evening: ProfileName = name("evening");
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
    begin(&mut ledger, &boot("1"), &[step(State::Absent, dword(1))]);
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
    let id = begin(&mut ledger, &boot("1"), &[step(State::Absent, dword(1))]);

    let mut ledger_after_crash = reopen(home.path());
    let Some(Unfinished::Change(change)) = ledger_after_crash.unfinished(&pc()).unwrap() else {
        panic!("it is unfinished")
    };
    assert_eq!((change.id, &change.status), (id, &ChangeStatus::Begun));
    assert_eq!(change.steps, [step(State::Absent, dword(1))]);
    assert_eq!(ledger_after_crash.unfinished(&PcId::new("another")).unwrap(), None);
    assert_eq!(ledger_after_crash.layers(&pc()).unwrap(), Layers::new());
    let snapshot = ledger_after_crash.snapshot(&pc(), SnapshotId(1)).unwrap();
    assert_eq!(snapshot.states, [(address(), State::Absent)]);

    ledger_after_crash.finish_change(id, now()).unwrap();
    assert!(ledger_after_crash.finish_change(id, now()).is_err(), "only once");
    let ledger = reopen(home.path());
    assert_eq!(ledger.unfinished(&pc()).unwrap(), None);
    let layers = ledger.layers(&pc()).unwrap();
    assert_eq!(layers.get(&address()).unwrap().effective(), &dword(1));
    assert_eq!(ledger.change(id).unwrap().layers_left, 1);
}

#[test]
fn a_rollback_takes_layers_out_when_it_ends() {
    let home = tempfile::tempdir().unwrap();
    let mut ledger = reopen(home.path());
    let id = begin(&mut ledger, &boot("1"), &[step(State::Absent, dword(1))]);
    ledger.finish_change(id, now()).unwrap();
    let selection = Selection::Change(id);
    let write = BackStep::Write { address: address(), before: dword(1), after: State::Absent };
    let steps = [back_step(dword(1), State::Absent)];
    let new = NewRollback {
        pc: &pc(),
        selection: &selection,
        boot: &boot("1"),
        begun_at: now(),
        steps: &steps,
    };
    let rollback = ledger.begin_rollback(&new).unwrap();

    let mut ledger = reopen(home.path());
    let Some(Unfinished::Rollback(unfinished)) = ledger.unfinished(&pc()).unwrap() else {
        panic!("it is unfinished")
    };
    assert_eq!((unfinished.selection, unfinished.steps), (selection.clone(), vec![write]));
    assert!(!ledger.layers(&pc()).unwrap().is_empty());
    ledger.finish_rollback(rollback, now()).unwrap();
    assert!(ledger.finish_rollback(rollback, now()).is_err(), "only once");
    assert!(ledger.layers(&pc()).unwrap().is_empty());
    let change = ledger.change(id).unwrap();
    assert_eq!((change.layers_laid, change.layers_left), (1, 0));
}

/// What waits in a start of the PC, of which nothing else has started anew.
fn waits(ledger: &Ledger, in_boot: &str) -> Vec<Waiting> {
    let writes = ledger.past_writes(&pc(), &boot(in_boot)).unwrap();
    waiting(writes, |_, _| Ok::<_, LedgerError>(Start::Since(StartId::new("7")))).unwrap()
}

#[test]
fn what_waits_for_a_restart_is_known_until_it_has_happened_or_was_put_back() {
    let home = tempfile::tempdir().unwrap();
    let mut ledger = reopen(home.path());
    let id = begin(&mut ledger, &boot("1"), &[step(dword(0), dword(1))]);
    assert!(waits(&ledger, "1").is_empty(), "nothing is applied yet");
    ledger.finish_change(id, now()).unwrap();
    let waiting = waits(&ledger, "1");
    assert_eq!(waiting.len(), 1);
    assert_eq!(waiting[0].used, Some(used()));
    assert!(waits(&ledger, "2").is_empty(), "it has restarted");
    roll_back(&mut ledger, &Selection::All, dword(1), dword(0));
    assert!(waits(&ledger, "1").is_empty(), "put back in time");
    // Every time above and below is the same: the order is the ledger's own.
    let again = begin(&mut ledger, &boot("1"), &[step(dword(0), dword(1))]);
    ledger.finish_change(again, now()).unwrap();
    assert_eq!(waits(&ledger, "1").len(), 1, "applied once more");
    roll_back(&mut ledger, &Selection::All, dword(1), dword(0));
    roll_back(&mut ledger, &Selection::All, dword(0), dword(7));
    assert_eq!(waits(&ledger, "1")[0].used, None);
}

#[test]
fn a_change_that_replaces_another_takes_its_layers_in_one_step() {
    let home = tempfile::tempdir().unwrap();
    let mut ledger = reopen(home.path());
    let first = begin(&mut ledger, &boot("1"), &[step(dword(0), dword(1))]);
    ledger.finish_change(first, now()).unwrap();
    let steps = [step(dword(1), dword(2))];
    let second = begin_instead_of(&mut ledger, &boot("1"), &steps, Some(first));
    assert_eq!(ledger.change(first).unwrap().layers_left, 1, "not before its end");
    ledger.finish_change(second, now()).unwrap();
    let mut ledger = reopen(home.path());
    assert_eq!(ledger.change(first).unwrap().layers_left, 0);
    let layers = ledger.layers(&pc()).unwrap();
    let stack = layers.get(&address()).unwrap();
    assert_eq!((stack.effective(), &stack.original), (&dword(2), &dword(0)));
    let back = Step { action: Action::PutBack, ..step(dword(2), dword(0)) };
    let third = begin_instead_of(&mut ledger, &boot("1"), &[back], Some(second));
    ledger.finish_change(third, now()).unwrap();
    assert!(ledger.layers(&pc()).unwrap().is_empty());
}

#[test]
fn what_was_let_go_is_told_of_its_change() {
    let home = tempfile::tempdir().unwrap();
    let mut ledger = reopen(home.path());
    let id = begin(&mut ledger, &boot("1"), &[step(State::Absent, dword(1))]);
    ledger.finish_change(id, now()).unwrap();
    ledger.let_go(&pc(), &[address()]).unwrap();
    let change = ledger.change(id).unwrap();
    assert_eq!((change.layers_left, change.layers_let_go), (0, 1));
}

#[test]
fn every_frame_of_a_run_is_kept_exactly() {
    let home = tempfile::tempdir().unwrap();
    let mut ledger = reopen(home.path());
    let scene = mill();
    ledger.add_scene(&scene).unwrap();
    ledger.add_scene(&scene).unwrap();
    let other = Scene { game: "other".to_owned(), ..scene.clone() };
    assert!(matches!(ledger.add_scene(&other), Err(LedgerError::SceneExists(_))));

    let series = FrameSeries::new(vec![10.0, 1.0 / 3.0, f64::MIN_POSITIVE, 99.9]).unwrap();
    let conditions = RunConditions { on_battery: Some(true), ..RunConditions::default() };
    let around = BeforeAndAfter {
        before: Environment { processes: Some(112), ..Environment::default() },
        after: Environment::default(),
        ping_runs: Vec::new(),
    };
    let id = begin_visit(&mut ledger, &scene, None);
    ledger.add_run(id, &new_run(&series, conditions.clone()), &series).unwrap();
    ledger.end_visit(id, Some(&around)).unwrap();
    let ledger = reopen(home.path());
    let visit = ledger.visit(id).unwrap();
    let run = &visit.runs[0];
    assert_eq!((visit.environment.as_ref(), &visit.in_force), (Some(&around), &None));
    assert_eq!(run.metrics, metrics(&series));
    assert_eq!(run.conditions.as_ref(), Some(&conditions));
    assert_eq!(ledger.frames(run.id).unwrap(), series);
    assert_eq!(ledger.run(run.id).unwrap().0.state_name.as_str(), "before");
    let elsewhere = VisitFilter { state_name: Some(name("after")), ..VisitFilter::default() };
    assert!(ledger.visits(&elsewhere).unwrap().is_empty());
    let again = ledger.run_with_frames(&FramesDigest::of(&series)).unwrap();
    assert_eq!(again.map(|(visit, run)| (visit.id, run)), Some((id, run.id)));
}

fn mill() -> Scene {
    let text = |text: &str| text.to_owned();
    Scene {
        name: name("mill"),
        game: text("g"),
        graphics: text("high"),
        resolution: text("r"),
        route: text("x"),
    }
}

fn begin_visit(ledger: &mut Ledger, scene: &Scene, in_force: Option<&InForce>) -> VisitId {
    let visit = NewVisit {
        scene: &scene.name,
        pc: Some(&pc()),
        boot: Some(&boot("3")),
        state_name: &name("before"),
        at: now(),
        in_force,
        context: &VisitContext::default(),
        made_for: None,
    };
    ledger.begin_visit(&visit).unwrap()
}

#[test]
fn what_was_recorded_in_a_play_is_told_from_what_its_owner_recorded() {
    let home = tempfile::tempdir().unwrap();
    let mut ledger = Ledger::open(home.path()).unwrap();
    let scene = Scene {
        name: "play-riders".parse().unwrap(),
        game: "riders".into(),
        graphics: "as played".into(),
        resolution: "as played".into(),
        route: "ordinary play".into(),
    };
    ledger.add_scene(&scene).unwrap();
    let plan = frevin_core::playing::PlayPlan {
        title: "evening@1".into(),
        start: frevin_core::playing::GameStart::Attach { file: "riders.exe".into() },
        game_file: None,
        wishes: Vec::new(),
        process: frevin_core::playing::ProcessHolds::default(),
        pc: frevin_core::playing::PcHolds::default(),
        recording: Some(frevin_core::playing::PlayRecording {
            scene: scene.name.clone(),
            plays: scene.name.clone(),
            source: frevin_core::trial::in_play::PlaySource::Program { file: "riders.exe".into() },
        }),
    };
    let play = ledger.begin_play(&pc(), now(), &plan).unwrap();
    let own = begin_visit(&mut ledger, &scene, None);
    let visit = NewVisit {
        scene: &scene.name,
        pc: Some(&pc()),
        boot: Some(&boot("3")),
        state_name: &name("play-1"),
        at: now(),
        in_force: None,
        context: &VisitContext::default(),
        made_for: Some(frevin_ledger::VisitFor::Play(play)),
    };
    let of_play = ledger.begin_visit(&visit).unwrap();
    let ids = |filter: VisitFilter| -> Vec<VisitId> {
        ledger.visits(&filter).unwrap().iter().map(|visit| visit.id).collect()
    };
    assert_eq!(ids(VisitFilter::default()), [own, of_play]);
    assert_eq!(ids(VisitFilter { is_the_owners: true, ..VisitFilter::default() }), [own]);
    assert_eq!(ledger.visit(of_play).unwrap().of_play, Some(play));
    assert_eq!(ledger.visit(own).unwrap().of_play, None);
    assert_eq!(ledger.play(play).unwrap().unwrap().plan, plan);
}

/// Events of a play are sealed as all else is.
#[test]
fn an_event_of_a_play_that_somebody_changed_is_told() {
    let home = tempfile::tempdir().unwrap();
    let mut ledger = Ledger::open(home.path()).unwrap();
    let plan = frevin_core::playing::PlayPlan {
        title: "the game's process".into(),
        start: frevin_core::playing::GameStart::Start { command: vec!["riders".into()] },
        game_file: None,
        wishes: Vec::new(),
        process: frevin_core::playing::ProcessHolds::default(),
        pc: frevin_core::playing::PcHolds::default(),
        recording: None,
    };
    let play = ledger.begin_play(&pc(), now(), &plan).unwrap();
    let process = frevin_core::playing::ProcessKey { id: 4, made: 40 };
    let event = frevin_core::playing::PlayEvent::PutBack { process };
    ledger.add_play_event(play, now(), &event).unwrap();
    drop(ledger);
    let path = home.path().join("ledger.sqlite3");
    let somebody = rusqlite::Connection::open(&path).unwrap();
    let triggers = "DROP TRIGGER play_event_stays";
    let changed = "UPDATE play_event SET event = replace(event, '40', '41')";
    let made_again = "CREATE TRIGGER play_event_stays BEFORE UPDATE ON play_event
    BEGIN SELECT raise(ABORT, 'what happened in a play never changes'); END";
    for sql in [triggers, changed, made_again] {
        somebody.execute(sql, []).unwrap();
    }
    drop(somebody);
    let said = Ledger::open(home.path()).map(drop).unwrap_err().to_string();
    assert!(said.contains("not as Frevin wrote it"), "{said}");
}

fn new_run(series: &FrameSeries, conditions: RunConditions) -> NewRun {
    NewRun {
        is_warm_up: false,
        source: RunSource::LogFile("a.csv".into()),
        boot: Some(boot("3")),
        run_since_boot: Some(2),
        was_waiting: false,
        conditions,
        metrics: metrics(series),
        frames_digest: FramesDigest::of(series),
    }
}

#[test]
fn a_visit_that_is_broken_off_is_seen_with_its_runs_and_counts_for_nothing() {
    let home = tempfile::tempdir().unwrap();
    let mut ledger = reopen(home.path());
    let scene = mill();
    ledger.add_scene(&scene).unwrap();
    let in_force = InForce::of(&Layers::new());
    let id = begin_visit(&mut ledger, &scene, Some(&in_force));
    let series = FrameSeries::new(vec![10.0, 11.0]).unwrap();
    ledger.add_run(id, &new_run(&series, RunConditions::default()), &series).unwrap();
    drop(ledger);

    let mut ledger = reopen(home.path());
    let broken: VisitRecord = ledger.visit(id).unwrap();
    assert_eq!((broken.status, broken.runs.len()), (VisitStatus::Begun, 1));
    assert_eq!(broken.in_force, Some(in_force));
    assert_eq!(ledger.runs_since_boot(&pc(), &boot("3")).unwrap(), 1);
    ledger.end_visit(id, None).unwrap();
    assert!(ledger.end_visit(id, None).is_err(), "only once");
    ledger.void_visit(id, "a crash").unwrap();
    ledger.label_visit(id, &name("other")).unwrap();
    let visit = ledger.visit(id).unwrap();
    assert_eq!(visit.status, VisitStatus::Void("a crash".to_owned()));
    assert_eq!(visit.state_name.as_str(), "other");
    assert_eq!(ledger.run_with_frames(&FramesDigest::of(&series)).unwrap(), None);
}

/// Frames as ledgers kept them before blocks said how they are written: they are read on, and counted again.
#[test]
fn frames_of_earlier_encodings_are_read() {
    let home = tempfile::tempdir().unwrap();
    let mut ledger = reopen(home.path());
    let scene = mill();
    ledger.add_scene(&scene).unwrap();
    let series =
        FrameSeries::new((1..=5000_u32).map(|i| 7.0 + f64::from(i) / 3.0).collect()).unwrap();
    let id = begin_visit(&mut ledger, &scene, None);
    let run = ledger.add_run(id, &new_run(&series, RunConditions::default()), &series).unwrap();
    ledger.end_visit(id, None).unwrap();
    drop(ledger);
    let file = rusqlite::Connection::open(home.path().join("ledger.sqlite3")).unwrap();
    let frames = series.frame_ms();
    // The first bytes of all numbers, then the second ones, packed.
    let bytes: Vec<[u8; 8]> = frames.iter().map(|frame| frame.to_le_bytes()).collect();
    let planes: Vec<u8> =
        (0..8).flat_map(|plane| bytes.iter().map(move |number| number[plane])).collect();
    let packed = zstd::encode_all(&planes[..], 1).unwrap();
    file.execute("UPDATE run SET frame_encoding = 'f64le-planes-zstd'", []).unwrap();
    file.execute("UPDATE frame_block SET bytes = ?1", [&packed]).unwrap();
    assert_eq!(reopen(home.path()).frames(run).unwrap(), series);
    // All of them in one piece.
    file.execute("DELETE FROM frame_block", []).unwrap();
    file.execute("UPDATE run SET frame_encoding = 'f64le', frames = ?1", [bytes.concat()]).unwrap();
    assert_eq!(reopen(home.path()).frames(run).unwrap(), series);
    // And one of a Frevin to come.
    file.execute("UPDATE run SET frame_encoding = 'f128'", []).unwrap();
    let told = reopen(home.path()).frames(run).unwrap_err().to_string();
    assert!(told.contains("f128"), "{told}");
}

/// A ledger that the last program with the third schema wrote, and no type of today: three changes, a
/// rollback, three visits with nine runs.
#[test]
fn a_ledger_of_the_third_schema_is_read_whole() {
    let home = tempfile::tempdir().unwrap();
    fs_err::copy("tests/old/schema-3.sqlite3", home.path().join("ledger.sqlite3")).unwrap();
    let ledger = reopen(home.path());
    let visits = ledger.visits(&VisitFilter::default()).unwrap();
    let shown: Vec<_> = visits
        .iter()
        .map(|visit| (visit.state_name.as_str(), visit.runs.len(), visit.in_force.clone()))
        .collect();
    assert_eq!(shown, [("before", 4, None), ("evening", 4, None), ("one", 1, None)]);
    for visit in &visits {
        assert_eq!(visit.status, VisitStatus::Whole);
        for run in &visit.runs {
            assert_eq!(run.metrics, metrics(&ledger.frames(run.id).unwrap()));
        }
    }
    // What that program showed of the first run.
    let first = &visits[0].runs[0];
    assert!((first.metrics.average_fps - 80.90317556854382).abs() < 1e-9);
    assert!((first.metrics.pacing_share - 0.04959592323773462).abs() < 1e-9);
    let old = PcId::new("120013f3-0703-4cf9-a3d0-8af0b1f0c774");
    let changes = ledger.changes(&old).unwrap();
    assert_eq!(changes.iter().map(|c| c.layers_left).collect::<Vec<_>>(), [1, 0, 2]);
    let uses = ledger.layers(&old).unwrap().uses();
    assert!(uses.iter().all(|used| used.arguments.is_none()), "nobody kept them: {uses:?}");
    // In the order in which things were done: visit, change, visit, change, rollback, change, visit.
    let mut operations: Vec<_> =
        changes.iter().map(|change| (change.operation, "change")).collect();
    operations.extend(visits.iter().map(|visit| (visit.operation, "visit")));
    operations.sort();
    let kinds: Vec<_> = operations.iter().map(|(_, kind)| *kind).collect();
    assert_eq!(kinds, ["visit", "change", "visit", "change", "change", "visit"]);
    assert!(
        ledger.past_writes(&old, &boot("2")).unwrap().iter().all(|w| w.start == Start::Unknown)
    );
    // Counted again once, and kept.
    drop(ledger);
    let raw = rusqlite::Connection::open(home.path().join("ledger.sqlite3")).unwrap();
    let sql = "SELECT count(*) FROM run WHERE figures_version = 2 AND frames_digest IS NOT NULL";
    assert_eq!(raw.query_row(sql, [], |row| row.get::<_, i64>(0)).unwrap(), 9);
}

/// A ledger that the last program with the fifth schema wrote: its seals are of fewer columns and tables.
#[test]
fn a_sealed_ledger_of_the_fifth_schema_is_sealed_anew_where_it_is_whole() {
    let home = tempfile::tempdir().unwrap();
    let path = home.path().join("ledger.sqlite3");
    fs_err::copy("tests/old/schema-5.sqlite3", &path).unwrap();
    for _ in 0..3 {
        let ledger = reopen(home.path());
        assert!(ledger.altered().unwrap().is_empty());
    }
    fs_err::copy("tests/old/schema-5.sqlite3", &path).unwrap();
    let raw = rusqlite::Connection::open(&path).unwrap();
    raw.execute("UPDATE stack SET original = replace(original, 'automatic', 'manual')", [])
        .unwrap();
    drop(raw);
    assert!(matches!(Ledger::open(home.path()), Err(LedgerError::Altered { .. })));
    let raw = rusqlite::Connection::open(&path).unwrap();
    let version: i64 = raw.pragma_query_value(None, "user_version", |row| row.get(0)).unwrap();
    assert_eq!(version, 5, "what is not whole is not sealed anew");
}

/// Trials: only ever added to, and told where they were changed.
#[test]
fn events_of_trials_are_kept_in_order_and_never_change() {
    let home = tempfile::tempdir().unwrap();
    let mut ledger = Ledger::open(home.path()).unwrap();
    let design = common::trial_design();
    let new = NewTrial { pc: &pc(), boot: &boot("1"), at: now(), design: &design };
    let id = ledger.begin_trial(&new).unwrap();
    let events = [Event::Paused, Event::Resumed, Event::Abandoned];
    for event in &events {
        ledger.add_trial_event(id, now(), event).unwrap();
    }
    let ledger = reopen(home.path());
    let record = ledger.open_trial(&pc()).unwrap().unwrap();
    assert_eq!(record.design, design);
    assert_eq!(record.events.iter().map(|e| e.event.clone()).collect::<Vec<_>>(), events);
    let raw = rusqlite::Connection::open(ledger.path()).unwrap();
    for sql in [
        "UPDATE trial SET design = '{}'",
        "DELETE FROM trial",
        "UPDATE trial_event SET position = 9 WHERE position = 1",
        "DELETE FROM trial_event WHERE position = 2",
    ] {
        let refused = raw.execute(sql, []).unwrap_err().to_string();
        assert!(refused.contains("never"), "{refused}");
    }
    raw.execute_batch(
        "DROP TRIGGER trial_event_is_kept; DELETE FROM trial_event WHERE position = 2",
    )
    .unwrap();
    let altered = ledger.altered().unwrap();
    assert!(altered.contains(&SealedPart::Trial(id)), "{altered:?}");
}

#[test]
fn a_sift_that_follows_another_begins_as_that_ends() {
    let home = tempfile::tempdir().unwrap();
    let mut ledger = Ledger::open(home.path()).unwrap();
    let design = common::sift_design();
    let new = NewSift { pc: &pc(), boot: &boot("1"), at: now(), design: &design };
    let first = ledger.begin_sift(&new).unwrap();
    ledger.add_sift_event(first, now(), &SiftEvent::Decided).unwrap();
    let second = ledger.begin_sift_after(first, &new).unwrap();
    let ledger = reopen(home.path());
    assert!(ledger.sift(first).unwrap().has_ended());
    assert_eq!(ledger.sift(first).unwrap().events.len(), 2);
    assert_eq!(ledger.open_sift(&pc()).unwrap().unwrap().id, second);
    assert!(ledger.altered().unwrap().is_empty());
}

/// Sifts: only ever added to, and told where they were changed. Evidence of others is kept once.
#[test]
fn events_of_sifts_never_change_and_evidence_of_others_is_kept_once() {
    let home = tempfile::tempdir().unwrap();
    let mut ledger = Ledger::open(home.path()).unwrap();
    let design = common::sift_design();
    let new = NewSift { pc: &pc(), boot: &boot("1"), at: now(), design: &design };
    let id = ledger.begin_sift(&new).unwrap();
    for event in [SiftEvent::Decided, SiftEvent::Abandoned] {
        ledger.add_sift_event(id, now(), &event).unwrap();
    }
    let row = ForeignEvidence {
        pc: "pc-1".into(),
        tweak: "a/b".into(),
        arguments: "{}".into(),
        metric: "average-fps".into(),
        game: "x".into(),
        graphics: "x".into(),
        resolution: "x".into(),
        origin: "trial".into(),
        date: "2026-03-01".into(),
        windows_build: 0,
        graphics_driver: String::new(),
        game_version: String::new(),
        finding: "helps".into(),
        ln_ratio: 0.1 + 0.2,
        standard_error: 0.01,
    };
    let rows = [row.clone(), row.clone()];
    assert_eq!(ledger.add_foreign_evidence(now(), "a.csv", &rows).unwrap(), 1);
    let ledger = reopen(home.path());
    assert_eq!(ledger.foreign_evidence().unwrap(), [row]);
    let record = ledger.open_sift(&pc()).unwrap().unwrap();
    assert_eq!((&record.design, record.events.len()), (&design, 2));
    assert!(record.sift().unwrap().is_abandoned());
    let raw = rusqlite::Connection::open(ledger.path()).unwrap();
    for sql in ["UPDATE sift SET design = '{}'", "DELETE FROM sift_event WHERE position = 1"] {
        let refused = raw.execute(sql, []).unwrap_err().to_string();
        assert!(refused.contains("never"), "{refused}");
    }
    raw.execute_batch("DROP TRIGGER sift_event_is_kept; DELETE FROM sift_event WHERE position = 1")
        .unwrap();
    let altered = ledger.altered().unwrap();
    assert!(altered.contains(&SealedPart::Sift(id)), "{altered:?}");
}

/// Times as text have no order: fractions of any length, a clock that was set back.
#[test]
fn a_ledger_of_the_third_schema_gets_an_order_that_keeps_each_tables_own() {
    let home = tempfile::tempdir().unwrap();
    let path = home.path().join("ledger.sqlite3");
    let old = rusqlite::Connection::open(&path).unwrap();
    for schema in [
        include_str!("../src/schema/1.sql"),
        include_str!("../src/schema/2.sql"),
        include_str!("../src/schema/3.sql"),
    ] {
        old.execute_batch(schema).unwrap();
    }
    old.execute_batch("INSERT INTO snapshot VALUES (1, 'a-pc', '2026-01-01T00:00:00Z', 'x', 0)")
        .unwrap();
    for (id, at) in [(1, "20:00:00Z"), (2, "20:00:00.45Z"), (3, "19:00:00Z")] {
        let sql = format!(
            "INSERT INTO change VALUES ({id}, 'a-pc', 1, 't', NULL, NULL, '1', '2026-01-01T{at}', NULL, 'applied')"
        );
        old.execute(&sql, []).unwrap();
    }
    old.execute_batch(
        "INSERT INTO rollback VALUES (1, 'a-pc', '\"all\"', '1', '2026-01-01T20:00:00.4Z', NULL, 'finished')",
    )
    .unwrap();
    old.pragma_update(None, "user_version", 3).unwrap();
    drop(old);
    drop(reopen(home.path()));
    let raw = rusqlite::Connection::open(&path).unwrap();
    let order: Vec<String> = raw
        .prepare("SELECT kind || ' ' || at FROM operation ORDER BY seq")
        .unwrap()
        .query_map([], |row| row.get(0))
        .unwrap()
        .map(Result::unwrap)
        .collect();
    assert_eq!(
        order,
        [
            "change 2026-01-01T20:00:00Z",
            "rollback 2026-01-01T20:00:00.4Z",
            "change 2026-01-01T20:00:00.45Z",
            "change 2026-01-01T19:00:00Z",
        ]
    );
}

#[test]
fn a_ledger_that_another_process_writes_is_busy_and_not_broken() {
    let home = tempfile::tempdir().unwrap();
    let mut ledger = reopen(home.path());
    let other = rusqlite::Connection::open(ledger.path()).unwrap();
    other.execute_batch("BEGIN IMMEDIATE").unwrap();
    let evening: ProfileName = name("evening");
    let error = ledger.save_revision(&evening, "one", None, "m", now()).unwrap_err();
    assert!(matches!(error, LedgerError::Busy), "{error}");
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

/// Several programs that are the first to open a ledger: it is made once, and all of them have it.
#[test]
fn a_new_ledger_is_opened_by_many_at_once() {
    for _ in 0..10 {
        let home = tempfile::tempdir().unwrap();
        std::thread::scope(|scope| {
            let all: Vec<_> = (0..6)
                .map(|_| {
                    scope.spawn(|| Ledger::open(home.path()).map(|_| ()).map_err(|e| e.to_string()))
                })
                .collect();
            for one in all {
                assert_eq!(one.join().unwrap(), Ok(()));
            }
        });
        let beside = fs_err::read_dir(home.path()).unwrap().flatten();
        assert!(beside.into_iter().all(|entry| !entry.path().ends_with("ledger.migrating")));
    }
}

#[test]
fn a_play_is_open_until_its_end_is_written_and_its_plan_never_changes() {
    use frevin_core::playing::{
        GameStart, PcHolds, PlayEnding, PlayEvent, PlayId, PlayPlan, PriorityClass, ProcessBefore,
        ProcessHolds, ProcessKey,
    };
    let home = tempfile::tempdir().unwrap();
    let mut ledger = Ledger::open(home.path()).unwrap();
    let plan = PlayPlan {
        title: "evening@1".into(),
        start: GameStart::Start { command: vec!["riders".into(), "--windowed".into()] },
        game_file: Some("riders.exe".into()),
        wishes: Vec::new(),
        process: ProcessHolds {
            priority: Some(PriorityClass::AboveNormal),
            processors: Some("0-3".parse().unwrap()),
            ..ProcessHolds::default()
        },
        pc: PcHolds { timer: Some("0.5".parse().unwrap()), ..PcHolds::default() },
        recording: None,
    };
    let id = ledger.begin_play(&pc(), now(), &plan).unwrap();
    let open = ledger.open_plays(&pc()).unwrap();
    assert_eq!((open.len(), &open[0].plan, open[0].ended), (1, &plan, None));
    assert!(ledger.open_plays(&PcId::new("another")).unwrap().is_empty());
    let process = ProcessKey { id: 7, made: 70 };
    let before = ProcessBefore { priority: Some(-3), ..ProcessBefore::default() };
    let held = PlayEvent::Held { process, before };
    ledger.add_play_event(id, now(), &held).unwrap();
    ledger.add_play_event(id, now(), &PlayEvent::PutBack { process }).unwrap();
    let events = ledger.play(id).unwrap().unwrap().events;
    assert_eq!((events.len(), &events[0].event), (2, &held));
    assert_eq!(ledger.play(PlayId(99)).unwrap(), None);
    // A change that was carried out for it is found by it.
    let steps = [step(State::Absent, dword(1))];
    let new: Vec<NewStep> =
        steps.iter().map(|step| NewStep { step: step.clone(), start: Start::NotRunning }).collect();
    let change = ledger
        .begin_change(&NewChange {
            pc: &pc(),
            title: "evening@1 while playing",
            revision: None,
            boot: &boot("1"),
            begun_at: now(),
            replaces: None,
            made_for: Some(&frevin_ledger::ChangeFor::Play(id)),
            steps: &new,
        })
        .unwrap();
    assert!(ledger.changes_of_play(id).unwrap().is_empty(), "it is not carried out yet");
    ledger.finish_change(change, now()).unwrap();
    assert_eq!(ledger.changes_of_play(id).unwrap(), [change]);
    ledger.end_play(id, now(), PlayEnding::GameEnded).unwrap();
    // The first end stands.
    ledger.end_play(id, now(), PlayEnding::Settled).unwrap();
    assert!(ledger.open_plays(&pc()).unwrap().is_empty());
    let ended = ledger.plays(&pc()).unwrap()[0].ended.unwrap();
    assert_eq!(ended.1, PlayEnding::GameEnded);
    drop(ledger);
    let connection = rusqlite::Connection::open(home.path().join("ledger.sqlite3")).unwrap();
    assert!(connection.execute("UPDATE play SET plan = '{}'", []).is_err());
    assert!(connection.execute("DELETE FROM play", []).is_err());
    connection.execute("UPDATE play SET ended_at = NULL, ending = NULL", []).unwrap();
    drop(connection);
    // What decides what is written is under a seal.
    assert!(Ledger::open(home.path()).is_err());
}

#[test]
fn a_deleted_profile_is_found_by_its_numbers_only_until_it_is_saved_again() {
    let home = tempfile::tempdir().unwrap();
    let mut ledger = Ledger::open(home.path()).unwrap();
    let profile: ProfileName = name("evening");
    let save = |ledger: &mut Ledger, text: &str| {
        ledger.save_revision(&profile, text, None, "", now()).unwrap()
    };
    save(&mut ledger, "first");
    save(&mut ledger, "second");
    save_other(&mut ledger);
    assert_eq!(ledger.delete_profile(&profile, now()).unwrap().number, 2);
    let listed = |ledger: &Ledger| -> Vec<String> {
        let latest = ledger.latest_revisions().unwrap().into_iter();
        latest.map(|revision| revision.name().to_string()).collect()
    };
    assert_eq!(listed(&ledger), ["other@1"]);
    assert!(matches!(ledger.revision(&name("evening")), Err(LedgerError::NoProfile(_))));
    assert_eq!(ledger.revision(&name("evening@1")).unwrap().document, "first");
    assert_eq!(ledger.revisions(&profile).unwrap().len(), 2);
    assert!(matches!(ledger.delete_profile(&profile, now()), Err(LedgerError::NoProfile(_))));
    // What it is deleted by is kept, and the ledger is as it was written.
    drop(ledger);
    let mut ledger = Ledger::open(home.path()).unwrap();
    assert_eq!(listed(&ledger), ["other@1"]);
    // The document of the last revision brings it back as that revision; another one goes on from there.
    assert!(matches!(save(&mut ledger, "second"), Saved::Unchanged(_) | Saved::New(_)));
    assert!(listed(&ledger).contains(&"evening@2".to_owned()), "{:?}", listed(&ledger));
    ledger.delete_profile(&profile, now()).unwrap();
    let Saved::New(third) = save(&mut ledger, "third") else { panic!("it is new") };
    assert_eq!((third.number, third.parent), (3, Some(2)));
}

fn save_other(ledger: &mut Ledger) {
    ledger.save_revision(&name("other"), "other", None, "", now()).unwrap();
}
