//! Trials: begun, cut off, gone on with, ended by their verdict.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

mod common;

use common::{EVENING, Place, Said};
use insta::assert_snapshot;
use serde_json::Value;

/// A tweak that this PC is slower with by so much that four pairs tell, felt after a restart.
const HURTS: &str = "memory/large-file-cache";
const START: [&str; 5] = ["trial", "start", "--scene", "canyon-run", "--yes"];

fn with<'a>(more: &[&'a str]) -> Vec<&'a str> {
    START.iter().chain(more).copied().collect()
}

fn json(said: &Said) -> Value {
    serde_json::from_str(&said.out).unwrap_or_else(|_| panic!("{}{}", said.out, said.err))
}

/// What the settings of the PC are.
fn settings(place: &Place) -> String {
    place.json(&["rehearsal", "show"])["fingerprint"].to_string()
}

fn progress(place: &Place) -> String {
    place.json(&["trial", "status"])["progress"].as_str().unwrap().to_owned()
}

#[test]
fn what_is_worse_is_taken_back_exactly_and_told() {
    let place = Place::new();
    place.run(&["apply", "--tweak", "looks/menu-delay", "--yes"]).ok();
    let at_first = settings(&place);
    let said = place.run(&with(&["--tweak", HURTS, "--seed", "7"])).fails(1);
    assert_snapshot!(said.out);
    assert_eq!(settings(&place), at_first);
    let shown = place.json(&["trial", "show", "1"]);
    assert_eq!((&shown["verdict"], &shown["kept"]), (&"worse".into(), &false.into()));
    assert_eq!((&shown["reason"], &shown["trial"]), (&"worse".into(), &1.into()));
    assert_eq!(
        shown["visits"].as_array().unwrap().len(),
        shown["pairs"].as_u64().unwrap() as usize
    );
    // Its own steps are not the owner's: only what they did is told, unless they ask.
    assert_snapshot!(place.run(&["log"]).ok().out);
    let all = place.json(&["log", "--all"]);
    assert!(all["entries"].as_array().unwrap().len() > 10, "{all}");
    assert_snapshot!(place.run(&["trial", "list"]).ok().out);
    let changes = place.run(&["rollback", "--list"]).ok().out;
    assert!(changes.contains("3 changes that trials and sifts made and took back"), "{changes}");
    assert_eq!(changes.matches(HURTS).count(), 0, "{changes}");
}

#[test]
fn the_same_seed_visits_in_the_same_order_and_every_visit_follows_a_restart() {
    let firsts = |seed: &str| {
        let place = Place::new();
        let starts = |place: &Place| place.json(&["rehearsal", "show"])["clock"]["boots"].as_u64();
        let before = starts(&place).unwrap();
        let said = json(&place.run(&with(&["--tweak", HURTS, "--seed", seed, "--json"])));
        let pairs = said["visits"].as_array().unwrap().clone();
        assert_eq!(starts(&place).unwrap() - before, 2 * pairs.len() as u64);
        pairs.iter().map(|pair| pair["first"].to_string()).collect::<Vec<_>>()
    };
    let first = firsts("3");
    assert_eq!(first, firsts("3"));
    assert_ne!(first[0], first[1]);
}

#[test]
fn leaving_out_what_hurts_is_better_and_leaves_it_out() {
    let place = Place::with_evening();
    place.run(&["apply", "evening", "--yes"]).ok();
    let said = json(&place.run(&with(&["--without", HURTS, "--seed", "1", "--json"])).ok());
    assert_eq!((&said["verdict"], &said["kept"]), (&"better".into(), &true.into()));
    let layers = place.json(&["rollback", "--list"]);
    let held: Vec<&Value> = layers["changes"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|change| change["layers_left"] != 0)
        .collect();
    assert_eq!(held.len(), 1, "one change holds the rest: {layers}");
    assert_eq!(place.json(&["drift"])["drifted"].as_array().unwrap().len(), 0);
    // Everything goes back to the first day, and the trial says so.
    assert_eq!(place.json(&["trial", "show"])["is_taken_back_since"], false);
    place.run(&["rollback", "--all", "--yes"]).ok();
    assert!(place.run(&["trial", "show"]).ok().out.contains("taken back since"));
}

#[test]
fn leaving_out_what_helps_is_worse_and_puts_it_back() {
    let place = Place::new();
    place.run(&["apply", "--tweak", "power/active-plan", "--yes"]).ok();
    let at_first = settings(&place);
    let said = json(&place.run(&with(&["--without", "1", "--seed", "1", "--json"])));
    assert_eq!(said["restarts"], false, "it acts at once, so that nothing restarts");
    assert_eq!((&said["verdict"], &said["kept"]), (&"worse".into(), &false.into()));
    assert_eq!(settings(&place), at_first);
}

#[test]
fn of_two_profiles_the_winner_stays() {
    let place = Place::with_evening();
    let rest: Vec<&str> = EVENING.split("[[tweaks]]").filter(|one| !one.contains(HURTS)).collect();
    let rest = rest.join("[[tweaks]]").replace("\"evening\"", "\"calm\"");
    place.write("calm.toml", &rest);
    place.run(&["profile", "save", "calm.toml"]).ok();
    let said = json(&place.run(&with(&["evening", "--against", "calm", "--seed", "1", "--json"])));
    assert_eq!((&said["verdict"], &said["kept"]), (&"worse".into(), &false.into()));
    let held = place.json(&["rollback", "--list"])["changes"][0].clone();
    assert_eq!((&held["title"], &held["layers_left"]), (&"calm@1".into(), &held["layers_laid"]));
}

#[test]
fn cut_off_anywhere_it_goes_on_or_goes_back() {
    let at_first = settings(&Place::new());
    let mut way_back_was_open = false;
    for cut_after in 1.. {
        let place = Place::new();
        place.run(&["rehearsal", "fault", "--power-cut-after", &cut_after.to_string()]).ok();
        let begun = place.run(&with(&["--tweak", HURTS, "--seed", "3"]));
        if begun.code == 1 {
            assert!(cut_after > 5, "it switches at least so often");
            break;
        }
        let progress = progress(&place);
        if progress == "way-back-open" {
            way_back_was_open = true;
            others_hands_keep_the_way_back_open(&place);
        }
        if cut_after % 2 == 0 && progress == "going" {
            let said = json(&place.run(&["trial", "abandon", "--json"]));
            assert_eq!((&said["reason"], &said["kept"]), (&"abandoned".into(), &false.into()));
        } else {
            let said = json(&place.run(&["trial", "resume", "--json"]));
            assert_eq!((&said["verdict"], &said["kept"]), (&"worse".into(), &false.into()));
        }
        assert_eq!(settings(&place), at_first, "after {cut_after} writes");
        place.run(&["ledger", "check"]).ok();
    }
    assert!(way_back_was_open);
}

/// The power failed while a verdict was carried out; meanwhile somebody else wrote the setting.
fn others_hands_keep_the_way_back_open(place: &Place) {
    let address = place.json(&["trial", "show"]).to_string();
    assert!(address.contains("way-back-open"), "{address}");
    let value = r"registry:HKLM\SYSTEM\CurrentControlSet\Control\Session Manager\Memory Management#LargeSystemCache";
    place.run(&["rehearsal", "fault", "--others-write", &format!("{value}=dword:5")]).ok();
    place.run(&["trial", "resume"]).fails(7);
    assert_eq!(progress(place), "way-back-open");
    let said = place.run(&["tweak", "list"]).ok();
    assert!(said.err.contains("Trial 1 is decided, and the PC is not yet"), "{}", said.err);
    place.run(&["recover", "--force"]).ok();
}

#[test]
fn a_pause_puts_the_pc_back_and_nothing_else_is_applied_meanwhile() {
    let place = Place::new();
    let at_first = settings(&place);
    place.run(&["rehearsal", "fault", "--power-cut-after", "2"]).ok();
    let cut = place.run(&with(&["--tweak", HURTS, "--seed", "3"]));
    assert_ne!(cut.code, 0);
    let said = place.run(&["trial", "pause"]).ok();
    assert!(said.out.contains("put off"), "{}", said.out);
    assert_eq!(settings(&place), at_first);
    let refused = place.run(&["apply", "--tweak", "looks/menu-delay", "--yes"]).fails(5);
    assert!(refused.err.contains("trial 1 of this PC is not over"), "{}", refused.err);
    place.run(&with(&["--tweak", HURTS])).fails(5);
    assert_snapshot!(place.run(&["trial", "status", "--peek"]).ok().out);
    let said = json(&place.run(&["trial", "resume", "--json"]));
    assert_eq!(said["verdict"], "worse");
    place.run(&["apply", "--tweak", "looks/menu-delay", "--yes"]).ok();
    place.run(&["trial", "resume"]).fails(3);
}

#[test]
fn what_cannot_be_compared_is_told_before_anything_is_done() {
    let place = Place::with_evening();
    let held = place.pc_files();
    for (args, code, told) in [
        (&["--tweak", "power/active-plan", "--budget", "20min"][..], 2, "up to"),
        (&["--without", HURTS], 3, "is not in force"),
        (&["--without", "9"], 3, "there is no change 9"),
        (&["nothing"], 3, "there is no profile"),
        (&["--tweak", HURTS, "--low-margin", "0"], 2, "is none"),
        (&["evening", "--against", "evening@7"], 3, "no revision"),
    ] {
        let said = place.run(&with(args)).fails(code);
        assert!(said.err.contains(told), "{args:?}: {}", said.err);
    }
    let scene = ["trial", "start", "--scene", "moon", "--tweak", HURTS, "--yes"];
    assert!(place.run(&scene).fails(3).err.contains("has no scene"));
    let said = place.run(&["trial", "start", "evening"]).fails(2);
    assert!(said.err.contains("has to be confirmed"), "{}", said.err);
    assert_eq!(place.pc_files(), held);
    place.run(&["apply", "evening", "--yes"]).ok();
    let said = place.run(&with(&["evening"])).fails(2);
    assert!(said.err.contains("--without"), "{}", said.err);
    assert_eq!(place.json(&["trial", "list"])["trials"].as_array().unwrap().len(), 0);
}

#[test]
fn three_trials_are_a_history_for_the_next() {
    let place = Place::new();
    for seed in ["1", "2", "3", "4"] {
        place.run(&with(&["--tweak", HURTS, "--seed", seed])).fails(1);
    }
    assert_eq!(place.json(&["trial", "show", "3"])["with_history"], false);
    let last = place.json(&["trial", "show", "4"]);
    assert_eq!(last["with_history"], true);
    assert!(last["pairs"].as_u64().unwrap() >= 3);
}

/// The real way, with real waiting, processes and files: a command plays a run and writes its log.
#[cfg(unix)]
#[test]
fn a_command_of_the_owners_plays_and_its_logs_are_the_runs() {
    use std::os::unix::fs::PermissionsExt as _;

    let place = Place::new();
    fs_err::create_dir(place.path().join("logs")).unwrap();
    place.write(
        "bench.sh",
        "#!/bin/sh\nn=$(ls logs | wc -l)\n{ echo frame_ms; i=0; while [ $i -lt 400 ]; do \
         echo \"1$((($i * 7 + $n * 13) % 4)).$(($i % 10))$n\"; i=$((i + 1)); done; } > \"logs/$n.csv\"\n",
    );
    let bench = place.path().join("bench.sh");
    fs_err::set_permissions(&bench, std::fs::Permissions::from_mode(0o755)).unwrap();
    let record_by = ["scene", "record-by", "canyon-run", "--folder", "logs", "--", "./bench.sh"];
    place.run(&record_by).ok();
    place.write("bench-fails.sh", "#!/bin/sh\nexit 3\n");
    let start =
        with(&["--tweak", "looks/menu-delay", "--seed", "1", "--runs", "1", "--budget", "9min"]);
    place.run(&start).fails(2);
    let start =
        with(&["--tweak", "looks/menu-delay", "--seed", "1", "--runs", "1", "--seconds", "5"]);
    let said = json(&place.run(&[&start[..], &["--json"]].concat()));
    assert_eq!(said["progress"], "ended");
    assert!(said["cautions"].to_string().contains("of-host"), "{}", said["cautions"]);
    let logs = fs_err::read_dir(place.path().join("logs")).unwrap().count();
    assert_eq!(logs, 2 * said["pairs"].as_u64().unwrap() as usize);
}

#[test]
fn several_levels_are_one_trial_and_each_is_shown_by_itself() {
    let place = Place::new();
    let start = ["--scene", "night-market", "--tweak", HURTS, "--seed", "3", "--json"];
    place.run(&["rehearsal", "fault", "--power-cut-after", "1"]).ok();
    assert_ne!(place.run(&with(&start)).code, 1);
    let said = json(&place.run(&["trial", "resume", "--json"]));
    assert_eq!(said["verdict"], "worse");
    let levels = said["by_level"].as_array().unwrap();
    assert_eq!(levels.len(), 2);
    assert_eq!(levels[1]["scene"], "night-market");
    for pair in said["visits"].as_array().unwrap() {
        assert_eq!(pair["a"]["visits"].as_array().unwrap().len(), 2);
        // The mean of logarithms lies between the levels.
        assert!(pair["a"]["stutter_events"].as_u64().is_some());
    }
    let shown = place.run(&["trial", "show"]).ok();
    assert!(shown.out.contains("Each graphics level by itself"), "{}", shown.out);
    // A restart, one run to warm up, three that count of each level.
    let visits = place.json(&["run", "list"]);
    let runs = |scene: &str| {
        let visits = visits["visits"].as_array().unwrap().iter();
        let of_scene = visits.filter(|visit| visit["scene"] == scene && visit["status"] == "whole");
        of_scene.map(|visit| visit["runs"].as_array().unwrap().len()).collect::<Vec<_>>()
    };
    assert!(runs("canyon-run").iter().all(|runs| *runs == 4));
    assert!(runs("night-market").iter().all(|runs| *runs == 3));
}
