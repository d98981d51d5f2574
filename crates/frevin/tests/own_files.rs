//! Frevin's own files, broken in every way: what was acknowledged is not lost, nothing is guessed
//! at, and the PC is not touched.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

mod common;

use common::Place;

/// The ledger's file and its log, folded into one file, as after a quiet moment.
fn settle_ledger(place: &Place) -> std::path::PathBuf {
    let path = place.path().join("home/ledger.sqlite3");
    let connection = rusqlite::Connection::open(&path).unwrap();
    connection.pragma_update(None, "wal_checkpoint", "TRUNCATE").unwrap();
    drop(connection);
    path
}

#[test]
fn a_ledger_cut_at_any_length_is_refused_or_whole_and_the_pc_is_left_alone() {
    let place = Place::with_evening();
    place.run(&["apply", "evening", "--yes"]).ok();
    let path = settle_ledger(&place);
    let whole = fs_err::read(&path).unwrap();
    let applied = place.pc_files();
    let mut refused = 0;
    for part in 0..=24 {
        let length = whole.len() * part / 24;
        fs_err::write(&path, &whole[..length]).unwrap();
        for log in ["ledger.sqlite3-wal", "ledger.sqlite3-shm"] {
            let _ = fs_err::remove_file(place.path().join("home").join(log));
        }
        let said = place.run(&["rollback", "--all", "--yes"]);
        if said.code == 0 && length < whole.len() {
            panic!("a ledger of {length} bytes of {} was believed: {}", whole.len(), said.out);
        }
        refused += u32::from(said.code != 0);
        if length < whole.len() {
            assert_eq!(place.pc_files(), applied, "{length} bytes: {}{}", said.out, said.err);
        }
        assert!(!said.err.contains("panicked"), "{}", said.err);
    }
    assert!(refused == 24, "{refused} were refused");
    fs_err::write(&path, &whole).unwrap();
    place.run(&["rollback", "--all", "--yes"]);
    assert_ne!(place.pc_files(), applied, "with the ledger back, so is the way");
}

#[test]
fn an_empty_ledger_of_a_first_start_that_was_cut_short_is_begun_anew() {
    let place = Place::new();
    fs_err::create_dir(place.path().join("home")).unwrap();
    place.write("home/ledger.sqlite3", "");
    place.write("evening.toml", common::EVENING);
    place.run(&["profile", "save", "evening.toml"]).ok();
}

#[test]
fn a_ledger_of_a_newer_frevin_is_left_alone() {
    let place = Place::with_evening();
    let path = settle_ledger(&place);
    let connection = rusqlite::Connection::open(&path).unwrap();
    connection.pragma_update(None, "user_version", 99).unwrap();
    drop(connection);
    let before = place.pc_files();
    let said = place.run(&["apply", "evening", "--yes"]).fails(4);
    assert!(said.err.contains("newer Frevin"), "{}", said.err);
    assert_eq!(place.pc_files(), before);
}

#[test]
fn statuses_of_a_newer_frevin_are_shown_as_what_they_are() {
    let place = Place::with_evening();
    place.run(&["apply", "evening", "--yes"]).ok();
    let connection = rusqlite::Connection::open(settle_ledger(&place)).unwrap();
    // As it was before ledgers were sealed, so that it is sealed with what it holds.
    let older =
        "DROP TABLE deleted_profile; ALTER TABLE visit DROP COLUMN play; DROP TABLE play_event;
        ALTER TABLE change DROP COLUMN play; DROP TABLE play;
        DROP INDEX change_by_trial; DROP INDEX visit_by_trial;
        DROP INDEX change_by_sift; DROP INDEX visit_by_sift;
        ALTER TABLE change DROP COLUMN sift; ALTER TABLE change DROP COLUMN sift_configuration;
        ALTER TABLE visit DROP COLUMN sift; ALTER TABLE visit DROP COLUMN sift_row;
        DROP TABLE sift_event; DROP TABLE sift; DROP TABLE foreign_evidence;
        ALTER TABLE change DROP COLUMN trial; ALTER TABLE change DROP COLUMN trial_place;
        ALTER TABLE visit DROP COLUMN trial; ALTER TABLE visit DROP COLUMN trial_pair;
        ALTER TABLE visit DROP COLUMN trial_arm;
        DROP TABLE trial_event; DROP TABLE trial; DROP TABLE seal;
        PRAGMA user_version = 4; UPDATE change SET status = 'archived'";
    connection.execute_batch(older).unwrap();
    drop(connection);
    let said = place.run(&["rollback", "--list"]).ok();
    assert!(said.out.contains("unknown (archived)"), "{}", said.out);
}

#[test]
fn a_home_that_is_a_file_is_told() {
    let place = Place::new();
    place.write("file", "x");
    let home = place.path().join("file").display().to_string();
    let said = place.run(&["profile", "list", "--home", &home]).fails(10);
    assert!(said.err.contains("may it be written"), "{}", said.err);
}

#[test]
fn a_cut_event_log_costs_one_line_only() {
    let place = Place::with_evening();
    place.run(&["apply", "evening", "--yes"]).ok();
    let log = place.pc().join("events.jsonl");
    let text = fs_err::read_to_string(&log).unwrap();
    fs_err::write(&log, &text[..text.len() - 20]).unwrap();
    place.run(&["rehearsal", "restart"]).ok();
    let shown = place.json(&["rehearsal", "show", "--events", "100"]);
    let events = shown["events"].as_array().unwrap();
    assert_eq!(events.len(), text.lines().count(), "one lost, one new");
    assert_eq!(events.last().unwrap()["event"], "started");
}

#[test]
fn drafts_that_a_crash_left_in_the_pc_are_cleared_away() {
    let place = Place::with_evening();
    let at_first = place.pc_files();
    place.write("pc/settings/registry.json.new", "{ half a fi");
    place.write("pc/clock.json.new", "");
    place.run(&["apply", "evening", "--yes"]).ok();
    place.run(&["rollback", "--all", "--yes"]).ok();
    assert_eq!(place.pc_files(), at_first);
}

#[test]
fn two_pcs_share_a_home_and_do_not_mix() {
    let place = Place::with_evening();
    place.run(&["rehearsal", "new", "second", "--name", "Second"]).ok();
    place.run(&["apply", "evening", "--yes"]).ok();
    let second = place.json(&["inspect", "--pc", "second"]);
    assert_eq!(second["tweaks_in_force"], 0);
    place.run(&["rollback", "1", "--yes", "--pc", "second"]).fails(3);
    assert!(
        place.json(&["snapshot", "list", "--pc", "second"])["snapshots"]
            .as_array()
            .unwrap()
            .is_empty()
    );
    place.run(&["apply", "evening", "--yes", "--pc", "second"]).ok();
    place.run(&["rollback", "--all", "--yes"]).ok();
    assert_eq!(place.json(&["inspect", "--pc", "second"])["tweaks_in_force"], 5);
}
