//! A ledger in which a bit is another is told, or says the same: never something else in silence.
//!
//! Every so many bits here; `benches/bit-flips` takes every one.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]
#![allow(clippy::print_stdout, reason = "a script reads the figures")]

mod common;

use std::path::Path;

use frevin_core::ids::{BootId, PcId};
use frevin_core::layers::{ChangeId, Layers, Selection};
use frevin_core::preview::{Action, BackStep, Reason, Step};
use frevin_core::setting::{Address, RegistryData, State, TakesEffect, Value};
use frevin_core::sift::SiftEvent;
use frevin_core::trial::Event;
use frevin_core::tweak::TweakUse;
use frevin_core::waiting::{PastWrite, Start};
use frevin_ledger::{
    Change, Ledger, LedgerError, NewBackStep, NewChange, NewRollback, NewSift, NewStep, NewTrial,
    Saved, SiftRecord, TrialRecord, Unfinished,
};
use jiff::Timestamp;

const PC: &str = "a-pc";
const BOOT: &str = "boot-1";
const FILE: &str = "ledger.sqlite3";

fn now() -> Timestamp {
    "2026-03-01T20:00:00Z".parse().unwrap()
}

fn dword(number: u32) -> State {
    Value::Registry(RegistryData::dword(number)).into()
}

fn at(number: usize) -> Address {
    format!(r"registry:HKLM\SYSTEM\A{number}#v").parse().unwrap()
}

fn begin(ledger: &mut Ledger, settings: std::ops::Range<usize>, after: u32) -> ChangeId {
    let steps: Vec<NewStep> = settings
        .map(|number| NewStep {
            step: Step {
                used: TweakUse { tweak: "a/b".parse().unwrap(), arguments: None },
                address: at(number),
                before: dword(0),
                after: dword(after),
                action: Action::Write,
                takes_effect: TakesEffect::Restart,
                reason: Reason::Wanted,
            },
            start: Start::Unknown,
        })
        .collect();
    let (pc, boot) = (PcId::new(PC), BootId::new(BOOT));
    let (title, begun_at) = ("evening", now());
    let change = NewChange {
        pc: &pc,
        title,
        revision: None,
        boot: &boot,
        begun_at,
        replaces: None,
        made_for: None,
        steps: &steps,
    };
    ledger.begin_change(&change).unwrap()
}

/// A ledger with three changes, one of them taken back, a rollback that is unfinished, and a profile.
fn write(home: &Path) {
    let (pc, boot) = (PcId::new(PC), BootId::new(BOOT));
    let mut ledger = Ledger::open(home).unwrap();
    let document = "format = 1\nname = \"p\"\npurpose = \"x\"\n";
    let saved = ledger.save_revision(&"p".parse().unwrap(), document, None, "m", now()).unwrap();
    assert!(matches!(saved, Saved::New(_)));
    for (settings, after) in [(0..4, 1), (4..8, 2), (8..12, 3)] {
        let id = begin(&mut ledger, settings, after);
        ledger.finish_change(id, now()).unwrap();
    }
    for is_finished in [true, false] {
        let change = if is_finished { ChangeId(2) } else { ChangeId(3) };
        let step = BackStep::Write { address: at(5), before: dword(2), after: dword(0) };
        let steps =
            [NewBackStep { step, takes_effect: TakesEffect::Restart, start: Start::Unknown }];
        let selection = Selection::Change(change);
        let new = NewRollback {
            pc: &pc,
            selection: &selection,
            boot: &boot,
            begun_at: now(),
            steps: &steps,
        };
        let id = ledger.begin_rollback(&new).unwrap();
        if is_finished {
            ledger.finish_rollback(id, now()).unwrap();
        }
    }
    // What a trial wants is frozen in its design: it decides too.
    let design = common::trial_design();
    let new = NewTrial { pc: &pc, boot: &boot, at: now(), design: &design };
    let trial = ledger.begin_trial(&new).unwrap();
    ledger.add_trial_event(trial, now(), &Event::Paused).unwrap();
    let design = common::sift_design();
    let new = NewSift { pc: &pc, boot: &boot, at: now(), design: &design };
    let sift = ledger.begin_sift(&new).unwrap();
    ledger.add_sift_event(sift, now(), &SiftEvent::Decided).unwrap();
}

/// All that decides what is written to the PC.
#[derive(Debug, PartialEq)]
struct Said {
    layers: Layers,
    changes: Vec<Change>,
    unfinished: Option<Unfinished>,
    waiting: Vec<PastWrite>,
    document: String,
    trials: Vec<TrialRecord>,
    sifts: Vec<SiftRecord>,
}

fn read(home: &Path) -> Result<Said, LedgerError> {
    let (pc, boot) = (PcId::new(PC), BootId::new(BOOT));
    let ledger = Ledger::open(home)?;
    Ok(Said {
        layers: ledger.layers(&pc)?,
        changes: ledger.changes(&pc)?,
        unfinished: ledger.unfinished(&pc)?,
        waiting: ledger.past_writes(&pc, &boot)?,
        document: ledger.revision(&"p".parse().unwrap())?.document,
        trials: ledger.trials(&pc)?,
        sifts: ledger.sifts(&pc)?,
    })
}

#[test]
fn a_flipped_bit_is_told_or_changes_nothing() {
    let every: usize =
        std::env::var("FREVIN_FLIP_EVERY").map_or(1009, |every| every.parse().unwrap());
    let home = tempfile::tempdir().unwrap();
    write(home.path());
    let whole = fs_err::read(home.path().join(FILE)).unwrap();
    let expected = read(home.path()).unwrap();
    let flips: Vec<usize> = (0..whole.len() * 8).step_by(every).collect();
    let threads = std::thread::available_parallelism().map_or(1, usize::from);
    let share = flips.len().div_ceil(threads);
    let (mut told, mut same) = (0, 0);
    std::thread::scope(|scope| {
        let try_out = |bits: &[usize]| {
            let place = tempfile::tempdir().unwrap();
            let (mut told, mut same) = (0, 0);
            for bit in bits {
                for ending in ["sqlite3-wal", "sqlite3-shm"] {
                    let _ = std::fs::remove_file(place.path().join(FILE).with_extension(ending));
                }
                let mut bytes = whole.clone();
                bytes[bit / 8] ^= 1 << (bit % 8);
                fs_err::write(place.path().join(FILE), bytes).unwrap();
                match read(place.path()) {
                    Err(_) => told += 1,
                    Ok(said) => {
                        assert!(said == expected, "bit {bit} changes what it says: {said:#?}");
                        same += 1;
                    }
                }
            }
            (told, same)
        };
        let workers: Vec<_> =
            flips.chunks(share).map(|bits| scope.spawn(move || try_out(bits))).collect();
        for worker in workers {
            let (t, s) = worker.join().unwrap();
            told += t;
            same += s;
        }
    });
    println!("{} bits flipped: {told} told, {same} say the same, 0 wrong in silence", told + same);
    assert!(told > 0 && same > 0);
}

#[test]
fn rows_that_are_gone_or_there_twice_are_told() {
    for damage in [
        "DELETE FROM layer WHERE position = 0",
        "DELETE FROM layer; DELETE FROM stack",
        "DELETE FROM step WHERE change = 1 AND position = 0",
        "DELETE FROM rollback_step",
        "INSERT INTO step SELECT change, position + 100, tweak, address, before, after, action, takes_effect, reason, arguments, start FROM step WHERE change = 1 AND position = 0",
        "UPDATE change SET status = 'undone' WHERE id = 1",
        "UPDATE rollback SET status = 'finished'",
        "DELETE FROM seal WHERE part LIKE 'layers%'",
        "DELETE FROM step WHERE change = 3; DELETE FROM layer WHERE change = 3; DELETE FROM change WHERE id = 3; DELETE FROM seal WHERE part = 'change 3'",
        "DROP TRIGGER revision_never_changes; UPDATE revision SET document = 'x'",
    ] {
        let home = tempfile::tempdir().unwrap();
        write(home.path());
        let raw = rusqlite::Connection::open(home.path().join(FILE)).unwrap();
        raw.pragma_update(None, "foreign_keys", false).unwrap();
        raw.execute_batch(damage).unwrap();
        drop(raw);
        match Ledger::open(home.path()) {
            Err(LedgerError::Altered { parts, .. }) => assert!(!parts.is_empty(), "{damage}"),
            other => panic!("{damage}: {other:?}"),
        }
    }
}

#[test]
fn a_copy_is_whole_and_takes_the_place_of_a_damaged_ledger() {
    let home = tempfile::tempdir().unwrap();
    write(home.path());
    let copy = home.path().join("copy.sqlite3");
    let expected = read(home.path()).unwrap();
    Ledger::open(home.path()).unwrap().back_up(&copy).unwrap();
    assert!(Ledger::open(home.path()).unwrap().back_up(&copy).is_err(), "it is there already");
    let raw = rusqlite::Connection::open(home.path().join(FILE)).unwrap();
    raw.execute("UPDATE stack SET original = '\"absent\"'", []).unwrap();
    drop(raw);
    assert!(Ledger::open(home.path()).is_err());
    let kept = Ledger::restore(home.path(), &copy).unwrap().unwrap();
    assert!(kept.exists());
    assert_eq!(read(home.path()).unwrap(), expected);
    // A copy that is damaged takes nobody's place.
    let mut bytes = fs_err::read(&copy).unwrap();
    let end = bytes.len() - 40;
    bytes[end] ^= 1;
    let bad = home.path().join("bad.sqlite3");
    fs_err::write(&bad, &bytes[..end]).unwrap();
    assert!(Ledger::restore(home.path(), &bad).is_err());
    assert_eq!(read(home.path()).unwrap(), expected);
}
