//! Whatever is wrong, a person learns what, where, and what to do; and nothing is half-written.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

mod common;

use common::Place;
use frevin_pc::Pc as _;
use frevin_pc::rehearsal::RehearsalPc;
use insta::assert_snapshot;

#[test]
fn what_is_not_there() {
    let place = Place::with_evening();
    assert_snapshot!(place.run(&["profile", "check", "nowhere.toml"]).fails(3).err, @"
    error: nowhere.toml cannot be read: No such file or directory (os error 2)
    help: `frevin profile new NAME` makes a profile's TOML file
    ");
    assert_snapshot!(place.run(&["preview", "evenin"]).fails(3).err, @"
    error: there is no profile `evenin` in the ledger
    help: `frevin profile list` shows those there are
    ");
    assert_snapshot!(place.run(&["preview", "evening@7"]).fails(3).err, @"
    error: there is no revision `evening@7` in the ledger
    help: `frevin profile log evening` shows those there are
    ");
    assert_snapshot!(place.run(&["tweak", "show", "power/plan"]).fails(3).err, @"
    error: there is no tweak `power/plan` in the catalogue
    help: did you mean `power/lid`?
    ");
    assert_snapshot!(place.run(&["snapshot", "show", "5"]).fails(3).err, @"
    error: there is no snapshot 5 in the ledger
    help: `frevin snapshot list` shows those there are
    ");
    assert_snapshot!(place.run(&["rollback", "5", "-y"]).fails(3).err, @"
    error: there is no change 5 in the ledger
    help: `frevin rollback --list` shows those there are
    ");
    assert_snapshot!(place.run(&["run", "show", "5"]).fails(3).err, @"
    error: there is no run 5 in the ledger
    help: `frevin run list` shows those there are
    ");
    assert_snapshot!(place.run(&["inspect", "--pc", "home"]).fails(3).err, @"
    error: home is not a rehearsal PC: it has no pc.toml
    help: `frevin rehearsal new FOLDER` makes one
    ");
    assert_snapshot!(place.run(&["inspect", "--pc", "evening.toml"]).fails(3).err, @"
    error: evening.toml is not a rehearsal PC: it has no pc.toml
    help: `frevin rehearsal new FOLDER` makes one
    ");
    assert_snapshot!(place.run(&["inspect", "--pc", "live"]).fails(2).err, @"error: there is no live PC here, since this is not Windows: make a rehearsal PC with `frevin rehearsal new FOLDER`, and say --pc FOLDER");
    assert_snapshot!(
        place.run(&["run", "record", "--scene", "moon", "--state", "a"]).fails(3).err,
        @"
    error: this PC has no scene `moon`
    help: it has canyon-run, night-market
    "
    );
}

#[test]
fn no_pc_named() {
    let place = Place::empty();
    let mut command = place.command(&["inspect"]);
    let output = command.env_remove("FREVIN_PC").output().unwrap();
    assert_eq!(output.status.code(), Some(2));
    assert_snapshot!(String::from_utf8(output.stderr).unwrap(), @"
    error: no PC is named
    help: say --pc FOLDER, or set FREVIN_PC
    help: `frevin rehearsal new FOLDER --make-default` makes a PC to practise on
    ");
    place.run(&["rehearsal", "new", "other", "--make-default"]).ok();
    let mut command = place.command(&["inspect"]);
    assert!(command.env_remove("FREVIN_PC").status().unwrap().success());
}

#[test]
fn a_broken_profile_is_shown_where_it_is_broken() {
    let place = Place::new();
    place.write(
        "bad.toml",
        "format = 1\nname = \"bad\"\npurpose = \"p\"\n\n[[tweaks]]\nuse = \"power/active-plam\"\n\n\
         [[tweaks]]\nuse = \"looks/menu-delay\"\nwith = { delay_ms = 9000 }\n",
    );
    assert_snapshot!(place.run(&["profile", "check", "bad.toml"]).fails(4).err, @r#"
    error: problems in bad.toml

    error: there is no tweak `power/active-plam` in the catalogue
      ╭▸ bad.toml:6:7
      │
    6 │ use = "power/active-plam"
      │       ━━━━━━━━━━━━━━━━━━━
      │
      ╰ help: did you mean `power/active-plan`? `frevin tweak list` shows them all

    error: `delay_ms` takes 0 to 4000 ms, not 9000
       ╭▸ bad.toml:10:21
       │
    10 │ with = { delay_ms = 9000 }
       │                     ━━━━
       │
       ╰ help: The wait before a submenu opens. (see `frevin tweak show looks/menu-delay`)
    "#);
    place.run(&["profile", "save", "bad.toml"]).fails(4);
    assert!(place.json(&["profile", "list"])["profiles"].as_array().unwrap().is_empty());
    let json = place.json(&["profile", "check", "bad.toml"]);
    assert_eq!(json["error"]["exit_code"], 4);
    assert_eq!(json["error"]["problems"][0]["line"], 6);
    assert_eq!(json["error"]["problems"][1]["column"], 21);

    place.write("torn.toml", "format = 1\nname = \"x\npurpose = 3");
    assert_snapshot!(place.run(&["profile", "check", "torn.toml"]).fails(4).err, @r#"
    error: a problem in torn.toml

    error: invalid basic string, expected `"`
      ╭▸ torn.toml:2:10
      │
    2 │ name = "x
      ╰╴         ━
    "#);
    place.write("binary.toml", [0xff, 0xfe, 0]);
    assert_snapshot!(place.run(&["profile", "check", "binary.toml"]).fails(4).err, @"
    error: binary.toml is not text: byte 0 is not UTF-8
    help: `frevin profile new NAME` makes a profile's TOML file
    ");
    place.write("huge.toml", vec![b'#'; 2 << 20]);
    assert_snapshot!(place.run(&["profile", "check", "huge.toml"]).fails(4).err, @"
    error: huge.toml is longer than 1048576 bytes; no profile is
    help: `frevin profile new NAME` makes a profile's TOML file
    ");
}

#[test]
fn a_wrong_parameter() {
    let place = Place::new();
    let preview = |set: &str| {
        place.run(&["preview", "--tweak", "looks/menu-delay", "--set", set]).fails(4).err
    };
    assert_snapshot!(preview("delay_ms=soon"), @r#"
    error: `delay_ms` takes 0 to 4000 ms, not "soon"
    help: see `frevin tweak show looks/menu-delay`
    "#);
    assert_snapshot!(preview("delay=1"), @"
    error: `looks/menu-delay` has no parameter `delay`: it has delay_ms
    help: see `frevin tweak show looks/menu-delay`
    ");
    assert_snapshot!(preview("delay_ms"), @"
    error: `delay_ms` is not NAME=VALUE
    help: see `frevin tweak show looks/menu-delay`
    ");
}

#[test]
fn a_document_has_to_be_saved_before_it_is_applied() {
    let place = Place::with_evening();
    assert_snapshot!(place.run(&["apply", "evening.toml", "-y"]).fails(2).err, @"
    error: `evening.toml` is a document, not a saved profile
    help: save it first: frevin profile save evening.toml
    help: what is applied is known for good that way
    ");
}

#[test]
fn nothing_is_asked_and_nothing_done_without_a_terminal() {
    let place = Place::with_evening();
    let before = place.pc_files();
    assert_snapshot!(place.run(&["apply", "evening"]).fails(2).err, @"
    error: nothing was changed: this has to be confirmed
    help: say --yes, or run it in a terminal to be asked
    ");
    assert_eq!(place.pc_files(), before);
}

#[test]
fn a_second_frevin_finds_the_pc_taken() {
    let place = Place::with_evening();
    let mut pc = RehearsalPc::open(&place.pc()).unwrap();
    let lock = pc.lock().unwrap();
    let before = place.pc_files();
    let refused = place.run(&["apply", "evening", "-y"]).fails(8);
    let process = format!("process {}", std::process::id());
    assert!(refused.err.contains(&process), "{}", refused.err);
    assert!(refused.err.contains("--wait SECONDS"), "{}", refused.err);
    place.run(&["rehearsal", "restart"]).fails(8);
    assert_eq!(place.pc_files(), before);
    place.run(&["preview", "evening"]).ok();
    let waiting = place.command(&["apply", "evening", "-y", "--wait", "60"]).spawn().unwrap();
    std::thread::sleep(std::time::Duration::from_millis(200));
    assert_eq!(place.pc_files(), before, "it waits");
    drop(lock);
    assert!(waiting.wait_with_output().unwrap().status.success(), "and goes on");
    assert_ne!(place.pc_files(), before);
    assert!(!place.pc().join("holder.json").exists());
}

#[test]
fn logs_that_are_none() {
    let place = Place::new();
    place.add_mill();
    let import = |name: &str, code: i32| {
        let scene = ["--scene", "mill", "--state", "a"];
        let column = ["--column", "ms", "--unit", "ms"];
        let args = [&["run", "import", name][..], &column, &scene].concat();
        place.run(&args).fails(code).err
    };
    place.write("empty.csv", "");
    assert_snapshot!(import("empty.csv", 4), @"
    error: empty.csv: the file is empty
    help: was the recording ever stopped?
    help: nothing was kept
    ");
    place.write("heading.csv", "frame,ms\n");
    assert_snapshot!(import("heading.csv", 4), @"
    error: heading.csv: there is a heading but no row with a frame time below it
    help: was the recording ever stopped?
    help: nothing was kept
    ");
    place.write("ragged.csv", "frame,ms\n1,16.6\n2\n3,16.7,9,9\n");
    assert_snapshot!(import("ragged.csv", 4), @"
    error: ragged.csv: 1 of 3 rows hold no frame time, the first in line 3: the row has no such cell
    help: is that the right column, and the right --unit?
    help: nothing was kept
    ");
    place.write("other.csv", "frame;time\n1;16,6\n");
    assert_snapshot!(import("other.csv", 4), @"
    error: other.csv: there is no column `ms`; there are `frame`, `time`
    help: name one of them with --column
    help: nothing was kept
    ");
    place.write("binary.csv", [b'm', b's', b'\n', 0x00, 0xff]);
    assert_snapshot!(import("binary.csv", 4), @"
    error: binary.csv: the file is not text: byte 3 is no letter, digit or sign
    help: nothing was kept
    ");
    assert_snapshot!(import("nowhere.csv", 3), @"
    error: nowhere.csv cannot be read: No such file or directory (os error 2)
    help: nothing was kept
    ");
    let visits = place.json(&["run", "list"]);
    assert!(visits["visits"].as_array().unwrap().is_empty(), "nothing is kept of any of them");
}

#[test]
fn broken_files_of_frevins_own() {
    let place = Place::with_evening();
    place.write("pc/settings/power.json", "{\"active\": 3}");
    assert_snapshot!(place.run(&["inspect"]).fails(4).err, @"error: [HERE]/pc/settings/power.json is broken: invalid type: integer `3`, expected a formatted UUID string at line 1 column 12");
    let place = Place::with_evening();
    let ledger = place.path().join("home/ledger.sqlite3");
    fs_err::remove_file(place.path().join("home/ledger.sqlite3-wal")).ok();
    fs_err::write(&ledger, "no database at all, and long enough to be looked at".repeat(20))
        .unwrap();
    assert_snapshot!(place.run(&["apply", "evening", "-y"]).fails(4).err, @"
    error: the ledger [HERE]/home/ledger.sqlite3 is damaged: file is not a database
    help: nothing was written, and nothing in it is acted on
    help: `frevin ledger restore FILE` puts a copy in its place, `frevin ledger check` looks through one
    help: `frevin recover --from-undo-files` puts the PC back without it; the undo files for reading work even without Frevin
    ");
    place.write("home/config.toml", "pc = 3");
    let mut command = place.command(&["inspect"]);
    let output = command.env_remove("FREVIN_PC").output().unwrap();
    assert_eq!(output.status.code(), Some(4));
}

#[test]
fn what_somebody_else_cannot_write() {
    let place = Place::new();
    let write = |words: &str| place.run(&["rehearsal", "fault", "--others-write", words]);
    assert_snapshot!(write("visual:menu-delay=soon").fails(2).err, @"error: visual:menu-delay takes a number of milliseconds, or absent");
    assert_snapshot!(write("visual:menu-delay").fails(2).err, @"error: `visual:menu-delay` is not ADDRESS=STATE");
    assert_snapshot!(write("disk:C=1").fails(2).err, @"error: `disk:C`: there is no kind of setting `disk`; the kinds are registry, registry-part, service, power, visual, text, clean, task, display, adapter, device, startup, app, feature, boot, pagefile, driver, protection");
    assert_snapshot!(write("service:NoSuch#running=running").fails(6).err, @"error: service:NoSuch#running: refused: there is no service NoSuch");
}

#[test]
fn usage() {
    let place = Place::new();
    for args in [
        &["frobnicate"][..],
        &["apply"],
        &["compare", "a"],
        &["rollback", "1", "--keep", "--force"],
        &["compare", "a", "b", "--most-pairs", "9"],
        &["compare", "a", "b", "--average-margin", "0"],
        &["run", "record", "--scene", "canyon-run", "--state", "Bad Name"],
        &["preview", "Evening@1"],
    ] {
        let said = place.run(args).fails(2);
        assert!(!said.err.is_empty(), "{args:?}");
    }
}
