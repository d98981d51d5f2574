//! What a PC tells of its health: what is installed, what guards it, the clock that it holds under load.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

mod common;

use common::Place;

fn like(template: &str) -> Place {
    let place = Place::empty();
    place.run(&["rehearsal", "new", "pc", "--like", template]).ok();
    place
}

#[test]
fn what_is_installed_is_listed_by_size_until_it_is_taken_away() {
    let place = Place::new();
    let listed = place.json(&["app", "list"]);
    let names: Vec<&str> = listed["apps"]
        .as_array()
        .unwrap()
        .iter()
        .map(|app| app["name"].as_str().unwrap())
        .collect();
    assert_eq!(names.first(), Some(&"Gorsehollow Riders"));
    assert_eq!(names.last(), Some(&"Tessel Chat"), "what does not tell its size comes last");
    assert!(names.contains(&"Maps"));
    let family = "apps=Microsoft.WindowsMaps_8wekyb3d8bbwe";
    place.run(&["--yes", "apply", "--tweak", "apps/any-app", "--set", family]).ok();
    assert!(!place.run(&["app", "list"]).ok().out.contains("Maps"));
    place.run(&["--yes", "rollback", "1"]).ok();
    insta::assert_snapshot!(place.run(&["app", "list"]).ok().out);
}

#[test]
fn what_guards_the_pc_is_not_switched_off_whatever_its_owner_consents_to() {
    let place = like("old-pc");
    assert!(
        place
            .run(&["inspect"])
            .ok()
            .out
            .contains("Marrow Shield, what belongs to it is never switched off")
    );
    let service = ["--tweak", "services/one-service", "--set", "service=MarrowShield"];
    let words =
        [&["--yes", "apply", "--allow-protected", "services/one-service"][..], &service].concat();
    let refused = place.run(&words).fails(5).err;
    assert!(refused.contains("it belongs to Marrow Shield, which guards this PC"), "{refused}");
}

#[test]
fn the_clock_held_under_load_is_kept_as_a_fact() {
    let place = like("handheld");
    let identity = fs_err::read_to_string(place.pc().join("pc.toml")).unwrap();
    let identity: toml::Table = identity.parse().unwrap();
    let told = format!("[rehearsal_facts.{}.processor]\nsustained_mhz = 3300\n", identity["id"]);
    fs_err::create_dir_all(place.path().join("home")).unwrap();
    place.write("home/config.toml", told);
    let seen = place.json(&["inspect", "--load", "5"]);
    assert_eq!((&seen["held_mhz"], &seen["held_before_mhz"]), (&2700.0.into(), &3300.into()));
    assert_eq!(place.json(&["inspect"])["facts"]["processor"]["sustained_mhz"], 2700);
    insta::assert_snapshot!(place.run(&["inspect", "--load"]).ok().out);
    let refused = place.run(&["inspect", "--load", "1"]).fails(2).err;
    assert!(refused.contains("5..=1800"), "{refused}");
}
