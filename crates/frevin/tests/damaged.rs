//! A ledger that is not as Frevin wrote it: told, never acted on, and not the end.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

mod common;

use common::Place;
use insta::assert_snapshot;

/// Three changes, and a ledger in which what was there before one of them is another.
fn damaged() -> Place {
    let place = Place::new();
    for tweak in ["services/prefetch", "looks/menu-delay", "recording/background"] {
        place.run(&["apply", "--tweak", tweak, "--yes"]).ok();
    }
    place.run(&["ledger", "check"]).ok();
    place.run(&["ledger", "backup", "copy.sqlite3"]).ok();
    let raw = rusqlite::Connection::open(place.path().join("home/ledger.sqlite3")).unwrap();
    let sql = "UPDATE stack SET original = replace(original, 'automatic', 'manual')
               WHERE address = 'service:SysMain#start'";
    assert_eq!(raw.execute(sql, []).unwrap(), 1);
    place
}

#[test]
fn it_is_told_at_the_next_command_and_nothing_is_written() {
    let place = damaged();
    let held = place.pc_files();
    for args in [
        &["rollback", "--all", "--yes"][..],
        &["drift"],
        &["recover"],
        &["apply", "--tweak", "looks/menu-delay", "--yes"],
    ] {
        let said = place.run(args).fails(4);
        assert!(said.err.contains("not as it was written: what Frevin holds"), "{}", said.err);
    }
    assert_eq!(place.pc_files(), held);
    place.run(&["ledger", "check"]).fails(1);
    let said = place.run(&["ledger", "backup", "again.sqlite3"]).ok();
    assert!(said.out.contains("Not as it was written"), "{}", said.out);
    place.run(&["ledger", "restore", "again.sqlite3", "--yes"]).fails(4);
    place.run(&["ledger", "restore", "copy.sqlite3", "--yes"]).ok();
    place.run(&["ledger", "check"]).ok();
    place.run(&["rollback", "--all", "--yes"]).ok();
}

#[test]
fn the_undo_files_put_the_pc_back_without_it() {
    let place = damaged();
    let files = place.pc_files();
    let said = place.run(&["recover", "--from-undo-files", "--yes"]).ok();
    let shown = said.out.lines().take_while(|line| !line.contains("kept as"));
    assert_snapshot!(shown.collect::<Vec<_>>().join("\n"), @r"
      setting                             now       goes back to
      service SysMain, start              disabled  automatic
      menu delay                          100 ms    400 ms
      GameDVR › HistoricalCaptureEnabled  0         1
      GameDVR › AppCaptureEnabled         0         1
      GameDVR › AllowGameDVR              0         absent
      service SysMain                     stopped   running
      key HKLM\…\GameDVR                  present   absent
    Done. 7 settings put back by the undo files of 3 changes.
    ");
    assert_ne!(place.pc_files(), files);
    place.run(&["ledger", "check"]).ok();
    assert_eq!(place.json(&["drift"])["held"], 0);
    // Numbers go on, so that no undo file is written over.
    let said = place.run(&["apply", "--tweak", "looks/menu-delay", "--yes"]).ok();
    assert!(said.out.contains("Change 4"), "{}", said.out);
    place.run(&["rollback", "--all", "--yes"]).ok();
    place.run(&["recover", "--from-undo-files", "--yes"]).ok();
}

#[test]
fn undo_files_are_checked_and_what_others_wrote_is_theirs() {
    let place = damaged();
    place.run(&["rehearsal", "fault", "--others-write", "visual:menu-delay=7"]).ok();
    let folder = fs_err::read_dir(place.path().join("home/undo")).unwrap().next().unwrap().unwrap();
    let copy = folder.path().join("change-3.undo.json");
    let text = fs_err::read_to_string(&copy).unwrap();
    fs_err::write(&copy, text.replacen("GameDVR", "GameDVS", 1)).unwrap();
    let said = place.run(&["recover", "--from-undo-files", "--yes"]).fails(7);
    assert!(said.err.contains("visual:menu-delay"), "{}", said.err);
    let said = place.run(&["recover", "--from-undo-files", "--keep", "--yes"]).ok();
    assert!(said.out.contains("cannot be used"), "{}", said.out);
    assert!(said.out.contains("which is not Frevin's"), "{}", said.out);
}

#[test]
fn a_ledger_of_a_newer_frevin_is_not_taken_for_a_damaged_one() {
    let place = Place::new();
    place.run(&["apply", "--tweak", "looks/menu-delay", "--yes"]).ok();
    let held = place.pc_files();
    let ledger = place.path().join("home/ledger.sqlite3");
    let newer = rusqlite::Connection::open(&ledger).unwrap();
    newer.pragma_update(None, "user_version", 99).unwrap();
    drop(newer);
    let bytes = fs_err::read(&ledger).unwrap();
    let said = place.run(&["recover", "--from-undo-files", "--yes"]).fails(4);
    assert!(said.err.contains("newer Frevin"), "{}", said.err);
    assert_eq!(place.pc_files(), held);
    assert_eq!(fs_err::read(&ledger).unwrap(), bytes);
}

#[test]
fn a_ledger_that_is_gone_is_told_while_there_are_undo_files() {
    let place = Place::new();
    place.run(&["apply", "--tweak", "looks/menu-delay", "--yes"]).ok();
    place.run(&["ledger", "backup", "copy.sqlite3"]).ok();
    let home = place.path().join("home");
    for file in ["ledger.sqlite3", "ledger.sqlite3-wal", "ledger.sqlite3-shm"] {
        let _ = fs_err::remove_file(home.join(file));
    }
    let said = place.run(&["apply", "--tweak", "looks/menu-delay", "--yes"]).fails(4);
    assert!(said.err.contains("it is gone"), "{}", said.err);
    assert!(said.err.contains("--from-undo-files"), "{}", said.err);
    place.run(&["recover", "--from-undo-files", "--yes"]).ok();
    // Not numbered over the undo files that are there.
    let said = place.run(&["apply", "--tweak", "looks/menu-delay", "--yes"]).ok();
    assert!(said.out.contains("Change 2"), "{}", said.out);
}

#[test]
fn a_copy_waits_until_nobody_changes_the_pc() {
    let place = damaged();
    let lock = fs_err::File::open(place.path().join("pc/frevin.lock")).unwrap();
    lock.file().lock().unwrap();
    place.run(&["ledger", "restore", "copy.sqlite3", "--yes"]).fails(8);
    drop(lock);
    place.run(&["ledger", "restore", "copy.sqlite3", "--yes"]).ok();
}
