//! States that a PC can really be in, from which some of the ways are closed: each has an end.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

mod common;

use common::Place;
use insta::assert_snapshot;

#[test]
fn a_service_that_runs_although_it_is_disabled_is_not_stopped() {
    let place = Place::new();
    place.run(&["rehearsal", "fault", "--others-write", "service:SysMain#start=disabled"]).ok();
    let at_first = place.pc_files();
    let said = place.run(&["apply", "--tweak", "services/prefetch", "--yes"]).ok();
    assert_snapshot!(said.out, @"
    Nothing was changed: it does not fit this PC.
    left out services/prefetch: the service SysMain runs although it is disabled, and could not be started again once stopped: restart the PC, which ends it, or give it another start type
    ");
    assert_eq!(place.pc_files(), at_first);
    place.run(&["rehearsal", "restart"]).ok();
    let said = place.run(&["apply", "--tweak", "services/prefetch", "--yes"]).ok();
    assert!(said.out.contains("as wished already"), "{}", said.out);
}

#[test]
fn what_the_pc_does_not_take_back_can_be_let_go() {
    let place = Place::new();
    place.run(&["apply", "--tweak", "services/prefetch", "--yes"]).ok();
    place.run(&["rehearsal", "fault", "--refuse", "service:SysMain#start"]).ok();
    let held = place.pc_files();
    let refused = place.run(&["rollback", "--all", "--yes"]).fails(6);
    assert!(refused.err.contains("--keep"), "{}", refused.err);
    assert_eq!(place.pc_files(), held);
    let said = place.run(&["rollback", "--all", "--keep", "--yes"]).ok();
    assert_snapshot!(said.out, @"
      setting                 now       goes back to
      service SysMain, start  disabled  automatic
      service SysMain         stopped   running

    Done. Nothing had to be written.
    service SysMain, start was automatic and is no longer held, since the PC does not take it: refused: access denied (a provoked fault)
    service SysMain was running and is no longer held, since the PC does not take it: refused: SysMain is disabled and cannot start
    ");
    assert_eq!(place.json(&["drift"])["held"], 0);
}

#[test]
fn a_rollback_that_a_crash_cut_has_an_end_where_the_pc_refuses_the_rest() {
    let place = Place::new();
    place.run(&["apply", "--tweak", "services/prefetch", "--yes"]).ok();
    place.run(&["rehearsal", "fault", "--power-cut-after", "0"]).ok();
    place.run(&["rollback", "--all", "--yes"]);
    place.run(&["rehearsal", "fault", "--refuse", "service:SysMain#start"]).ok();
    let refused = place.run(&["recover"]).fails(7);
    assert!(refused.err.contains("--keep"), "{}", refused.err);
    place.run(&["recover", "--force"]).fails(7);
    let said = place.run(&["recover", "--keep"]).ok();
    assert_snapshot!(said.out, @"
    Done. The interrupted rollback is finished: the last 0 settings put back.
    service SysMain, start was automatic and is no longer held, since the PC does not take it: refused: access denied (a provoked fault)
    service SysMain was running and is no longer held, since the PC does not take it: refused: SysMain is disabled and cannot start
    ");
    place.run(&["apply", "--tweak", "looks/menu-delay", "--yes"]).ok();
}

/// A tweak for each kind of setting that the rehearsal PC has one for.
const ONE_OF_EACH_KIND: [&str; 16] = [
    "apps/news-and-weather",
    "boot/platform-tick",
    "clean/old-files",
    "graphics/variable-refresh",
    "features/virtual-machine-platform",
    "graphics/highest-refresh",
    "graphics/interrupt-priority",
    "looks/menu-delay",
    "memory/page-file",
    "network/adapter-power-saving",
    "power/active-plan",
    "power/own-plan",
    "privacy/diagnostic-tasks",
    "recording/background",
    "security/cloud-protection",
    "services/prefetch",
];

/// Settings that a tweak writes on a new PC.
fn written(place: &Place, tweak: &str) -> Vec<String> {
    let plan = place.json(&["preview", "--tweak", tweak]);
    let steps = plan["steps"].as_array().unwrap().iter();
    let writes = steps.filter(|step| step["action"] == "write");
    writes.map(|step| step["address"].as_str().unwrap().to_owned()).collect()
}

/// However a PC is stuck with whatever kind of setting, each command ends as docs/exit-codes.md says, and
/// `--keep` is a way on for all of them.
#[test]
fn every_kind_of_setting_that_a_pc_holds_fast_has_an_end() {
    let mut kinds = std::collections::BTreeSet::new();
    for tweak in ONE_OF_EACH_KIND {
        let place = Place::new();
        let addresses = written(&place, tweak);
        assert!(!addresses.is_empty(), "{tweak}");
        let apply = ["apply", "--tweak", tweak, "--allow-protected", tweak, "--yes"];
        let address = &addresses[0];
        kinds.insert(address.split(':').next().unwrap().to_owned());
        // Writes that are refused, and writes that somebody undoes at once.
        for hold in ["--refuse", "--ignore"] {
            let stuck = ["rehearsal", "fault", hold, address];
            let free = ["rehearsal", "fault", "--none"];
            let at_first = place.pc_files();
            place.run(&stuck).ok();
            place.run(&apply).fails(6);
            place.run(&free).ok();
            assert_eq!(place.pc_files(), at_first, "{tweak} {hold}");

            place.run(&apply).ok();
            let applied = place.pc_files();
            place.run(&stuck).ok();
            place.run(&["rollback", "--all", "--yes"]).fails(6);
            place.run(&free).ok();
            assert_eq!(place.pc_files(), applied, "{tweak} {hold}");

            // Cut off in the middle of the way back, and stuck after that.
            place.run(&["rehearsal", "fault", "--power-cut-after", "0"]).ok();
            place.run(&["rollback", "--all", "--yes"]);
            place.run(&stuck).ok();
            place.run(&["recover"]).fails(7);
            let said = place.run(&["recover", "--keep"]).ok();
            assert!(said.out.contains("is no longer held"), "{tweak} {hold}: {}", said.out);
            assert_eq!(place.json(&["drift"])["held"], 0, "{tweak} {hold}");
            place.run(&free).ok();
            // What was let go is put back by hand, to begin again: on a new PC, that is.
            fs_err::remove_dir_all(place.pc()).unwrap();
            fs_err::remove_dir_all(place.path().join("home")).unwrap();
            place.run(&["rehearsal", "new", "pc"]).ok();
        }
    }
    assert!(kinds.len() >= 13, "{kinds:?}");
}

/// A display that was unplugged and tasks that others removed: what is left goes back, the rest is let go.
#[test]
fn what_is_gone_from_the_pc_is_let_go() {
    for (tweak, file, gone) in [
        ("graphics/highest-refresh", "display.json", "Lumet 22S"),
        ("privacy/diagnostic-tasks", "task.json", "Customer Experience"),
    ] {
        let place = Place::new();
        place.run(&["apply", "--tweak", tweak, "--yes"]).ok();
        let path = place.pc().join("settings").join(file);
        let text = fs_err::read_to_string(&path).unwrap();
        let mut objects: serde_json::Map<_, _> = serde_json::from_str(&text).unwrap();
        let held = objects.len();
        objects.retain(|name, _| !name.contains(gone));
        assert!(objects.len() < held);
        fs_err::write(&path, serde_json::to_string_pretty(&objects).unwrap()).unwrap();
        let said = place.run(&["rollback", "--all", "--yes"]).fails(9);
        assert!(said.err.contains("it holds absent"), "{}", said.err);
        place.run(&["rollback", "--all", "--keep", "--yes"]).ok();
        assert_eq!(place.json(&["drift"])["held"], 0);
        place.run(&["apply", "--tweak", tweak, "--yes"]).ok();
    }
}
