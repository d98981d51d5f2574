//! What waits is known with the moment that it waits for, whatever the clock says; and nothing is
//! measured in a state that is not in effect, or that is not the one it is called.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

mod common;

use common::Place;
use insta::assert_snapshot;
use serde_json::Value;

const CACHE: &str = "memory/large-file-cache";
const RECORDING: &str = "recording/background";

fn apply(place: &Place, tweak: &str) {
    place.run(&["apply", "--tweak", tweak, "--yes"]).ok();
}

fn record(state: &str) -> [&str; 9] {
    ["run", "record", "--scene", "canyon-run", "--state", state, "--runs", "1", "--seconds=2"]
}

/// What each setting waits for, by what Frevin says.
fn waits_for(place: &Place) -> Vec<String> {
    let waiting = place.json(&["inspect"])["waiting"].clone();
    let moment = |one: &Value| one["waits_for"].as_str().unwrap().to_owned();
    waiting.as_array().unwrap().iter().map(moment).collect()
}

/// How many settings the PC itself does not go by yet.
fn pc_waits(place: &Place) -> usize {
    place.json(&["rehearsal", "show"])["waiting"].as_array().unwrap().len()
}

#[test]
fn what_waits_is_right_when_the_clock_stands_still_goes_back_or_has_fractions() {
    let clocks = [
        ["2026-03-01T20:00:00Z"; 3],
        ["2026-03-01T20:00:00Z", "2026-03-01T19:00:00Z", "2026-03-01T18:00:00Z"],
        ["2026-03-01T20:00:00.4Z", "2026-03-01T20:00:00.45Z", "2026-03-01T20:00:00.5Z"],
    ];
    for clock in clocks {
        let place = Place::new();
        place.set_clock(clock[0]);
        apply(&place, CACHE);
        place.set_clock(clock[1]);
        place.run(&["rollback", "--all", "--yes"]).ok();
        assert_eq!((waits_for(&place).len(), pc_waits(&place)), (0, 0), "{clock:?}");
        place.set_clock(clock[2]);
        apply(&place, CACHE);
        assert_eq!((waits_for(&place), pc_waits(&place)), (vec!["restart".to_owned()], 1));
        place.run(&record("a")).fails(5);
        place.run(&["rehearsal", "restart"]).ok();
        assert_eq!((waits_for(&place).len(), pc_waits(&place)), (0, 0), "{clock:?}");
        place.run(&record("a")).ok();
    }
}

#[test]
fn a_sign_out_is_waited_for_and_rehearsed() {
    let place = Place::new();
    apply(&place, RECORDING);
    assert_eq!(waits_for(&place), ["sign-out"; 3]);
    assert_snapshot!(place.run(&record("quiet")).fails(5).err, @r"
    error: nothing was recorded: the PC does not yet behave by all that is in force
      registry:HKLM\SOFTWARE\Policies\Microsoft\Windows\GameDVR#AllowGameDVR (recording/background) waits for a sign-out
      registry:HKCU\SOFTWARE\Microsoft\Windows\CurrentVersion\GameDVR#AppCaptureEnabled (recording/background) waits for a sign-out
      registry:HKCU\SOFTWARE\Microsoft\Windows\CurrentVersion\GameDVR#HistoricalCaptureEnabled (recording/background) waits for a sign-out
    help: sign out and in again first (a rehearsal PC: `frevin rehearsal sign-out`)
    help: --despite-waiting records all the same, and marks the runs
    ");
    assert_snapshot!(place.run(&["drift"]).ok().out, @"
    No drift. 4 settings held, all as Frevin left them.
    3 settings wait for a sign-out.
      GameDVR › AllowGameDVR waits for a sign-out
      GameDVR › AppCaptureEnabled waits for a sign-out
      GameDVR › HistoricalCaptureEnabled waits for a sign-out
    ");
    // Programs alone do not help; a sign-out does, and so would a restart.
    place.run(&["rehearsal", "restart-programs"]).ok();
    assert_eq!(waits_for(&place).len(), 3);
    assert_snapshot!(place.run(&["rehearsal", "sign-out"]).ok().out, @"
    Done. Signed out and in.
    3 settings took effect:
      GameDVR › AllowGameDVR
      GameDVR › AppCaptureEnabled
      GameDVR › HistoricalCaptureEnabled
    ");
    assert_eq!((waits_for(&place).len(), pc_waits(&place)), (0, 0));
    place.run(&record("quiet")).ok();
    place.run(&["rollback", "--all", "--yes"]).ok();
    assert_eq!(waits_for(&place).len(), 3, "the way back waits too");
    place.run(&["rehearsal", "restart"]).ok();
    assert_eq!(waits_for(&place).len(), 0, "a restart satisfies all");
}

#[test]
fn each_run_of_a_scene_starts_the_game_anew() {
    let place = Place::new();
    apply(&place, "graphics/variable-refresh");
    assert_eq!(waits_for(&place), ["program-restart"]);
    place.run(&record("low")).ok();
    assert_eq!((waits_for(&place).len(), pc_waits(&place)), (0, 0));
}

#[test]
fn recording_despite_what_waits_is_marked_with_it() {
    let place = Place::new();
    apply(&place, RECORDING);
    let visit =
        place.json(&[&record("quiet")[..], &["--despite-waiting"]].concat())["visit"].clone();
    assert_eq!(visit["context"]["waiting"][0]["waits_for"], "sign-out", "{visit}");
    assert_eq!(visit["runs"][0]["was_waiting"], true);
    place.run(&["rehearsal", "sign-out"]).ok();
    place.run(&record("quiet")).ok();
    let said = place.json(&["compare", "quiet", "quiet"])["cautions"].to_string();
    assert!(said.contains("while-waiting"), "{said}");
}

#[test]
fn nobody_changes_the_pc_while_a_visit_is_recorded() {
    let place = Place::new();
    place.add_mill();
    fs_err::create_dir(place.path().join("logs")).unwrap();
    let record = ["run", "record", "--scene", "mill", "--state", "a", "--from-folder", "logs"];
    let mut waiting = place.command(&[&record[..], &["--give-up-after", "60"]].concat());
    let mut child = waiting.stdout(std::process::Stdio::null()).spawn().unwrap();
    // Until it has the right to the PC, which it keeps while it waits for logs.
    while !place.pc().join("holder.json").exists() {
        std::thread::sleep(std::time::Duration::from_millis(20));
    }
    let said = place.run(&["apply", "--tweak", CACHE, "--yes"]).fails(8);
    assert!(said.err.contains("frevin run record"), "{}", said.err);
    child.kill().unwrap();
    child.wait().unwrap();
    // What was broken off is seen, and is no visit.
    let visits = place.json(&["run", "list"])["visits"].clone();
    assert_eq!(visits.as_array().unwrap().len(), 1, "{visits}");
    assert_eq!(visits[0]["status"], "begun");
    assert_eq!(place.json(&["compare", "a", "a"])["pairs"], 0);
    place.run(&["apply", "--tweak", CACHE, "--yes"]).ok();
}

#[test]
fn a_state_that_others_have_changed_is_not_measured() {
    let place = Place::new();
    apply(&place, "looks/menu-delay");
    let others = "visual:menu-delay=90";
    place.run(&["rehearsal", "fault", "--others-write", others]).ok();
    let said = place.run(&record("a")).fails(9);
    assert!(said.err.contains("frevin drift"), "{}", said.err);
    place.run(&["drift", "--force", "--yes"]).ok();
    place.run(&record("a")).ok();
}

#[test]
fn the_evidence_of_a_tweak_keeps_pcs_and_arguments_apart() {
    let place = Place::new();
    let visit = |state: &str| {
        place.run(&["rehearsal", "restart"]).ok();
        place.run(&record(state)).ok();
    };
    let with = |delay: &str| {
        let set = format!("delay_ms={delay}");
        place.run(&["apply", "--tweak", "looks/menu-delay", "--set", &set, "--yes"]).ok();
    };
    visit("none");
    with("50");
    visit("fifty");
    place.run(&["rollback", "--all", "--yes"]).ok();
    with("7");
    visit("seven");
    // The same on another PC, with the same ledger.
    place.run(&["rehearsal", "new", "other"]).ok();
    let elsewhere = |args: &[&str]| place.run(&[args, &["--pc", "other"]].concat()).ok();
    elsewhere(&record("none"));
    elsewhere(&["apply", "--tweak", "looks/menu-delay", "--set", "delay_ms=50", "--yes"]);
    elsewhere(&["rehearsal", "restart"]);
    elsewhere(&record("fifty"));
    let measured = place.json(&["tweak", "show", "looks/menu-delay"])["measured"].clone();
    assert_eq!((&measured["visits_with"], &measured["visits_without"]), (&2.into(), &1.into()));
    let comparisons = measured["comparisons"].as_array().unwrap();
    let arguments: Vec<_> =
        comparisons.iter().map(|one| one["of"]["arguments"]["delay_ms"]["whole"].clone()).collect();
    assert_eq!(arguments, [7, 50].map(Value::from), "{measured}");
    assert!(comparisons.iter().all(|one| one["pairs"] == 1), "{measured}");
}

#[test]
fn a_log_of_the_past_says_that_nothing_is_known_of_what_was_in_force() {
    let place = Place::new();
    place.add_mill();
    apply(&place, "looks/menu-delay");
    place.write("a.csv", "frame_ms\n16.5\n16.7\n16.6\n");
    let import = ["run", "import", "a.csv", "--scene", "mill", "--state", "a"];
    assert_eq!(place.json(&import)["visit"]["in_force"], Value::Null);
}
