//! The owner's folder of tweaks: checked like Frevin's own, and no way round a guard.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

mod common;

use common::Place;
use insta::assert_snapshot;

const LAZY: &str = r#"id = "mine/lazy-menus"
title = "Menus that take their time"
what = "Makes menus open late."
why = "For the fun of it."
may_break = "Patience."
standing = "no-effect"
standing_reason = "It slows menus and nothing else."
risk = "safe"
takes_effect = "now"

[[settings]]
address = "visual:menu-delay"
value = 999

[[sources]]
title = "Windows documentation: SystemParametersInfo"
states = "The delay of menus in milliseconds."
"#;

fn with_own(text: &str) -> Place {
    let place = Place::new();
    fs_err::create_dir_all(place.path().join("home/tweaks/mine")).unwrap();
    place.write("home/tweaks/mine/lazy-menus.toml", text);
    place
}

#[test]
fn they_are_listed_applied_and_taken_back_like_frevins_own() {
    let place = with_own(LAZY);
    let first = place.pc_files();
    let listed = place.json(&["tweak", "list", "--area", "mine"]);
    assert_eq!(listed["tweaks"][0]["is_own"], true);
    assert!(place.run(&["tweak", "show", "mine/lazy-menus"]).ok().out.contains("yours"));
    place.run(&["apply", "--tweak", "mine/lazy-menus", "--yes"]).ok();
    // The way back does not need the definition any more.
    fs_err::remove_file(place.path().join("home/tweaks/mine/lazy-menus.toml")).unwrap();
    place.run(&["rollback", "--tweak", "mine/lazy-menus", "--yes"]).ok();
    assert_eq!(place.pc_files(), first);
}

#[test]
fn a_broken_one_is_shown_where_it_is_broken() {
    let place = with_own(&LAZY.replace("value = 999", "value = \"slow\""));
    let said = place.run(&["tweak", "list"]).fails(4);
    assert!(said.err.contains("lazy-menus.toml:13:9"), "{}", said.err);
    place.run(&["recover"]).ok();
}

#[test]
fn none_can_loosen_a_protection() {
    let guarded = LAZY
        .replace("visual:menu-delay", "service:WinDefend#start")
        .replace("value = 999", "value = \"disabled\"");
    let place = with_own(&guarded);
    let said = place.run(&["tweak", "list"]).fails(4);
    assert_snapshot!(said.err, @"
    error: `mine/lazy-menus` touches service:WinDefend#start, which guards the PC against malware: its risk has to be `expert`
    help: mend the file, or take it out of the folder of your own tweaks
    ");
    let place = with_own(&guarded.replace("risk = \"safe\"", "risk = \"expert\""));
    let first = place.pc_files();
    place.run(&["apply", "--tweak", "mine/lazy-menus", "--yes"]).fails(5);
    assert_eq!(place.pc_files(), first);
    let place = with_own(&LAZY.replace("mine/lazy-menus", "looks/menu-delay"));
    assert!(place.run(&["tweak", "list"]).fails(4).err.contains("belongs at"));
}

#[test]
fn computed_addresses_are_guarded_by_what_they_come_to() {
    let sly = LAZY
        .replace("risk = \"safe\"", "risk = \"safe\"\n[parameters.name]\nmeaning = \"m\"\ntype = \"text\"\ndefault = \"SysMain\"\nexample = \"SysMain\"")
        .replace("takes_effect = \"now\"", "")
        .replace("id = ", "takes_effect = \"now\"\nid = ")
        .replace("\"visual:menu-delay\"", "\"service:${params.name}#start\"")
        .replace("value = 999", "value = \"disabled\"");
    let place = with_own(&sly);
    place.run(&["preview", "--tweak", "mine/lazy-menus"]).ok();
    for name in ["WinDefend", "windefend", "WinD\u{435}fend", "Any AntiCheat"] {
        let set = format!("name={name}");
        let said = place.run(&["apply", "--tweak", "mine/lazy-menus", "--set", &set, "--yes"]);
        assert!(said.fails(5).err.contains("protected"), "{name}");
    }
}
