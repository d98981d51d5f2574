//! Crashes: whatever is killed, whenever, one command leaves the PC as it was, to the byte.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

mod common;

use std::time::Duration;

use common::{EVENING_WRITES, Place};
use insta::assert_snapshot;

fn power_cut_after(place: &Place, writes: u64) {
    place.run(&["rehearsal", "fault", "--power-cut-after", &writes.to_string()]).ok();
}

#[test]
fn a_power_cut_before_any_write_of_apply_is_recovered_from() {
    let place = Place::with_evening();
    let at_first = place.pc_files();
    for writes in 0..EVENING_WRITES {
        power_cut_after(&place, writes);
        place.run(&["apply", "evening", "--yes"]).fails(-1);
        // What was interrupted is in the way of everything that changes the PC, and told.
        place.run(&["apply", "evening", "--yes"]).fails(7);
        place.run(&["rollback", "--all", "--yes"]).fails(7);
        assert!(place.json(&["inspect"])["unfinished"].is_string());
        place.run(&["recover"]).ok();
        assert_eq!(place.pc_files(), at_first, "after {writes} writes");
        let again = place.json(&["recover"]);
        assert_eq!(again["recovered"], "nothing");
        assert_eq!(place.pc_files(), at_first, "recovering twice changes nothing more");
    }
    power_cut_after(&place, EVENING_WRITES);
    place.run(&["apply", "evening", "--yes"]).ok();
}

#[test]
fn a_power_cut_while_a_plan_of_ones_own_is_made_or_taken_away_is_recovered_from() {
    let place = Place::new();
    let at_first = place.pc_files();
    let apply = ["apply", "--tweak", "power/own-plan", "--yes"];
    let mut writes = 0;
    loop {
        power_cut_after(&place, writes);
        let said = place.run(&apply);
        if said.code == 0 {
            break;
        }
        place.run(&["recover"]).ok();
        assert_eq!(place.pc_files(), at_first, "after {writes} writes");
        writes += 1;
    }
    assert!(writes >= 3, "{writes}");
    for cut in 0..writes {
        power_cut_after(&place, cut);
        place.run(&["rollback", "--all", "--yes"]).fails(-1);
        place.run(&["recover"]).ok();
        assert_eq!(place.pc_files(), at_first, "after {cut} writes");
        place.run(&["rehearsal", "fault", "--none"]).ok();
        place.run(&apply).ok();
    }
}

#[test]
fn a_power_cut_before_any_write_of_rollback_is_recovered_from() {
    let place = Place::with_evening();
    let at_first = place.pc_files();
    for writes in 0..EVENING_WRITES {
        place.run(&["apply", "evening", "--yes"]).ok();
        power_cut_after(&place, writes);
        place.run(&["rollback", "--all", "--yes"]).fails(-1);
        place.run(&["apply", "evening", "--yes"]).fails(7);
        place.run(&["recover"]).ok();
        assert_eq!(place.pc_files(), at_first, "after {writes} writes");
        assert_eq!(place.json(&["recover"])["recovered"], "nothing");
        assert!(place.json(&["drift"])["held"] == 0, "the layers are out");
    }
}

#[test]
fn a_power_cut_while_recovering_is_recovered_from() {
    let place = Place::with_evening();
    let at_first = place.pc_files();
    for writes in 0..EVENING_WRITES - 1 {
        power_cut_after(&place, EVENING_WRITES - 1);
        place.run(&["apply", "evening", "--yes"]).fails(-1);
        power_cut_after(&place, writes);
        place.run(&["recover"]).fails(-1);
        place.run(&["recover"]).ok();
        assert_eq!(place.pc_files(), at_first, "after {writes} writes");
    }
}

/// How many random kills: FREVIN_KILLS, or a few.
fn kills() -> u64 {
    std::env::var("FREVIN_KILLS").ok().and_then(|text| text.parse().ok()).unwrap_or(25)
}

#[test]
fn a_kill_at_any_moment_of_apply_leaves_the_first_or_the_target_state() {
    let place = Place::with_evening();
    let at_first = place.pc_files();
    place.run(&["apply", "evening", "--yes"]).ok();
    let target = place.pc_files();
    place.run(&["rollback", "--all", "--yes"]).ok();
    let mut interrupted = 0;
    let events = place.path().join("pc/events.jsonl");
    let written = || std::fs::metadata(&events).map_or(0, |events| events.len());
    for kill in 0..kills() {
        let before = written();
        let mut child = place
            .command(&["apply", "evening", "--yes"])
            .stdout(std::process::Stdio::null())
            .stderr(std::process::Stdio::null())
            .spawn()
            .unwrap();
        if kill % 2 == 0 {
            // Spread over the time that applying takes, from before its start to after its end.
            std::thread::sleep(Duration::from_micros(kill * 7919 % 60_000));
        } else {
            // Right after the first write.
            while written() == before && child.try_wait().unwrap().is_none() {}
        }
        child.kill().unwrap();
        child.wait().unwrap();
        let recovered = place.json(&["recover"]);
        interrupted += u32::from(recovered["recovered"] == "change-undone");
        let is_applied = place.json(&["drift"])["held"] != 0;
        if is_applied {
            assert_eq!(place.pc_files(), target, "kill {kill}");
            place.run(&["rollback", "--all", "--yes"]).ok();
        }
        assert_eq!(place.pc_files(), at_first, "kill {kill}");
    }
    assert!(interrupted > 0, "no kill was in the middle of a change");
}

#[test]
fn a_refused_write_undoes_the_others() {
    let place = Place::with_evening();
    let at_first = place.pc_files();
    place.run(&["rehearsal", "fault", "--refuse", "service:SysMain#running"]).ok();
    let said = place.run(&["apply", "evening", "--yes"]).fails(6);
    assert_snapshot!(said.err, @"
    error: the PC did not take the change; all of it was undone
      all 9 settings are as before
      service:SysMain#running: refused: access denied (a provoked fault)
    help: take the tweak concerned out of the profile, or find out what keeps the setting
    ");
    assert_eq!(place.pc_files(), at_first);
    assert_eq!(place.json(&["recover"])["recovered"], "nothing");
    assert_eq!(place.json(&["rollback", "--list"])["changes"][0]["status"], "undone");
}

#[test]
fn a_write_that_is_silently_ignored_is_found_out() {
    let place = Place::with_evening();
    let at_first = place.pc_files();
    place.run(&["rehearsal", "fault", "--ignore", "visual:menu-delay"]).ok();
    let said = place.run(&["apply", "evening", "--yes"]).fails(6);
    assert!(said.err.contains("the PC accepted 50 ms and still holds 400 ms"), "{}", said.err);
    assert_eq!(place.pc_files(), at_first);
}

#[test]
fn a_rollback_that_is_refused_leaves_the_change_whole() {
    let place = Place::with_evening();
    place.run(&["apply", "evening", "--yes"]).ok();
    let applied = place.pc_files();
    place.run(&["rehearsal", "fault", "--refuse", "visual:menu-delay"]).ok();
    place.run(&["rollback", "--all", "--yes"]).fails(6);
    assert_eq!(place.pc_files(), applied);
    place.run(&["rehearsal", "fault", "--none"]).ok();
    place.run(&["rollback", "--all", "--yes"]).ok();
}

#[test]
fn recovering_respects_others_hands() {
    let place = Place::with_evening();
    power_cut_after(&place, EVENING_WRITES - 1);
    place.run(&["apply", "evening", "--yes"]).fails(-1);
    let visual = place.pc().join("settings/visual.json");
    let text = fs_err::read_to_string(&visual).unwrap();
    fs_err::write(&visual, text.replace("\"milliseconds\": 50", "\"milliseconds\": 90")).unwrap();
    let said = place.run(&["recover"]).fails(7);
    assert_snapshot!(said.err, @"
    error: somebody else has changed settings since the interruption
      visual:menu-delay: it holds 90 ms, and was 400 ms at first
    help: `frevin recover --keep` leaves what they wrote
    help: `frevin recover --force` puts back what was there at first
    ");
    let kept = place.json(&["recover", "--keep"]);
    assert_eq!(kept["kept"][0], "visual:menu-delay");
    assert_eq!(place.json(&["recover"])["recovered"], "nothing");
}

#[test]
fn no_snapshot_no_touch() {
    let place = Place::with_evening();
    let at_first = place.pc_files();
    // A file where the undo folder should be: the undo files cannot be written.
    place.write("home/undo", "in the way");
    let said = place.run(&["apply", "evening", "--yes"]).fails(6);
    assert!(said.err.contains("the undo files could not be written"), "{}", said.err);
    assert_eq!(place.pc_files(), at_first);
    let events = fs_err::read_to_string(place.pc().join("events.jsonl")).unwrap_or_default();
    assert_eq!(events, "", "not one write reached the PC");
    fs_err::remove_file(place.path().join("home/undo")).unwrap();
    place.run(&["apply", "evening", "--yes"]).ok();
}
