//! The self-test: what it finds, that it leaves nothing, and that it tells what is not as promised.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

mod common;

use common::Place;
use serde_json::Value;

fn came<'a>(report: &'a Value, look: &str) -> &'a Value {
    let mut looked = report["looked"].as_array().unwrap().iter();
    looked.find(|one| one["look"] == look).unwrap()
}

/// Ordinary noise of a machine that others use as well: frames are seen, and how evenly they come is not promised.
fn failed(report: &Value) -> Vec<String> {
    let looked = report["looked"].as_array().unwrap().iter();
    looked.filter(|one| one["came"] == "failed").map(ToString::to_string).collect()
}

#[test]
fn it_passes_on_every_shipped_pc_and_leaves_each_as_it_was() {
    for kind in ["desktop", "laptop", "handheld", "old-pc"] {
        let place = Place::empty();
        place.run(&["rehearsal", "new", "pc", "--like", kind]).ok();
        let before = place.pc_files();
        let report = place.json(&["self-test"]);
        assert_eq!(failed(&report), Vec::<String>::new(), "{kind}");
        assert_eq!(report["has_passed"], true);
        assert!(place.pc_files() == before, "{kind} is another PC now");
        assert_eq!(came(&report, "changes-over-each-other")["came"], "passed");
        assert_eq!(came(&report, "scratch-files")["came"], "passed");
        assert_eq!(came(&report, "scheduled-task")["came"], "passed");
        assert_eq!(came(&report, "undo-file")["came"], "not-possible");
        // Nothing of it is told of as a change of the owner's.
        assert_eq!(place.json(&["log"])["entries"].as_array().unwrap().len(), 0);
        let unreadable = report["read"].as_array().unwrap().iter();
        let unreadable: usize =
            unreadable.map(|kind| kind["unreadable"].as_array().unwrap().len()).sum();
        assert_eq!(unreadable, 0, "{kind}");
        let kept = fs_err::read_to_string(place.path().join("home/config.toml")).unwrap();
        assert!(kept.contains("has_passed = true"), "{kept}");
    }
}

#[test]
fn what_is_not_as_promised_is_told_and_ends_with_no() {
    let place = Place::new();
    // A value that the PC says it took, and did not.
    let value = r"registry:HKCU\Software\Frevin self-test#number";
    place.run(&["rehearsal", "fault", "--ignore", value]).ok();
    let said = place.run(&["self-test"]).fails(1);
    assert!(said.out.contains("#number was set to"), "{}", said.out);
    assert!(said.out.contains("Not passed. Of 16 looks, 1 failed"), "{}", said.out);
    let kept = fs_err::read_to_string(place.path().join("home/config.toml")).unwrap();
    assert!(kept.contains("has_passed = false"), "{kept}");
}

#[test]
fn what_one_that_was_cut_off_has_left_is_taken_away() {
    let place = Place::new();
    let before = place.pc_files();
    let key = r"registry:HKCU\Software\Frevin self-test";
    let write = |words: &str| place.run(&["rehearsal", "fault", "--others-write", words]).ok();
    write(&format!("{key}=present"));
    write(&format!("{key}#left=dword:1"));
    assert!(place.pc_files() != before);
    let report = place.json(&["self-test"]);
    assert_eq!(failed(&report), Vec::<String>::new());
    assert!(place.pc_files() == before);
}

#[test]
fn it_waits_for_what_is_not_over_and_writes_a_file_without_anything_private() {
    let place = Place::with_evening();
    place.run(&["rehearsal", "fault", "--power-cut-after", "3"]).ok();
    place.run(&["apply", "evening", "--yes"]);
    place.run(&["self-test"]).fails(7);
    place.run(&["recover", "--yes"]).ok();
    let mut command = place.command(&["self-test", "--file", "found.json"]);
    let output = command.env("USER", "Brannock").output().unwrap();
    assert_eq!(output.status.code(), Some(0), "{}", String::from_utf8_lossy(&output.stdout));
    let text = fs_err::read_to_string(place.path().join("found.json")).unwrap();
    let report: Value = serde_json::from_str(&text).unwrap();
    assert_eq!(report["has_passed"], true);
    assert!(!text.contains("Brannock") && !text.contains("Test desktop"), "{text}");
    place.run(&["self-test", "--file", "found.json"]).fails(4);
}

#[test]
fn what_its_user_may_not_do_is_told_and_no_fault() {
    let place = Place::new();
    place.run(&["rehearsal", "fault", "--no-administrator"]).ok();
    let report = place.json(&["self-test"]);
    assert_eq!(failed(&report), Vec::<String>::new());
    let rights = came(&report, "rights");
    assert_eq!(rights["came"], "not-possible", "{rights}");
    assert!(rights["reason"].as_str().unwrap().contains("can be read and not changed"), "{rights}");
}
