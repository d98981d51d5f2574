//! Frevin without an administrator's rights: what it may not do is told before anything is done.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

mod common;

use common::Place;

const FOR_THE_USER: &str = "looks/menu-delay";

fn fingerprint(place: &Place) -> serde_json::Value {
    place.json(&["rehearsal", "show"])["fingerprint"].clone()
}

fn without_rights() -> Place {
    let place = Place::with_evening();
    place.run(&["rehearsal", "fault", "--no-administrator"]).ok();
    place
}

#[test]
fn what_needs_an_administrator_is_told_and_nothing_is_begun() {
    let place = without_rights();
    let before = fingerprint(&place);
    let said = place.run(&["preview", "evening"]).ok();
    insta::assert_snapshot!(said.out);
    let denied = place.json(&["preview", "evening"])["denied"].clone();
    let denied: Vec<_> = denied.as_array().unwrap().iter().map(|step| &step["address"]).collect();
    assert!(denied.iter().any(|address| *address == "service:SysMain#start"), "{denied:?}");
    assert!(!denied.iter().any(|address| *address == "visual:menu-delay"), "{denied:?}");

    let said = place.run(&["apply", "evening", "--yes"]).fails(5);
    assert!(said.err.contains("nothing was changed: Frevin may not write"), "{}", said.err);
    assert!(said.err.contains("service:SysMain#start: it needs an administrator"), "{}", said.err);
    assert_eq!(fingerprint(&place), before);
    let changes = place.json(&["rollback", "--list"]);
    assert_eq!(changes["changes"], serde_json::json!([]), "no change was begun");
    // With the rights, the same goes through.
    place.run(&["rehearsal", "fault", "--none"]).ok();
    place.run(&["apply", "evening", "--yes"]).ok();
}

#[test]
fn what_belongs_to_the_user_goes_without() {
    let place = without_rights();
    let before = fingerprint(&place);
    place.run(&["apply", "--tweak", FOR_THE_USER, "--yes"]).ok();
    assert_ne!(fingerprint(&place), before);
    place.run(&["rollback", "--all", "--yes"]).ok();
    assert_eq!(fingerprint(&place), before);
}

#[test]
fn a_way_back_that_could_not_be_finished_is_not_begun() {
    let place = Place::with_evening();
    place.run(&["apply", "evening", "--yes"]).ok();
    let before = fingerprint(&place);
    place.run(&["rehearsal", "fault", "--no-administrator"]).ok();
    let said = place.run(&["rollback", "--all", "--yes"]).fails(5);
    assert!(said.err.contains("start it as an administrator"), "{}", said.err);
    assert_eq!(fingerprint(&place), before);
    place.run(&["rollback", "--tweak", FOR_THE_USER, "--yes"]).ok();
    place.run(&["rehearsal", "fault", "--none"]).ok();
    place.run(&["rollback", "--all", "--yes"]).ok();
}

#[test]
fn a_crash_is_settled_as_far_as_the_rights_go_and_then_to_the_end() {
    let place = Place::with_evening();
    let before = fingerprint(&place);
    place.run(&["rehearsal", "fault", "--power-cut-after", "4"]).ok();
    assert_ne!(place.run(&["apply", "evening", "--yes"]).code, 0);
    place.run(&["rehearsal", "fault", "--no-administrator"]).ok();
    let said = place.run(&["recover"]).fails(7);
    assert!(said.err.contains("it needs an administrator"), "{}", said.err);
    place.run(&["rehearsal", "fault", "--none"]).ok();
    place.run(&["recover"]).ok();
    assert_eq!(fingerprint(&place), before);
}
