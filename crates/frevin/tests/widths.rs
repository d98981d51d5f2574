//! Output as it is at several widths: nothing is cut, no line is longer than the terminal but what is copied whole.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

mod common;

use common::Place;
use insta::assert_snapshot;

/// Commands whose output is looked at, on a PC with a profile applied.
const COMMANDS: [&[&str]; 17] = [
    &["status"],
    &["inspect"],
    &["tweak", "list"],
    &["tweak", "show", "power/active-plan"],
    &["tweak", "show", "startup/entries"],
    &["tweak", "steps", "firmware/memory-profile"],
    &["profile", "ready-made"],
    &["preview", "balanced"],
    &["preview", "balanced", "--addresses"],
    &["rollback"],
    &["rollback", "--list"],
    &["log"],
    &["drift"],
    &["snapshot", "show", "1"],
    &["app", "list"],
    &["app", "startup"],
    &["help", "verdict"],
];

fn at(place: &Place, columns: usize, args: &[&str]) -> String {
    let mut command = place.command(args);
    let output = command.env("COLUMNS", columns.to_string()).output().unwrap();
    let text = [output.stdout, output.stderr].concat();
    String::from_utf8(text).unwrap()
}

/// Whether a line is one that is not wrapped: a command, a path or an address that is copied whole.
fn is_copied_whole(line: &str) -> bool {
    let longest = line.split_whitespace().map(|word| word.chars().count()).max().unwrap_or(0);
    line.contains("frevin ") || longest > 30
}

#[test]
fn no_line_is_longer_than_the_terminal_is_wide() {
    let place = Place::with_evening();
    place.run(&["apply", "evening", "--yes"]).ok();
    for columns in [60, 80, 140] {
        for args in COMMANDS {
            let text = at(&place, columns, args);
            assert!(text.lines().count() > 1, "{args:?}: {text}");
            for line in text.lines().filter(|line| line.chars().count() > columns) {
                assert!(is_copied_whole(line), "{args:?} at {columns}: {line}");
            }
        }
    }
}

#[test]
fn what_matters_is_wrapped_and_not_cut() {
    let place = Place::new();
    let words = |text: &str| -> Vec<String> {
        let mut words: Vec<String> = text.split_whitespace().map(str::to_owned).collect();
        words.sort();
        words
    };
    let args = ["tweak", "show", "firmware/memory-profile"];
    let wide = words(&at(&place, 200, &args));
    assert_eq!(words(&at(&place, 50, &args)), wide);
    // An error too; and in a pipe of which nobody says how wide it is, a sentence is a line.
    let args = ["apply", "--tweak", "startup/entries"];
    let narrow = at(&place, 60, &args);
    assert!(narrow.lines().all(|line| line.chars().count() <= 60), "{narrow}");
    let piped = place.run(&args).fails(2).err;
    assert_eq!(words(&narrow), words(&piped));
    assert_eq!(piped.lines().count(), 3, "{piped}");
}

#[test]
fn a_table_that_does_not_fit_is_told_row_by_row() {
    let place = Place::new();
    let list = ["tweak", "list", "--area", "sound"];
    assert_snapshot!(at(&place, 80, &list).lines().take(9).collect::<Vec<_>>().join("\n"));
    assert_snapshot!(at(&place, 140, &list).lines().take(5).collect::<Vec<_>>().join("\n"));
    let startup = at(&place, 50, &["app", "startup"]);
    assert_snapshot!(startup.lines().take(10).collect::<Vec<_>>().join("\n"));
    assert_snapshot!(at(&place, 100, &["app", "startup"]));
}

#[test]
fn what_is_done_by_hand_has_its_steps_its_page_and_its_end() {
    let place = Place::new();
    assert_snapshot!(place.run(&["tweak", "steps", "sound/enhancements"]).ok().out);
    let steps = place.json(&["tweak", "steps", "firmware/memory-profile"]);
    assert_eq!(steps["steps"].as_array().unwrap().len(), 3, "{steps}");
    assert_eq!(steps["page"], serde_json::Value::Null);
    let none = place.run(&["tweak", "steps", "looks/menu-delay"]).fails(2);
    assert!(none.err.contains("frevin apply --tweak looks/menu-delay"), "{}", none.err);
}

#[test]
fn what_is_wrong_names_the_command_that_mends_it() {
    let place = Place::new();
    let found = place.json(&["inspect"]);
    let mended = |id: &str| {
        let lists = [&found["found"], &found["worth_knowing"]];
        let mut all = lists.into_iter().flat_map(|list| list.as_array().unwrap());
        all.find(|one| one["id"] == id).unwrap()["mending"]["command"].clone()
    };
    assert_eq!(mended("display-below-its-rate"), "frevin apply --tweak graphics/highest-refresh");
    assert_eq!(mended("memory-below-its-speed"), "frevin tweak steps firmware/memory-profile");
    // Every such command does what it says, and what it mended is no longer found.
    let command = "frevin apply --tweak graphics/highest-refresh";
    let args: Vec<&str> = command.split(' ').skip(1).chain(["--yes"]).collect();
    place.run(&args).ok();
    let left = place.json(&["inspect"]);
    let is_left = |one: &serde_json::Value| one["id"] == "display-below-its-rate";
    assert!(!left["found"].as_array().unwrap().iter().any(is_left), "{left}");
    // What has to be chosen is listed: the names that there are on this PC.
    let shown = place.json(&["tweak", "show", "startup/entries"]);
    assert_eq!(shown["choices"]["entries"].as_array().unwrap().len(), 5, "{shown}");
    let programs = place.json(&["tweak", "show", "graphics/program-gpu"]);
    assert_eq!(programs["choices"]["program"][0], r"C:\Games\Gorsehollow\riders.exe");
    let unknown = place.run(&["tweak", "list", "--area", "nope"]).fails(3);
    assert!(unknown.err.contains("there are apps, background"), "{}", unknown.err);
}

#[test]
fn what_starts_with_the_pc_is_told_with_what_it_takes() {
    let place = Place::new();
    let before = place.json(&["app", "startup"]);
    let first = &before["entries"][0];
    assert_eq!(first["entry"], "user-registry/Gorsehollow Launcher");
    assert_eq!(first["running"]["memory_mib"], 412);
    let set = "entries=user-registry/Gorsehollow Launcher";
    place.run(&["apply", "--tweak", "startup/entries", "--set", set, "--yes"]).ok();
    let after = place.json(&["app", "startup"]);
    let off = after["entries"].as_array().unwrap().iter();
    let off: Vec<_> = off.filter(|one| one["is_on"] == false).collect();
    assert_eq!(off.len(), 1);
    assert_eq!(off[0]["running"], serde_json::Value::Null);
    let whole = |report: &serde_json::Value| report["latest_start"]["whole_s"].as_f64().unwrap();
    assert!((whole(&before) - whole(&after) - 4.1).abs() < 1e-9);
    // A PC of an earlier version has nothing that tells.
    fs_err::remove_file(place.pc().join("startup.toml")).unwrap();
    let old = place.json(&["app", "startup"]);
    assert_eq!(old["latest_start"], serde_json::Value::Null);
    assert_eq!(old["entries"].as_array().unwrap().len(), 5);
}

#[test]
fn what_a_tweak_comes_to_here_is_told_apart() {
    let place = Place::new();
    let listed = place.json(&["tweak", "list"]);
    let here = |id: &str| {
        let mut tweaks = listed["tweaks"].as_array().unwrap().iter();
        tweaks.find(|tweak| tweak["id"] == id).unwrap()["here"].clone()
    };
    assert_eq!(
        here("looks/menu-delay"),
        serde_json::json!({ "what": "would-write", "settings": 1 })
    );
    assert_eq!(here("startup/entries")["what"], "to-be-chosen");
    assert_eq!(here("sound/enhancements")["what"], "by-hand");
    assert_eq!(here("graphics/games-gpu")["what"], "does-not-fit");
    place.run(&["apply", "--tweak", "looks/menu-delay", "--yes"]).ok();
    let listed = place.json(&["tweak", "list", "--search", "submenus sooner"]);
    assert_eq!(listed["tweaks"][0]["here"]["what"], "already-so", "{listed}");
}
