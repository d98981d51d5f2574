//! A profile may use a tweak several times: what is held, told and taken back is a use.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

mod common;

use common::Place;
use insta::assert_snapshot;

/// A value of a game's file, chosen by arguments.
fn entry(key: &str, value: &str) -> String {
    format!(
        "\n[[tweaks]]\nuse = \"games/ini-value\"\nwith = {{ file = \"documents/Gorsehollow Riders/options.ini\", \
         section = \"Video\", key = \"{key}\", value = \"{value}\" }}\n"
    )
}

fn profile(entries: &[String]) -> String {
    format!("format = 1\nname = \"files\"\npurpose = \"Two keys\"\n{}", entries.concat())
}

#[test]
fn two_uses_of_a_tweak_are_applied_told_apart_and_taken_back_one_by_one() {
    let place = Place::new();
    let at_first = place.pc_files();
    place.write("files.toml", profile(&[entry("VSync", "0"), entry("FrameCap", "0")]));
    place.run(&["profile", "save", "files.toml"]).ok();
    let shown = place.run(&["preview", "files"]).ok().out;
    for told in ["games/ini-value (key = VSync)", "games/ini-value (key = FrameCap)"] {
        assert!(shown.contains(told), "{shown}");
    }
    place.run(&["apply", "files", "--yes"]).ok();
    assert_eq!(place.json(&["inspect"])["tweaks_in_force"], 2);
    let set = ["--set", "key=VSync"];
    place.run(&[&["rollback", "--tweak", "games/ini-value"][..], &set, &["--yes"]].concat()).ok();
    let held = place.json(&["rollback", "--list"])["changes"][0].clone();
    assert_eq!((&held["layers_laid"], &held["layers_left"]), (&2.into(), &1.into()));
    // What goes out and comes in again is the same two uses.
    place.run(&["profile", "export", "files", "--file", "out.toml"]).ok();
    let out = fs_err::read_to_string(place.path().join("out.toml")).unwrap();
    assert_eq!(out.matches("games/ini-value").count(), 2, "{out}");
    place.run(&["rollback", "--all", "--yes"]).ok();
    assert_eq!(place.pc_files(), at_first);
}

#[test]
fn uses_that_contradict_each_other_are_told_with_both_places() {
    let place = Place::new();
    place.write("files.toml", profile(&[entry("VSync", "0"), entry("VSync", "1")]));
    let said = place.run(&["profile", "check", "files.toml"]).fails(4);
    assert_snapshot!(said.err, @r#"
    error: a problem in files.toml

    error: `games/ini-value` wants text:documents/Gorsehollow Riders/options.ini#ini:[Video]VSync to be 1, and an earlier use of it 0
       ╭▸ files.toml:10:7
       │
     6 │ use = "games/ini-value"
       │       ───────────────── the earlier use
       ┆
    10 │ use = "games/ini-value"
       │       ━━━━━━━━━━━━━━━━━
       │
       ╰ help: choose what tells the two apart, or remove one of them
    "#);
    let problem = &place.json(&["profile", "check", "files.toml"])["error"]["problems"][0];
    assert_eq!(problem["line"], 10, "{problem}");
}

#[test]
fn a_value_of_a_power_plan_is_set_for_both_sources_at_once() {
    let place = Place::new();
    let set = ["--tweak", "power/boost-mode", "--set", "source=both", "--set", "mode=off"];
    let plan = place.json(&[&["preview"][..], &set].concat());
    let steps = plan["steps"].as_array().unwrap();
    let address = |step: &serde_json::Value| step["address"].as_str().unwrap().to_owned();
    let ends: Vec<_> =
        steps.iter().map(|step| address(step).rsplit('#').next().unwrap().to_owned()).collect();
    assert_eq!(ends, ["mains", "battery"]);
    let one = |source: &str, mode: &str| {
        format!(
            "[[tweaks]]\nuse = \"power/boost-mode\"\nwith = {{ source = \"{source}\", mode = \"{mode}\" }}\n"
        )
    };
    let both = format!(
        "format = 1\nname = \"p\"\npurpose = \"p\"\n{}{}",
        one("both", "off"),
        one("battery", "on")
    );
    place.write("p.toml", both);
    let said = place.run(&["profile", "check", "p.toml"]).fails(4);
    assert!(said.err.contains("battery"), "{}", said.err);
}
