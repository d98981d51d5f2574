//! How it stands with a PC, and what to type next.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

mod common;

use common::Place;
use insta::assert_snapshot;

fn next(place: &Place) -> Vec<String> {
    let status = place.json(&["status"]);
    let next = status["next"].as_array().unwrap().iter();
    next.map(|next| next["command"].as_str().unwrap().to_owned()).collect()
}

#[test]
fn it_is_told_what_is_in_force_and_what_waits() {
    let place = Place::with_evening();
    assert_eq!(next(&place), ["frevin inspect", "frevin tweak list --fitting"]);
    place.run(&["apply", "evening", "--yes"]).ok();
    assert_snapshot!(place.run(&["status"]).ok().out);
    assert_snapshot!(place.run(&["rollback"]).ok().out);
    // Whoever asks for that is told what a change is, and bare `rollback` changes nothing.
    let files = place.pc_files();
    place.run(&["undo"]).ok();
    assert_eq!(place.pc_files(), files);
    // What is named there is still held, also when another tweak of the change is gone.
    place.run(&["rollback", "1", "--tweak", "recording/background", "--yes"]).ok();
    let ways = place.run(&["rollback"]).ok().out;
    assert!(ways.contains("--tweak ") && !ways.contains("--tweak recording/background"), "{ways}");
    place.run(&["rehearsal", "restart"]).ok();
    assert_eq!(next(&place), ["frevin trial start --without 1", "frevin rollback 1"]);
    place.run(&["undo", "1", "--yes"]).ok();
    assert_snapshot!(place.run(&["rollback"]).ok().out, @"
    Nothing that was changed on this PC is in force any more.
      what there was  frevin rollback --list
    ");
}

#[test]
fn what_is_going_on_comes_first() {
    let place = Place::with_evening();
    place.run(&["rehearsal", "fault", "--power-cut-after", "3"]).ok();
    place.run(&["apply", "evening", "--yes"]);
    assert_eq!(next(&place), ["frevin recover"]);
    assert!(place.run(&["status"]).ok().out.contains("Unfinished: change 1 (evening@1)"));
    let ways = place.run(&["rollback"]).ok().out;
    assert!(ways.contains("frevin recover") && !ways.contains("Take it back"), "{ways}");
    place.run(&["recover", "--yes"]).ok();
    assert_eq!(next(&place), ["frevin inspect", "frevin tweak list --fitting"]);
}

#[test]
fn what_is_missing_is_told_without_the_options_of_every_command() {
    let place = Place::new();
    let said = place.run(&["apply"]).fails(2);
    assert!(!said.err.contains("--pc") && !said.err.contains("--home"), "{}", said.err);
    let history = place.run(&["history"]).ok();
    assert_eq!(history.out, place.run(&["log"]).ok().out);
}

#[test]
fn a_trial_that_is_put_off_and_what_is_held_for_a_game_come_first() {
    let place = Place::new();
    place.run(&["rehearsal", "fault", "--power-cut-after", "2"]).ok();
    let start = ["trial", "start", "--tweak", "memory/large-file-cache", "--scene", "canyon-run"];
    let cut = place.run(&[&start[..], &["--seed", "3", "--yes"]].concat());
    assert_ne!(cut.code, 0);
    place.run(&["trial", "pause"]).ok();
    let status = place.json(&["status"]);
    assert_eq!(status["trial"]["progress"], "paused", "{status}");
    assert_eq!(next(&place), ["frevin trial resume"]);
    let said = place.run(&["status"]).ok().out;
    assert!(said.contains("Trial 1 of memory/large-file-cache: paused"), "{said}");
    place.run(&["trial", "abandon"]).ok();

    let cut = ["rehearsal", "fault", "--power-cut-after", "2"];
    place.run(&cut).ok();
    let tweaks = ["--tweak", "memory/large-file-cache", "--tweak", "looks/menu-delay"];
    place.run(&[&["profile", "new", "two", "--quiet"], &tweaks[..]].concat()).ok();
    place.run(&["profile", "save", "two.toml"]).ok();
    place.run(&["sift", "start", "two", "--scene", "canyon-run", "--seed", "3", "--yes"]);
    let status = place.json(&["status"]);
    if status["unfinished"].is_null() {
        assert_eq!(next(&place), ["frevin sift resume"]);
        assert!(place.run(&["status"]).ok().out.contains("Sift 1 of two@1 is not over"));
    } else {
        assert_eq!(next(&place), ["frevin recover"]);
    }
}

#[test]
fn recordings_are_told_visit_by_visit_and_run_by_run_where_asked() {
    let place = Place::new();
    let record = ["run", "record", "--scene", "canyon-run", "--state", "before", "--seconds", "5"];
    place.run(&[&record[..], &["--runs", "2"]].concat()).ok();
    let short = place.run(&["run", "list"]).ok().out;
    assert_eq!(short.lines().count(), 3, "{short}");
    assert!(short.contains("before") && short.contains("median of the visit's runs"), "{short}");
    let whole = place.run(&["run", "list", "--runs"]).ok().out;
    assert_eq!(whole.lines().count(), 5, "{whole}");
    assert!(whole.contains("warm-up"), "{whole}");
    let json = |args: &[&str]| place.json(args);
    assert_eq!(json(&["run", "list"]), json(&["run", "list", "--runs"]));
}
