//! A switch from one state to another is one change: exact, recoverable, and it leaves others alone.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

mod common;

use common::{EVENING, Place};

const OTHER: &str = r#"format = 1
name = "morning"
purpose = "Another way"

[[tweaks]]
use = "power/active-plan"

[[tweaks]]
use = "looks/menu-delay"
with = { delay_ms = 7 }

[[tweaks]]
use = "services/prefetch"
"#;

fn place() -> Place {
    let place = Place::new();
    place.write("evening.toml", EVENING);
    place.write("morning.toml", OTHER);
    place.run(&["profile", "save", "evening.toml"]).ok();
    place.run(&["profile", "save", "morning.toml"]).ok();
    place
}

fn settings_written(place: &Place, args: &[&str]) -> u64 {
    place.json(args)["written"].as_u64().unwrap()
}

#[test]
fn one_change_takes_the_place_of_another_and_of_no_other() {
    let place = place();
    let at_first = place.pc_files();
    // The owner's own change, below and above.
    place.run(&["apply", "--tweak", "looks/transparency", "--yes"]).ok();
    let owners = place.pc_files();
    place.run(&["apply", "evening", "--yes"]).ok();
    let preview = place.run(&["preview", "morning", "--instead-of", "2"]).ok().out;
    assert!(preview.contains("Only change 2 wanted it"), "{preview}");
    let switch = ["apply", "morning", "--instead-of", "2", "--yes"];
    // The delay is written once; plan and services are held by both and stay as they are.
    assert_eq!(settings_written(&place, &switch), 6);
    let held = place.json(&["rollback", "--list"])["changes"].clone();
    let left: Vec<_> = held.as_array().unwrap().iter().map(|c| c["layers_left"].clone()).collect();
    assert_eq!(left, [4, 0, 3].map(serde_json::Value::from), "{held}");
    place.run(&["rollback", "3", "--yes"]).ok();
    assert_eq!(place.pc_files(), owners, "as if neither had been");
    place.run(&["rollback", "--all", "--yes"]).ok();
    assert_eq!(place.pc_files(), at_first);
}

#[test]
fn a_power_cut_before_any_write_of_a_switch_is_recovered_from() {
    let place = place();
    place.run(&["apply", "evening", "--yes"]).ok();
    let evening = place.pc_files();
    let switch = ["apply", "morning", "--instead-of", "1", "--yes"];
    for writes in 0..6 {
        let cut = writes.to_string();
        place.run(&["rehearsal", "fault", "--power-cut-after", &cut]).ok();
        place.run(&switch).fails(-1);
        place.run(&["recover"]).ok();
        assert_eq!(place.pc_files(), evening, "after {writes} writes");
        assert_eq!(place.json(&["drift"])["drifted"].as_array().unwrap().len(), 0);
    }
    place.run(&switch).ok();
    place.run(&["apply", "evening", "--instead-of", "1", "--yes"]).fails(3);
}
