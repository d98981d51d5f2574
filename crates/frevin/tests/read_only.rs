//! A folder that cannot be written: nothing changes, it is told, and once it can be written again all is
//! as it was.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]
#![cfg(unix)]

mod common;

use std::os::unix::fs::{PermissionsExt as _, chown};
use std::os::unix::process::CommandExt as _;
use std::path::{Path, PathBuf};

use common::Place;

/// A user that may do nothing special; `root` may write anywhere, so it lends its rights away.
const NOBODY: u32 = 65_534;

fn each_below(path: &Path, act: &dyn Fn(&Path)) {
    act(path);
    if path.is_dir() {
        for entry in fs_err::read_dir(path).unwrap() {
            each_below(&entry.unwrap().path(), act);
        }
    }
}

fn is_root() -> bool {
    let own = tempfile::tempdir().unwrap();
    std::os::unix::fs::MetadataExt::uid(&fs_err::metadata(own.path()).unwrap()) == 0
}

fn set_writable(path: &Path, writable: bool) {
    each_below(path, &|path| {
        let mode = match (path.is_dir(), writable) {
            (true, true) => 0o755,
            (true, false) => 0o555,
            (false, true) => 0o644,
            (false, false) => 0o444,
        };
        // The folder first where it is opened, so that what is in it can be reached.
        fs_err::set_permissions(path, std::fs::Permissions::from_mode(mode)).unwrap();
    });
}

/// Runs Frevin as somebody who cannot write what is read-only.
fn run(place: &Place, program: &Path, args: &[&str]) -> (i32, String) {
    let plain = place.command(args);
    let mut command = std::process::Command::new(program);
    command.args(args).current_dir(place.path()).env_clear();
    for (name, value) in plain.get_envs() {
        command.env(name, value.unwrap_or_default());
    }
    if is_root() {
        command.uid(NOBODY).gid(NOBODY);
    }
    let output = command.output().unwrap();
    let text = [output.stdout, output.stderr].concat();
    (output.status.code().unwrap_or(-1), String::from_utf8(text).unwrap())
}

#[test]
fn nothing_changes_and_everything_is_put_right_later() {
    let place = Place::with_evening();
    let program = place.path().join("frevin");
    fs_err::copy(env!("CARGO_BIN_EXE_frevin"), &program).unwrap();
    fs_err::set_permissions(&program, std::fs::Permissions::from_mode(0o755)).unwrap();
    fs_err::set_permissions(place.path(), std::fs::Permissions::from_mode(0o755)).unwrap();
    if is_root() {
        each_below(place.path(), &|path| chown(path, Some(NOBODY), Some(NOBODY)).unwrap());
    }
    let at_first = place.pc_files();
    let pc = |name: &str| place.pc().join(name);
    let home = place.path().join("home");
    let folders: [PathBuf; 5] =
        [pc(""), pc("settings"), home.clone(), home.join("undo"), pc("files")];
    let aside = ["apply", "--tweak", "clean/old-files", "--yes"];
    for folder in &folders {
        fs_err::create_dir_all(folder).unwrap();
        if is_root() {
            each_below(folder, &|path| chown(path, Some(NOBODY), Some(NOBODY)).unwrap());
        }
        for args in [&["apply", "evening", "--yes"][..], &aside] {
            set_writable(folder, false);
            let (code, said) = run(&place, &program, args);
            let shown = folder.display();
            set_writable(folder, true);
            // What does not touch the folder works.
            if code == 0 {
                run(&place, &program, &["rollback", "--all", "--yes"]);
            } else {
                assert!([3, 4, 6, 7, 10].contains(&code), "{shown}: {code} {said}");
            }
            let (code, said) = run(&place, &program, &["recover"]);
            assert_eq!(code, 0, "{shown}: {said}");
            let (_, said) = run(&place, &program, &["recover", "--json"]);
            assert!(said.contains("nothing"), "{shown}: {said}");
            assert!(place.pc_files() == at_first, "{shown} {args:?}");
        }
    }
}

#[test]
fn a_way_back_that_cannot_be_written_waits() {
    let place = Place::with_evening();
    place.run(&["apply", "evening", "--yes"]).ok();
    let program = place.path().join("frevin");
    fs_err::copy(env!("CARGO_BIN_EXE_frevin"), &program).unwrap();
    fs_err::set_permissions(place.path(), std::fs::Permissions::from_mode(0o755)).unwrap();
    if is_root() {
        each_below(place.path(), &|path| chown(path, Some(NOBODY), Some(NOBODY)).unwrap());
    }
    let applied = place.pc_files();
    set_writable(&place.pc().join("settings"), false);
    let (code, said) = run(&place, &program, &["rollback", "--all", "--yes"]);
    // The PC refuses the first write, and nothing is left to undo.
    assert_eq!(code, 6, "{said}");
    set_writable(&place.pc().join("settings"), true);
    assert!(place.pc_files() == applied);
    run(&place, &program, &["recover"]);
    let (code, said) = run(&place, &program, &["rollback", "--all", "--yes"]);
    assert_eq!(code, 0, "{said}");
    place.run(&["drift"]).ok();
}
