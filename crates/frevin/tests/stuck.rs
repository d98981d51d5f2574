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
    service SysMain, start was automatic and is let go, since the PC does not take it: refused: access denied (a provoked fault)
    service SysMain was running and is let go, since the PC does not take it: refused: SysMain is disabled and cannot start
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
    service SysMain, start was automatic and is let go, since the PC does not take it: refused: access denied (a provoked fault)
    service SysMain was running and is let go, since the PC does not take it: refused: SysMain is disabled and cannot start
    ");
    place.run(&["apply", "--tweak", "looks/menu-delay", "--yes"]).ok();
}
